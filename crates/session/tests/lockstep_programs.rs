//! Whole programs, step by step beside this computer's processor.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use sotto_isa::{Arch, FlagSet, NoNames};
use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_native::{Native, NativeEvent};
use sotto_object::{Image, write_executable};

const R11: usize = 11;
/// The trap flag is the tracer's, not the program's.
const TRAP_FLAG: u64 = 0x100;

/// Runs the image both ways, compares after every instruction, and returns how many there were.
fn lockstep(image: &Image, input: &[u8], what: &str) -> u64 {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("program");
    std::fs::write(&path, write_executable(image)).unwrap();
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
    let mut stdin = tempfile::tempfile().unwrap();
    stdin.write_all(input).unwrap();
    std::io::Seek::rewind(&mut stdin).unwrap();
    let mut native =
        Native::start(&path, &["at", "dusk"], Stdio::from(stdin), Stdio::null()).unwrap();

    let mut system = System::start(image, &Startup::with_arguments(["program"])).unwrap();
    system.give_input(input);
    system.close_input();
    // The native stack has other strings and another size; the emulator goes on from a copy of it.
    let state = native.cpu_state().unwrap();
    let (start, end) = native.region("[stack]").unwrap().expect("a process has a stack");
    let mut stack = vec![0; (end - start) as usize];
    native.read(start, &mut stack).unwrap();
    system.machine.memory_mut().load(start, &stack).unwrap();
    // Bases in 32-bit mode are those of the empty selectors, as the emulator starts with.
    let mut state = state;
    if image.arch == Arch::X86_32 {
        let ours = system.machine.cpu_state();
        state.registers[17..19].copy_from_slice(&ours.registers[17..19]);
        state.banks.truncate(ours.banks.len());
    }
    system.machine.set_cpu_state(&state);

    let mut undefined = FlagSet::NONE;
    for count in 0.. {
        assert!(count < 1_000_000, "{what}: no end in sight");
        let (step, _, stop) = system.step();
        let mut event = native.step().unwrap();
        // The processor stops after every round of a repeated instruction.
        let repeated = step.instruction.as_ref().filter(|i| i.mnemonic().starts_with("rep"));
        while let (Some(instruction), NativeEvent::Stepped) = (repeated, event) {
            if native.cpu_state().unwrap().registers[16] != instruction.address {
                break;
            }
            event = native.step().unwrap();
        }
        let text = step.instruction.as_ref().map_or("?".into(), |i| i.print(&NoNames));
        match (stop, event) {
            (Stop::Terminated(Termination::Exited(ours)), NativeEvent::Exited(theirs)) => {
                assert_eq!(ours, theirs, "{what}: exit status");
                return count;
            }
            (Stop::Terminated(Termination::Killed(signal, _)), NativeEvent::Signal(theirs)) => {
                assert_eq!(signal.number(), theirs, "{what} at `{text}`");
                return count;
            }
            (Stop::Budget, NativeEvent::Stepped) => {}
            (ours, theirs) => panic!("{what} at `{text}`: {ours:?} here, {theirs:?} natively"),
        }
        // What one instruction leaves undefined stays so until something defines it.
        let flags = step.effects.flags;
        undefined = (undefined & !flags.written) | flags.undefined;
        let ours = system.machine.cpu_state();
        let theirs = native.cpu_state().unwrap();
        let known = theirs.registers.len();
        for (number, name) in image.arch.storage_names().iter().enumerate().take(known) {
            // A base in 32-bit mode is what the selector says.
            if image.arch == Arch::X86_32 && (number == 17 || number == 18) {
                continue;
            }
            let mask = if number == R11 { !TRAP_FLAG } else { u64::MAX };
            let (here, there) = (ours.registers[number] & mask, theirs.registers[number] & mask);
            assert_eq!(here, there, "{what} after {count} and `{text}`: {name}");
        }
        assert_eq!(ours.flags & !undefined, theirs.flags & !undefined, "{what} after `{text}`");
        for change in &step.effects.memory {
            let mut bytes = vec![0; change.bytes as usize];
            native.read(change.address, &mut bytes).unwrap();
            let mut wide = [0; 8];
            wide[..bytes.len()].copy_from_slice(&bytes);
            assert_eq!(u64::from_le_bytes(wide), change.new, "{what} after `{text}`: memory");
        }
    }
    unreachable!("the loop ends by returning")
}

#[test]
fn test_programs_and_demos_run_as_they_do_natively() {
    let mut programs = common::programs("x86-64");
    let with_32_bits = common::kernel_runs_32_bit();
    if with_32_bits {
        // What SYSENTER comes back through stands elsewhere natively and is not stepped there: of a program that
        // uses it the output and the status are compared (sotto/tests/x86_32.rs).
        let stepped = |program: &common::Program| !program.text.contains("sysenter");
        programs.extend(common::programs("x86-32").into_iter().filter(stepped));
    }
    let demos = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../sotto/demos");
    for name in ["lamp.s", "tide.s", "flash.s", "bell.s"] {
        if name == "bell.s" && !with_32_bits {
            continue;
        }
        let path = demos.join(name);
        let text = std::fs::read_to_string(&path).unwrap();
        programs.push(common::Program {
            path,
            text,
            input: String::new(),
            output: String::new(),
            status: 0,
        });
    }
    for program in programs {
        let name = program.path.display().to_string();
        let count = lockstep(&common::image(&name, &program.text), program.input.as_bytes(), &name);
        assert!(count > 5, "{name} ended after {count} instructions");
    }
}

#[test]
fn faults_raise_the_signals_they_raise_natively() {
    let cases = [
        ("null", "mov rax, [8]"),
        ("constant", "mov rax, _start\n mov byte [rax], 1"),
        ("divide", "xor ecx, ecx\n div ecx"),
        ("overflow", "mov eax, 0x80000000\n cdq\n mov ecx, -1\n idiv ecx"),
        ("invalid", "ud2"),
        ("astray", "mov eax, 0x1234\n jmp rax"),
        ("stack", "mov rsp, 64\n push rax"),
        ("stack_not_canonical", "mov rsp, 0x7fff000000000000\n push rax"),
        ("pop_not_canonical", "mov rsp, 0x7fff000000000000\n pop rax"),
        ("frame_not_canonical", "mov rbp, 0x7fff000000000000\n mov eax, [rbp + 8]"),
        ("data_not_canonical", "mov rbx, 0x7fff000000000000\n mov eax, [rbx + 8]"),
        ("end", "mov eax, 1"),
    ];
    for (name, body) in cases {
        let text = format!(" .target x86-64\n .global _start\n_start: nop\n {body}\n");
        lockstep(&common::image(name, &text), b"", name);
    }
    if !common::kernel_runs_32_bit() {
        return;
    }
    let in_32_bits = [
        ("null", "mov eax, [8]"),
        ("constant", "mov eax, _start\n mov byte [eax], 1"),
        ("divide", "aam 0"),
        ("overflow", "mov al, 127\n inc al\n into"),
        ("bounds", "mov eax, 9\n bound eax, [limits]"),
        ("stack", "mov esp, 64\n push eax"),
        ("empty_segment", "mov eax, fs:[0]"),
        ("code_segment", "mov cs:[limits], eax"),
        ("bad_selector", "mov eax, 0x1234\n mov es, eax"),
        ("far", "jmpf 0x1234, _start"),
        ("end", "mov eax, 1"),
    ];
    for (name, body) in in_32_bits {
        let text = format!(
            " .target x86-32\n .global _start\n .data\nlimits: dd 1, 8\n .text\n_start: nop\n {body}\n"
        );
        lockstep(&common::image(name, &text), b"", name);
    }
}
