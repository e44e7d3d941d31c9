//! The names of all system calls, those with it that are not modelled.
//!
//! Source: the kernel's tables, as <asm/unistd.h> of each machine has them.

use crate::abi::SyscallAbi;

/// A number of the table, or `_` for none.
macro_rules! number {
    (_) => {
        None
    };
    ($number:literal) => {
        Some($number)
    };
}

/// Makes the table: a name, and its numbers on x86-64, 32-bit x86 and arm64.
macro_rules! names {
    ($($name:ident $x86_64:tt $x86_32:tt $arm64:tt;)*) => {
        const NAMES: &[(&str, [Option<u16>; 3])] = &[
            $((stringify!($name), [number!($x86_64), number!($x86_32), number!($arm64)]),)*
        ];
    };
}

/// The name of the call with this number.
pub fn name(abi: SyscallAbi, number: u64) -> Option<&'static str> {
    let column = column(abi);
    let is_it = |numbers: &[Option<u16>; 3]| numbers[column].map(u64::from) == Some(number);
    NAMES.iter().find(|(_, numbers)| is_it(numbers)).map(|(name, _)| *name)
}

/// The number of the call with this name.
pub fn number(abi: SyscallAbi, name: &str) -> Option<u64> {
    let found = NAMES.binary_search_by(|(known, _)| (*known).cmp(name)).ok()?;
    NAMES[found].1[column(abi)].map(u64::from)
}

/// Whether some machine has a call of this name, modelled or not.
pub fn is_known(name: &str) -> bool {
    NAMES.binary_search_by(|(known, _)| (*known).cmp(name)).is_ok()
}

const fn column(abi: SyscallAbi) -> usize {
    match abi {
        SyscallAbi::X86_64 => 0,
        SyscallAbi::X86_32 => 1,
        SyscallAbi::Arm64 => 2,
    }
}

names! {
    _llseek _ 140 _;
    _newselect _ 142 _;
    _sysctl 156 149 _;
    accept 43 _ 202;
    accept4 288 364 242;
    access 21 33 _;
    acct 163 51 89;
    add_key 248 286 217;
    adjtimex 159 124 171;
    afs_syscall 183 137 _;
    alarm 37 27 _;
    arch_prctl 158 384 _;
    bdflush _ 134 _;
    bind 49 361 200;
    bpf 321 357 280;
    break _ 17 _;
    brk 12 45 214;
    capget 125 184 90;
    capset 126 185 91;
    chdir 80 12 49;
    chmod 90 15 _;
    chown 92 182 _;
    chown32 _ 212 _;
    chroot 161 61 51;
    clock_adjtime 305 343 266;
    clock_adjtime64 _ 405 _;
    clock_getres 229 266 114;
    clock_getres_time64 _ 406 _;
    clock_gettime 228 265 113;
    clock_gettime64 _ 403 _;
    clock_nanosleep 230 267 115;
    clock_nanosleep_time64 _ 407 _;
    clock_settime 227 264 112;
    clock_settime64 _ 404 _;
    clone 56 120 220;
    clone3 435 435 435;
    close 3 6 57;
    close_range 436 436 436;
    connect 42 362 203;
    copy_file_range 326 377 285;
    creat 85 8 _;
    create_module 174 127 _;
    delete_module 176 129 106;
    dup 32 41 23;
    dup2 33 63 _;
    dup3 292 330 24;
    epoll_create 213 254 _;
    epoll_create1 291 329 20;
    epoll_ctl 233 255 21;
    epoll_ctl_old 214 _ _;
    epoll_pwait 281 319 22;
    epoll_pwait2 441 441 441;
    epoll_wait 232 256 _;
    epoll_wait_old 215 _ _;
    eventfd 284 323 _;
    eventfd2 290 328 19;
    execve 59 11 221;
    execveat 322 358 281;
    exit 60 1 93;
    exit_group 231 252 94;
    faccessat 269 307 48;
    faccessat2 439 439 439;
    fadvise64 221 250 223;
    fadvise64_64 _ 272 _;
    fallocate 285 324 47;
    fanotify_init 300 338 262;
    fanotify_mark 301 339 263;
    fchdir 81 133 50;
    fchmod 91 94 52;
    fchmodat 268 306 53;
    fchown 93 95 55;
    fchown32 _ 207 _;
    fchownat 260 298 54;
    fcntl 72 55 25;
    fcntl64 _ 221 _;
    fdatasync 75 148 83;
    fgetxattr 193 231 10;
    finit_module 313 350 273;
    flistxattr 196 234 13;
    flock 73 143 32;
    fork 57 2 _;
    fremovexattr 199 237 16;
    fsconfig 431 431 431;
    fsetxattr 190 228 7;
    fsmount 432 432 432;
    fsopen 430 430 430;
    fspick 433 433 433;
    fstat 5 108 80;
    fstat64 _ 197 _;
    fstatat64 _ 300 _;
    fstatfs 138 100 44;
    fstatfs64 _ 269 _;
    fsync 74 118 82;
    ftime _ 35 _;
    ftruncate 77 93 46;
    ftruncate64 _ 194 _;
    futex 202 240 98;
    futex_time64 _ 422 _;
    futex_waitv 449 449 449;
    futimesat 261 299 _;
    get_kernel_syms 177 130 _;
    get_mempolicy 239 275 236;
    get_robust_list 274 312 100;
    get_thread_area 211 244 _;
    getcpu 309 318 168;
    getcwd 79 183 17;
    getdents 78 141 _;
    getdents64 217 220 61;
    getegid 108 50 177;
    getegid32 _ 202 _;
    geteuid 107 49 175;
    geteuid32 _ 201 _;
    getgid 104 47 176;
    getgid32 _ 200 _;
    getgroups 115 80 158;
    getgroups32 _ 205 _;
    getitimer 36 105 102;
    getpeername 52 368 205;
    getpgid 121 132 155;
    getpgrp 111 65 _;
    getpid 39 20 172;
    getpmsg 181 188 _;
    getppid 110 64 173;
    getpriority 140 96 141;
    getrandom 318 355 278;
    getresgid 120 171 150;
    getresgid32 _ 211 _;
    getresuid 118 165 148;
    getresuid32 _ 209 _;
    getrlimit 97 76 163;
    getrusage 98 77 165;
    getsid 124 147 156;
    getsockname 51 367 204;
    getsockopt 55 365 209;
    gettid 186 224 178;
    gettimeofday 96 78 169;
    getuid 102 24 174;
    getuid32 _ 199 _;
    getxattr 191 229 8;
    gtty _ 32 _;
    idle _ 112 _;
    init_module 175 128 105;
    inotify_add_watch 254 292 27;
    inotify_init 253 291 _;
    inotify_init1 294 332 26;
    inotify_rm_watch 255 293 28;
    io_cancel 210 249 3;
    io_destroy 207 246 1;
    io_getevents 208 247 4;
    io_pgetevents 333 385 292;
    io_pgetevents_time64 _ 416 _;
    io_setup 206 245 0;
    io_submit 209 248 2;
    io_uring_enter 426 426 426;
    io_uring_register 427 427 427;
    io_uring_setup 425 425 425;
    ioctl 16 54 29;
    ioperm 173 101 _;
    iopl 172 110 _;
    ioprio_get 252 290 31;
    ioprio_set 251 289 30;
    ipc _ 117 _;
    kcmp 312 349 272;
    kexec_file_load 320 _ 294;
    kexec_load 246 283 104;
    keyctl 250 288 219;
    kill 62 37 129;
    landlock_add_rule 445 445 445;
    landlock_create_ruleset 444 444 444;
    landlock_restrict_self 446 446 446;
    lchown 94 16 _;
    lchown32 _ 198 _;
    lgetxattr 192 230 9;
    link 86 9 _;
    linkat 265 303 37;
    listen 50 363 201;
    listxattr 194 232 11;
    llistxattr 195 233 12;
    lock _ 53 _;
    lookup_dcookie 212 253 18;
    lremovexattr 198 236 15;
    lseek 8 19 62;
    lsetxattr 189 227 6;
    lstat 6 107 _;
    lstat64 _ 196 _;
    madvise 28 219 233;
    mbind 237 274 235;
    membarrier 324 375 283;
    memfd_create 319 356 279;
    memfd_secret 447 447 447;
    migrate_pages 256 294 238;
    mincore 27 218 232;
    mkdir 83 39 _;
    mkdirat 258 296 34;
    mknod 133 14 _;
    mknodat 259 297 33;
    mlock 149 150 228;
    mlock2 325 376 284;
    mlockall 151 152 230;
    mmap 9 90 222;
    mmap2 _ 192 _;
    modify_ldt 154 123 _;
    mount 165 21 40;
    mount_setattr 442 442 442;
    move_mount 429 429 429;
    move_pages 279 317 239;
    mprotect 10 125 226;
    mpx _ 56 _;
    mq_getsetattr 245 282 185;
    mq_notify 244 281 184;
    mq_open 240 277 180;
    mq_timedreceive 243 280 183;
    mq_timedreceive_time64 _ 419 _;
    mq_timedsend 242 279 182;
    mq_timedsend_time64 _ 418 _;
    mq_unlink 241 278 181;
    mremap 25 163 216;
    msgctl 71 402 187;
    msgget 68 399 186;
    msgrcv 70 401 188;
    msgsnd 69 400 189;
    msync 26 144 227;
    munlock 150 151 229;
    munlockall 152 153 231;
    munmap 11 91 215;
    name_to_handle_at 303 341 264;
    nanosleep 35 162 101;
    newfstatat 262 _ 79;
    nfsservctl 180 169 42;
    nice _ 34 _;
    oldfstat _ 28 _;
    oldlstat _ 84 _;
    oldolduname _ 59 _;
    oldstat _ 18 _;
    olduname _ 109 _;
    open 2 5 _;
    open_by_handle_at 304 342 265;
    open_tree 428 428 428;
    openat 257 295 56;
    openat2 437 437 437;
    pause 34 29 _;
    perf_event_open 298 336 241;
    personality 135 136 92;
    pidfd_getfd 438 438 438;
    pidfd_open 434 434 434;
    pidfd_send_signal 424 424 424;
    pipe 22 42 _;
    pipe2 293 331 59;
    pivot_root 155 217 41;
    pkey_alloc 330 381 289;
    pkey_free 331 382 290;
    pkey_mprotect 329 380 288;
    poll 7 168 _;
    ppoll 271 309 73;
    ppoll_time64 _ 414 _;
    prctl 157 172 167;
    pread64 17 180 67;
    preadv 295 333 69;
    preadv2 327 378 286;
    prlimit64 302 340 261;
    process_madvise 440 440 440;
    process_mrelease 448 448 448;
    process_vm_readv 310 347 270;
    process_vm_writev 311 348 271;
    prof _ 44 _;
    profil _ 98 _;
    pselect6 270 308 72;
    pselect6_time64 _ 413 _;
    ptrace 101 26 117;
    putpmsg 182 189 _;
    pwrite64 18 181 68;
    pwritev 296 334 70;
    pwritev2 328 379 287;
    query_module 178 167 _;
    quotactl 179 131 60;
    quotactl_fd 443 443 443;
    read 0 3 63;
    readahead 187 225 213;
    readdir _ 89 _;
    readlink 89 85 _;
    readlinkat 267 305 78;
    readv 19 145 65;
    reboot 169 88 142;
    recvfrom 45 371 207;
    recvmmsg 299 337 243;
    recvmmsg_time64 _ 417 _;
    recvmsg 47 372 212;
    remap_file_pages 216 257 234;
    removexattr 197 235 14;
    rename 82 38 _;
    renameat 264 302 38;
    renameat2 316 353 276;
    request_key 249 287 218;
    restart_syscall 219 0 128;
    rmdir 84 40 _;
    rseq 334 386 293;
    rt_sigaction 13 174 134;
    rt_sigpending 127 176 136;
    rt_sigprocmask 14 175 135;
    rt_sigqueueinfo 129 178 138;
    rt_sigreturn 15 173 139;
    rt_sigsuspend 130 179 133;
    rt_sigtimedwait 128 177 137;
    rt_sigtimedwait_time64 _ 421 _;
    rt_tgsigqueueinfo 297 335 240;
    sched_get_priority_max 146 159 125;
    sched_get_priority_min 147 160 126;
    sched_getaffinity 204 242 123;
    sched_getattr 315 352 275;
    sched_getparam 143 155 121;
    sched_getscheduler 145 157 120;
    sched_rr_get_interval 148 161 127;
    sched_rr_get_interval_time64 _ 423 _;
    sched_setaffinity 203 241 122;
    sched_setattr 314 351 274;
    sched_setparam 142 154 118;
    sched_setscheduler 144 156 119;
    sched_yield 24 158 124;
    seccomp 317 354 277;
    security 185 _ _;
    select 23 82 _;
    semctl 66 394 191;
    semget 64 393 190;
    semop 65 _ 193;
    semtimedop 220 _ 192;
    semtimedop_time64 _ 420 _;
    sendfile 40 187 71;
    sendfile64 _ 239 _;
    sendmmsg 307 345 269;
    sendmsg 46 370 211;
    sendto 44 369 206;
    set_mempolicy 238 276 237;
    set_mempolicy_home_node 450 450 450;
    set_robust_list 273 311 99;
    set_thread_area 205 243 _;
    set_tid_address 218 258 96;
    setdomainname 171 121 162;
    setfsgid 123 139 152;
    setfsgid32 _ 216 _;
    setfsuid 122 138 151;
    setfsuid32 _ 215 _;
    setgid 106 46 144;
    setgid32 _ 214 _;
    setgroups 116 81 159;
    setgroups32 _ 206 _;
    sethostname 170 74 161;
    setitimer 38 104 103;
    setns 308 346 268;
    setpgid 109 57 154;
    setpriority 141 97 140;
    setregid 114 71 143;
    setregid32 _ 204 _;
    setresgid 119 170 149;
    setresgid32 _ 210 _;
    setresuid 117 164 147;
    setresuid32 _ 208 _;
    setreuid 113 70 145;
    setreuid32 _ 203 _;
    setrlimit 160 75 164;
    setsid 112 66 157;
    setsockopt 54 366 208;
    settimeofday 164 79 170;
    setuid 105 23 146;
    setuid32 _ 213 _;
    setxattr 188 226 5;
    sgetmask _ 68 _;
    shmat 30 397 196;
    shmctl 31 396 195;
    shmdt 67 398 197;
    shmget 29 395 194;
    shutdown 48 373 210;
    sigaction _ 67 _;
    sigaltstack 131 186 132;
    signal _ 48 _;
    signalfd 282 321 _;
    signalfd4 289 327 74;
    sigpending _ 73 _;
    sigprocmask _ 126 _;
    sigreturn _ 119 _;
    sigsuspend _ 72 _;
    socket 41 359 198;
    socketcall _ 102 _;
    socketpair 53 360 199;
    splice 275 313 76;
    ssetmask _ 69 _;
    stat 4 106 _;
    stat64 _ 195 _;
    statfs 137 99 43;
    statfs64 _ 268 _;
    statx 332 383 291;
    stime _ 25 _;
    stty _ 31 _;
    swapoff 168 115 225;
    swapon 167 87 224;
    symlink 88 83 _;
    symlinkat 266 304 36;
    sync 162 36 81;
    sync_file_range 277 314 84;
    syncfs 306 344 267;
    sysfs 139 135 _;
    sysinfo 99 116 179;
    syslog 103 103 116;
    tee 276 315 77;
    tgkill 234 270 131;
    time 201 13 _;
    timer_create 222 259 107;
    timer_delete 226 263 111;
    timer_getoverrun 225 262 109;
    timer_gettime 224 261 108;
    timer_gettime64 _ 408 _;
    timer_settime 223 260 110;
    timer_settime64 _ 409 _;
    timerfd_create 283 322 85;
    timerfd_gettime 287 326 87;
    timerfd_gettime64 _ 410 _;
    timerfd_settime 286 325 86;
    timerfd_settime64 _ 411 _;
    times 100 43 153;
    tkill 200 238 130;
    truncate 76 92 45;
    truncate64 _ 193 _;
    tuxcall 184 _ _;
    ugetrlimit _ 191 _;
    ulimit _ 58 _;
    umask 95 60 166;
    umount _ 22 _;
    umount2 166 52 39;
    uname 63 122 160;
    unlink 87 10 _;
    unlinkat 263 301 35;
    unshare 272 310 97;
    uselib 134 86 _;
    userfaultfd 323 374 282;
    ustat 136 62 _;
    utime 132 30 _;
    utimensat 280 320 88;
    utimensat_time64 _ 412 _;
    utimes 235 271 _;
    vfork 58 190 _;
    vhangup 153 111 58;
    vm86 _ 166 _;
    vm86old _ 113 _;
    vmsplice 278 316 75;
    vserver 236 273 _;
    wait4 61 114 260;
    waitid 247 284 95;
    waitpid _ 7 _;
    write 1 4 64;
    writev 20 146 66;
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::SYSCALLS;

    #[test]
    fn names_are_sorted_and_agree_with_the_rows_of_modelled_calls() {
        assert!(NAMES.windows(2).all(|pair| pair[0].0 < pair[1].0));
        for abi in [SyscallAbi::X86_64, SyscallAbi::X86_32, SyscallAbi::Arm64] {
            for row in SYSCALLS {
                if let modelled @ Some(_) = row.number_in(abi) {
                    assert_eq!(number(abi, row.name), modelled, "{}", row.name);
                }
            }
        }
        assert_eq!(name(SyscallAbi::X86_64, 41), Some("socket"));
        assert_eq!(name(SyscallAbi::Arm64, 9999), None);
    }
}
