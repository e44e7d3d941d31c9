//! Error numbers. Source: errno(3); numbers from the kernel's generic table.

/// Makes the errors: name, number, a few words.
macro_rules! errors {
    ($($name:ident $number:literal $words:literal;)*) => {
        /// An error that a system call returns, negated.
        #[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
        #[allow(missing_docs, reason = "the names are those of errno(3)")]
        pub enum Errno {
            $($name = $number,)*
        }

        impl Errno {
            /// Every error that we model.
            pub const ALL: &'static [Errno] = &[$(Errno::$name,)*];

            /// The name.
            pub const fn name(self) -> &'static str {
                match self {
                    $(Errno::$name => stringify!($name),)*
                }
            }

            /// What it says, in a few words.
            pub const fn words(self) -> &'static str {
                match self {
                    $(Errno::$name => $words,)*
                }
            }
        }
    };
}

errors! {
    ENOENT 2 "no such file or directory";
    ESRCH 3 "no such process";
    EBADF 9 "bad file descriptor";
    EAGAIN 11 "try again";
    ENOMEM 12 "out of memory";
    EACCES 13 "permission denied";
    EFAULT 14 "bad address";
    EEXIST 17 "it exists already";
    ENODEV 19 "no such device";
    EINVAL 22 "invalid argument";
    ENOTTY 25 "not a terminal";
    ESPIPE 29 "cannot be moved about in";
    ENOSYS 38 "function not implemented";
    EDEADLK 35 "it would wait for ever";
    ENAMETOOLONG 36 "the name is too long";
}

impl Errno {
    /// What a system call returns.
    pub const fn result(self) -> i64 {
        -(self as i64)
    }

    /// The error behind a system call's result, if it is one that we model.
    pub fn of_result(result: i64) -> Option<Errno> {
        Errno::ALL.iter().copied().find(|errno| errno.result() == result)
    }
}
