//! A run being examined: stepping, history, breakpoints and fault reports
