//! System calls that change memory, tell about the system, and come through the 32-bit abi.

use sotto_asm::{Options, Source, assemble};
use sotto_isa::Storage;
use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_machine::{Fault, RegionKind, Signal};
use sotto_object::{Image, LinkOptions, link};

/// Runs calls one after the other; each is a line of instructions that ends with SYSCALL, and what it
/// returned is the next value.
fn results(calls: &[&str]) -> (Vec<i64>, System) {
    let text = format!(
        " .target x86-64\n .global _start\n .bss\nlog: .skip 8192\n .text\n_start:\n{}\n mov eax, 231\n syscall\n",
        calls.join("\n")
    );
    let (results, system, _) = results_of(&text);
    (results, system)
}

/// Runs a program to its end, and returns what its calls returned.
fn results_of(text: &str) -> (Vec<i64>, System, Image) {
    let source = Source { name: "log.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    let image = link(&[object], &LinkOptions::default()).unwrap();
    let mut system = System::start(&image, &Startup::with_arguments(["log"])).unwrap();
    let mut results = Vec::new();
    loop {
        let (_, report, stop) = system.step();
        results.extend(report.and_then(|call| call.report.result));
        if !matches!(stop, Stop::Budget) {
            return (results, system, image);
        }
    }
}

#[test]
fn the_heap_grows_and_shrinks_from_the_end_of_the_data() {
    let (results, _) = results(&[
        " xor edi, edi\n mov eax, 12\n syscall",
        " lea rdi, [rax + 5000]\n mov r12, rax\n mov eax, 12\n syscall",
        " mov byte [r12 + 4999], 1\n lea rdi, [r12 + 1]\n mov eax, 12\n syscall",
        " mov rdi, 1\n mov eax, 12\n syscall",
    ]);
    let start = results[0];
    assert_eq!(start % 4096, 0);
    // An end below the start is refused, and the old one told.
    assert_eq!(results[1..], [start + 5000, start + 1, start + 1]);
}

#[test]
fn memory_is_mapped_protected_moved_and_taken_away() {
    let map = " xor edi, edi\n mov esi, 8192\n mov edx, 3\n mov r10d, 0x22\n mov r8, -1\n xor r9d, r9d\n mov eax, 9\n syscall\n mov r12, rax";
    let (results, _) = results(&[
        map,
        " mov dword [r12], 77\n mov rdi, r12\n mov esi, 4096\n mov edx, 1\n mov eax, 10\n syscall",
        " mov rdi, r12\n mov esi, 8192\n mov edx, 1 << 20\n mov r10d, 1\n mov eax, 25\n syscall\n mov r13, rax\n mov ebx, [r13]",
        " mov rdi, r13\n mov esi, 1 << 20\n mov eax, 11\n syscall",
        " mov rdi, r13\n xor esi, esi\n mov eax, 11\n syscall",
        " xor edi, edi\n mov esi, 8192\n mov edx, 3\n mov r10d, 2\n mov r8, 3\n mov eax, 9\n syscall",
    ]);
    assert!(results[0] > 0 && results[0] % 4096 == 0);
    assert_eq!(results[1], 0);
    assert!(results[2] > 0, "it was moved or grew: {:#x}", results[2]);
    // EINVAL for no bytes; EBADF for a file that is not open.
    assert_eq!(results[3..], [0, -22, -9]);
}

#[test]
fn the_system_tells_names_times_limits_and_random_bytes_of_its_own_making() {
    let (results, mut system) = results(&[
        " lea rdi, [log]\n mov eax, 63\n syscall",
        " mov edi, 1\n lea rsi, [log + 1024]\n mov eax, 228\n syscall",
        " lea rdi, [log + 2048]\n mov esi, 16\n xor edx, edx\n mov eax, 318\n syscall",
        " mov edi, 0\n mov esi, 3\n xor edx, edx\n lea r10, [log + 3072]\n mov eax, 302\n syscall",
        " mov eax, 39\n syscall",
        " mov edi, 1\n mov esi, 0x5401\n lea rdx, [log]\n mov eax, 16\n syscall",
        " lea rdi, [log]\n mov eax, 2\n syscall",
        " mov edi, 0x1002\n lea rsi, [log + 4096]\n mov eax, 158\n syscall\n mov qword fs:[8], 5\n lea rdi, [log]",
    ]);
    assert_eq!(results, [0, 0, 16, 0, 1000, -25, -2, 0]);
    let log = system.machine.register(Storage(7));
    let mut bytes = [0; 6];
    system.machine.memory_mut().read_bytes(log, &mut bytes).unwrap();
    assert_eq!(&bytes, b"Linux\0");
    let word = |system: &mut System, at: u64| {
        u64::from_le_bytes(system.machine.memory_mut().read(log + at).unwrap())
    };
    // The monotonic clock does not start with the program.
    assert_eq!(word(&mut system, 1024), 100);
    // Four instructions and the call before, four and the call itself.
    assert!(word(&mut system, 1032) < 20);
    assert_ne!(word(&mut system, 2048), 0);
    assert_eq!(word(&mut system, 3072), 8 << 20);
    assert_eq!(word(&mut system, 4096 + 8), 5);
}

#[test]
fn int_0x80_takes_the_numbers_the_registers_and_the_width_of_32_bit_programs() {
    let (results, mut system) = results(&[
        " mov byte [log], 'L'\n mov eax, 4\n mov ebx, 1\n lea rcx, [log]\n mov edx, 1\n int 0x80",
        " mov eax, 20\n int 0x80",
        " mov eax, 4\n mov ebx, 1\n mov rcx, rsp\n mov edx, 1\n int 0x80",
        " mov eax, 281\n int 0x80",
    ]);
    // The stack is above 4 GiB, so that its address is cut off: EFAULT. A call that is not modelled.
    assert_eq!(results, [1, 1000, -14, -38]);
    assert_eq!(system.output()[0].bytes, b"L");
    let noticed = system.take_noticed();
    let message = |n: usize| noticed[n].call.notice.as_ref().unwrap().message.as_str();
    assert!(message(0).starts_with("`int 0x80` takes 32 bits of each argument: `buf` 0x7ff"));
    assert_eq!(
        message(1),
        "`mq_notify`, system call 281 of 32-bit x86, is not modelled; it returned ENOSYS"
    );
}

/// The same calls in the structures of 32-bit programs: words of 4 bytes, and sizes of 8 where the name
/// says so.
#[test]
fn programs_of_32_bits_have_their_own_structures() {
    let call = |number: u32, arguments: &[&str]| {
        let registers = ["ebx", "ecx", "edx", "esi", "edi", "ebp"];
        let moves = registers.iter().zip(arguments).map(|(r, a)| format!(" mov {r}, {a}\n"));
        format!("{} mov eax, {number}\n int 0x80\n", moves.collect::<String>())
    };
    let calls = [
        call(197, &["1", "log"]),                             // fstat64
        call(383, &["0", "empty", "0x1000", "0x7ff", "log + 128"]), // statx
        call(300, &["2", "empty", "log + 384", "0x1000"]),    // fstatat64
        call(191, &["3", "log + 512"]),                       // ugetrlimit
        call(403, &["1", "log + 520"]),                       // clock_gettime64
        call(265, &["1", "log + 536"]),                       // clock_gettime
        call(243, &["segment"]),                              // set_thread_area
        " mov eax, [segment]\n lea eax, [eax*8 + 3]\n mov gs, ax\n mov ecx, gs:[4]\n mov [log + 544], ecx\n"
            .to_string() + &call(192, &["0", "4096", "3", "0x22", "-1", "0"]), // mmap2
        " mov dword [eax], 7\n".to_string() + &call(45, &["0"]), // brk
        call(140, &["1", "0", "0", "log", "1"]),              // _llseek
        call(422, &["log + 900", "0", "5", "0"]),             // futex_time64
        call(383, &["0", "segment", "0", "0x7ff", "log"]),    // statx of a path
    ];
    let text = format!(
        " .target x86-32\n .global _start\n .data\nempty: db 0\nsegment: dd -1, mine, 0xfffff, 0x51\nmine: dd 1, 0x5ea\n .bss\n .balign 4\nlog: .skip 1024\n .text\n_start:\n{} mov eax, 1\n int 0x80\n",
        calls.concat()
    );
    let (results, mut system, image) = results_of(&text);
    assert_eq!(results[..7], [0; 7]);
    let (mapped, heap) = (results[7] as u64, results[8] as u64);
    assert!(mapped % 4096 == 0 && (0x1_0000..0xf800_0000).contains(&mapped), "{mapped:#x}");
    assert!(heap % 4096 == 0 && heap < mapped);
    // ESPIPE; EAGAIN, since the word is not 5; ENOENT.
    assert_eq!(results[9..], [-29, -11, -20]);
    let log = image.symbol("log").unwrap().address;
    let mut word = |at: u64| {
        let bytes = system.machine.memory_mut().read::<4>(log + at).unwrap();
        u32::from_le_bytes(bytes)
    };
    // A pipe that its owner may read and write, in each of the three structures.
    let pipe = 0o010_600;
    assert_eq!((word(16), word(12), word(88), word(52)), (pipe, 101, 101, 4096));
    assert_eq!((word(128), word(128 + 28), word(128 + 32)), (0x7ff, pipe, 100));
    assert_eq!(word(384 + 16), pipe);
    assert_eq!((word(512), word(516)), (8 << 20, u32::MAX));
    assert_eq!((word(520), word(524)), (100, 0));
    assert_eq!(word(536), 100);
    assert_eq!(word(544), 0x5ea);
}

#[test]
fn a_signal_to_itself_ends_the_program() {
    let (_, system) = results(&[" mov edi, 1000\n mov esi, 6\n mov eax, 62\n syscall"]);
    assert!(matches!(system.ending(), Some(Termination::Killed(Signal::SIGABRT, _))));
    assert_eq!(system.ending().unwrap().shell_status(), 134);
}

#[test]
fn going_back_takes_the_heap_and_the_mappings_back() {
    let (_, mut system) = results(&[" xor edi, edi\n mov eax, 12\n syscall"]);
    let before = system.snapshot();
    let regions = system.machine.memory().regions().to_vec();
    let all = sotto_machine::Permissions { read: true, write: true, execute: false };
    system.machine.memory_mut().map(RegionKind::Mapping, 0x7000_0000, 4096, all).unwrap();
    system.machine.memory_mut().write(0x7000_0000, [1u8]).unwrap();
    system.restore(&before);
    assert_eq!(system.machine.memory().regions(), regions);
    assert!(system.machine.memory_mut().read::<1>(0x7000_0000).is_err());
}

#[test]
fn a_handler_that_could_not_return_is_noticed() {
    let text = " .target x86-64\n .global _start\n .data\naction: .quad bell, 0, 0, 0\n .text\n_start: mov edi, 10\n lea rsi, [action]\n xor edx, edx\n mov r10d, 8\n mov eax, 13\n syscall\n mov edi, 1000\n mov esi, 10\n mov eax, 62\n syscall\nbell: ret\n";
    let (results, mut system, _) = results_of(text);
    assert_eq!(results, [0, 0]);
    let noticed = system.take_noticed();
    let message = &noticed[0].call.notice.as_ref().unwrap().message;
    assert!(message.starts_with("a handler without SA_RESTORER"), "{message}");
    // Source: Linux, `x64_setup_rt_frame`.
    let ending = Termination::Killed(Signal::SIGSEGV, Fault::SignalFrame);
    assert_eq!(system.ending(), Some(ending));
}
