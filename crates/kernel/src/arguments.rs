//! Arguments of system calls: what each is, and the types in which the functions take them.

/// What an argument is, for checking it and for showing it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum ArgumentKind {
    /// A file descriptor.
    Fd,
    /// Address of bytes that the call reads; their number is the argument at this index.
    BytesIn(usize),
    /// Address of bytes that the call fills; their number is the result.
    BytesOut,
    /// A number of bytes.
    Count,
    /// An exit status; the low 8 bits count.
    Status,
    /// A number.
    Number,
    /// A number whose bits are what counts.
    Bits,
    /// An address of something in the program's memory.
    Address,
    /// Address of a text that ends with a zero byte.
    Text,
    /// A signal's number.
    Signal,
}

/// A file descriptor: a 32-bit integer, the upper half of the register does not matter.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Fd(pub u32);

/// An address in the program's memory.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Address(pub u64);

/// An argument as a function takes it.
pub(crate) trait Argument {
    /// The argument in a register.
    fn from_register(value: u64) -> Self;
}

impl Argument for Fd {
    fn from_register(value: u64) -> Fd {
        Fd(value as u32)
    }
}

impl Argument for Address {
    fn from_register(value: u64) -> Address {
        Address(value)
    }
}

impl Argument for u64 {
    fn from_register(value: u64) -> u64 {
        value
    }
}

impl Argument for u32 {
    fn from_register(value: u64) -> u32 {
        value as u32
    }
}

impl Argument for i32 {
    fn from_register(value: u64) -> i32 {
        value as i32
    }
}
