//! Why a program died, in words: the fact, the place and the remedy.

use serde::Serialize;
use sotto_isa::{Control, Instruction, Operand, OperandOrder, Reg, RegKind, Traits, x86};
use sotto_kernel::{System, Termination};
use sotto_machine::{AccessKind, Fault, MemoryFault, MemoryFaultKind, RegionKind, Signal};
use sotto_object::Image;

use crate::views::places::{ImageNames, Place, SourceText, hex};
use crate::views::remarks;
use crate::views::text_cache::TextCache;

/// A register with its value.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct NamedRegister {
    /// Its name.
    pub name: &'static str,
    /// Its value, zero-extended.
    #[serde(serialize_with = "hex")]
    pub value: u64,
}

/// Why a program died.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct FaultReport {
    /// The signal.
    pub signal: Signal,
    /// What happened, in one line.
    pub message: String,
    /// Where: the instruction that faulted, or the last one executed if control went astray.
    pub place: Place,
    /// That instruction.
    pub instruction: Option<String>,
    /// In a shared object, the call in the program itself that led there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub called_from: Option<Place>,
    /// Whether the place is of the last executed instruction rather than of the faulting one.
    pub after: bool,
    /// More facts, one a line.
    pub facts: Vec<String>,
    /// What to do.
    pub help: Option<String>,
    /// Lines of source to add, if that is the remedy.
    pub add: Vec<&'static str>,
    /// The registers that matter for it.
    pub registers: Vec<NamedRegister>,
}

/// What is known about the moment of a fault.
pub(crate) struct Scene<'a> {
    pub image: &'a Image,
    pub sources: &'a [SourceText],
    pub order: OperandOrder,
    pub system: &'a mut System,
    /// The last instruction that completed, if it was found.
    pub last: Option<Instruction>,
}

impl Scene<'_> {
    fn text(&self, instruction: &Instruction) -> String {
        instruction.print_in(self.order, &ImageNames(self.image))
    }

    fn place(&self, address: u64) -> Place {
        TextCache::default().place(self.image, self.sources, address)
    }

    fn value(&self, reg: Reg) -> NamedRegister {
        let value = reg.storage().map_or(0, |s| reg.part_of(self.system.machine.register(s)));
        NamedRegister { name: reg.name(), value }
    }
}

/// Explains how the program was killed; `None` if it exited.
pub(crate) fn report(mut scene: Scene) -> Option<FaultReport> {
    let Some(Termination::Killed(signal, fault)) = scene.system.ending() else { return None };
    let pc = scene.system.machine.pc();
    let instruction = match fault {
        Fault::Breakpoint if scene.image.arch.completes_breakpoints() => {
            scene.system.machine.instruction_at(pc.wrapping_sub(1)).ok()
        }
        Fault::Overflow => [1, 2].into_iter().find_map(|bytes| {
            let before = scene.system.machine.instruction_at(pc.wrapping_sub(bytes)).ok()?;
            (before.end() == pc && before.traits().contains(Traits::INTERRUPT)).then_some(before)
        }),
        _ => scene.system.machine.instruction_at(pc).ok(),
    };
    let mut report = FaultReport {
        signal,
        message: String::new(),
        place: scene.place(instruction.as_ref().map_or(pc, |i| i.address)),
        instruction: instruction.as_ref().map(|i| scene.text(i)),
        called_from: None,
        after: false,
        facts: Vec::new(),
        help: None,
        add: Vec::new(),
        registers: Vec::new(),
    };
    match fault {
        Fault::Memory(fault) if fault.access == AccessKind::Execute => {
            astray(&mut scene, &mut report, fault);
        }
        Fault::Memory(fault) => memory(&scene, &mut report, fault, instruction.as_ref()),
        Fault::DivideByZero | Fault::DivideOverflow => {
            divide(&scene, &mut report, fault, instruction.as_ref());
        }
        Fault::Illegal => illegal(&mut scene, &mut report, instruction.as_ref(), pc),
        Fault::Privileged => {
            let name = instruction.as_ref().map_or("this", Instruction::mnemonic);
            report.message = format!("`{name}` was executed, which is for the kernel alone");
        }
        Fault::Raised(signal) => {
            report.message = format!("the program sent itself {}", signal.name());
            // The program counter is after the call that did it.
            if let Some(last) = &scene.last {
                report.place = scene.place(last.address);
                report.instruction = Some(scene.text(last));
            }
        }
        Fault::Delivered(signal) => {
            let name = signal.name();
            report.message = format!("{name} came, and no handler takes it");
            report.help = Some(format!(
                "a handler is set with rt_sigaction; {name} ends a program without one"
            ));
        }
        Fault::SignalFrame => {
            report.message = "the kernel cannot write or read the frame of a signal handler".into();
            report.help = Some(
                "the handler needs room below the stack pointer, must leave the frame as it is, and on x86-64 needs SA_RESTORER with a restorer"
                    .into(),
            );
        }
        Fault::Overflow => {
            let text = instruction.as_ref().map_or("int 4".to_string(), |i| scene.text(i));
            let tests = instruction.as_ref().is_some_and(|i| !i.flags().tested.is_empty());
            let since = if tests { ", since OF was set" } else { "" };
            report.message = format!("`{text}` raised the overflow trap{since}");
        }
        Fault::Bounds => {
            report.message = "`bound` found a number that is not between its limits".to_string();
            report.registers =
                instruction.as_ref().map(|i| operand_registers(&scene, i)).unwrap_or_default();
        }
        Fault::ModeChange => {
            let (message, help) = match instruction.as_ref().map(Instruction::control) {
                Some(Control::Syscall) => (
                    "`sysenter` comes back into 32-bit code, which is not modelled",
                    "call the kernel with `syscall` in 64-bit code",
                ),
                _ => (
                    "a jump between 32-bit and 64-bit code, which is not modelled",
                    "stay in the mode in which the program started",
                ),
            };
            (report.message, report.help) = (message.to_string(), Some(help.to_string()));
        }
        Fault::Selector => {
            report.message = "the selector names no segment that a program may use".to_string();
            report.registers =
                instruction.as_ref().map(|i| operand_registers(&scene, i)).unwrap_or_default();
        }
        Fault::Float => float(&scene, &mut report),
        Fault::Breakpoint => {
            report.message = "a breakpoint instruction was executed".to_string();
            report.help = Some("step past it in the stepper, or take it out".to_string());
        }
        Fault::StackAlignment => {
            let sp = scene.system.machine.register(scene.image.arch.stack_pointer());
            report.message = format!("sp is {sp:#x}, which is not a multiple of 16");
            report.help = Some(
                "move sp by multiples of 16 only: push registers in pairs with stp".to_string(),
            );
        }
        Fault::PcAlignment => {
            report.message = "jumped to an address that is not a multiple of 4".to_string();
        }
        _ => report.message = format!("{fault:?}"),
    }
    Some(report)
}

/// Control went where there is no code.
fn astray(scene: &mut Scene, report: &mut FaultReport, fault: MemoryFault) {
    let arch = scene.image.arch;
    let pc = scene.system.machine.pc();
    let last = scene.last.clone();
    if let Some(last) = &last {
        report.place = scene.place(last.address);
        report.instruction = Some(scene.text(last));
        report.after = true;
    }
    let control = last.as_ref().map(Instruction::control);
    let fell_through = last.as_ref().is_some_and(|last| last.end() == pc);
    let past_code = fault.kind == MemoryFaultKind::PastCode;
    if past_code && (fell_through || last.is_none()) {
        report.message = "the program ran off the end of its code".to_string();
        report.help = Some("end it with an exit call:".to_string());
        report.add = sotto_kernel::target(arch).exit_lines.to_vec();
        return;
    }
    let what = match fault.kind {
        MemoryFaultKind::Protected => "which holds data, not code",
        MemoryFaultKind::PastCode => "after the end of the code",
        MemoryFaultKind::StackSegment => "which is no address of the stack",
        MemoryFaultKind::Unmapped
        | MemoryFaultKind::Limit
        | MemoryFaultKind::Alignment
        | MemoryFaultKind::AtomicAlignment
        | MemoryFaultKind::Segment => "where there is nothing",
    };
    let verb = match control {
        Some(Control::Return) => "returned to",
        Some(Control::Call) => "called",
        _ => "jumped to",
    };
    report.message = format!("{verb} {pc:#x}, {what}");
    if let Some(name) = scene.place(pc).name() {
        report.facts.push(format!("{pc:#x} is {name}"));
    }
    if control == Some(Control::Return) {
        let (register, cause) = match arch.link_register() {
            Some(link) => (
                link,
                "x30 held no return address: a routine that calls another must save x30 first",
            ),
            None => (
                arch.stack_pointer(),
                "the top of the stack was no return address: each push needs its pop before ret",
            ),
        };
        let name = arch.storage_name(register);
        report.registers.extend(Reg::parse(arch, name).map(|register| scene.value(register)));
        report.help = Some(format!(
            "{cause}; a program's entry is not called, so it ends with an exit call and not with ret"
        ));
    } else if let Some(last) = &last {
        report.registers = operand_registers(scene, last);
    }
}

/// A load or store was refused.
fn memory(
    scene: &Scene,
    report: &mut FaultReport,
    fault: MemoryFault,
    instruction: Option<&Instruction>,
) {
    let address = fault.address;
    let (verb, done) = match fault.access {
        AccessKind::Write => ("write", "written"),
        _ => ("read", "read"),
    };
    report.message = match fault.kind {
        MemoryFaultKind::Protected => {
            format!("tried to {verb} {address:#x}, which may not be {done}")
        }
        MemoryFaultKind::Segment
            if fault.access == AccessKind::Write
                && report.instruction.as_ref().is_some_and(|text| text.contains("cs:")) =>
        {
            format!("tried to write {address:#x} through cs, which is for code")
        }
        MemoryFaultKind::Segment => {
            format!("tried to {verb} {address:#x} through a segment register that is empty")
        }
        MemoryFaultKind::Alignment => {
            format!("tried to {verb} 16 bytes at {address:#x}, which is not a multiple of 16")
        }
        MemoryFaultKind::AtomicAlignment => format!(
            "tried to {verb} {address:#x} in one piece, and the address is not a multiple of the width"
        ),
        _ => format!("tried to {verb} {address:#x}, where there is nothing"),
    };
    if fault.kind == MemoryFaultKind::Segment {
        report.help = Some(match fault.access {
            AccessKind::Write if report.instruction.as_ref().is_some_and(|i| i.contains("cs:")) => {
                "code cannot be written; leave `cs` out".to_string()
            }
            _ => "a program starts with nothing in fs and gs; `set_thread_area` describes a segment for them".to_string(),
        });
        return;
    }
    let alignment_help = match fault.kind {
        MemoryFaultKind::Alignment => Some(
            "align the data with `.align 16`, or use `movups` or `movdqu`, which take any address",
        ),
        MemoryFaultKind::AtomicAlignment => Some(
            "exclusive, atomic and ordered accesses need aligned data: write `.align 3` before 8 bytes",
        ),
        _ => None,
    };
    if alignment_help.is_some() {
        report.help = alignment_help.map(str::to_string);
        report.registers = instruction
            .map(|instruction| operand_registers(scene, instruction))
            .unwrap_or_default();
        return;
    }
    let regions = scene.system.machine.memory().regions();
    let stack = regions.iter().find(|region| region.kind == RegionKind::Stack);
    if let Some(segment) = scene.image.segment_at(address) {
        if let Some(name) = scene.place(address).name() {
            report.facts.push(format!("{address:#x} is {name}"));
        }
        if fault.access == AccessKind::Write && !segment.write {
            let what = if segment.exec { "code" } else { "constants" };
            report.help = Some(format!(
                "this part of memory holds {what}; keep what changes in .data or .bss"
            ));
        }
    } else if stack.is_some_and(|stack| (stack.start - (1 << 20)..stack.start).contains(&address)) {
        report.facts.push("this is just below the stack, which is full (8 MiB)".to_string());
        report.help =
            Some("a routine that calls itself needs a case in which it does not".to_string());
    } else if address < 4096 {
        report.facts.push("an address this close to 0 is a pointer that was never set, or an index without its table".to_string());
    } else if let Some((name, distance)) = nearest_below(scene.image, address) {
        report.facts.push(format!("{address:#x} is {distance} bytes past the end of `{name}`"));
    }
    if let Some(instruction) = instruction {
        report.registers = operand_registers(scene, instruction);
        let values: Vec<(&str, u64)> =
            report.registers.iter().map(|register| (register.name, register.value)).collect();
        report.facts.extend(remarks::cleared_upper_half(instruction, &values));
    }
}

/// The last symbol of the nearest segment below, and how far its end is.
fn nearest_below(image: &Image, address: u64) -> Option<(&str, u64)> {
    let segment = image.segments.iter().rfind(|segment| segment.end() <= address)?;
    let distance = address - segment.end();
    let (symbol, _) = image.symbol_before(segment.end().checked_sub(1)?)?;
    (distance < 1 << 20).then_some((&symbol.name, distance))
}

/// The registers that an instruction's operands name, with their values.
fn operand_registers(scene: &Scene, instruction: &Instruction) -> Vec<NamedRegister> {
    let mut registers: Vec<NamedRegister> = Vec::new();
    let mut add = |reg: Reg| {
        let value = scene.value(reg);
        if reg.kind != RegKind::Ip && !registers.contains(&value) {
            registers.push(value);
        }
    };
    let mut memory = false;
    for operand in &instruction.operands {
        if let Operand::Mem(mem) = operand {
            memory = true;
            mem.base.into_iter().chain(mem.index).for_each(&mut add);
        }
    }
    if !memory {
        for operand in &instruction.operands {
            if let Operand::Reg(reg) = operand {
                add(*reg);
            }
        }
        let stack = |reg: &Reg| reg.storage() == Some(scene.image.arch.stack_pointer());
        instruction.implicit().iter().map(|i| i.reg).filter(stack).for_each(add);
    }
    registers
}

fn divide(
    scene: &Scene,
    report: &mut FaultReport,
    fault: Fault,
    instruction: Option<&Instruction>,
) {
    let Some(instruction) = instruction else { return };
    let width = x86::operand_width(x86::form(instruction.form));
    let (high, low) = (Reg::x86(width, 2), Reg::x86(width, 0));
    let signed = instruction.traits().contains(Traits::SIGNED_DIVISION);
    if fault == Fault::DivideByZero {
        report.message = "division by zero".to_string();
    } else {
        report.message = "the quotient does not fit its register".to_string();
        report.facts.push(format!(
            "the dividend is {}:{}, twice as wide as the divisor",
            high.name(),
            low.name()
        ));
        let spread = match width {
            sotto_isa::Width::W64 => "cqo",
            sotto_isa::Width::W32 => "cdq",
            _ => "cwd",
        };
        report.help = Some(if signed {
            format!("before idiv, fill {} with the sign of {}: `{spread}`", high.name(), low.name())
        } else {
            format!("before div, clear {}: `xor {0}, {0}`", high.name())
        });
    }
    if width == sotto_isa::Width::W8 {
        report.registers.push(scene.value(Reg::x86(sotto_isa::Width::W16, 0)));
        report.help = None;
        report.facts.clear();
    } else {
        report.registers.extend([scene.value(high), scene.value(low)]);
    }
    report.registers.extend(operand_registers(scene, instruction));
}

/// A floating-point exception that MXCSR does not mask.
fn float(scene: &Scene, report: &mut FaultReport) {
    const NAMES: [&str; 6] = [
        "an invalid operation",
        "a denormal operand",
        "a division by zero",
        "an overflow",
        "an underflow",
        "a result that is not exact",
    ];
    let mxcsr = scene.system.machine.register(x86::storage::MXCSR);
    // Masks stand seven bits above their flags. Source: SDM Vol. 1, 10.2.3.
    let raised = mxcsr & !(mxcsr >> 7) & 0x3f;
    let names: Vec<&str> =
        NAMES.iter().enumerate().filter(|(n, _)| raised >> n & 1 != 0).map(|(_, n)| *n).collect();
    report.message = format!("a floating-point exception that is not masked: {}", names.join(", "));
    report.facts.push(format!("mxcsr is {mxcsr:#x}"));
    report.help = Some("set bits 7 to 12 of mxcsr with `ldmxcsr` to mask them all".to_string());
}

fn illegal(
    scene: &mut Scene,
    report: &mut FaultReport,
    instruction: Option<&Instruction>,
    pc: u64,
) {
    if let Some(instruction) = instruction {
        report.message =
            format!("`{}` was executed, which is invalid on purpose", instruction.mnemonic());
        return;
    }
    let mut bytes = [0; 8];
    let _ = scene.system.machine.memory_mut().read_bytes(pc, &mut bytes);
    let shown: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    report.message = format!("the bytes {} are not an instruction that we know", shown.join(" "));
    if let Some(last) = &scene.last {
        report.facts.push(format!("the instruction before was `{}`", scene.text(last)));
        if last.control() == Control::Next || last.control() == Control::Syscall {
            report.help = Some("if this is data, the program ran into it: end the code before with a jump, a ret or an exit call; if it is code, it is of a kind that is not modelled yet".to_string());
        }
    }
}
