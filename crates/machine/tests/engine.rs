//! The engine: running in blocks is the same as stepping, budgets are exact, and code that writes
//! over code sees what it wrote.

use proptest::prelude::*;
use sotto_isa::{Arch, Storage};
use sotto_machine::{Event, Fault, Machine, MemoryFaultKind, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;
const DATA: u64 = 0x50_0000;
const RCX: Storage = Storage(1);
const RSP: Storage = Storage(4);

fn machine(code: &[u8]) -> Machine {
    let mut machine = Machine::new(Arch::X86_64);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, code.len() as u64, all).unwrap();
    machine.memory_mut().map(RegionKind::Data, DATA, 0x2000, all).unwrap();
    machine.memory_mut().load(CODE, code).unwrap();
    machine.set_register(Arch::X86_64.pc(), CODE);
    machine.set_register(RSP, DATA + 0x1000);
    machine
}

/// add eax, ecx; adc edx, eax; push rax; pop rbx; loop -9; ud2
const LOOP: &[u8] = &[0x01, 0xc8, 0x11, 0xc2, 0x50, 0x5b, 0xe2, 0xf8, 0x0f, 0x0b];

#[test]
fn a_loop_runs_to_its_end_and_counts_exactly() {
    let mut machine = machine(LOOP);
    machine.set_register(RCX, 1000);
    let run = machine.run(u64::MAX);
    assert_eq!((run.executed, run.event), (5000, Event::Fault(Fault::Illegal)));
    assert_eq!(machine.pc(), CODE + 8);
    assert_eq!(machine.register(Storage(0)), 500_500);
}

#[test]
fn stops_are_reached_each_time_and_do_not_hold_up_a_run_that_starts_there() {
    let mut machine = machine(LOOP);
    machine.set_register(RCX, 3);
    machine.set_stops(&[CODE + 4]);
    for (executed, rcx) in [(2, 3), (5, 2), (5, 1)] {
        let run = machine.run(100);
        assert_eq!((run.executed, run.event), (executed, Event::Stop));
        assert_eq!((machine.pc(), machine.register(RCX)), (CODE + 4, rcx));
    }
    assert_eq!(machine.run(100).event, Event::Fault(Fault::Illegal));
}

#[test]
fn code_that_is_written_over_is_executed_as_written() {
    // mov byte [rip + 1], 7 writes the immediate of the mov al, 5 right behind it, in its own block.
    let code = [0xc6, 0x05, 1, 0, 0, 0, 7, 0xb0, 5, 0x0f, 0x0b];
    let mut machine = machine(&code);
    machine.run(100);
    assert_eq!(machine.register(Storage(0)), 7);

    // The same after the block was already executed once.
    let code = [0xb0, 5, 0xc6, 0x05, 0xf8, 0xff, 0xff, 0xff, 9, 0xe2, 0xf5, 0x0f, 0x0b];
    let mut machine = self::machine(&code);
    machine.set_register(RCX, 2);
    machine.run(100);
    assert_eq!(machine.register(Storage(0)), 9);
}

#[test]
fn control_past_the_code_faults_at_its_end_and_keeps_what_was_done() {
    let mut machine = machine(&[0xb0, 5]);
    let run = machine.run(100);
    assert_eq!(run.executed, 1);
    let Event::Fault(Fault::Memory(fault)) = run.event else { panic!("{run:?}") };
    assert_eq!((fault.address, fault.kind), (CODE + 2, MemoryFaultKind::PastCode));
    assert_eq!(machine.register(Storage(0)), 5);
}

#[test]
fn a_fault_in_the_middle_of_a_block_leaves_the_counter_at_its_instruction() {
    // inc eax; mov rbx, [rdi] with rdi 0; inc eax
    let mut machine = machine(&[0xff, 0xc0, 0x48, 0x8b, 0x1f, 0xff, 0xc0]);
    let run = machine.run(100);
    assert_eq!((run.executed, machine.pc()), (1, CODE + 2));
    assert_eq!(machine.register(Storage(0)), 1);
}

#[test]
fn a_snapshot_brings_back_registers_flags_memory_and_code() {
    let mut machine = machine(LOOP);
    machine.set_register(RCX, 50);
    machine.run(7);
    let snapshot = machine.snapshot();
    let state = machine.cpu_state();
    machine.run(100);
    let later = machine.cpu_state();
    machine.restore(&snapshot);
    assert_eq!(machine.cpu_state(), state);
    machine.run(100);
    assert_eq!(machine.cpu_state(), later);
}

/// Comparisons and the jump behind them may be carried out as one; a budget may end between the two, and what
/// the flags are is seen by whoever looks.
#[test]
fn a_comparison_and_its_jump_together_do_what_they_do_one_by_one() {
    let comparisons: [&[u8]; 18] = [
        &[0x39, 0xc8],             // cmp eax, ecx
        &[0x48, 0x39, 0xc8],       // cmp rax, rcx
        &[0x48, 0x83, 0xf8, 0x05], // cmp rax, 5
        &[0x66, 0x39, 0xc8],       // cmp ax, cx
        &[0x38, 0xc8],             // cmp al, cl
        &[0x38, 0xcc],             // cmp ah, cl
        &[0x3c, 0x80],             // cmp al, -128
        &[0x84, 0xc9],             // test cl, cl
        &[0x48, 0x85, 0xc8],       // test rax, rcx
        &[0x01, 0xc8],             // add eax, ecx
        &[0x48, 0x83, 0xe8, 0x01], // sub rax, 1
        &[0x21, 0xc8],             // and eax, ecx
        &[0xff, 0xc0],             // inc eax
        &[0x48, 0xff, 0xc9],       // dec rcx
        &[0xd1, 0xe8],             // shr eax, 1
        &[0x3a, 0x06],             // cmp al, [rsi], which holds 5
        &[0x48, 0x3b, 0x46, 0x01], // cmp rax, [rsi + 1], which holds 0
        &[0x3b, 0x07],             // cmp eax, [rdi], which is refused
    ];
    let values = [0, 1, 5, 0x7f, 0x80, 0xff80, 0x7fff_ffff, 0x8000_0000, 1 << 63, u64::MAX];
    for comparison in comparisons {
        for cond in 0..16 {
            // STC or CLC before, for those that keep CF; what is jumped over moves 7 to BL.
            let before = if cond % 3 == 0 { 0xf9 } else { 0xf8 };
            let code =
                [&[before], comparison, &[0x70 + cond, 2, 0xb3, 7, 0x90, 0x0f, 0x0b]].concat();
            for (a, b) in values.iter().flat_map(|a| values.iter().map(move |b| (*a, *b))) {
                let start = || {
                    let mut machine = machine(&code);
                    machine.set_register(Storage(0), a);
                    machine.set_register(RCX, b);
                    machine.set_register(Storage(6), DATA);
                    machine.memory_mut().load(DATA, &[5]).unwrap();
                    machine
                };
                let mut stepped = start();
                while stepped.step().event.is_none() {}
                let end = stepped.cpu_state();
                for pieces in [[10, 0, 0], [1, 10, 0], [2, 10, 0], [1, 1, 10]] {
                    let mut machine = start();
                    for piece in pieces {
                        machine.run(piece);
                    }
                    assert_eq!(machine.cpu_state(), end, "{code:02x?} {a:#x} {b:#x} {pieces:?}");
                }
            }
        }
    }
}

proptest! {
    /// n steps equal one run of n, and any two runs that add up to n.
    #[test]
    fn stepping_running_and_running_in_pieces_agree(count in 1u64..60, piece in 0u64..60) {
        let start = || {
            let mut machine = machine(LOOP);
            machine.set_register(RCX, 11);
            machine
        };
        let mut stepped = start();
        for _ in 0..count {
            if stepped.step().event.is_some() {
                break;
            }
        }
        let mut whole = start();
        whole.run(count);
        let mut pieces = start();
        pieces.run(piece.min(count));
        pieces.run(count - piece.min(count));
        prop_assert_eq!(stepped.cpu_state(), whole.cpu_state());
        prop_assert_eq!(pieces.cpu_state(), whole.cpu_state());
    }

    /// Random bytes as code end in some event and never in a panic.
    #[test]
    fn any_bytes_can_be_run(bytes in proptest::collection::vec(any::<u8>(), 1..64)) {
        for arch in [Arch::X86_64, Arch::Arm64] {
            let mut machine = Machine::new(arch);
            let all = Permissions { read: true, write: true, execute: true };
            machine.memory_mut().map(RegionKind::Code, CODE, bytes.len() as u64, all).unwrap();
            machine.memory_mut().load(CODE, &bytes).unwrap();
            machine.set_register(arch.pc(), CODE);
            machine.set_register(arch.stack_pointer(), CODE + 32);
            machine.run(1000);
        }
    }
}
