//! Instructions to compact operations: which semantic function, with its operands laid out.

use sotto_isa::x86::vector::{FloatOp, Shape};
use sotto_isa::x86::{
    Cond, Meaning, Pattern, Repeat, StringOp, SystemTable, SystemWord, X87, form, operand_width,
};
use sotto_isa::{self as isa, Arch, Instruction, RegKind, Width};

use super::flags::Shift;
use super::ops::{self, B8, B16, B32, B64, First, Imm, Mem, Second, Third};
use super::translate_vectors::{Operands, vector_instruction};
use super::{
    Cpu, FS_BASE, GS_BASE, ZERO, bits, code, decimal, fused, packed, segments, strings, system, x87,
};
use crate::engine::Result;
use crate::{Memory, Observer};

pub(super) type Run<O> = fn(&mut Cpu, &mut Memory, &Op<O>, &mut O) -> Result;

/// An instruction ready to be carried out.
pub(crate) struct Op<O> {
    pub(super) run: Run<O>,
    /// The immediate, sign-extended; or the target of a jump.
    pub(super) imm: u64,
    /// The displacement; with the instruction pointer as base, the whole address.
    pub(super) disp: u64,
    /// Address of the next instruction.
    pub(super) next: u64,
    pub(super) first: u8,
    pub(super) second: u8,
    pub(super) third: u8,
    pub(super) base: u8,
    pub(super) index: u8,
    pub(super) shift: u8,
    /// The register of the file that holds the base of the segment, or the one that is zero.
    pub(super) segment: u8,
    /// The address needs more than its sum: it is narrower, or a segment's base is added.
    pub(super) special: bool,
    /// Bits of 64 that are not of the address.
    pub(super) unused_bits: u8,
    /// The lengths of strings in vectors have 64 bits.
    pub(super) wide_lengths: bool,
    pub(super) cond: Cond,
    pub(super) shift_kind: Shift,
    /// What a string instruction does, and how often.
    pub(super) string: (StringOp, Repeat),
    /// What an instruction on floats does, and to which elements.
    pub(super) float: (FloatOp, Shape),
    /// What a packed instruction computes.
    pub(super) function: packed::Function,
    /// What an instruction of the x87 unit does.
    pub(super) x87: X87,
}

/// What kind of thing an operand is, for choosing a function.
#[derive(Copy, Clone, PartialEq, Eq)]
pub(super) enum Is {
    Reg,
    Vector,
    Mem,
    Imm,
    None,
}

/// `by_width!(width, f::<A, B, _, O>)`: the function with the width's type put in place of `_`.
macro_rules! by_width {
    ($width:expr, $f:ident, [$($before:ty),*]) => {
        match $width {
            Width::W8 => ops::$f::<$($before,)* B8, O> as Run<O>,
            Width::W16 => ops::$f::<$($before,)* B16, O>,
            Width::W32 => ops::$f::<$($before,)* B32, O>,
            _ => ops::$f::<$($before,)* B64, O>,
        }
    };
}

/// A function outside of `ops`, for an operation of this width.
macro_rules! sized {
    ($width:expr, $($f:ident)::+, [$($before:tt),*]) => {
        match $width {
            Width::W16 => $($f)::+::<$($before,)* B16, O> as Run<O>,
            Width::W32 => $($f)::+::<$($before,)* B32, O>,
            _ => $($f)::+::<$($before,)* B64, O>,
        }
    };
}

/// A function for the width of the mode: 32 bits, or 64.
macro_rules! by_mode {
    ($narrow:expr, $($f:ident)::+, [$($before:tt),*]) => {
        match $narrow {
            true => $($f)::+::<$($before,)* B32, O> as Run<O>,
            false => $($f)::+::<$($before,)* B64, O>,
        }
    };
}

/// As [`by_width`], with one constant first.
macro_rules! by_width_const {
    ($width:expr, $f:ident, $c:literal, [$($before:ty),*]) => {
        match $width {
            Width::W8 => ops::$f::<$c, $($before,)* B8, O> as Run<O>,
            Width::W16 => ops::$f::<$c, $($before,)* B16, O>,
            Width::W32 => ops::$f::<$c, $($before,)* B32, O>,
            _ => ops::$f::<$c, $($before,)* B64, O>,
        }
    };
}

/// The places of a two-operand instruction.
macro_rules! two_places {
    ($kinds:expr, $width:expr, $f:ident, [$($before:ty),*]) => {
        match $kinds {
            (Is::Reg, Is::Reg) => by_width!($width, $f, [$($before,)* First, Second]),
            (Is::Reg, Is::Mem) => by_width!($width, $f, [$($before,)* First, Mem]),
            (Is::Reg, _) => by_width!($width, $f, [$($before,)* First, Imm]),
            (_, Is::Reg) => by_width!($width, $f, [$($before,)* Mem, Second]),
            (_, _) => by_width!($width, $f, [$($before,)* Mem, Imm]),
        }
    };
}

/// The place of a one-operand instruction.
macro_rules! one_place {
    ($kind:expr, $width:expr, $f:ident, [$($before:ty),*]) => {
        match $kind {
            Is::Mem => by_width!($width, $f, [$($before,)* Mem]),
            _ => by_width!($width, $f, [$($before,)* First]),
        }
    };
}

/// As [`one_place`], with one constant first, and the given place for a register.
macro_rules! source_place {
    ($kind:expr, $width:expr, $f:ident, $c:literal, $reg:ident) => {
        match $kind {
            Is::Mem => by_width_const!($width, $f, $c, [Mem]),
            _ => by_width_const!($width, $f, $c, [$reg]),
        }
    };
}

pub(super) fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
    let form = form(instruction.form);
    let width = operand_width(form);
    let mut op = Op {
        run: ops::nop::<O>,
        imm: 0,
        disp: 0,
        next: instruction.end(),
        first: ZERO,
        second: ZERO,
        third: ZERO,
        base: ZERO,
        index: ZERO,
        shift: 0,
        segment: ZERO,
        special: false,
        unused_bits: (64 - instruction.arch.address_width().bits()) as u8,
        wide_lengths: false,
        cond: form.meaning.condition().unwrap_or(Cond::O),
        shift_kind: Shift::Shl,
        string: (StringOp::Movs, Repeat::Once),
        float: (FloatOp::Add, Shape::Sd),
        function: |a, _, _| a,
        x87: X87::Initialize,
    };
    let mut kinds = [Is::None; 3];
    for (position, operand) in instruction.operands.iter().enumerate() {
        kinds[position.min(2)] = place(&mut op, instruction.arch, position, operand);
    }
    let [first, second, third] = kinds;
    // 32-bit mode: the width of the stack's slots and of what is not said.
    let narrow = instruction.arch == Arch::X86_32;
    op.run = match form.meaning {
        Meaning::Mov => two_places!((first, second), width, mov, []),
        Meaning::Movzx => extend::<false, O>(second, source_width(instruction), width),
        Meaning::Movsx => extend::<true, O>(second, source_width(instruction), width),
        Meaning::Lea => {
            // An address is computed within its segment.
            op.segment = ZERO;
            by_width!(width, lea, [])
        }
        Meaning::Push => match first {
            Is::Imm if narrow => ops::push::<Imm, B32, O>,
            Is::Imm => ops::push::<Imm, B64, O>,
            _ => one_place!(first, width, push, []),
        },
        Meaning::PushWord => ops::push::<Imm, B16, O>,
        Meaning::Pop => one_place!(first, width, pop, []),
        Meaning::Leave => by_mode!(narrow, ops::leave, []),
        Meaning::LeaveWord => ops::leave::<B16, O>,
        // Either operand may be the memory one; the other is exchanged with it.
        Meaning::Xchg if second == Is::Mem => {
            op.second = op.first;
            by_width!(width, xchg, [Mem])
        }
        Meaning::Xchg => one_place!(first, width, xchg, []),
        Meaning::Add => two_places!((first, second), width, binary, [ops::Add]),
        Meaning::Adc => two_places!((first, second), width, binary, [ops::Adc]),
        Meaning::Sub => two_places!((first, second), width, binary, [ops::Sub]),
        Meaning::Sbb => two_places!((first, second), width, binary, [ops::Sbb]),
        Meaning::Cmp => two_places!((first, second), width, binary, [ops::Cmp]),
        Meaning::And => two_places!((first, second), width, binary, [ops::And]),
        Meaning::Or => two_places!((first, second), width, binary, [ops::Or]),
        Meaning::Xor => two_places!((first, second), width, binary, [ops::Xor]),
        Meaning::Test => two_places!((first, second), width, binary, [ops::Test]),
        Meaning::Inc => one_place!(first, width, unary, [ops::Inc]),
        Meaning::Dec => one_place!(first, width, unary, [ops::Dec]),
        Meaning::Neg => one_place!(first, width, unary, [ops::Neg]),
        Meaning::Not => one_place!(first, width, unary, [ops::Not]),
        Meaning::Shl => shift(&mut op, Shift::Shl, (first, second), width),
        Meaning::Shr => shift(&mut op, Shift::Shr, (first, second), width),
        Meaning::Sar => shift(&mut op, Shift::Sar, (first, second), width),
        Meaning::Rol => shift(&mut op, Shift::Rol, (first, second), width),
        Meaning::Ror => shift(&mut op, Shift::Ror, (first, second), width),
        Meaning::Rcl => shift(&mut op, Shift::Rcl, (first, second), width),
        Meaning::Rcr => shift(&mut op, Shift::Rcr, (first, second), width),
        Meaning::Mul => source_place!(first, width, multiply, false, First),
        Meaning::ImulWide => source_place!(first, width, multiply, true, First),
        Meaning::Imul if instruction.operands.len() == 3 => {
            source_place!(second, width, imul, true, Second)
        }
        Meaning::Imul => source_place!(second, width, imul, false, Second),
        Meaning::Div => source_place!(first, width, divide, false, First),
        Meaning::Idiv => source_place!(first, width, divide, true, First),
        Meaning::ExtendAccumulator => match width {
            Width::W16 => ops::extend_accumulator::<B8, B16, O>,
            Width::W32 => ops::extend_accumulator::<B16, B32, O>,
            _ => ops::extend_accumulator::<B32, B64, O>,
        },
        Meaning::Bt => bit_test::<ops::Keep, O>((first, second), width),
        Meaning::Bts => bit_test::<ops::SetBit, O>((first, second), width),
        Meaning::Btr => bit_test::<ops::ClearBit, O>((first, second), width),
        Meaning::Btc => bit_test::<ops::Invert, O>((first, second), width),
        Meaning::Popcnt => match second {
            Is::Mem => by_width!(width, popcnt, [Mem]),
            _ => by_width!(width, popcnt, [Second]),
        },
        Meaning::Bswap => by_width!(width, bswap, []),
        Meaning::Xadd => one_place!(first, width, xadd, []),
        Meaning::Cmpxchg => one_place!(first, width, cmpxchg, []),
        Meaning::Bsf => scan::<bits::Bsf, O>(second, width),
        Meaning::Bsr => scan::<bits::Bsr, O>(second, width),
        Meaning::Lzcnt => scan::<bits::Lzcnt, O>(second, width),
        Meaning::Tzcnt => scan::<bits::Tzcnt, O>(second, width),
        Meaning::Blsi => scan::<bits::Blsi, O>(second, width),
        Meaning::Blsmsk => scan::<bits::Blsmsk, O>(second, width),
        Meaning::Blsr => scan::<bits::Blsr, O>(second, width),
        Meaning::Movbe if first == Is::Mem => match width {
            Width::W16 => bits::movbe_store::<B16, O>,
            Width::W32 => bits::movbe_store::<B32, O>,
            _ => bits::movbe_store::<B64, O>,
        },
        Meaning::Movbe => scan::<bits::Movbe, O>(second, width),
        Meaning::Andn => from_two::<bits::Andn, O>((second, third), width),
        Meaning::Bextr => from_two::<bits::Bextr, O>((second, third), width),
        Meaning::Bzhi => from_two::<bits::Bzhi, O>((second, third), width),
        Meaning::Pdep => from_two::<bits::Pdep, O>((second, third), width),
        Meaning::Pext => from_two::<bits::Pext, O>((second, third), width),
        Meaning::Rorx => from_two::<bits::Rorx, O>((second, third), width),
        Meaning::Sarx => from_two::<bits::Sarx, O>((second, third), width),
        Meaning::Shlx => from_two::<bits::Shlx, O>((second, third), width),
        Meaning::Shrx => from_two::<bits::Shrx, O>((second, third), width),
        Meaning::Mulx => match (third, width) {
            (Is::Mem, Width::W32) => bits::mulx::<Mem, B32, O>,
            (Is::Mem, _) => bits::mulx::<Mem, B64, O>,
            (_, Width::W32) => bits::mulx::<Third, B32, O>,
            _ => bits::mulx::<Third, B64, O>,
        },
        Meaning::Adcx => add_by_flag::<false, O>(second, width),
        Meaning::Adox => add_by_flag::<true, O>(second, width),
        Meaning::Shld => double_shift::<true, O>((first, third), width),
        Meaning::Shrd => double_shift::<false, O>((first, third), width),
        Meaning::CmpxchgPair(Width::W32) => bits::cmpxchg_pair::<B32, O>,
        Meaning::CmpxchgPair(_) => bits::cmpxchg_pair::<B64, O>,
        Meaning::Crc32(source) => match (second, source) {
            (Is::Mem, Width::W8) => bits::crc32::<Mem, B8, O>,
            (Is::Mem, Width::W16) => bits::crc32::<Mem, B16, O>,
            (Is::Mem, Width::W32) => bits::crc32::<Mem, B32, O>,
            (Is::Mem, _) => bits::crc32::<Mem, B64, O>,
            (_, Width::W8) => bits::crc32::<Second, B8, O>,
            (_, Width::W16) => bits::crc32::<Second, B16, O>,
            (_, Width::W32) => bits::crc32::<Second, B32, O>,
            _ => bits::crc32::<Second, B64, O>,
        },
        Meaning::String(kind, width, repeat) => {
            op.string = (kind, repeat);
            match width {
                Width::W8 => strings::string::<B8, O>,
                Width::W16 => strings::string::<B16, O>,
                Width::W32 => strings::string::<B32, O>,
                _ => strings::string::<B64, O>,
            }
        }
        Meaning::Cld => system::direction::<false, O>,
        Meaning::Std => system::direction::<true, O>,
        Meaning::Lahf => system::lahf::<O>,
        Meaning::Sahf => system::sahf::<O>,
        Meaning::Pushf(width) => sized!(width, system::pushf, []),
        Meaning::Popf(width) => sized!(width, system::popf, []),
        Meaning::Xlat => system::xlat::<O>,
        Meaning::Enter | Meaning::EnterWord => {
            // The size stands where a displacement would: the immediate is the nesting level.
            if let Some(isa::Operand::Imm(size)) = instruction.operands.first() {
                op.disp = size.or_zero() as u64;
            }
            match form.meaning {
                Meaning::EnterWord => system::enter::<B16, O>,
                _ => by_mode!(narrow, system::enter, []),
            }
        }
        Meaning::MovFromSegment => match (first, width) {
            (Is::Mem, _) => segments::mov_from_segment::<Mem, B16, O>,
            (_, Width::W16) => segments::mov_from_segment::<First, B16, O>,
            (_, Width::W32) => segments::mov_from_segment::<First, B32, O>,
            _ => segments::mov_from_segment::<First, B64, O>,
        },
        Meaning::SystemWord(word) => {
            op.imm = match word {
                SystemWord::LocalTable => 0,
                SystemWord::Task => system::TASK,
                SystemWord::MachineStatus => system::MACHINE_STATUS,
            };
            match (first, width) {
                (Is::Mem, _) => system::word::<Mem, B16, O>,
                (_, Width::W16) => system::word::<First, B16, O>,
                (_, Width::W32) => system::word::<First, B32, O>,
                _ => system::word::<First, B64, O>,
            }
        }
        Meaning::SystemTable(table) => {
            op.imm = match table {
                SystemTable::Global => system::GLOBAL_TABLE,
                SystemTable::Interrupt => system::INTERRUPT_TABLE,
            };
            by_mode!(narrow, system::table, [])
        }
        Meaning::MovToSegment => match second {
            Is::Mem => segments::mov_to_segment::<Mem, O>,
            _ => segments::mov_to_segment::<Second, O>,
        },
        Meaning::PushSegment(width) => sized!(width, segments::push_segment, []),
        Meaning::PopSegment(width) => sized!(width, segments::pop_segment, []),
        Meaning::LoadFar(segment) => {
            op.third = segment as u8;
            sized!(width, segments::load_far, [])
        }
        Meaning::JmpFar | Meaning::CallFar(_) if first == Is::Imm => {
            // The selector stands where a displacement would.
            if let Some(isa::Operand::Imm(selector)) = instruction.operands.first() {
                op.disp = selector.or_zero() as u64;
            }
            match form.meaning {
                Meaning::JmpFar => segments::far_transfer::<false, false, B32, O>,
                _ => segments::far_transfer::<true, false, B32, O>,
            }
        }
        Meaning::JmpFar => match form.operands[0].pattern {
            Pattern::Far(Width::W64) => segments::far_transfer::<false, true, B64, O>,
            _ => segments::far_transfer::<false, true, B32, O>,
        },
        Meaning::CallFar(Width::W64) => segments::far_transfer::<true, true, B64, O>,
        Meaning::CallFar(_) => segments::far_transfer::<true, true, B32, O>,
        Meaning::RetFar(width) => sized!(width, segments::far_return, []),
        Meaning::Iret(width) => sized!(width, segments::interrupt_return, []),
        Meaning::Arpl => match first {
            Is::Mem if writes_through_code(instruction) => {
                segments::adjust_privilege::<Mem, true, O>
            }
            Is::Mem => segments::adjust_privilege::<Mem, false, O>,
            _ => segments::adjust_privilege::<First, false, O>,
        },
        Meaning::Lar => match second {
            Is::Mem => sized!(width, segments::load_rights, [false, Mem]),
            _ => sized!(width, segments::load_rights, [false, Second]),
        },
        Meaning::Lsl => match second {
            Is::Mem => sized!(width, segments::load_rights, [true, Mem]),
            _ => sized!(width, segments::load_rights, [true, Second]),
        },
        Meaning::Verr if first == Is::Mem => segments::verify::<false, Mem, O>,
        Meaning::Verr => segments::verify::<false, First, O>,
        Meaning::Verw if first == Is::Mem => segments::verify::<true, Mem, O>,
        Meaning::Verw => segments::verify::<true, First, O>,
        Meaning::Pusha(width) => sized!(width, decimal::push_all, []),
        Meaning::Popa(width) => sized!(width, decimal::pop_all, []),
        Meaning::Bound => sized!(width, decimal::bound, []),
        Meaning::Daa => decimal::packed::<false, O>,
        Meaning::Das => decimal::packed::<true, O>,
        Meaning::Aaa => decimal::unpacked::<false, O>,
        Meaning::Aas => decimal::unpacked::<true, O>,
        Meaning::Aam | Meaning::Aad => {
            if instruction.operands.is_empty() {
                op.imm = 10;
            }
            if form.meaning == Meaning::Aam { decimal::aam::<O> } else { decimal::aad::<O> }
        }
        Meaning::Into => decimal::into::<O>,
        Meaning::ReadBase(segment) => {
            op.second = base_of(segment);
            match width {
                Width::W32 => system::read_base::<B32, O>,
                _ => system::read_base::<B64, O>,
            }
        }
        Meaning::WriteBase(segment) => {
            op.second = base_of(segment);
            match width {
                Width::W32 => system::write_base::<B32, O>,
                _ => system::write_base::<B64, O>,
            }
        }
        Meaning::Cpuid => system::cpuid::<O>,
        Meaning::Rdtsc => system::rdtsc::<false, O>,
        Meaning::Rdtscp => system::rdtsc::<true, O>,
        Meaning::Rdpid => system::rdpid::<O>,
        Meaning::Rdrand => match width {
            Width::W16 => system::rdrand::<B16, O>,
            Width::W32 => system::rdrand::<B32, O>,
            _ => system::rdrand::<B64, O>,
        },
        Meaning::Prefetch => ops::nop::<O>,
        Meaning::FlushLine => system::flush_line::<O>,
        Meaning::Privileged => system::privileged::<O>,
        Meaning::Int => system::int::<O>,
        Meaning::X87(kind) => {
            op.x87 = kind;
            x87::x87::<O>
        }
        Meaning::Vector(vector) => {
            let patterns = form.operands.iter().map(|slot| slot.pattern);
            let source = patterns.rev().find(|p| p.memory_width().is_some() || p.is_vector());
            let destination = form.operands.first().map(|slot| slot.pattern);
            let operands = Operands { kinds, source, destination };
            vector_instruction(&mut op, vector, &operands)
        }
        Meaning::Clc => ops::carry::<0, O>,
        Meaning::Stc => ops::carry::<1, O>,
        Meaning::Cmc => ops::carry::<2, O>,
        Meaning::SpreadSign => by_width!(width, spread_sign, []),
        Meaning::Jmp => match first {
            Is::Reg => by_mode!(narrow, ops::jump_to, [First]),
            Is::Mem => by_mode!(narrow, ops::jump_to, [Mem]),
            _ => ops::jump::<O>,
        },
        Meaning::JmpWord => match first {
            Is::Reg => ops::jump_to::<First, B16, O>,
            Is::Mem => ops::jump_to::<Mem, B16, O>,
            _ => ops::jump::<O>,
        },
        Meaning::Jcc(cond) => fused::jump(cond),
        Meaning::Setcc(_) => match first {
            Is::Mem => ops::setcc::<Mem, O>,
            _ => ops::setcc::<First, O>,
        },
        Meaning::Cmovcc(_) => match second {
            Is::Mem => by_width!(width, cmovcc, [Mem]),
            _ => by_width!(width, cmovcc, [Second]),
        },
        Meaning::Call => match first {
            Is::Reg => by_mode!(narrow, ops::call_to, [First]),
            Is::Mem => by_mode!(narrow, ops::call_to, [Mem]),
            _ => by_mode!(narrow, ops::call, []),
        },
        Meaning::CallWord => match first {
            Is::Reg => ops::call_to::<First, B16, O>,
            Is::Mem => ops::call_to::<Mem, B16, O>,
            _ => ops::call::<B16, O>,
        },
        Meaning::Ret => by_mode!(narrow, ops::ret, []),
        Meaning::RetWord => ops::ret::<B16, O>,
        Meaning::Loop => by_mode!(narrow, ops::loop_while, [2]),
        Meaning::Loope => by_mode!(narrow, ops::loop_while, [1]),
        Meaning::Loopne => by_mode!(narrow, ops::loop_while, [0]),
        Meaning::LoopNarrow(wanted) => match (wanted, narrow) {
            (None, false) => ops::loop_while::<2, B32, O>,
            (Some(true), false) => ops::loop_while::<1, B32, O>,
            (Some(false), false) => ops::loop_while::<0, B32, O>,
            (None, true) => ops::loop_while::<2, B16, O>,
            (Some(true), true) => ops::loop_while::<1, B16, O>,
            (Some(false), true) => ops::loop_while::<0, B16, O>,
        },
        Meaning::JumpIfZero(width) => sized!(width, ops::jump_if_counter_zero, []),
        Meaning::Nop => ops::nop::<O>,
        Meaning::Syscall => ops::syscall::<O>,
        Meaning::Sysenter if narrow => ops::sysenter::<O>,
        // The kernel comes back into 32-bit code.
        Meaning::Sysenter => segments::into_other_mode::<O>,
        Meaning::Int3 => ops::int3::<O>,
        Meaning::Ud2 => ops::invalid::<O>,
    };
    if writes_through_code(instruction) && form.meaning != Meaning::Arpl {
        op.run = segments::write_to_code::<O>;
    }
    op
}

/// Whether an operand is memory of the code segment that is to be written.
fn writes_through_code(instruction: &Instruction) -> bool {
    instruction.operands.iter().enumerate().any(|(index, operand)| match operand {
        isa::Operand::Mem(mem) => {
            mem.segment == Some(isa::Segment::Cs) && instruction.access(index).writes()
        }
        _ => false,
    })
}

/// What kind of thing an operand is.
pub(super) fn kind_of(operand: &isa::Operand) -> Is {
    match operand {
        isa::Operand::Reg(reg) if reg.vector().is_some() => Is::Vector,
        isa::Operand::Reg(_) => Is::Reg,
        isa::Operand::Imm(_) | isa::Operand::Target(_) => Is::Imm,
        isa::Operand::Mem(_) => Is::Mem,
        isa::Operand::ShiftedImm(..)
        | isa::Operand::Shifted(..)
        | isa::Operand::Extended(..)
        | isa::Operand::Cond(_) => Is::None,
    }
}

/// Lays an operand out in the operation.
fn place<O>(op: &mut Op<O>, arch: Arch, position: usize, operand: &isa::Operand) -> Is {
    match operand {
        isa::Operand::Reg(reg) => match position {
            0 => op.first = code(*reg),
            1 => op.second = code(*reg),
            _ => op.third = code(*reg),
        },
        isa::Operand::Imm(value) | isa::Operand::Target(value) => {
            op.imm = value.or_zero() as u64;
        }
        isa::Operand::Mem(mem) => {
            op.disp = mem.disp.or_zero() as u64;
            if let Some(base) = mem.base {
                match base.kind {
                    RegKind::Ip => op.disp = op.disp.wrapping_add(op.next),
                    _ => op.base = base.number,
                }
            }
            if let Some(index) = mem.index {
                (op.index, op.shift) = (index.number, mem.scale.trailing_zeros() as u8);
            }
            // An address is as wide as its registers, and no wider than those of the mode.
            let registers = [mem.base, mem.index].into_iter().flatten().map(isa::Reg::width);
            let width = registers.fold(arch.address_width(), Width::min);
            op.unused_bits = (64 - width.bits()) as u8;
            if let Some(segment @ (isa::Segment::Fs | isa::Segment::Gs)) = mem.segment {
                op.segment = base_of(segment);
            }
            op.special = width < Width::W64 || op.segment != ZERO;
        }
        isa::Operand::ShiftedImm(..)
        | isa::Operand::Shifted(..)
        | isa::Operand::Extended(..)
        | isa::Operand::Cond(_) => {}
    }
    kind_of(operand)
}

/// The register of the file that holds a segment's base.
fn base_of(segment: isa::Segment) -> u8 {
    match segment {
        isa::Segment::Fs => FS_BASE as u8,
        isa::Segment::Gs => GS_BASE as u8,
        // The others start at 0.
        _ => ZERO,
    }
}

fn source_width(instruction: &Instruction) -> Width {
    match instruction.operands[1] {
        isa::Operand::Reg(reg) => reg.width(),
        isa::Operand::Mem(mem) => mem.width.unwrap_or(Width::W8),
        _ => Width::W8,
    }
}

fn extend<const SIGNED: bool, O: Observer>(source: Is, from: Width, to: Width) -> Run<O> {
    macro_rules! from_width {
        ($place:ident) => {
            match from {
                Width::W8 => by_to!($place, B8),
                Width::W16 => by_to!($place, B16),
                _ => by_to!($place, B32),
            }
        };
    }
    macro_rules! by_to {
        ($place:ident, $from:ident) => {
            match to {
                Width::W64 => ops::extend::<SIGNED, $place, $from, B64, O> as Run<O>,
                Width::W32 => ops::extend::<SIGNED, $place, $from, B32, O>,
                _ => ops::extend::<SIGNED, $place, $from, B16, O>,
            }
        };
    }
    match source {
        Is::Mem => from_width!(Mem),
        _ => from_width!(Second),
    }
}

fn bit_test<C: ops::BitChange, O: Observer>(kinds: (Is, Is), width: Width) -> Run<O> {
    match kinds {
        (Is::Mem, Is::Reg) => by_width!(width, bit_test_string, [C]),
        (Is::Mem, _) => by_width!(width, bit_test, [C, Mem, Imm]),
        (_, Is::Reg) => by_width!(width, bit_test, [C, First, Second]),
        (_, _) => by_width!(width, bit_test, [C, First, Imm]),
    }
}

fn shift<O: Observer>(op: &mut Op<O>, kind: Shift, kinds: (Is, Is), width: Width) -> Run<O> {
    op.shift_kind = kind;
    macro_rules! lazily {
        ($kind:literal) => {
            match kinds {
                (Is::Reg, Is::Reg) => {
                    by_width_const!(width, shift_lazily, $kind, [First, Second])
                }
                (Is::Reg, _) => by_width_const!(width, shift_lazily, $kind, [First, Imm]),
                (_, Is::Reg) => by_width_const!(width, shift_lazily, $kind, [Mem, Second]),
                (_, _) => by_width_const!(width, shift_lazily, $kind, [Mem, Imm]),
            }
        };
    }
    match (kind, kinds) {
        (Shift::Shl, _) => lazily!(0),
        (Shift::Shr, _) => lazily!(1),
        (Shift::Sar, _) => lazily!(2),
        (_, (Is::Reg, Is::Reg)) => by_width!(width, shift, [First, Second]),
        (_, (Is::Reg, _)) => by_width!(width, shift, [First, Imm]),
        (_, (_, Is::Reg)) => by_width!(width, shift, [Mem, Second]),
        (_, (_, _)) => by_width!(width, shift, [Mem, Imm]),
    }
}

fn scan<F: bits::FromSource, O: Observer>(source: Is, width: Width) -> Run<O> {
    match (source, width) {
        (Is::Mem, Width::W16) => bits::from_source::<F, Mem, B16, O>,
        (Is::Mem, Width::W32) => bits::from_source::<F, Mem, B32, O>,
        (Is::Mem, _) => bits::from_source::<F, Mem, B64, O>,
        (_, Width::W16) => bits::from_source::<F, Second, B16, O>,
        (_, Width::W32) => bits::from_source::<F, Second, B32, O>,
        (_, _) => bits::from_source::<F, Second, B64, O>,
    }
}

fn from_two<F: bits::FromTwo, O: Observer>(sources: (Is, Is), width: Width) -> Run<O> {
    macro_rules! places {
        ($size:ident) => {
            match sources {
                (Is::Mem, Is::Imm) => bits::from_two::<F, Mem, Imm, $size, O> as Run<O>,
                (Is::Mem, _) => bits::from_two::<F, Mem, Third, $size, O>,
                (_, Is::Imm) => bits::from_two::<F, Second, Imm, $size, O>,
                (_, Is::Mem) => bits::from_two::<F, Second, Mem, $size, O>,
                (_, _) => bits::from_two::<F, Second, Third, $size, O>,
            }
        };
    }
    match width {
        Width::W32 => places!(B32),
        _ => places!(B64),
    }
}

fn add_by_flag<const OVERFLOW: bool, O: Observer>(source: Is, width: Width) -> Run<O> {
    match (source, width) {
        (Is::Mem, Width::W32) => bits::add_by_flag::<OVERFLOW, Mem, B32, O>,
        (Is::Mem, _) => bits::add_by_flag::<OVERFLOW, Mem, B64, O>,
        (_, Width::W32) => bits::add_by_flag::<OVERFLOW, Second, B32, O>,
        (_, _) => bits::add_by_flag::<OVERFLOW, Second, B64, O>,
    }
}

fn double_shift<const LEFT: bool, O: Observer>((to, count): (Is, Is), width: Width) -> Run<O> {
    macro_rules! places {
        ($size:ident) => {
            match (to, count) {
                (Is::Mem, Is::Imm) => bits::double_shift::<LEFT, Mem, Imm, $size, O> as Run<O>,
                (Is::Mem, _) => bits::double_shift::<LEFT, Mem, Third, $size, O>,
                (_, Is::Imm) => bits::double_shift::<LEFT, First, Imm, $size, O>,
                (_, _) => bits::double_shift::<LEFT, First, Third, $size, O>,
            }
        };
    }
    match width {
        Width::W16 => places!(B16),
        Width::W32 => places!(B32),
        _ => places!(B64),
    }
}
