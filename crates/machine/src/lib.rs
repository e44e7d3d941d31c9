//! Registers, memory and executing instructions
