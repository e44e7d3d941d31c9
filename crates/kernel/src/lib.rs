//! The modelled Linux: loading, system calls and the initial stack
