//! Every row of the x86 table against this computer's processor.
//!
//! Random instances of a row, with random registers, flags and memory, are executed by the
//! processor under process tracing and by the emulator; registers, defined flags, memory and
//! signals must agree, and nothing may change that the row does not declare as written.
//!
//! `SOTTO_LOCKSTEP` sets how many instances of each row are run, `SOTTO_LOCKSTEP_SEED` the seed.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::sample::{self, Places};
use sotto_isa::x86::{self, Meaning, flag};
use sotto_isa::{
    Arch, Control, FlagSet, Mem, Operand, OperandOrder, Operands, Reg, RegKind, Storage, Width,
};
use sotto_machine::{CpuState, Event, Fault, Machine, Permissions};
use sotto_object::{Image, LineTable, Segment, write_executable};
use sotto_session::native::{Native, NativeEvent};

const CODE: u64 = 0x1000_0000;
const CODE_BYTES: u64 = 0x2000;
const DATA: u64 = 0x2000_0000;
const DATA_BYTES: u64 = 0x8_0000;
/// Memory operands and the stack are near here.
const MIDDLE: u64 = DATA + DATA_BYTES / 2;
/// Bytes compared on each side of a place that an instruction may write.
const WINDOW: u64 = 64;
const AT: u64 = CODE + 0x800;

fn bench_image() -> Image {
    let segment = |address, bytes: u64, write, exec| Segment {
        address,
        data: vec![0x90; 16],
        memory_size: bytes,
        write,
        exec,
        sections: Vec::new(),
    };
    Image {
        position_independent: false,
        parts: Vec::new(),
        arch: Arch::X86_64,
        entry: CODE,
        segments: vec![
            segment(CODE, CODE_BYTES, true, true),
            segment(DATA, DATA_BYTES, true, false),
        ],
        symbols: Vec::new(),
        lines: LineTable::default(),
    }
}

/// One instance: the bytes and the state before.
struct Case {
    bytes: Vec<u8>,
    state: CpuState,
    /// The place of the memory operand, and what is around it.
    around: u64,
    memory: Vec<u8>,
    stack: Vec<u8>,
}

fn operand_address(mem: &Mem, state: &CpuState, end: u64) -> u64 {
    let value = |reg: Option<Reg>| match reg {
        Some(Reg { kind: RegKind::Ip, .. }) => end,
        Some(reg) => state.registers[usize::from(reg.number)],
        None => 0,
    };
    let index = value(mem.index).wrapping_mul(u64::from(mem.scale));
    let address = value(mem.base).wrapping_add(index).wrapping_add(mem.disp.or_zero() as u64);
    let narrow = |reg: Option<Reg>| reg.is_some_and(|reg| reg.width() == Width::W32);
    if narrow(mem.base) || narrow(mem.index) { address & 0xffff_ffff } else { address }
}

/// Sets the registers of an address so that it points near the middle of the data.
fn aim(mem: &Mem, state: &mut CpuState, rng: &mut SmallRng) {
    let disp = mem.disp.or_zero() as u64;
    let near = MIDDLE + rng.random_range(0..64) - 32;
    let narrow = |reg: Reg| reg.width() == Width::W32;
    let upper = u64::from(rng.random::<u32>()) << 32;
    let mut set = |reg: Reg, value: u64| {
        // Upper bits that a 32-bit address must ignore; the stack stays where it is mapped.
        let upper = if reg.number == 4 { 0 } else { upper };
        let value = if narrow(reg) { value & 0xffff_ffff | upper } else { value };
        state.registers[usize::from(reg.number)] = value;
    };
    match (mem.base, mem.index) {
        (Some(base), _) if base.kind == RegKind::Ip => {}
        (Some(base), None) => set(base, near.wrapping_sub(disp)),
        (Some(base), Some(index)) => {
            let steps = rng.random_range(0..256);
            set(index, steps);
            set(base, near.wrapping_sub(disp).wrapping_sub(steps * u64::from(mem.scale)));
        }
        (None, Some(index)) => set(index, near.wrapping_sub(disp) / u64::from(mem.scale)),
        (None, None) => {}
    }
}

fn make_case(form: u16, rng: &mut SmallRng) -> Case {
    let row = x86::form(form);
    let places = Places { code: AT, data: MIDDLE };
    let (operands, bytes): (Operands, Vec<u8>) = loop {
        let operands = sample::operands(Arch::X86_64, form, places, rng);
        if let Ok(encoded) = x86::encode_form(form, &operands, AT) {
            break (operands, encoded.bytes.to_vec());
        }
    };
    let end = AT + bytes.len() as u64;
    let mut registers: Vec<u64> = (0..17).map(|_| sample::number(Width::W64, rng) as u64).collect();
    registers[4] = MIDDLE + 8 * rng.random_range(0..64);
    registers[16] = AT;
    let flags = FlagSet(rng.random()) & flag::STATUS;
    let mut state = CpuState { registers, flags };

    // Jumps to a register go somewhere that is an address.
    let jumps = matches!(row.control, Control::Jump | Control::Call | Control::Return);
    if let (Some(Operand::Reg(reg)), true) = (operands.first(), jumps) {
        state.registers[usize::from(reg.number)] =
            if reg.number == 4 { MIDDLE } else { CODE + rng.random_range(0..CODE_BYTES) };
    }
    if row.meaning == Meaning::Syscall {
        state.registers[0] = 39; // getpid: changes nothing but its result
    }
    if row.meaning == Meaning::Leave {
        state.registers[5] = MIDDLE + rng.random_range(0..64);
    }
    // Divisions that fit, half of the time.
    if matches!(row.meaning, Meaning::Div | Meaning::Idiv) && rng.random() {
        let extended = rng.random::<bool>() && row.meaning == Meaning::Idiv;
        state.registers[2] = if extended { u64::MAX } else { rng.random_range(0..4) };
        state.registers[0] =
            if extended { u64::MAX - rng.random_range(0..1000) } else { rng.random_range(0..1000) };
    }
    let mut around = MIDDLE;
    for operand in &operands {
        if let Operand::Mem(mem) = operand {
            aim(mem, &mut state, rng);
            around = operand_address(mem, &state, end);
        }
    }
    let mut contents = |jumps: bool| -> Vec<u8> {
        (0..2 * WINDOW / 8)
            .flat_map(|_| {
                let value = match jumps {
                    true => CODE + rng.random_range(0..CODE_BYTES),
                    false => sample::number(Width::W64, rng) as u64,
                };
                value.to_le_bytes()
            })
            .collect()
    };
    let (memory, mut stack) = (contents(false), contents(false));
    let mut memory = memory;
    if jumps {
        let target = CODE + rng.random_range(0..CODE_BYTES);
        memory[WINDOW as usize..WINDOW as usize + 8].copy_from_slice(&target.to_le_bytes());
        stack[WINDOW as usize..WINDOW as usize + 8].copy_from_slice(&target.to_le_bytes());
    }
    Case { bytes, state, around, memory, stack }
}

struct Benches {
    native: Native,
    machine: Machine,
}

impl Benches {
    fn new() -> Benches {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("bench");
        std::fs::write(&path, write_executable(&bench_image())).unwrap();
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
        let native = Native::start(&path, &[], Stdio::null(), Stdio::null()).unwrap();
        let mut machine = Machine::new(Arch::X86_64);
        let all = Permissions { read: true, write: true, execute: true };
        machine.memory_mut().map("code", CODE, CODE_BYTES, all).unwrap();
        let data = Permissions { execute: false, ..all };
        machine.memory_mut().map("data", DATA, DATA_BYTES, data).unwrap();
        Benches { native, machine }
    }

    fn put(&mut self, address: u64, bytes: &[u8]) {
        self.native.write(address, bytes).unwrap();
        self.machine.memory_mut().load(address, bytes).unwrap();
    }

    fn compare_memory(&mut self, address: u64, what: &str) {
        let mut native = [0; 2 * WINDOW as usize];
        let mut ours = native;
        self.native.read(address - WINDOW, &mut native).unwrap();
        self.machine.memory_mut().read_bytes(address - WINDOW, &mut ours).unwrap();
        assert_eq!(ours, native, "{what}: memory around {address:#x}");
    }

    fn run(&mut self, form: u16, case: &Case) {
        let stack = case.state.registers[4];
        self.put(AT, &case.bytes);
        // The two may overlap; a return address must stand, else what the operand points to.
        let places = [(case.around, &case.memory), (stack, &case.stack)];
        let order = if case.bytes[0] & 0xfe == 0xc2 { [0, 1] } else { [1, 0] };
        for (address, bytes) in order.map(|index| places[index]) {
            self.put(address - WINDOW, bytes);
        }
        self.native.set_cpu_state(&case.state).unwrap();
        self.machine.set_cpu_state(&case.state);
        let native_event = self.native.step().unwrap();
        let step = self.machine.step();
        let instruction = step.instruction.as_ref().expect("it was encoded");
        let what = format!(
            "row {form}, `{}` ({:02x?}) with {:x?}",
            instruction.print(&sotto_isa::NoNames),
            case.bytes,
            case.state
        );
        match (step.event, native_event) {
            (None | Some(Event::Syscall), NativeEvent::Stepped) => {}
            (Some(Event::Fault(Fault::Breakpoint)), NativeEvent::Stepped) => {}
            (Some(Event::Fault(fault)), NativeEvent::Signal(signal)) => {
                assert_eq!(fault.signal().number(), signal, "{what}");
            }
            (ours, native) => panic!("{what}: {ours:?} here, {native:?} natively"),
        }
        let native = self.native.cpu_state().unwrap();
        let ours = self.machine.cpu_state();
        let mut undefined = FlagSet::NONE;
        if !matches!(step.event, Some(Event::Fault(_))) {
            undefined = step.effects.flags.undefined;
        }
        assert_eq!(ours.flags & !undefined, native.flags & !undefined, "{what}: flags");
        for (number, name) in Arch::X86_64.storage_names().iter().enumerate() {
            let (mut here, mut there) = (ours.registers[number], native.registers[number]);
            if step.event == Some(Event::Syscall) {
                match number {
                    0 => continue, // its result is the kernel's affair
                    // The trap flag is the tracer's.
                    11 => (here, there) = (here & !0x100, there & !0x100),
                    _ => {}
                }
            }
            assert_eq!(here, there, "{what}: {name} is {here:#x} here, {there:#x} natively");
            self.check_declared(number, case, &step.effects, here, &what);
        }
        let changed = native.flags.0 ^ case.state.flags.0;
        assert!(
            step.effects.flags.written.contains(FlagSet(changed)),
            "{what}: flags {changed:#x} changed, which the row does not declare"
        );
        self.compare_memory(case.around, &what);
        self.compare_memory(stack, &what);
    }

    /// What the row does not declare as written has not changed.
    fn check_declared(
        &self,
        number: usize,
        case: &Case,
        effects: &sotto_machine::StepEffects,
        now: u64,
        what: &str,
    ) {
        let storage = Storage(number as u8);
        let declared = effects.registers.iter().any(|change| change.reg.storage() == Some(storage));
        if !declared && number != 16 {
            assert_eq!(now, case.state.registers[number], "{what}: an undeclared register changed");
        }
    }
}

fn setting(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|value| value.parse().ok()).unwrap_or(default)
}

#[test]
fn every_row_does_what_the_processor_does() {
    let instances = setting("SOTTO_LOCKSTEP", 200);
    let seed = setting("SOTTO_LOCKSTEP_SEED", 1);
    let mut benches = Benches::new();
    for form in 0..sample::form_count(Arch::X86_64) {
        let mut rng = SmallRng::seed_from_u64(seed ^ u64::from(form) << 32);
        for _ in 0..instances {
            let case = make_case(form, &mut rng);
            benches.run(form, &case);
        }
    }
}

/// Accesses that begin in the last mapped page and end beyond it fault in both, and change nothing.
#[test]
fn accesses_across_the_end_of_memory_fault_as_they_do_natively() {
    let mut benches = Benches::new();
    let end = DATA + DATA_BYTES;
    let texts = [
        "mov rax, [rbx]",
        "add [rbx], rax",
        "xchg [rbx], rax",
        "inc qword [rbx]",
        "pop qword [rbx]",
    ];
    for text in texts {
        for distance in 0..8u64 {
            let bytes = sotto_asm::assemble_instruction(
                Arch::X86_64,
                OperandOrder::DestinationFirst,
                text,
                AT,
            )
            .unwrap();
            let mut registers: Vec<u64> = (1..18).collect();
            registers[3] = end - distance;
            registers[4] = MIDDLE;
            registers[16] = AT;
            let state = CpuState { registers, flags: flag::CF };
            let case = Case {
                bytes,
                state,
                around: end - WINDOW,
                memory: vec![0x5a; 2 * WINDOW as usize],
                stack: vec![0; 2 * WINDOW as usize],
            };
            benches.run(u16::MAX, &case);
        }
    }
}
