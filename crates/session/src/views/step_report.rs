//! What a step did, as data for every view.

use std::fmt;
use std::sync::{Arc, LazyLock};

use serde::{Serialize, Serializer};
use sotto_isa::{
    Arch, Control, FlagInfo, FlagRole, FlagSet, Instruction, LaneKind, Lanes, Operand,
    OperandOrder, Reg, Storage, Width,
};
use sotto_kernel::SyscallAbi;
use sotto_kernel::{KernelWrite, SyscallReport, System, Termination};
use sotto_machine::{FlagChange, FlagOrigin, RegionKind, Step, StepEffects};
use sotto_object::{DatumKind, Image};

use crate::faults::fault_report::NamedRegister;
use crate::views::call_notices;
use crate::views::places::{ImageNames, Place, hex};
use crate::views::reasons::{Compared, FlagRule, Reason};

/// A register that was written.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct RegisterReport {
    /// The name written through.
    pub name: &'static str,
    /// Its value before, as far as the name reaches.
    #[serde(serialize_with = "hex")]
    pub old: u64,
    /// Its value after.
    #[serde(serialize_with = "hex")]
    pub new: u64,
    /// Bits of the name: 8 to 64.
    pub bits: u32,
    /// The full register, if the write reached beyond the name and that changed something.
    pub cleared_above: Option<&'static str>,
    /// The register that the name is a part of, and its value after, if the rest of it was left as it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub whole: Option<NamedRegister>,
    /// The symbol that the new value is the address of, if it is exactly one.
    pub points_to: Option<Arc<str>>,
    /// The new value is an address on the stack, which as a number of 32 bits would be negative.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub on_stack: bool,
}

/// A vector register that was written.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct VectorReport {
    /// Its name.
    pub name: &'static str,
    /// The type of its elements, as the instruction reads them: `f64`, `i16`, `x64`.
    pub lanes: String,
    /// Its elements before, the lowest first.
    pub old: Vec<String>,
    /// Its elements after.
    pub new: Vec<String>,
    /// All of it before, in hex.
    pub old_bits: String,
    /// All of it after.
    pub new_bits: String,
}

/// A flag that an instruction may write.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct FlagReport {
    /// The manual's name.
    pub name: &'static str,
    /// What it stands for.
    pub word: &'static str,
    /// Before.
    pub old: bool,
    /// After.
    pub new: bool,
    /// The architecture does not say what it is now.
    pub undefined: bool,
    /// Why it changed to what it is, if it did and that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
}

/// The flags that an instruction may write: put together when somebody looks at them, since most are looked
/// at by nobody.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FlagReports {
    arch: Arch,
    change: FlagChange,
    /// The operation that set them, if one of them changed.
    origin: Option<FlagOrigin>,
    /// What the instruction does, where the operation alone does not say it.
    rule: Option<FlagRule>,
}

impl FlagReports {
    fn new(
        arch: Arch,
        change: FlagChange,
        origin: Option<FlagOrigin>,
        rule: Option<FlagRule>,
    ) -> FlagReports {
        let FlagChange { written, undefined, old, new } = change;
        // Of the others nothing is told.
        let change = FlagChange { written, undefined, old: old & written, new: new & written };
        let origin = origin.filter(|_| change.old != change.new);
        FlagReports { arch, change, origin, rule }
    }

    /// Those whose value is defined and changed: the manual's name, and the value after.
    pub fn changed(&self) -> impl Iterator<Item = (&'static str, bool)> {
        let FlagReports { arch, change, .. } = *self;
        let differ = (change.old & !change.new) | (change.new & !change.old);
        let changed = differ & !change.undefined;
        let flags = arch.flags().iter().filter(move |info| changed.contains(info.flag));
        flags.map(move |info| (info.name, change.new.contains(info.flag)))
    }

    /// Each, in the order of the machine.
    pub fn iter(&self) -> impl Iterator<Item = FlagReport> {
        let FlagReports { arch, change, origin, rule } = *self;
        let written = move |info: &&FlagInfo| change.written.contains(info.flag);
        arch.flags().iter().filter(written).map(move |info| {
            let of = |flags: FlagSet| flags.contains(info.flag);
            let (old, new, undefined) = (of(change.old), of(change.new), of(change.undefined));
            let told = old != new && !undefined;
            let reason = match (told, rule, origin) {
                (true, Some(rule), _) if rule.says_of(info) => {
                    Some(Reason::of_nature(arch, rule, info, change.new))
                }
                (true, _, Some(origin)) => Reason::of(arch, info, new, origin),
                _ => None,
            };
            FlagReport { name: info.name, word: info.word, old, new, undefined, reason }
        })
    }
}

impl Serialize for FlagReports {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.iter())
    }
}

/// The flags that a jump read, likewise.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FlagsRead {
    arch: Arch,
    read: FlagSet,
    values: FlagSet,
}

impl FlagsRead {
    /// Names and values.
    pub fn iter(&self) -> impl Iterator<Item = (&'static str, bool)> {
        let FlagsRead { arch, read, values } = *self;
        let flags = arch.flags().iter().filter(move |info| read.contains(info.flag));
        flags.map(move |info| (info.name, values.contains(info.flag)))
    }
}

impl Serialize for FlagsRead {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.iter())
    }
}

/// A distance from the stack pointer, shown as `rsp + 8`.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct OnStack {
    /// The stack pointer's name.
    pub register: &'static str,
    /// Bytes from it.
    pub offset: i64,
}

impl fmt::Display for OnStack {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let OnStack { register, offset } = self;
        match offset {
            0 => f.write_str(register),
            1.. => write!(f, "{register} + {offset}"),
            _ => write!(f, "{register} - {}", offset.unsigned_abs()),
        }
    }
}

impl Serialize for OnStack {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// Memory that was written.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct MemoryReport {
    /// Where, in words.
    pub place: Place,
    /// Where from the stack pointer after the step, if it is on the stack: `rsp + 8`.
    pub on_stack: Option<OnStack>,
    /// How many bytes.
    pub bytes: u64,
    /// How many equally wide elements beside each other, if a repeated instruction went over them; then
    /// the values are those of the first that it reached.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elements: Option<usize>,
    /// The value before, little-endian.
    #[serde(serialize_with = "hex")]
    pub old: u64,
    /// The value after.
    #[serde(serialize_with = "hex")]
    pub new: u64,
    /// The floating-point number that the instruction put there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// The new value is an address on the stack, which as a number of 32 bits would be negative.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub holds_stack: bool,
}

impl MemoryReport {
    /// The place by its best name: a symbol, a place on the stack, or the address.
    pub fn name(&self) -> String {
        let address = || format!("{:#x}", self.place.address);
        let on_stack = || self.on_stack.as_ref().map(OnStack::to_string);
        self.place.name().or_else(on_stack).unwrap_or_else(address)
    }
}

/// An argument of a system call.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct SyscallArgument {
    /// Its name.
    pub name: &'static str,
    /// Its value, as the call shows it: a number, an address, or a place with its contents.
    pub shown: String,
    /// What it is in words: a stream's name, a buffer's contents.
    pub words: Option<String>,
    /// The words say all that the value says.
    #[serde(skip)]
    pub is_named: bool,
}

/// A system call.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct SyscallView {
    /// Its name, or its number if it is not modelled.
    pub name: String,
    /// The machine whose table it was found in, if that is not the program's own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub table: Option<&'static str>,
    /// Its arguments.
    pub arguments: Vec<SyscallArgument>,
    /// What it returned, unless it did not return.
    pub result: Option<i64>,
    /// The result is an address.
    #[serde(skip)]
    pub result_is_address: bool,
    /// The error's name and meaning, if it returned one.
    pub error: Option<(&'static str, &'static str)>,
    /// Something that is probably a mistake.
    pub notice: Option<String>,
    /// What to do about it.
    pub help: Option<String>,
}

/// What a conditional jump decided, or another instruction with a condition.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct BranchReport {
    /// Whether it was taken; of what is no jump, whether the condition held.
    pub taken: bool,
    /// What is the case, in words: the condition, or its inverse if it did not hold.
    pub condition: &'static str,
    /// The flags it read: names and values.
    pub flags: FlagsRead,
    /// What was compared, as the jump reads it, if that is known: `ecx = 3 against 10`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub compared: Option<Compared>,
    /// The register that was tested, where no flags were.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tested: Option<NamedRegister>,
}

/// What a step did.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct StepReport {
    /// Instructions completed after it.
    pub moment: u64,
    /// The number of the task that executed it, if there are several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub task: Option<u32>,
    /// The signal whose handler was entered, instead of an instruction that was executed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delivered: Option<Arc<str>>,
    /// Where the instruction stands.
    pub place: Arc<Place>,
    /// The instruction as text.
    pub instruction: Arc<str>,
    /// Registers written.
    pub registers: Vec<RegisterReport>,
    /// Vector registers written.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub vectors: Vec<VectorReport>,
    /// Flags written whose value changed, and those left undefined.
    pub flags: FlagReports,
    /// Memory written.
    pub memory: Vec<MemoryReport>,
    /// Memory read.
    pub reads: Vec<MemoryReport>,
    /// What a conditional jump decided.
    pub branch: Option<BranchReport>,
    /// What the condition of another instruction was: `taken` if it held.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub choice: Option<BranchReport>,
    /// The system call it made.
    pub syscall: Option<SyscallView>,
    /// The status that the program ended with, as a shell shows it.
    pub ended: Option<i32>,
    /// What is probably a mistake in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
}

impl Default for StepReport {
    /// A report of nothing, to be filled in.
    fn default() -> StepReport {
        static NOWHERE: LazyLock<(Arc<Place>, Arc<str>)> = LazyLock::new(Default::default);
        let (place, instruction) = NOWHERE.clone();
        StepReport {
            moment: 0,
            task: None,
            delivered: None,
            place,
            instruction,
            registers: Vec::new(),
            vectors: Vec::new(),
            flags: FlagReports::new(Arch::X86_64, FlagChange::default(), None, None),
            memory: Vec::new(),
            reads: Vec::new(),
            branch: None,
            choice: None,
            syscall: None,
            ended: None,
            remark: None,
        }
    }
}

pub(crate) fn syscall_view(report: &SyscallReport, image: &Image) -> SyscallView {
    let width = if report.abi == SyscallAbi::X86_32 { Width::W32 } else { Width::W64 };
    let arguments = report
        .arguments()
        .into_iter()
        .map(|argument| {
            let shown = if argument.is_address {
                let name = sotto_isa::Names::name(&ImageNames(image), argument.value);
                name.unwrap_or_else(|| format!("{:#x}", argument.value))
            } else {
                width.sign_extend(argument.value).to_string()
            };
            let words = argument.shown;
            SyscallArgument { name: argument.name, shown, words, is_named: argument.is_named }
        })
        .collect();
    let notice = call_notices::notice(report, image);
    SyscallView {
        name: report.name.map_or_else(|| format!("number {}", report.number), str::to_string),
        table: (report.abi != sotto_kernel::target(image.arch).abi).then(|| report.abi.name()),
        arguments,
        result: report.result,
        result_is_address: report.result_is_address,
        error: report.error().map(|errno| (errno.name(), errno.words())),
        notice: notice.as_ref().map(|notice| notice.message.clone()),
        help: notice.and_then(|notice| notice.help),
    }
}

/// What there is to say about an instruction whenever it is executed.
pub(crate) struct CodeText {
    pub instruction: Arc<Instruction>,
    place: Arc<Place>,
    text: Arc<str>,
    lanes: Lanes,
    /// The operands of a comparison as they are written.
    pub names: Option<Arc<[String; 2]>>,
    /// What a conditional jump finds when it is not taken, and when it is.
    conditions: Option<[&'static str; 2]>,
    /// The register that a conditional jump tests.
    tested: Option<Reg>,
    /// Whether an operand is a register of a bank beside the general ones.
    in_banks: bool,
    /// What it does to flags beside what operations on numbers do.
    rule: Option<FlagRule>,
    /// Whether that takes what was compared as signed numbers; `None` if it makes no difference.
    signed: Option<bool>,
}

impl CodeText {
    /// Where the instruction stands.
    pub fn place(&self) -> Arc<Place> {
        self.place.clone()
    }

    /// The instruction as text.
    pub fn text(&self) -> Arc<str> {
        self.text.clone()
    }

    pub fn new(
        image: &Image,
        order: OperandOrder,
        place: Arc<Place>,
        instruction: &Arc<Instruction>,
    ) -> CodeText {
        let words = |taken| instruction.condition_words(taken).unwrap_or_default();
        let is_branch = instruction.control() == Control::Branch;
        CodeText {
            instruction: instruction.clone(),
            place,
            text: instruction.print_in(order, &ImageNames(image)).into(),
            lanes: instruction.lanes(),
            names: operand_names(instruction, image, order).map(Arc::new),
            conditions: is_branch.then(|| [words(false), words(true)]),
            tested: instruction.operands.iter().find_map(|operand| match operand {
                Operand::Reg(reg) if is_branch => Some(*reg),
                _ => None,
            }),
            in_banks: instruction.operands.iter().any(Operand::is_in_bank),
            rule: FlagRule::of(instruction),
            signed: signedness(image.arch, instruction.flags().tested),
        }
    }
}

/// What describing a step needs of a session.
pub(crate) struct Scene<'a> {
    pub image: &'a Image,
    /// An address of data in words.
    pub describe: &'a dyn Fn(u64) -> Place,
    /// The nearest symbol below an address, and the distance from it.
    pub symbol: &'a dyn Fn(u64) -> Option<(Arc<str>, u64)>,
    /// The operands that the flags come from, if the instruction that compared them is known.
    pub compared: Option<&'a Arc<[String; 2]>>,
}

/// Puts a completed step into words.
pub(crate) fn describe_step(
    scene: &Scene<'_>,
    step: &Step,
    code: &CodeText,
    after: &System,
    report: &mut StepReport,
) {
    let &Scene { image, describe, symbol, compared } = scene;
    let arch = image.arch;
    let effects = &step.effects;
    let instruction = &*code.instruction;
    let origin = after.machine.flag_origin();
    let branch = code.conditions.map(|conditions| {
        let tested = instruction.flags().tested;
        let register = code.tested.filter(|_| tested.is_empty());
        let taken = step.jumped;
        BranchReport {
            tested: register.map(|reg| NamedRegister {
                name: reg.name(),
                value: reg.storage().map_or(0, |s| reg.part_of(after.machine.register(s))),
            }),
            taken,
            condition: conditions[usize::from(taken)],
            // A jump changes no flags, so those after it are those it read.
            flags: FlagsRead { arch, read: tested, values: effects.flags.new & tested },
            compared: origin.filter(|_| !tested.is_empty()).map(|origin| Compared {
                signed: code.signed,
                origin,
                names: compared.cloned(),
            }),
        }
    });
    let lanes = declared_lanes(image, code, effects);
    let memory = |address, bytes, old, new| MemoryReport {
        place: describe(address),
        on_stack: on_stack(after, address),
        bytes,
        elements: None,
        old,
        new,
        number: (lanes.kind == LaneKind::Float && lanes.width.bytes() == bytes)
            .then(|| lanes.element_text(new)),
        holds_stack: bytes == 4 && is_high_stack(after, new),
    };
    report.moment = after.executed();
    report.place.clone_from(&code.place);
    report.instruction.clone_from(&code.text);
    replace(&mut report.registers, registers(after, effects, symbol));
    replace(&mut report.vectors, vectors(lanes, effects));
    report.flags = FlagReports::new(arch, effects.flags, origin, code.rule);
    let written = effects.memory.iter().map(|m| Access {
        address: m.address,
        bytes: m.bytes,
        elements: m.elements,
        old: m.old,
        new: m.new,
    });
    runs(written, memory, &mut report.memory);
    let read = effects.memory_reads.iter().map(|m| Access {
        address: m.address,
        bytes: m.bytes,
        elements: m.elements,
        old: m.value,
        new: m.value,
    });
    runs(read, memory, &mut report.reads);
    report.branch = branch;
    report.choice = choice(scene, code, effects.flags, origin);
    (report.syscall, report.ended, report.remark) = (None, None, None);
    report.delivered = None;
}

/// How vectors are read: as the row says, or where it says nothing of numbers, as the data was declared that was loaded or
/// stored.
fn declared_lanes(image: &Image, code: &CodeText, effects: &StepEffects) -> Lanes {
    let lanes = code.lanes;
    if lanes.kind != LaneKind::Bits || !code.in_banks {
        return lanes;
    }
    let read = effects.memory_reads.first().map(|read| read.address);
    let address = read.or(effects.memory.first().map(|write| write.address));
    let symbol = address.and_then(|address| image.symbol_before(address));
    let datum = symbol.and_then(|(symbol, _)| symbol.datum);
    let kind = match datum.filter(|datum| u64::from(datum.element_bytes) == lanes.width.bytes()) {
        Some(datum) if datum.kind == DatumKind::Float => LaneKind::Float,
        Some(datum) if datum.kind == DatumKind::Integer => LaneKind::Signed,
        _ => LaneKind::Bits,
    };
    Lanes { kind, ..lanes }
}

/// What the condition of an instruction that is no jump was.
fn choice(
    scene: &Scene<'_>,
    code: &CodeText,
    flags: FlagChange,
    origin: Option<FlagOrigin>,
) -> Option<BranchReport> {
    let instruction = &*code.instruction;
    let held = instruction.condition_holds(flags.old)?;
    let tested = instruction.flags().tested;
    // What changes the flags itself has replaced what they came from.
    let origin = origin.filter(|_| flags.written.is_empty());
    Some(BranchReport {
        tested: None,
        taken: held,
        condition: instruction.condition_words(held)?,
        flags: FlagsRead { arch: scene.image.arch, read: tested, values: flags.old & tested },
        compared: origin.map(|origin| Compared {
            signed: code.signed,
            origin,
            names: scene.compared.cloned(),
        }),
    })
}

/// What a system call wrote into memory: one value, or elements as wide as they were declared.
pub(crate) fn kernel_write(scene: &Scene<'_>, write: &KernelWrite, after: &System) -> MemoryReport {
    let &KernelWrite { address, bytes, .. } = write;
    let symbol = scene.image.symbol_before(address).map(|(symbol, _)| symbol);
    let declared =
        symbol.and_then(|symbol| symbol.datum).map(|datum| u64::from(datum.element_bytes));
    let unit = match declared {
        Some(unit @ (1 | 2 | 4 | 8)) if bytes.is_multiple_of(unit) => unit,
        _ if matches!(bytes, 1 | 2 | 4 | 8) => bytes,
        _ => 1,
    };
    let mask = u64::MAX >> (64 - 8 * unit);
    MemoryReport {
        place: (scene.describe)(address),
        on_stack: on_stack(after, address),
        bytes,
        elements: (unit < bytes).then_some((bytes / unit) as usize),
        old: write.old & mask,
        new: write.new & mask,
        number: None,
        holds_stack: false,
    }
}

/// Puts other elements into the room of a list.
fn replace<T>(list: &mut Vec<T>, elements: impl Iterator<Item = T>) {
    list.clear();
    list.extend(elements);
}

/// Whether a condition on these flags takes what was compared as signed; `None` if that makes no
/// difference.
fn signedness(arch: Arch, tested: FlagSet) -> Option<bool> {
    let mut roles =
        arch.flags().iter().filter(|info| tested.contains(info.flag)).map(|info| info.role);
    let signed = |role| matches!(role, FlagRole::Sign | FlagRole::Overflow);
    if roles.clone().any(signed) {
        return Some(true);
    }
    if roles.all(|role| role == FlagRole::Zero) { None } else { Some(false) }
}

/// A run of elements that an instruction accessed; of several, the values are those of the first that was accessed.
#[derive(Copy, Clone)]
struct Access {
    address: u64,
    /// Bytes of an element.
    bytes: u64,
    elements: u64,
    old: u64,
    new: u64,
}

impl Access {
    fn end(&self) -> u64 {
        self.address.wrapping_add(self.bytes.wrapping_mul(self.elements))
    }

    /// Whether another one of the same elements is next to it, before it or behind.
    fn meets(&self, other: &Access) -> bool {
        self.bytes == other.bytes && (other.address == self.end() || other.end() == self.address)
    }
}

/// Accesses as reports; more than four beside each other, as a repeated string instruction makes them,
/// become one.
fn runs(
    accesses: impl ExactSizeIterator<Item = Access>,
    report: impl Fn(u64, u64, u64, u64) -> MemoryReport,
    reports: &mut Vec<MemoryReport>,
) {
    const SHOWN: usize = 4;
    let one = |access: Access| report(access.address, access.bytes, access.old, access.new);
    // Few are told one by one, and most instructions make one or none.
    if accesses.len() <= SHOWN {
        return replace(reports, accesses.map(one));
    }
    let accesses: Vec<Access> = accesses.collect();
    let mut groups: Vec<Vec<Access>> = Vec::new();
    for access in accesses {
        // The two streams of a comparison take turns.
        let last_two = groups.len().saturating_sub(2);
        let group = groups[last_two..]
            .iter_mut()
            .find(|group| group.last().is_some_and(|last| last.meets(&access)));
        match group {
            Some(group) => group.push(access),
            None => groups.push(vec![access]),
        }
    }
    reports.clear();
    for group in groups {
        let (first, lowest) = (group[0], group.iter().map(|access| access.address).min());
        let elements: u64 = group.iter().map(|access| access.elements).sum();
        if elements as usize <= SHOWN {
            reports.extend(group.into_iter().map(one));
            continue;
        }
        let bytes = first.bytes * elements;
        let elements = Some(elements as usize);
        let first = report(lowest.unwrap_or(first.address), first.bytes, first.old, first.new);
        reports.push(MemoryReport { bytes, elements, ..first });
    }
}

/// An address on the stack, counted from the stack pointer.
fn on_stack(system: &System, address: u64) -> Option<OnStack> {
    let region = system.machine.memory().region_at(address)?;
    let stack_pointer = system.arch().stack_pointer();
    (region.kind == RegionKind::Stack).then(|| OnStack {
        register: system.arch().storage_name(stack_pointer),
        offset: address.wrapping_sub(system.machine.register(stack_pointer)) as i64,
    })
}

/// Whether a value is an address on the stack of a machine whose addresses would be negative numbers.
fn is_high_stack(system: &System, value: u64) -> bool {
    let region = || system.machine.memory().region_at(value);
    system.arch().address_bytes() == 4
        && region().is_some_and(|region| region.kind == RegionKind::Stack)
}

pub(crate) fn registers<'a>(
    system: &'a System,
    effects: &'a StepEffects,
    symbol: &'a dyn Fn(u64) -> Option<(Arc<str>, u64)>,
) -> impl Iterator<Item = RegisterReport> + 'a {
    let arch = system.arch();
    effects.registers.iter().map(move |change| {
        let reg = change.reg;
        let (old, new) = (reg.part_of(change.old), reg.part_of(change.new));
        let above = !Width::W32.mask();
        let lost = reg.width() == Width::W32 && change.old & above != change.new & above;
        let storage = reg.storage().unwrap_or(Storage(0));
        let points_to = symbol(change.new).filter(|(_, offset)| *offset == 0);
        RegisterReport {
            name: reg.name(),
            old,
            new,
            bits: reg.width().bits(),
            cleared_above: lost.then(|| arch.storage_name(storage)),
            whole: (reg.width() < Width::W32 && change.new != new)
                .then(|| NamedRegister { name: arch.storage_name(storage), value: change.new }),
            points_to: points_to.map(|(name, _)| name),
            on_stack: reg.width() == Width::W32 && is_high_stack(system, new),
        }
    })
}

fn vectors(lanes: Lanes, effects: &StepEffects) -> impl Iterator<Item = VectorReport> + '_ {
    effects.banks.iter().map(move |change| VectorReport {
        name: change.reg.name(),
        lanes: lanes.name(),
        old: lanes.texts(&change.old, change.reg.width().bits()),
        new: lanes.texts(&change.new, change.reg.width().bits()),
        old_bits: format!("{:#x}", change.old),
        new_bits: format!("{:#x}", change.new),
    })
}

/// The operands of a comparison as they are written, the one that the other is taken from first.
fn operand_names(
    instruction: &Instruction,
    image: &Image,
    order: OperandOrder,
) -> Option<[String; 2]> {
    // What is no comparison has changed its first operand since.
    let is_comparison = instruction.operands.len() >= 2 && !instruction.access(0).writes();
    let text = instruction.print_in(order, &ImageNames(image));
    let (_, operands) = text.split_once(' ').filter(|_| is_comparison)?;
    let (first, second) = operands.split_once(", ")?;
    let (first, second) = (first.to_string(), second.to_string());
    Some(match order {
        OperandOrder::DestinationFirst => [first, second],
        OperandOrder::SourceFirst => [second, first],
    })
}

/// The status that an ending shows in a shell.
pub(crate) fn status(ending: Option<Termination>) -> Option<i32> {
    ending.map(Termination::shell_status)
}
