//! Error numbers. Source: errno(3); numbers from the kernel's generic table.

/// An error that a system call returns, negated.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
#[allow(missing_docs, reason = "the names are those of errno(3)")]
pub enum Errno {
    EBADF = 9,
    EFAULT = 14,
    ENOSYS = 38,
}

impl Errno {
    /// The name.
    pub const fn name(self) -> &'static str {
        match self {
            Errno::EBADF => "EBADF",
            Errno::EFAULT => "EFAULT",
            Errno::ENOSYS => "ENOSYS",
        }
    }

    /// What it says, in a few words.
    pub const fn words(self) -> &'static str {
        match self {
            Errno::EBADF => "bad file descriptor",
            Errno::EFAULT => "bad address",
            Errno::ENOSYS => "function not implemented",
        }
    }

    /// What a system call returns.
    pub const fn result(self) -> i64 {
        -(self as i64)
    }

    /// The error behind a system call's result, if it is one that we model.
    pub fn of_result(result: i64) -> Option<Errno> {
        [Errno::EBADF, Errno::EFAULT, Errno::ENOSYS]
            .into_iter()
            .find(|errno| errno.result() == result)
    }
}
