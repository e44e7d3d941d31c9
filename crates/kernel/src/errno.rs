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
            /// Every error.
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
    EPERM 1 "not permitted";
    ENOENT 2 "no such file or directory";
    ESRCH 3 "no such process";
    EINTR 4 "interrupted by a signal";
    EIO 5 "input or output failed";
    ENXIO 6 "no such device or address";
    E2BIG 7 "too many or too large arguments";
    ENOEXEC 8 "not a program";
    EBADF 9 "bad file descriptor";
    ECHILD 10 "no child processes";
    EAGAIN 11 "try again";
    ENOMEM 12 "out of memory";
    EACCES 13 "permission denied";
    EFAULT 14 "bad address";
    ENOTBLK 15 "not a block device";
    EBUSY 16 "in use";
    EEXIST 17 "it exists already";
    EXDEV 18 "on another file system";
    ENODEV 19 "no such device";
    ENOTDIR 20 "not a directory";
    EISDIR 21 "a directory";
    EINVAL 22 "invalid argument";
    ENFILE 23 "too many open files in the system";
    EMFILE 24 "too many open files";
    ENOTTY 25 "not a terminal";
    ETXTBSY 26 "a program that is running";
    EFBIG 27 "the file would be too large";
    ENOSPC 28 "no space left";
    ESPIPE 29 "cannot be moved about in";
    EROFS 30 "a file system for reading only";
    EMLINK 31 "too many links";
    EPIPE 32 "a pipe that nobody reads";
    EDOM 33 "not in the domain of the function";
    ERANGE 34 "the result is out of range";
    EDEADLK 35 "it would wait for ever";
    ENAMETOOLONG 36 "the name is too long";
    ENOLCK 37 "no locks left";
    ENOSYS 38 "function not implemented";
    ENOTEMPTY 39 "the directory is not empty";
    ELOOP 40 "too many symbolic links";
    ENOMSG 42 "no message of that type";
    EIDRM 43 "the identifier was removed";
    ECHRNG 44 "channel out of range";
    EL2NSYNC 45 "level 2 not synchronised";
    EL3HLT 46 "level 3 halted";
    EL3RST 47 "level 3 reset";
    ELNRNG 48 "link number out of range";
    EUNATCH 49 "protocol driver not attached";
    ENOCSI 50 "no CSI structure";
    EL2HLT 51 "level 2 halted";
    EBADE 52 "invalid exchange";
    EBADR 53 "invalid request descriptor";
    EXFULL 54 "the exchange is full";
    ENOANO 55 "no anode";
    EBADRQC 56 "invalid request code";
    EBADSLT 57 "invalid slot";
    EBFONT 59 "bad font file";
    ENOSTR 60 "not a stream";
    ENODATA 61 "no data";
    ETIME 62 "the timer ran out";
    ENOSR 63 "no stream resources";
    ENONET 64 "not on the network";
    ENOPKG 65 "package not installed";
    EREMOTE 66 "a remote object";
    ENOLINK 67 "the link was cut";
    EADV 68 "advertise error";
    ESRMNT 69 "srmount error";
    ECOMM 70 "sending failed";
    EPROTO 71 "protocol error";
    EMULTIHOP 72 "multihop attempted";
    EDOTDOT 73 "RFS error";
    EBADMSG 74 "bad message";
    EOVERFLOW 75 "the value does not fit";
    ENOTUNIQ 76 "the name is not unique";
    EBADFD 77 "file descriptor in a bad state";
    EREMCHG 78 "the remote address changed";
    ELIBACC 79 "a shared library cannot be accessed";
    ELIBBAD 80 "a shared library is damaged";
    ELIBSCN 81 "a damaged section of a library";
    ELIBMAX 82 "too many shared libraries";
    ELIBEXEC 83 "a shared library cannot be run";
    EILSEQ 84 "an illegal sequence of bytes";
    ERESTART 85 "to be made again";
    ESTRPIPE 86 "stream pipe error";
    EUSERS 87 "too many users";
    ENOTSOCK 88 "not a socket";
    EDESTADDRREQ 89 "no destination";
    EMSGSIZE 90 "the message is too long";
    EPROTOTYPE 91 "the wrong protocol for the socket";
    ENOPROTOOPT 92 "protocol not available";
    EPROTONOSUPPORT 93 "protocol not supported";
    ESOCKTNOSUPPORT 94 "socket type not supported";
    EOPNOTSUPP 95 "not supported";
    EPFNOSUPPORT 96 "protocol family not supported";
    EAFNOSUPPORT 97 "address family not supported";
    EADDRINUSE 98 "the address is in use";
    EADDRNOTAVAIL 99 "the address is not available";
    ENETDOWN 100 "the network is down";
    ENETUNREACH 101 "the network cannot be reached";
    ENETRESET 102 "the network was reset";
    ECONNABORTED 103 "the connection was aborted";
    ECONNRESET 104 "the connection was reset";
    ENOBUFS 105 "no buffers left";
    EISCONN 106 "connected already";
    ENOTCONN 107 "not connected";
    ESHUTDOWN 108 "shut down already";
    ETOOMANYREFS 109 "too many references";
    ETIMEDOUT 110 "it took too long";
    ECONNREFUSED 111 "the connection was refused";
    EHOSTDOWN 112 "the host is down";
    EHOSTUNREACH 113 "the host cannot be reached";
    EALREADY 114 "under way already";
    EINPROGRESS 115 "under way";
    ESTALE 116 "a stale handle";
    EUCLEAN 117 "the structure needs cleaning";
    ENOTNAM 118 "not a named type file";
    ENAVAIL 119 "no such semaphores";
    EISNAM 120 "a named type file";
    EREMOTEIO 121 "remote input or output failed";
    EDQUOT 122 "the quota is used up";
    ENOMEDIUM 123 "no medium";
    EMEDIUMTYPE 124 "the wrong medium";
    ECANCELED 125 "cancelled";
    ENOKEY 126 "no such key";
    EKEYEXPIRED 127 "the key has expired";
    EKEYREVOKED 128 "the key was revoked";
    EKEYREJECTED 129 "the key was rejected";
    EOWNERDEAD 130 "the owner died";
    ENOTRECOVERABLE 131 "the state cannot be recovered";
    ERFKILL 132 "the radio is switched off";
    EHWPOISON 133 "damaged memory";
}

impl Errno {
    /// What a system call returns.
    pub const fn result(self) -> i64 {
        -(self as i64)
    }

    /// The error behind a system call's result, if it is one.
    pub fn of_result(result: i64) -> Option<Errno> {
        Errno::ALL.iter().copied().find(|errno| errno.result() == result)
    }
}
