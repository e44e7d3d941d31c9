//! What can go wrong for the guest: an ordinary result of executing.

use serde::Serialize;

/// Makes the signals: names by number, from 1.
macro_rules! signals {
    ($($name:ident = $number:literal,)*) => {
        /// A standard signal, by its Linux number.
        #[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Serialize)]
        #[allow(missing_docs, reason = "the names are those of signal(7)")]
        pub enum Signal {
            $($name = $number,)*
        }

        impl Signal {
            /// Every standard signal, by number.
            pub const ALL: &'static [Signal] = &[$(Signal::$name,)*];

            /// The name.
            pub const fn name(self) -> &'static str {
                match self {
                    $(Signal::$name => stringify!($name),)*
                }
            }
        }
    };
}

signals! {
    SIGHUP = 1,
    SIGINT = 2,
    SIGQUIT = 3,
    SIGILL = 4,
    SIGTRAP = 5,
    SIGABRT = 6,
    SIGBUS = 7,
    SIGFPE = 8,
    SIGKILL = 9,
    SIGUSR1 = 10,
    SIGSEGV = 11,
    SIGUSR2 = 12,
    SIGPIPE = 13,
    SIGALRM = 14,
    SIGTERM = 15,
    SIGSTKFLT = 16,
    SIGCHLD = 17,
    SIGCONT = 18,
    SIGSTOP = 19,
    SIGTSTP = 20,
    SIGTTIN = 21,
    SIGTTOU = 22,
    SIGURG = 23,
    SIGXCPU = 24,
    SIGXFSZ = 25,
    SIGVTALRM = 26,
    SIGPROF = 27,
    SIGWINCH = 28,
    SIGIO = 29,
    SIGPWR = 30,
    SIGSYS = 31,
}

impl Signal {
    /// The number. Source: signal(7).
    pub const fn number(self) -> i32 {
        self as i32
    }

    /// The standard signal with this number.
    pub fn from_number(number: u64) -> Option<Signal> {
        Signal::ALL.iter().copied().find(|signal| signal.number() as u64 == number)
    }

    /// Whether a program that has not said otherwise is not affected by it.
    pub const fn is_ignored(self) -> bool {
        matches!(self, Signal::SIGCHLD | Signal::SIGCONT | Signal::SIGURG | Signal::SIGWINCH)
    }

    /// Whether it stops a program that has not said otherwise, until it is continued.
    pub const fn stops(self) -> bool {
        matches!(self, Signal::SIGSTOP | Signal::SIGTSTP | Signal::SIGTTIN | Signal::SIGTTOU)
    }
}

/// What an instruction wanted of memory.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum AccessKind {
    /// To read data.
    Read,
    /// To write data.
    Write,
    /// To fetch an instruction.
    Execute,
}

/// Why memory refused.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum MemoryFaultKind {
    /// Nothing is there.
    Unmapped,
    /// Something is there, but not for this kind of access.
    Protected,
    /// The last instruction of a code region was not the end of the program.
    PastCode,
    /// x86: the address is not canonical, and it is the stack's: its base is RSP or RBP, or the
    /// access is a push or a pop. Source: SDM Vol. 1, 3.3.7.1; Vol. 3A, 6.15 "Stack Fault".
    StackSegment,
    /// x86 in 32-bit mode: the access goes through a segment register that holds the null selector, or
    /// writes through CS. Source: SDM Vol. 3A, 5.4.1 and 5.5.
    Segment,
    /// It would be one page more than the program may have.
    Limit,
    /// x86: 16 bytes for a vector instruction that must be aligned, and are not.
    /// Source: SDM Vol. 1, 11.2.
    Alignment,
    /// A64: an exclusive, atomic or ordered access that is not aligned to its width.
    /// Source: Arm ARM, B2.7.2 "Alignment of data accesses".
    AtomicAlignment,
}

/// An access that memory refused.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
pub struct MemoryFault {
    /// The first byte that could not be accessed.
    pub address: u64,
    /// What was wanted.
    pub access: AccessKind,
    /// Why not.
    pub kind: MemoryFaultKind,
}

/// Why an instruction could not complete. Unless said otherwise the program counter is still at it,
/// and nothing has changed.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Fault {
    /// Memory refused an access.
    Memory(MemoryFault),
    /// An x86 division by zero.
    DivideByZero,
    /// An x86 division whose quotient does not fit.
    DivideOverflow,
    /// Bytes that are not an instruction, or one that is invalid on purpose.
    Illegal,
    /// An instruction that is for the kernel alone.
    Privileged,
    /// A selector that names no segment of a program.
    Selector,
    /// A far jump, call or return between 32-bit and 64-bit code, which is not modelled.
    ModeChange,
    /// The number that BOUND looked at is not between its limits.
    Bounds,
    /// A floating-point exception that is not masked.
    Float,
    /// The program sent itself this signal; the program counter is after the system call.
    Raised(Signal),
    /// This signal was delivered, whose default action ends the program.
    Delivered(Signal),
    /// The frame of a signal handler cannot be written below the stack pointer, or not be read when the handler returns.
    SignalFrame,
    /// The trap that INTO and `int 4` raise; the program counter is after them.
    Overflow,
    /// A breakpoint instruction; on x86 the program counter is after it.
    Breakpoint,
    /// An A64 access through a stack pointer that is not a multiple of 16.
    StackAlignment,
    /// An A64 jump to an address that is not a multiple of 4.
    PcAlignment,
}

impl Fault {
    /// Whether the instruction that raised it is done, and the program counter after it.
    pub const fn is_trap(self) -> bool {
        matches!(self, Fault::Breakpoint | Fault::Overflow)
    }

    /// The signal the kernel raises for it. Source: signal(7).
    pub const fn signal(self) -> Signal {
        match self {
            Fault::Memory(MemoryFault {
                kind: MemoryFaultKind::StackSegment | MemoryFaultKind::AtomicAlignment,
                ..
            }) => Signal::SIGBUS,
            Fault::Memory(_) => Signal::SIGSEGV,
            Fault::Privileged | Fault::Selector | Fault::Overflow => Signal::SIGSEGV,
            Fault::ModeChange | Fault::Bounds => Signal::SIGSEGV,
            Fault::DivideByZero | Fault::DivideOverflow | Fault::Float => Signal::SIGFPE,
            Fault::Raised(signal) | Fault::Delivered(signal) => signal,
            Fault::SignalFrame => Signal::SIGSEGV,
            Fault::Illegal => Signal::SIGILL,
            Fault::Breakpoint => Signal::SIGTRAP,
            Fault::StackAlignment | Fault::PcAlignment => Signal::SIGBUS,
        }
    }
}

impl From<MemoryFault> for Box<Fault> {
    fn from(fault: MemoryFault) -> Box<Fault> {
        Box::new(Fault::Memory(fault))
    }
}
