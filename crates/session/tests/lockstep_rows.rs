//! Every row of the x86 table, in either mode, against this computer's processor.
//!
//! Random instances of a row, with random registers, flags and memory, are executed by the
//! processor under process tracing and by the emulator; registers, defined flags, memory and
//! signals must agree, and nothing may change that the row does not declare as written.
//!
//! `SOTTO_LOCKSTEP` sets how many instances of each row are run, `SOTTO_LOCKSTEP_SEED` the seed.
#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::arch::x86_64::__cpuid_count;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::sample::{self, Places};
use sotto_isa::x86::vector::Vector;
use sotto_isa::x86::{self, Meaning, Pattern, Repeat, flag};
use sotto_isa::{
    Arch, Control, FeatureBit, FlagSet, Mem, Operand, OperandOrder, Operands, Reg, RegKind,
    Segment, Storage, Value, Width,
};
use sotto_machine::{CpuState, Event, Fault, Machine, MemoryFaultKind, Permissions, RegionKind};
use sotto_native::{Native, NativeEvent};
use sotto_object::{Image, LineTable, Segment as ImageSegment, write_executable};

const CODE: u64 = 0x1000_0000;
const CODE_BYTES: u64 = 0x2000;
const DATA: u64 = 0x2000_0000;
const DATA_BYTES: u64 = 0x8_0000;
/// Memory operands and the stack are near here.
const MIDDLE: u64 = DATA + DATA_BYTES / 2;
/// The base that FS and GS have while they hold the null selector in 32-bit mode.
const NO_SEGMENT: u64 = 1 << 62;
/// Bytes compared on each side of a place that an instruction may write.
const WINDOW: u64 = 64;
const AT: u64 = CODE + 0x800;

fn bench_image(arch: Arch) -> Image {
    let segment = |address, bytes: u64, write, exec| ImageSegment {
        address,
        data: vec![0x90; 16],
        file_offset: 0,
        memory_size: bytes,
        surroundings: Default::default(),
        write,
        exec,
        sections: Vec::new(),
    };
    Image {
        position_independent: false,
        interpreter: None,
        executable_stack: false,
        labels: Vec::new(),
        variables: Vec::new(),
        parts: Vec::new(),
        call_frames: Vec::new(),
        tls_template: None,
        contracts: Vec::new(),
        modules: Vec::new(),
        headers: None,
        arch,
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
    /// It is a string instruction that repeats.
    repeated: bool,
    /// What it loads is on top of the stack, and must stand there.
    from_stack: bool,
}

fn operand_address(mem: &Mem, state: &CpuState, end: u64) -> u64 {
    let value = |reg: Option<Reg>| match reg {
        Some(Reg { kind: RegKind::Ip, .. }) => end,
        Some(reg) => state.registers[usize::from(reg.number)],
        None => 0,
    };
    let index = value(mem.index).wrapping_mul(u64::from(mem.scale));
    let address = value(mem.base).wrapping_add(index).wrapping_add(mem.disp.or_zero() as u64);
    let widths = [mem.base, mem.index].into_iter().flatten().map(Reg::width);
    let address = widths.fold(address, |address, width| address & width.mask());
    address.wrapping_add(segment_base(mem, state))
}

fn segment_base(mem: &Mem, state: &CpuState) -> u64 {
    match mem.segment {
        Some(Segment::Fs) => state.registers[17],
        Some(Segment::Gs) => state.registers[18],
        _ => 0,
    }
}

/// Sets the registers of an address so that it points near the middle of the data.
fn aim(arch: Arch, mem: &Mem, aligned: bool, state: &mut CpuState, rng: &mut SmallRng) {
    // An address of 16 bits reaches nothing that a program may map.
    if mem.base.is_some_and(|base| base.width() == Width::W16) {
        return;
    }
    let disp = mem.disp.or_zero() as u64;
    let near = MIDDLE + rng.random_range(0..64) - 32;
    let near = if aligned { near & !15 } else { near };
    // What has no register for the base to be taken from stays where it is.
    let fixed = mem.base.is_none_or(|base| base.kind == RegKind::Ip) && mem.index.is_none();
    let based = matches!(mem.segment, Some(Segment::Fs | Segment::Gs)) && arch == Arch::X86_64;
    if based && fixed {
        (state.registers[17], state.registers[18]) = (0, 0);
    }
    let near = near.wrapping_sub(if based { segment_base(mem, state) } else { 0 });
    let narrow = |reg: Reg| reg.width() == Width::W32;
    let upper = u64::from(rng.random::<u32>()) << 32;
    let mut set = |reg: Reg, value: u64| {
        // Upper bits that a 32-bit address must ignore; the stack stays where it is mapped.
        let upper = if reg.number == 4 || arch == Arch::X86_32 { 0 } else { upper };
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

/// A control and status register: every rounding, denormals as zeros, some exceptions unmasked.
fn control(rng: &mut SmallRng) -> u64 {
    let flags = if rng.random() { 0x20 } else { rng.random_range(0..0x40) };
    let masks = if rng.random_range(0..6) == 0 { rng.random_range(0..0x40) } else { 0x3f };
    let mode = if rng.random() { 0 } else { rng.random_range(0..8) << 13 };
    let zeros = u64::from(rng.random_range(0..6u32) == 0) << 6;
    flags | masks << 7 | mode | zeros
}

/// A vector of small integers, of any bits, or of floats of every kind.
fn vector(rng: &mut SmallRng) -> u128 {
    let double = |rng: &mut SmallRng| {
        let sign = u64::from(rng.random::<bool>()) << 63;
        let field: u64 = match rng.random_range(0..8) {
            0 => 0,
            1 => 0x7ff,
            2 => rng.random_range(0..0x7ff),
            _ => rng.random_range(0x3f0..0x410),
        };
        let fraction: u64 = match rng.random_range(0..4) {
            0 => 0,
            1 => rng.random_range(0..16u64) << 48,
            _ => rng.random::<u64>() >> 12,
        };
        sign | field << 52 | fraction
    };
    let single = |rng: &mut SmallRng| {
        let sign = u32::from(rng.random::<bool>()) << 31;
        let field: u32 = match rng.random_range(0..8) {
            0 => 0,
            1 => 0xff,
            2 => rng.random_range(0..0xff),
            _ => rng.random_range(0x70..0x90),
        };
        let fraction: u32 = match rng.random_range(0..4) {
            0 => 0,
            1 => rng.random_range(0..16u32) << 19,
            _ => rng.random::<u32>() >> 9,
        };
        sign | field << 23 | fraction
    };
    match rng.random_range(0..5) {
        0 => {
            u128::from(sample::number(Width::W64, rng) as u64) << 64
                | u128::from(sample::number(Width::W64, rng) as u64)
        }
        1 | 2 => u128::from(double(rng)) << 64 | u128::from(double(rng)),
        _ => (0..4).fold(0, |v, _| v << 32 | u128::from(single(rng))),
    }
}

/// What an instruction needs of registers that it does not name.
fn special_registers(arch: Arch, meaning: Meaning, state: &mut CpuState, rng: &mut SmallRng) {
    let near = |rng: &mut SmallRng| MIDDLE + rng.random_range(0..64);
    match meaning {
        Meaning::String(..) | Meaning::Vector(Vector::MaskedStore) => {
            (state.registers[6], state.registers[7]) = (near(rng), near(rng));
            state.registers[1] = rng.random_range(0..6);
        }
        Meaning::Xlat => state.registers[3] = near(rng),
        // Away from the stack: the processor starts again when the kernel gives it a page for the room,
        // and would then find links that it has overwritten itself.
        Meaning::Enter | Meaning::EnterWord => state.registers[5] = near(rng) + 0x3000,
        // getpid by the 32-bit table: changes nothing but its result.
        Meaning::Int => state.registers[0] = 20,
        Meaning::Lar | Meaning::Lsl | Meaning::Verr | Meaning::Verw => {
            for register in 0..if arch == Arch::X86_32 { 8 } else { 16 } {
                if register != 4 && rng.random_range(0..3) != 0 {
                    state.registers[register] = u64::from(asked_selector(meaning, rng));
                }
            }
            // The limit of this one is the number of the processor.
            for value in state
                .registers
                .iter_mut()
                .filter(|value| meaning == Meaning::Lsl && **value as u16 | 3 == 0x7b)
            {
                *value ^= 0x100;
            }
        }
        Meaning::MovToSegment => {
            for register in 0..if arch == Arch::X86_32 { 8 } else { 16 } {
                if register != 4 && rng.random() {
                    state.registers[register] = [0, 1, 2, 3, 0x2b][rng.random_range(0..5)];
                }
            }
        }
        _ => {}
    }
}

/// What an instruction needs to find in memory for once, and where it finds it.
fn special_memory(
    arch: Arch,
    meaning: Meaning,
    memory: &mut [u8],
    state: &CpuState,
    rng: &mut SmallRng,
) {
    match meaning {
        Meaning::Bound if rng.random() => {
            let (lower, upper) = (rng.random_range(-9..9i32), rng.random_range(0..99i32));
            let wide = rng.random::<bool>();
            let step = if wide { 4 } else { 2 };
            memory[..4].copy_from_slice(&lower.to_le_bytes());
            memory[step..step + 4].copy_from_slice(&upper.to_le_bytes());
        }
        Meaning::Lar | Meaning::Lsl | Meaning::Verr | Meaning::Verw => {
            memory[..2].copy_from_slice(&asked_selector(meaning, rng).to_le_bytes());
        }
        Meaning::LoadFar(segment) => {
            let bytes = [2, 4, 8][rng.random_range(0..3)];
            let selector = some_selector(arch, segment == Segment::Ss, rng);
            memory[bytes..bytes + 2].copy_from_slice(&selector.to_le_bytes());
        }
        Meaning::JmpFar | Meaning::CallFar(_) => {
            let bytes = if rng.random() { 4 } else { 8 };
            let target = CODE + rng.random_range(0..CODE_BYTES);
            memory[..8].copy_from_slice(&target.to_le_bytes());
            memory[bytes..bytes + 2].copy_from_slice(&code_selector(arch, rng).to_le_bytes());
        }
        Meaning::CmpxchgPair(Width::W32) if rng.random() => {
            let value = state.registers[2] << 32 | state.registers[0] & 0xffff_ffff;
            memory[..8].copy_from_slice(&value.to_le_bytes());
        }
        Meaning::CmpxchgPair(_) if rng.random() => {
            memory[..8].copy_from_slice(&state.registers[0].to_le_bytes());
            memory[8..16].copy_from_slice(&state.registers[2].to_le_bytes());
        }
        Meaning::Vector(Vector::LoadControl) if rng.random() => {
            memory[..4].copy_from_slice(&(control(rng) as u32).to_le_bytes());
        }
        Meaning::Vector(Vector::RestoreState) => {
            memory[..32].fill(0);
            memory[..2].copy_from_slice(&0x37fu16.to_le_bytes());
            memory[24..28].copy_from_slice(&(control(rng) as u32).to_le_bytes());
        }
        Meaning::X87(_) => {
            // Control and status words without exceptions, no tags, no last instruction.
            let words = [0x37f | rng.random_range(0..16u32) << 8, 0, 0xffff, 0, 0, 0, 0];
            for (bytes, word) in memory.chunks_exact_mut(4).zip(words) {
                bytes.copy_from_slice(&word.to_le_bytes());
            }
        }
        Meaning::Vector(_) if rng.random() => {
            for chunk in memory.chunks_exact_mut(16) {
                chunk.copy_from_slice(&vector(rng).to_le_bytes());
            }
        }
        _ => {}
    }
}

/// A selector to ask about.
fn asked_selector(meaning: Meaning, rng: &mut SmallRng) -> u16 {
    let known = [0, 3, 8, 0x10, 0x18, 0x20, 0x23, 0x28, 0x2b, 0x30, 0x33, 0x40, 0x63, 0x73, 0x27];
    match rng.random_range(0..20) {
        0 if meaning != Meaning::Lsl => 0x7b,
        n => *known.get(n).unwrap_or(&0x1234),
    }
}

/// A selector that ES, DS, FS and GS can hold, or one that none can. SS gets only what it refuses: a load
/// of it keeps the processor from stopping before the next instruction is done.
fn some_selector(arch: Arch, stack: bool, rng: &mut SmallRng) -> u16 {
    match rng.random_range(0..4) {
        0 if !stack && arch == Arch::X86_64 => rng.random_range(0..4),
        // Without a data segment a 32-bit program could not go on.
        1 | 2 if !stack => 0x2b,
        _ => [0x10, 0x1234, 0x73, 0xfff0][rng.random_range(0..4)],
    }
}

/// The selector of the program's own code, or one that is none.
fn code_selector(arch: Arch, rng: &mut SmallRng) -> u16 {
    let own = if arch == Arch::X86_32 { 0x23 } else { 0x33 };
    if rng.random_range(0..3) == 0 { some_selector(arch, true, rng) } else { own }
}

/// What lies on top of the stack for an instruction that loads segment registers from there.
fn special_stack(arch: Arch, form: &x86::Form, stack: &mut [u8], rng: &mut SmallRng) {
    let target = CODE + rng.random_range(0..CODE_BYTES);
    let code = u64::from(code_selector(arch, rng));
    let mut put = |slots: &[u64], width: Width| {
        for (n, value) in slots.iter().enumerate() {
            let (at, bytes) = (n * width.bytes() as usize, width.bytes() as usize);
            stack[at..at + bytes].copy_from_slice(&value.to_le_bytes()[..bytes]);
        }
    };
    match form.meaning {
        Meaning::PopSegment(_) => {
            let stack = form.operands[0].pattern == Pattern::Segment(2);
            put(&[u64::from(some_selector(arch, stack, rng))], Width::W16);
        }
        Meaning::RetFar(width) => put(&[target, code], width),
        Meaning::Iret(width) => {
            let flags = u64::from(rng.random::<u32>() & (flag::STATUS | flag::DF).0);
            let segment = if rng.random_range(0..4) == 0 { 0x10 } else { 0x2b };
            put(&[target, code, flags, MIDDLE + 8, segment], width);
        }
        _ => {}
    }
}

fn make_case(arch: Arch, form: u16, rng: &mut SmallRng) -> Case {
    let row = x86::form(form);
    let places = Places { code: AT, data: MIDDLE, narrow_strings: rng.random() };
    let (operands, bytes): (Operands, Vec<u8>) = loop {
        let mut operands = sample::operands(arch, form, places, rng);
        if row.operands.first().is_some_and(|slot| slot.pattern == Pattern::Selector) {
            let selector = i64::from(code_selector(arch, rng));
            operands[0] = Operand::Imm(Value::Known(selector));
            operands[1] = Operand::Imm(Value::Known((CODE + 0x100) as i64));
        }
        // A load of SS keeps the processor from stopping before the next instruction is done.
        let stack_segment = Operand::Reg(Reg::new(RegKind::Segment, 2));
        if row.meaning == Meaning::MovToSegment && operands[0] == stack_segment {
            continue;
        }
        if let Ok(encoded) = x86::encode_form(arch, form, &operands, AT) {
            break (operands, encoded.bytes.to_vec());
        }
    };
    let end = AT + bytes.len() as u64;
    let mut registers: Vec<u64> = (0..17).map(|_| sample::number(Width::W64, rng) as u64).collect();
    registers[4] = MIDDLE + 8 * rng.random_range(0..64);
    registers[16] = AT;
    let mut segment_bases = [0, 0].map(|_: u64| u64::from(rng.random::<u16>()));
    let mut selectors = 0;
    if arch == Arch::X86_32 {
        for register in &mut registers {
            *register &= 0xffff_ffff;
        }
        registers[8..16].fill(0);
        // FS and GS hold the data segment or nothing.
        selectors = 0x2b_002b;
        for (n, base) in segment_bases.iter_mut().enumerate() {
            *base = if rng.random() { 0 } else { NO_SEGMENT };
            selectors |= if *base == 0 { 0x2b << (32 + 16 * n) } else { 0 };
        }
    }
    registers.extend(segment_bases.into_iter().chain([control(rng), 0x37f, selectors]));
    let flags = FlagSet(rng.random()) & (flag::STATUS | flag::DF);
    let banks = arch.bank_registers().map(|_| vector(rng).into()).collect();
    let mut state = CpuState { registers, flags, banks };
    special_registers(arch, row.meaning, &mut state, rng);

    // Jumps to a register go somewhere that is an address.
    let jumps = matches!(row.control, Control::Jump | Control::Call | Control::Return);
    if let (Some(Operand::Reg(reg)), true) = (operands.first(), jumps) {
        state.registers[usize::from(reg.number)] =
            if reg.number == 4 { MIDDLE } else { CODE + rng.random_range(0..CODE_BYTES) };
    }
    if row.meaning == Meaning::Syscall {
        state.registers[0] = 39; // getpid: changes nothing but its result
    }
    if matches!(row.meaning, Meaning::Leave | Meaning::LeaveWord) {
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
    match row.meaning {
        Meaning::String(..) | Meaning::Vector(Vector::MaskedStore) => around = state.registers[7],
        _ => {}
    }
    // A narrow count leaves what is above it alone.
    if matches!(row.meaning, Meaning::String(..) | Meaning::LoopNarrow(_)) && places.narrow_strings
    {
        let above = if arch == Arch::X86_32 { 16 } else { 32 };
        let written_out = !row.operands.is_empty();
        if written_out {
            state.registers[1] |= rng.random_range(0..0xffffu64) << above;
        }
    }
    for (slot, operand) in row.operands.iter().zip(&operands) {
        if let Operand::Mem(mem) = operand {
            let wants = matches!(slot.pattern, Pattern::Xm(Width::W128) | Pattern::MemAligned)
                || matches!(row.meaning, Meaning::Vector(Vector::SaveState | Vector::RestoreState));
            let string = matches!(row.meaning, Meaning::String(..));
            aim(arch, mem, wants && rng.random_range(0..8) != 0, &mut state, rng);
            let address = operand_address(mem, &state, end);
            let mapped = (DATA + WINDOW..DATA + DATA_BYTES - WINDOW).contains(&address);
            // Of a string instruction the destination counts.
            if !string || mem.base.is_some_and(|base| base.number == 7) {
                around = if mapped || arch == Arch::X86_64 { address } else { MIDDLE };
            }
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
    if let Meaning::Popf(_) = row.meaning {
        // The trap flag is the tracer's, and NT and ID cannot be set back by it.
        let at = WINDOW as usize;
        (stack[at + 1], stack[at + 2]) = (stack[at + 1] & !0x41, stack[at + 2] & !0x20);
        (around, memory) = (state.registers[4], stack.clone());
    }
    let plain_jump =
        jumps && row.operands.iter().all(|slot| !matches!(slot.pattern, Pattern::Far(_)));
    if plain_jump {
        let target = CODE + rng.random_range(0..CODE_BYTES);
        memory[WINDOW as usize..WINDOW as usize + 8].copy_from_slice(&target.to_le_bytes());
        stack[WINDOW as usize..WINDOW as usize + 8].copy_from_slice(&target.to_le_bytes());
    }
    special_memory(arch, row.meaning, &mut memory[WINDOW as usize..], &state, rng);
    special_stack(arch, row, &mut stack[WINDOW as usize..], rng);
    let from_stack = matches!(
        row.meaning,
        Meaning::Ret
            | Meaning::RetWord
            | Meaning::RetFar(_)
            | Meaning::Iret(_)
            | Meaning::PopSegment(_)
    );
    let repeated = matches!(row.meaning, Meaning::String(_, _, repeat) if repeat != Repeat::Once);
    Case { bytes, state, around, memory, stack, repeated, from_stack }
}

struct Benches {
    arch: Arch,
    native: Native,
    machine: Machine,
}

impl Benches {
    fn new(arch: Arch) -> Benches {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("bench");
        std::fs::write(&path, write_executable(&bench_image(arch))).unwrap();
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
        let native = Native::start(&path, &[], Stdio::null(), Stdio::null()).unwrap();
        let mut machine = Machine::new(arch);
        let all = Permissions { read: true, write: true, execute: true };
        machine.memory_mut().map(RegionKind::Code, CODE, CODE_BYTES, all).unwrap();
        let data = Permissions { execute: false, ..all };
        machine.memory_mut().map(RegionKind::Data, DATA, DATA_BYTES, data).unwrap();
        Benches { arch, native, machine }
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
        let end = AT + case.bytes.len() as u64;
        let by_kernel = answered_by_kernel(form);
        if by_kernel {
            // After an answer in the processor's place, the step ends behind the instruction that follows.
            self.put(end, &[NOP]);
        }
        // The two may overlap; a return address must stand, else what the operand points to.
        let places = [(case.around, &case.memory), (stack, &case.stack)];
        let order = if case.from_stack { [0, 1] } else { [1, 0] };
        for (address, bytes) in order.map(|index| places[index]) {
            self.put(address - WINDOW, bytes);
        }
        self.native.set_cpu_state(&case.state).unwrap();
        self.machine.set_cpu_state(&case.state);
        let mut native_event = self.native.step().unwrap();
        let mode_change = Some(Event::Fault(Fault::ModeChange));
        // The processor stops after every round of a repeated instruction.
        while case.repeated && native_event == NativeEvent::Stepped {
            if self.native.cpu_state().unwrap().registers[16] != AT {
                break;
            }
            native_event = self.native.step().unwrap();
        }
        let mut step = self.machine.step();
        if let Some(event @ (Event::Syscall | Event::Syscall32)) = step.event {
            self.machine.complete_syscall(event);
            for change in &mut step.effects.registers {
                if let Some(storage) = change.reg.storage() {
                    change.new = self.machine.register(storage);
                }
            }
        }
        if by_kernel && native_event == NativeEvent::Stepped {
            if self.native.cpu_state().unwrap().registers[16] != end + 1 {
                return; // the processor answered itself, with what its kernel is set up like
            }
            self.machine.step();
        }
        if step.event == mode_change {
            return;
        }
        let instruction = step.instruction.as_ref().expect("it was encoded");
        let what = format!(
            "row {form}, `{}` ({:02x?}) with {:x?}",
            instruction.print(&sotto_isa::NoNames),
            case.bytes,
            case.state
        );
        match (step.event, native_event) {
            (None | Some(Event::Syscall | Event::Syscall32), NativeEvent::Stepped) => {}
            (Some(Event::Fault(Fault::Breakpoint)), NativeEvent::Stepped) => {}
            (Some(Event::Fault(fault)), NativeEvent::Signal(signal)) => {
                assert_eq!(fault.signal().number(), signal, "{what}");
                if let Fault::Memory(fault) = fault {
                    // Of an address that is not canonical, or not aligned, the processor says nothing.
                    let canonical = (fault.address as i64) << 16 >> 16 == fault.address as i64;
                    let silent = [MemoryFaultKind::Alignment, MemoryFaultKind::Segment];
                    let told = canonical && !silent.contains(&fault.kind);
                    let wanted = if told { fault.address } else { 0 };
                    let address = self.native.fault_address().unwrap();
                    assert_eq!(wanted, address, "{what}: {wanted:#x} here, {address:#x} natively");
                }
            }
            // The kernel does not look whether the segment may be written.
            (Some(Event::Fault(Fault::Memory(fault))), NativeEvent::Stepped)
                if by_kernel && fault.kind == MemoryFaultKind::Segment =>
            {
                return;
            }
            (ours, native) => panic!("{what}: {ours:?} here, {native:?} natively"),
        }
        let meaning = if form == u16::MAX { Meaning::Nop } else { x86::form(form).meaning };
        let own_answer = matches!(
            meaning,
            Meaning::Cpuid | Meaning::Rdtsc | Meaning::Rdtscp | Meaning::Rdpid | Meaning::Rdrand
        );
        let native = self.native.cpu_state().unwrap();
        let ours = self.machine.cpu_state();
        let mut undefined = FlagSet::NONE;
        if !matches!(step.event, Some(Event::Fault(_))) {
            undefined = step.effects.flags.undefined;
        }
        // There may be no random number yet, which CF tells.
        if own_answer {
            undefined = flag::STATUS;
        }
        assert_eq!(ours.flags & !undefined, native.flags & !undefined, "{what}: flags");
        // The one result that is undefined: of a double shift by more than the width.
        let shifted = matches!(meaning, Meaning::Shld | Meaning::Shrd);
        let undefined_result = shifted && undefined.contains(flag::CF);
        for (number, name) in self.arch.storage_names().iter().enumerate() {
            let written = step
                .effects
                .registers
                .iter()
                .any(|change| change.reg.storage() == Some(Storage(number as u8)));
            // A base in 32-bit mode is what the selector says.
            let said = self.arch == Arch::X86_32 && (number == 17 || number == 18);
            let answered = written && (own_answer || undefined_result);
            if number >= native.registers.len() || said || answered {
                continue;
            }
            let (mut here, mut there) = (ours.registers[number], native.registers[number]);
            if by_kernel && written {
                // The processor would clear the upper half; the kernel lets it be.
                (here, there) = (here & 0xffff_ffff, there & 0xffff_ffff);
            }
            if matches!(step.event, Some(Event::Syscall | Event::Syscall32)) {
                match number {
                    0 => continue, // its result is the kernel's affair
                    // The trap flag is the tracer's.
                    11 if step.event == Some(Event::Syscall) => {
                        (here, there) = (here & !0x100, there & !0x100)
                    }
                    _ => {}
                }
            }
            assert_eq!(here, there, "{what}: {name} is {here:#x} here, {there:#x} natively");
            self.check_declared(number, case, &step.effects, here, &what);
        }
        let changed = if own_answer { 0 } else { native.flags.0 ^ case.state.flags.0 };
        assert!(
            step.effects.flags.written.contains(FlagSet(changed)),
            "{what}: flags {changed:#x} changed, which the row does not declare"
        );
        let registers = self.arch.bank_registers().zip(&case.state.banks);
        let pairs = ours.banks.iter().zip(&native.banks);
        for (((id, reg), before), (here, there)) in registers.zip(pairs) {
            let name = reg.name();
            assert_eq!(here, there, "{what}: {name} is {here:#x} here, {there:#x} natively");
            let declared = step.effects.banks.iter().any(|change| change.reg.id() == Some(id));
            let kept = declared || here == before;
            let whole = matches!(meaning, Meaning::Vector(Vector::RestoreState));
            assert!(kept || whole, "{what}: an undeclared vector register changed");
        }
        if undefined_result {
            return;
        }
        if let Meaning::Pushf(_) = meaning {
            // The trap flag is the tracer's.
            let mut byte = [0];
            self.native.read(ours.registers[4] + 1, &mut byte).unwrap();
            self.native.write(ours.registers[4] + 1, &[byte[0] & !1]).unwrap();
        }
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
        // MXCSR takes part in all arithmetic on floats, segment bases and selectors in loads of segments.
        if !declared && number < 16 {
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
    every_row_of(Arch::X86_64, instances, seed);
    if common::kernel_runs_32_bit() {
        every_row_of(Arch::X86_32, instances, seed);
    }
}

const NOP: u8 = 0x90;

/// Whether the kernel carries out a row that the processor refuses to programs.
fn answered_by_kernel(form: u16) -> bool {
    form != u16::MAX
        && matches!(x86::form(form).meaning, Meaning::SystemWord(_) | Meaning::SystemTable(_))
}

/// The feature that a row needs and this processor does not have. There is nothing to hold the row against
/// then: other processors have it.
fn lacking(form: u16) -> Option<&'static str> {
    // Where the processor does not refuse these, they tell what this computer's kernel is set up like.
    if answered_by_kernel(form) && __cpuid_count(7, 0).ecx >> 2 & 1 == 0 {
        return Some("UMIP");
    }
    let feature = x86::feature(form)?;
    let FeatureBit::Cpuid { leaf, register, bit } = feature.bit;
    let answer = __cpuid_count(leaf, 0);
    let registers = [answer.eax, answer.ebx, answer.ecx, answer.edx];
    let there = registers[usize::from(register)] >> bit & 1 == 1;
    (!there).then_some(feature.name)
}

fn every_row_of(arch: Arch, instances: u64, seed: u64) {
    let mut benches = Benches::new(arch);
    let mut differing = Vec::new();
    for form in sample::forms(arch) {
        if let Some(feature) = lacking(form) {
            let row = x86::form(form).mnemonic;
            eprintln!("{arch}: row {form}, {row}: this processor has no {feature}");
            continue;
        }
        // It comes back through the kernel's own code; a program that does is compared elsewhere.
        if x86::form(form).meaning == Meaning::Sysenter {
            continue;
        }
        // The first difference of every row is told, and not of the first row alone.
        let row = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            let mut rng = SmallRng::seed_from_u64(seed ^ u64::from(form) << 32);
            for _ in 0..instances {
                let case = make_case(arch, form, &mut rng);
                benches.run(form, &case);
            }
        }));
        if row.is_err() {
            differing.push(format!("{form} {}", x86::form(form).mnemonic));
        }
    }
    // What a processor of the last ten years has is nearly all of it.
    let lacking = sample::forms(arch).iter().filter(|form| lacking(**form).is_some()).count();
    assert!(lacking < 30, "this processor lacks what {lacking} rows need");
    assert!(differing.is_empty(), "{arch}: {} rows differ: {differing:?}", differing.len());
}

/// Accesses that begin in the last mapped page and end beyond it fault in both, and change nothing.
#[test]
fn accesses_across_the_end_of_memory_fault_as_they_do_natively() {
    let mut benches = Benches::new(Arch::X86_64);
    let end = DATA + DATA_BYTES;
    let texts = [
        "mov rax, [rbx]",
        "add [rbx], rax",
        "xchg [rbx], rax",
        "inc qword [rbx]",
        "pop qword [rbx]",
        "movups xmm0, [rbx]",
        "movups [rbx], xmm1",
        "addsd xmm0, [rbx]",
        "cvtdq2pd xmm0, [rbx]",
        "pinsrw xmm0, [rbx], 1",
        "movhps [rbx], xmm1",
        "lock xadd [rbx], rax",
        "cmpxchg8b [rbx]",
        "shld [rbx], rax, 3",
        "stmxcsr [rbx]",
        "fnstenv [rbx]",
        "fldenv [rbx]",
        "clflush [rbx]",
        "lgs eax, [rbx]",
        "fxsave [rbx]",
        "fxrstor [rbx]",
    ];
    for text in texts {
        for distance in 0..16u64 {
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
            registers.extend([0, 0, 0x1f80, 0x37f, 0]);
            let state = CpuState { registers, flags: flag::CF, banks: vec![1u128.into(); 16] };
            let case = Case {
                bytes,
                state,
                around: end - WINDOW,
                memory: vec![0x5a; 2 * WINDOW as usize],
                stack: vec![0; 2 * WINDOW as usize],
                repeated: false,
                from_stack: false,
            };
            benches.run(u16::MAX, &case);
        }
    }
}
