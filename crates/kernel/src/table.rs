//! The table of system calls.

use sotto_isa::Arch;

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
}

/// The numbers of a call on each machine that Linux has tables for and we speak of.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "the names are the machines'")]
pub struct Numbers {
    pub x86_64: u64,
    pub x86_32: u64,
    pub arm64: u64,
    pub arm32: u64,
}

/// A system call.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct SyscallRow {
    /// Which it is, for dispatch.
    pub call: Syscall,
    /// Its name, as in the man-pages.
    pub name: &'static str,
    /// Its numbers.
    pub numbers: Numbers,
    /// Its arguments: names and kinds.
    pub arguments: &'static [(&'static str, ArgumentKind)],
    /// One line in words.
    pub summary: &'static str,
    /// What is modelled and what is not, and where the rules come from.
    pub details: &'static str,
}

/// Makes the table and the list of calls.
///
/// ```text
/// /// Summary.            ->  SyscallRow { call: Syscall::close, name: "close", ... }
/// /// Details.                and a variant of Syscall
/// close { x86_64: 3, x86_32: 6, arm64: 57, arm32: 6 } (fd: Fd);
/// ```
macro_rules! syscalls {
    ($(
        #[doc = $summary:literal]
        $(#[doc = $details:literal])*
        $name:ident { x86_64: $x86_64:literal, x86_32: $x86_32:literal, arm64: $arm64:literal, arm32: $arm32:literal }
        ($($argument:ident: $kind:ident $(($index:literal))?),*);
    )*) => {
        /// A system call that is modelled.
        #[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
        #[allow(non_camel_case_types, missing_docs, reason = "the names are the man-pages'")]
        pub enum Syscall {
            $($name,)*
        }

        /// Every system call that is modelled.
        pub const SYSCALLS: &[SyscallRow] = &[$(
            SyscallRow {
                call: Syscall::$name,
                name: stringify!($name),
                numbers: Numbers { x86_64: $x86_64, x86_32: $x86_32, arm64: $arm64, arm32: $arm32 },
                arguments: &[$((stringify!($argument), ArgumentKind::$kind $(($index))?)),*],
                summary: $summary,
                details: concat!($($details, "\n"),*),
            },
        )*];
    };
}

syscalls! {
    /// Reads up to `count` bytes from the open file `fd` into `buf`.
    ///
    /// Returns the bytes read: 0 at the end of the input.
    /// Modelled: standard input. Not modelled: other files.
    /// Source: read(2).
    read { x86_64: 0, x86_32: 3, arm64: 63, arm32: 3 } (fd: Fd, buf: BytesOut, count: Count);

    /// Writes up to `count` bytes starting at `buf` to the open file `fd`.
    ///
    /// Returns the bytes written.
    /// Modelled: standard output and standard error. Not modelled: other files.
    /// Source: write(2).
    write { x86_64: 1, x86_32: 4, arm64: 64, arm32: 4 } (fd: Fd, buf: BytesIn(2), count: Count);

    /// Ends the calling thread with `status`.
    ///
    /// Modelled: the program ends, since it has one thread.
    /// Source: _exit(2).
    exit { x86_64: 60, x86_32: 1, arm64: 93, arm32: 1 } (status: Status);

    /// Ends all threads of the program with `status`.
    ///
    /// Source: exit_group(2).
    exit_group { x86_64: 231, x86_32: 252, arm64: 94, arm32: 248 } (status: Status);
}

/// A way into the kernel: whose numbers and registers a call uses.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Door {
    /// SYSCALL of x86-64.
    X86_64,
    /// `int 0x80`: the table of 32-bit x86, and 32 bits of each argument.
    X86_32,
    /// SVC of A64.
    Arm64,
}

impl Door {
    /// The machine's own way.
    pub fn of(arch: Arch) -> Door {
        match arch {
            Arch::Arm64 => Door::Arm64,
            _ => Door::X86_64,
        }
    }

    /// The name of the machine whose table it is.
    pub fn name(self) -> &'static str {
        match self {
            Door::X86_64 => "x86-64",
            Door::X86_32 => "32-bit x86",
            Door::Arm64 => "arm64",
        }
    }
}

impl SyscallRow {
    /// Its number on a machine that we run.
    pub fn number(&self, arch: Arch) -> u64 {
        self.number_at(Door::of(arch))
    }

    /// Its number at a door.
    pub fn number_at(&self, door: Door) -> u64 {
        match door {
            Door::X86_64 => self.numbers.x86_64,
            Door::X86_32 => self.numbers.x86_32,
            Door::Arm64 => self.numbers.arm64,
        }
    }
}

/// The call with this number.
pub fn by_number(door: Door, number: u64) -> Option<&'static SyscallRow> {
    SYSCALLS.iter().find(|row| row.number_at(door) == number)
}

/// The call with this name.
pub fn by_name(name: &str) -> Option<&'static SyscallRow> {
    SYSCALLS.iter().find(|row| row.name == name)
}

/// Calls that have this number on another machine: the machine's name, and the call.
pub fn elsewhere(door: Door, number: u64) -> Vec<(&'static str, &'static SyscallRow)> {
    let mut found = Vec::new();
    for row in SYSCALLS {
        let Numbers { x86_64, x86_32, arm64, arm32 } = row.numbers;
        let others = [
            ("x86-64", x86_64, door == Door::X86_64),
            ("32-bit x86", x86_32, door == Door::X86_32),
            ("arm64", arm64, door == Door::Arm64),
            ("32-bit ARM", arm32, false),
        ];
        for (name, n, own) in others {
            if n == number && !own && row.number_at(door) != number {
                found.push((name, row));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_unique_on_each_machine_and_lead_back_to_their_row() {
        for &arch in Arch::ALL {
            for row in SYSCALLS {
                assert_eq!(
                    by_number(Door::of(arch), row.number(arch)).map(|r| r.name),
                    Some(row.name)
                );
            }
        }
        assert_eq!(by_number(Door::X86_64, 4).map(|row| row.name), Some("stat"));
        let names: Vec<_> = elsewhere(Door::X86_64, 4).iter().map(|(m, r)| (*m, r.name)).collect();
        assert_eq!(names, [("32-bit x86", "write"), ("32-bit ARM", "write")]);
    }
}
