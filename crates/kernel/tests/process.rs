//! The initial stack as the ABI documents lay it out, and what system calls do.

use sotto_asm::{Options, Source, assemble};
use sotto_isa::{Arch, Storage};
use sotto_kernel::{StartError, Startup, Stop, System, Termination};
use sotto_object::{Image, LinkOptions, link};

fn image(text: &str) -> Image {
    let source = Source { name: "lamp.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    link(&[object], &LinkOptions::default()).unwrap()
}

fn start(text: &str, arguments: &[&str]) -> System {
    System::start(&image(text), &Startup::with_arguments(arguments)).unwrap()
}

const LAMP: &str = " .target x86-64\n .global _start\n_start: nop\n";
const LAMP_ARM: &str = " .target arm64\n .global _start\n_start: nop\n";

fn word(system: &mut System, address: u64) -> u64 {
    u64::from_le_bytes(system.machine.memory_mut().read(address).unwrap())
}

fn text(system: &mut System, mut address: u64) -> String {
    let mut bytes = Vec::new();
    loop {
        match system.machine.memory_mut().read::<1>(address).unwrap() {
            [0] => return String::from_utf8(bytes).unwrap(),
            [byte] => bytes.push(byte),
        }
        address += 1;
    }
}

#[test]
fn the_stack_holds_arguments_environment_and_auxiliary_vector() {
    for program in [LAMP, LAMP_ARM] {
        let mut system = start(program, &["lamp", "north", ""]);
        let sp = system.machine.register(system.arch().stack_pointer());
        assert_eq!(sp % 16, 0);
        assert_eq!(word(&mut system, sp), 3);
        let mut at = sp + 8;
        for wanted in ["lamp", "north", ""] {
            let address = word(&mut system, at);
            assert_eq!(text(&mut system, address), wanted);
            at += 8;
        }
        assert_eq!(word(&mut system, at), 0);
        at += 8;
        let mut environment = Vec::new();
        while word(&mut system, at) != 0 {
            let address = word(&mut system, at);
            environment.push(text(&mut system, address));
            at += 8;
        }
        assert_eq!(environment, ["LANG=C.UTF-8", "TERM=dumb"]);
        at += 8;
        let mut auxiliary = std::collections::BTreeMap::new();
        loop {
            let (kind, value) = (word(&mut system, at), word(&mut system, at + 8));
            if kind == 0 {
                break;
            }
            auxiliary.insert(kind, value);
            at += 16;
        }
        let entry = system.machine.pc();
        // Types by getauxval(3): page size, entry, file name, random bytes.
        assert_eq!((auxiliary[&6], auxiliary[&9]), (4096, entry));
        assert_eq!(text(&mut system, auxiliary[&31]), "lamp");
        assert_ne!(word(&mut system, auxiliary[&25]), 0);
    }
}

#[test]
fn too_many_arguments_are_refused() {
    let long = "x".repeat(3 << 20);
    let startup = Startup::with_arguments(vec!["lamp".into(), long]);
    let error = System::start(&image(LAMP), &startup).err();
    assert_eq!(error, Some(StartError::ArgumentsTooLong));
}

#[test]
fn segments_that_do_not_fit_beside_each_other_or_the_stack_are_refused() {
    let startup = Startup::with_arguments(["lamp"]);
    for address in [0x40_1800, 0x7fff_ffff_0000] {
        let mut image = image(LAMP);
        let mut second = image.segments[0].clone();
        second.address = address;
        image.segments.push(second);
        assert!(matches!(System::start(&image, &startup), Err(StartError::Segment { .. })));
    }
}

#[test]
fn the_same_start_gives_the_same_machine() {
    let state = || start(LAMP, &["lamp"]).machine.cpu_state();
    assert_eq!(state(), state());
}

/// Runs `number(rdi, rsi, rdx)` and returns rax, the output so far, and the notice.
fn call(number: u64, arguments: [u64; 3], input: &[u8]) -> (i64, Vec<u8>, Option<String>) {
    let program = " .target x86-64\n .global _start\n .data\nlog: .ascii \"buoy 3\"\n .skip 4090\nend:\n .text\n_start: syscall\n nop\n";
    let mut system = start(program, &["lamp"]);
    system.give_input(input);
    system.close_input();
    system.machine.set_register(Storage(0), number);
    for (storage, value) in [7, 6, 2].into_iter().zip(arguments) {
        system.machine.set_register(Storage(storage), value);
    }
    let (_, report, _) = system.step();
    let notice = report.and_then(|call| call.report.notice.clone()).map(|notice| notice.message);
    let output = system.output().iter().flat_map(|o| o.bytes.clone()).collect();
    (system.machine.register(Storage(0)) as i64, output, notice)
}

const LOG: u64 = 0x40_2000;

#[test]
fn write_and_read_by_the_man_pages() {
    assert_eq!(call(1, [1, LOG, 6], b""), (6, b"buoy 3".to_vec(), None));
    assert_eq!(call(1, [2, LOG, 0], b"").0, 0);
    let (result, output, notice) = call(1, [1, 0x10, 4], b"");
    assert_eq!((result, output.len()), (-14, 0));
    assert!(notice.unwrap().contains("0x10"));
    let (result, _, notice) = call(1, [0, LOG, 4], b"");
    assert_eq!(result, -9);
    assert!(notice.unwrap().contains("standard input"));
    assert_eq!(call(1, [77, LOG, 4], b"").0, -9);
    // Whole pages of a pipe are written, and nothing of one whose bytes cannot all be read.
    let (result, output, notice) = call(1, [1, LOG + 4000, 1 << 20], b"");
    assert_eq!((result, output.len()), (-14, 0));
    assert!(notice.unwrap().contains("of which only the first 96 can be read"));
    // Only the lower half of a register holds a file descriptor.
    assert_eq!(call(1, [0xffff_ffff_0000_0001, LOG, 1], b"").0, 1);

    assert_eq!(call(0, [0, LOG, 100], b"fog").0, 3);
    assert_eq!(call(0, [0, LOG, 2], b"fog").0, 2);
    assert_eq!(call(0, [0, LOG, 2], b"").0, 0);
    assert_eq!(call(0, [0, 0x10, 2], b"fog").0, -14);
    let (result, _, notice) = call(0, [1, LOG, 2], b"fog");
    assert_eq!(result, -9);
    assert!(notice.unwrap().contains("writing only"));
}

#[test]
fn calls_that_are_not_modelled_return_enosys_and_say_so() {
    let (result, _, notice) = call(9999, [0; 3], b"");
    assert_eq!(result, -38);
    assert!(notice.unwrap().contains("9999"));
    let (result, _, notice) = call(101, [1, LOG, 2], b"");
    assert_eq!(result, -38);
    assert!(notice.unwrap().starts_with("`ptrace`, system call 101 of x86-64, is not modelled"));
}

#[test]
fn a_number_that_another_machine_has_for_something_else_is_told_where_a_call_fails() {
    // `write` of 32-bit x86.
    let (result, _, notice) = call(4, [1, LOG, 2], b"");
    assert_eq!(result, -14);
    assert_eq!(notice.unwrap(), "`stat` returned EFAULT");
}

#[test]
fn exit_keeps_the_low_eight_bits_and_the_status_is_the_shells() {
    for (program, number) in [(LAMP, 60u64), (LAMP, 231), (LAMP_ARM, 93), (LAMP_ARM, 94)] {
        let text = program.replace("nop", if program == LAMP { "syscall" } else { "svc #0" });
        let mut system = start(&text, &["lamp"]);
        let convention = system.arch().convention();
        let number_register = convention.syscall_number.storage().unwrap();
        system.machine.set_register(number_register, number);
        system.machine.set_register(convention.syscall_arguments[0], 0x1_0103);
        let stop = system.run(10).stop;
        assert_eq!(stop, Stop::Terminated(Termination::Exited(3)));
        assert_eq!(system.ending().unwrap().shell_status(), 3);
    }
    let mut system = start(LAMP, &["lamp"]);
    system.run(10);
    assert_eq!(system.ending().unwrap().shell_status(), 128 + 11);
    assert_eq!(system.arch(), Arch::X86_64);
}
