//! What only 32-bit mode does, worked out by hand from the manual's operation sections; and programs of a
//! few instructions that the two modes read differently.

use sotto_isa::x86::flag::{AF, CF, OF, PF, SF, ZF};
use sotto_isa::{Arch, FlagSet, Storage};
use sotto_machine::{Event, Fault, Machine, MemoryFaultKind, Permissions, RegionKind, Signal};

const CODE: u64 = 0x40_0000;
const STACK: u64 = 0x50_0800;
const NONE: FlagSet = FlagSet::NONE;
const EAX: Storage = Storage(0);
const ESP: Storage = Storage(4);
const EBP: Storage = Storage(5);

/// A machine in 32-bit mode with code at its program counter.
fn machine(code: &[u8]) -> Machine {
    let mut machine = Machine::new(Arch::X86_32);
    let all = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, all).unwrap();
    machine.memory_mut().map(RegionKind::Stack, 0x50_0000, 0x1000, all).unwrap();
    machine.memory_mut().load(CODE, code).unwrap();
    machine.set_register(Arch::X86_32.pc(), CODE);
    machine.set_register(ESP, STACK);
    machine
}

fn word(machine: &mut Machine, address: u64) -> u32 {
    u32::from_le_bytes(machine.memory_mut().read::<4>(address).unwrap())
}

fn fault(machine: &mut Machine) -> Fault {
    match machine.step().event {
        Some(Event::Fault(fault)) => fault,
        other => panic!("{other:?}"),
    }
}

#[test]
fn decimal_numbers_are_corrected() {
    // code, ax, flags before; ax, flags after (undefined ones left out)
    type Case = (&'static [u8], u64, FlagSet, u64, FlagSet);
    let cases: &[Case] = &[
        // 79 + 35 = 114: the byte sum is ae.
        (&[0x27], 0xae, SF | OF, 0x14, CF | AF | PF),
        (&[0x27], 0x09, NONE, 0x09, PF),
        (&[0x27], 0x0a, NONE, 0x10, AF),
        (&[0x27], 0x00, CF, 0x60, CF | PF),
        // 35 - 47 = -12: the byte difference is ee, with borrows from both digits.
        (&[0x2f], 0xee, CF | AF | SF, 0x88, CF | AF | SF | PF),
        (&[0x2f], 0x12, NONE, 0x12, PF),
        // A low digit that borrows takes the carry along.
        (&[0x2f], 0x03, AF, 0xfd, CF | AF | SF),
        (&[0x37], 0x010c, NONE, 0x0202, CF | AF),
        (&[0x37], 0x0139, NONE, 0x0109, NONE),
        (&[0x3f], 0x020e, AF, 0x0108, CF | AF),
        (&[0x3f], 0x0207, NONE, 0x0207, NONE),
        (&[0xd4, 10], 47, NONE, 0x0407, NONE),
        (&[0xd4, 16], 0xab, NONE, 0x0a0b, NONE),
        (&[0xd5, 10], 0x0407, NONE, 47, NONE),
        (&[0xd5, 16], 0x0000, SF, 0, ZF | PF),
    ];
    for (code, before, flags, after, set) in cases {
        let mut machine = machine(code);
        machine.set_register(EAX, 0xdead_0000 | before);
        machine.set_flags(*flags);
        let step = machine.step();
        let what = format!("{code:02x?} of {before:#x}");
        assert_eq!(step.event, None, "{what}");
        assert_eq!(machine.register(EAX), 0xdead_0000 | after, "{what}");
        let undefined = step.effects.flags.undefined;
        assert_eq!(machine.flags() & !undefined, *set & !undefined, "{what}");
    }
    assert_eq!(fault(&mut machine(&[0xd4, 0])), Fault::DivideByZero);
}

#[test]
fn all_registers_are_pushed_in_their_order_and_popped_but_the_stack_pointer() {
    let mut machine = machine(&[0x60, 0x61]);
    for number in 0..8 {
        machine.set_register(Storage(number), 0x1111_1111 * u64::from(number + 1));
    }
    machine.set_register(ESP, STACK);
    machine.step();
    assert_eq!(machine.register(ESP), STACK - 32);
    let slots: Vec<u32> = (0..8).map(|n| word(&mut machine, STACK - 32 + 4 * n)).collect();
    let esp = STACK as u32;
    let wanted = [0x8888_8888, 0x7777_7777, 0x6666_6666, esp, 0x4444_4444, 0x3333_3333];
    assert_eq!(slots[..6], wanted);
    assert_eq!(slots[6..], [0x2222_2222, 0x1111_1111]);
    // What stands in ESP's slot is passed over.
    machine.memory_mut().load(STACK - 32 + 12, &[0; 4]).unwrap();
    machine.memory_mut().load(STACK - 32, &[7, 0, 0, 0]).unwrap();
    machine.step();
    assert_eq!((machine.register(ESP), machine.register(Storage(7))), (STACK, 7));
    assert_eq!(machine.register(EAX), 0x1111_1111);
}

#[test]
fn the_stack_has_slots_of_four_bytes() {
    // push 5; call +0; pop eax; enter 8, 0; leave; ret
    let code = [0x6a, 5, 0xe8, 0, 0, 0, 0, 0x58, 0xc8, 8, 0, 0, 0xc9, 0xc3];
    let mut machine = machine(&code);
    machine.set_register(EBP, 0x1234);
    machine.step();
    assert_eq!((machine.register(ESP), word(&mut machine, STACK - 4)), (STACK - 4, 5));
    machine.step();
    assert_eq!(word(&mut machine, STACK - 8), CODE as u32 + 7);
    machine.step();
    assert_eq!((machine.register(EAX), machine.register(ESP)), (CODE + 7, STACK - 4));
    machine.step();
    assert_eq!((machine.register(EBP), machine.register(ESP)), (STACK - 8, STACK - 16));
    machine.step();
    assert_eq!((machine.register(EBP), machine.register(ESP)), (0x1234, STACK - 4));
    machine.step();
    assert_eq!((machine.pc(), machine.register(ESP)), (5, STACK));
}

#[test]
fn addresses_wrap_at_four_gibibytes_and_at_sixty_four_kibibytes() {
    // lea eax, [ebx + ecx]; lea eax, [bx + si]
    let mut machine = machine(&[0x8d, 0x04, 0x0b, 0x67, 0x8d, 0x00]);
    machine.set_register(Storage(3), 0xffff_fff0);
    machine.set_register(Storage(1), 0x20);
    machine.set_register(Storage(6), 0x0001_0020);
    machine.step();
    assert_eq!(machine.register(EAX), 0x10);
    machine.step();
    assert_eq!(machine.register(EAX), 0x10);
}

#[test]
fn segments_that_hold_nothing_refuse_and_those_that_are_described_have_their_base() {
    // mov eax, gs:[4]
    let load = [0x65, 0xa1, 4, 0, 0, 0];
    let Fault::Memory(refused) = fault(&mut machine(&load)) else { panic!("a memory fault") };
    assert_eq!((refused.kind, refused.address), (MemoryFaultKind::Segment, 4));
    // mov gs, bx before it, with the first of the thread's own segments described.
    let mut machine = machine(&[&[0x8e, 0xeb], &load[..]].concat());
    machine.set_register(Storage(3), 0x63);
    machine.set_register(Storage(22), 1 << 32 | STACK);
    machine.memory_mut().load(STACK + 4, &[0x2a, 0, 0, 0]).unwrap();
    machine.step();
    machine.step();
    assert_eq!(machine.register(EAX), 0x2a);
    // One that nobody described, and one of the kernel's.
    for selector in [0x6b, 0x10] {
        machine.set_register(Arch::X86_32.pc(), CODE);
        machine.set_register(Storage(3), selector);
        assert_eq!(fault(&mut machine), Fault::Selector, "{selector:#x}");
    }
}

#[test]
fn checks_raise_their_signals() {
    // bound eax, [esp]: limits 1 and 8.
    let bound = |value: u64| {
        let mut machine = machine(&[0x62, 0x04, 0x24]);
        machine.memory_mut().load(STACK, &[1, 0, 0, 0, 8, 0, 0, 0]).unwrap();
        machine.set_register(EAX, value);
        machine.step().event
    };
    assert_eq!((bound(1), bound(8)), (None, None));
    for outside in [0, 9, 0xffff_ffff] {
        let Some(Event::Fault(fault)) = bound(outside) else { panic!("{outside}") };
        assert_eq!((fault, fault.signal()), (Fault::Bounds, Signal::SIGSEGV));
    }
    let mut into = machine(&[0xce]);
    into.set_flags(OF);
    assert_eq!(fault(&mut into), Fault::Overflow);
    assert_eq!(into.pc(), CODE + 1, "a trap stops after its instruction");
    // A far jump to the program's own segment is a jump; into 64-bit code it is not modelled.
    let far = |selector: u8| [0xea, 0x10, 0, 0x40, 0, selector, 0];
    let mut own = machine(&far(0x23));
    assert_eq!(own.step().event, None);
    assert_eq!(own.pc(), CODE + 0x10);
    assert_eq!(fault(&mut machine(&far(0x33))), Fault::ModeChange);
}

#[test]
fn an_operand_size_prefix_cuts_targets_and_return_addresses() {
    let stack = |machine: &Machine| machine.register(ESP);
    // Backwards by 3, to where it stands: 0x40_1000 in a whole address.
    let mut jump = machine(&[0x66, 0xeb, 0xfd]);
    assert_eq!((jump.step().event, jump.pc()), (None, CODE & 0xffff));
    let mut not_taken = machine(&[0x66, 0x74, 0xfd]);
    assert_eq!((not_taken.step().event, not_taken.pc()), (None, CODE + 3));
    let mut call = machine(&[0x66, 0xe8, 0, 0x10]);
    let before = stack(&call);
    let step = call.step();
    assert_eq!((call.pc(), stack(&call)), ((CODE + 0x1004) & 0xffff, before - 2));
    assert_eq!(step.effects.memory[0].new, (CODE + 4) & 0xffff);
    // What comes after the two bytes is no part of the address.
    let mut ret = machine(&[0x66, 0xc3]);
    let before = stack(&ret);
    ret.memory_mut().write(before, 0x4050_6070u32.to_le_bytes()).unwrap();
    assert_eq!((ret.step().event, ret.pc(), stack(&ret)), (None, 0x6070, before + 2));
    // There is no code there.
    assert!(matches!(ret.step().event, Some(Event::Fault(Fault::Memory(_)))));
}

#[test]
fn the_same_bytes_are_other_instructions_in_the_other_mode() {
    // 48 ff c0: inc rax, or dec eax and inc eax.
    let mut narrow = machine(&[0x48, 0xff, 0xc0]);
    narrow.set_register(EAX, 7);
    narrow.step();
    assert_eq!((narrow.register(EAX), narrow.pc()), (6, CODE + 1));
    narrow.step();
    assert_eq!((narrow.register(EAX), narrow.pc()), (7, CODE + 3));
}

/// One step and a whole run agree, and what a program writes of its own code is carried out.
#[test]
fn code_that_writes_itself_is_carried_out_as_written() {
    // mov byte [CODE + 8], 0x48; nop; inc eax, which becomes dec eax
    let code = [0xc6, 0x05, 0x08, 0x00, 0x40, 0x00, 0x48, 0x90, 0x40];
    for stepped in [false, true] {
        let mut machine = machine(&code);
        machine.set_register(EAX, 5);
        if stepped {
            (0..3).for_each(|_| assert_eq!(machine.step().event, None));
        } else {
            assert_eq!(machine.run(3).executed, 3);
        }
        assert_eq!(machine.register(EAX), 4, "stepped: {stepped}");
    }
}
