//! Instructions to compact operations: which semantic function, with its operands laid out.

use sotto_isa::x86::vector::{FloatOp, Shape};
use sotto_isa::x86::{
    Cond, Meaning, Pattern, Repeat, StringOp, SystemTable, SystemWord, X87, form, operand_width,
};
use sotto_isa::{self as isa, Arch, Instruction, RegKind, Width};

use crate::Observer;
use crate::x86::flags::Shift;
use crate::x86::integer::arithmetic;
use crate::x86::integer::arithmetic::{B8, B16, B32, B64, First, Imm, Mem, Second, Third};
use crate::x86::integer::{bits, legacy, strings};
use crate::x86::op::{Is, Op, Run};
use crate::x86::system::{instructions, segments};
use crate::x86::translate::conditional_jumps;
use crate::x86::translate::vectors::{Operands, vector_instruction};
use crate::x86::x87::environment;
use crate::x86::{FS_BASE, GS_BASE, ZERO, code};

/// `by_width!(width, f::<A, B, _, O>)`: the function with the width's type put in place of `_`.
macro_rules! by_width {
    ($width:expr, $f:ident, [$($before:ty),*]) => {
        match $width {
            Width::W8 => arithmetic::$f::<$($before,)* B8, O> as Run<O>,
            Width::W16 => arithmetic::$f::<$($before,)* B16, O>,
            Width::W32 => arithmetic::$f::<$($before,)* B32, O>,
            _ => arithmetic::$f::<$($before,)* B64, O>,
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
            Width::W8 => arithmetic::$f::<$c, $($before,)* B8, O> as Run<O>,
            Width::W16 => arithmetic::$f::<$c, $($before,)* B16, O>,
            Width::W32 => arithmetic::$f::<$c, $($before,)* B32, O>,
            _ => arithmetic::$f::<$c, $($before,)* B64, O>,
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

pub(crate) fn translate<O: Observer>(instruction: &Instruction) -> Op<O> {
    let form = form(instruction.form);
    let width = operand_width(form);
    let mut op = Op {
        run: arithmetic::nop::<O>,
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
            Is::Imm if narrow => arithmetic::push::<Imm, B32, O>,
            Is::Imm => arithmetic::push::<Imm, B64, O>,
            _ => one_place!(first, width, push, []),
        },
        Meaning::PushWord => arithmetic::push::<Imm, B16, O>,
        Meaning::Pop => one_place!(first, width, pop, []),
        Meaning::Leave => by_mode!(narrow, arithmetic::leave, []),
        Meaning::LeaveWord => arithmetic::leave::<B16, O>,
        // Either operand may be the memory one; the other is exchanged with it.
        Meaning::Xchg if second == Is::Mem => {
            op.second = op.first;
            by_width!(width, xchg, [Mem])
        }
        Meaning::Xchg => one_place!(first, width, xchg, []),
        Meaning::Add => two_places!((first, second), width, binary, [arithmetic::Add]),
        Meaning::Adc => two_places!((first, second), width, binary, [arithmetic::Adc]),
        Meaning::Sub => two_places!((first, second), width, binary, [arithmetic::Sub]),
        Meaning::Sbb => two_places!((first, second), width, binary, [arithmetic::Sbb]),
        Meaning::Cmp => two_places!((first, second), width, binary, [arithmetic::Cmp]),
        Meaning::And => two_places!((first, second), width, binary, [arithmetic::And]),
        Meaning::Or => two_places!((first, second), width, binary, [arithmetic::Or]),
        Meaning::Xor => two_places!((first, second), width, binary, [arithmetic::Xor]),
        Meaning::Test => two_places!((first, second), width, binary, [arithmetic::Test]),
        Meaning::Inc => one_place!(first, width, unary, [arithmetic::Inc]),
        Meaning::Dec => one_place!(first, width, unary, [arithmetic::Dec]),
        Meaning::Neg => one_place!(first, width, unary, [arithmetic::Neg]),
        Meaning::Not => one_place!(first, width, unary, [arithmetic::Not]),
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
            Width::W16 => arithmetic::extend_accumulator::<B8, B16, O>,
            Width::W32 => arithmetic::extend_accumulator::<B16, B32, O>,
            _ => arithmetic::extend_accumulator::<B32, B64, O>,
        },
        Meaning::Bt => bit_test::<arithmetic::Keep, O>((first, second), width),
        Meaning::Bts => bit_test::<arithmetic::SetBit, O>((first, second), width),
        Meaning::Btr => bit_test::<arithmetic::ClearBit, O>((first, second), width),
        Meaning::Btc => bit_test::<arithmetic::Invert, O>((first, second), width),
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
        Meaning::Cld => instructions::direction::<false, O>,
        Meaning::Std => instructions::direction::<true, O>,
        Meaning::Lahf => instructions::lahf::<O>,
        Meaning::Sahf => instructions::sahf::<O>,
        Meaning::Pushf(width) => sized!(width, instructions::pushf, []),
        Meaning::Popf(width) => sized!(width, instructions::popf, []),
        Meaning::Xlat => instructions::xlat::<O>,
        Meaning::Enter | Meaning::EnterWord => {
            // The size stands where a displacement would: the immediate is the nesting level.
            if let Some(isa::Operand::Imm(size)) = instruction.operands.first() {
                op.disp = size.or_zero() as u64;
            }
            match form.meaning {
                Meaning::EnterWord => instructions::enter::<B16, O>,
                _ => by_mode!(narrow, instructions::enter, []),
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
                SystemWord::Task => instructions::TASK,
                SystemWord::MachineStatus => instructions::MACHINE_STATUS,
            };
            match (first, width) {
                (Is::Mem, _) => instructions::word::<Mem, B16, O>,
                (_, Width::W16) => instructions::word::<First, B16, O>,
                (_, Width::W32) => instructions::word::<First, B32, O>,
                _ => instructions::word::<First, B64, O>,
            }
        }
        Meaning::SystemTable(table) => {
            op.imm = match table {
                SystemTable::Global => instructions::GLOBAL_TABLE,
                SystemTable::Interrupt => instructions::INTERRUPT_TABLE,
            };
            by_mode!(narrow, instructions::table, [])
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
        Meaning::Pusha(width) => sized!(width, legacy::push_all, []),
        Meaning::Popa(width) => sized!(width, legacy::pop_all, []),
        Meaning::Bound => sized!(width, legacy::bound, []),
        Meaning::Daa => legacy::packed::<false, O>,
        Meaning::Das => legacy::packed::<true, O>,
        Meaning::Aaa => legacy::unpacked::<false, O>,
        Meaning::Aas => legacy::unpacked::<true, O>,
        Meaning::Aam | Meaning::Aad => {
            if instruction.operands.is_empty() {
                op.imm = 10;
            }
            if form.meaning == Meaning::Aam { legacy::aam::<O> } else { legacy::aad::<O> }
        }
        Meaning::Into => legacy::into::<O>,
        Meaning::ReadBase(segment) => {
            op.second = base_of(segment);
            match width {
                Width::W32 => instructions::read_base::<B32, O>,
                _ => instructions::read_base::<B64, O>,
            }
        }
        Meaning::WriteBase(segment) => {
            op.second = base_of(segment);
            match width {
                Width::W32 => instructions::write_base::<B32, O>,
                _ => instructions::write_base::<B64, O>,
            }
        }
        Meaning::Cpuid => instructions::cpuid::<O>,
        Meaning::Rdtsc => instructions::rdtsc::<false, O>,
        Meaning::Rdtscp => instructions::rdtsc::<true, O>,
        Meaning::Rdpid => instructions::rdpid::<O>,
        Meaning::Rdrand => match width {
            Width::W16 => instructions::rdrand::<B16, O>,
            Width::W32 => instructions::rdrand::<B32, O>,
            _ => instructions::rdrand::<B64, O>,
        },
        Meaning::Prefetch => arithmetic::nop::<O>,
        Meaning::FlushLine => instructions::flush_line::<O>,
        Meaning::Privileged => instructions::privileged::<O>,
        Meaning::Int => instructions::int::<O>,
        Meaning::X87(kind) => {
            op.x87 = kind;
            environment::x87::<O>
        }
        Meaning::Vector(vector) => {
            let patterns = form.operands.iter().map(|slot| slot.pattern);
            let source = patterns.rev().find(|p| p.memory_width().is_some() || p.is_vector());
            let destination = form.operands.first().map(|slot| slot.pattern);
            let operands = Operands { kinds, source, destination };
            vector_instruction(&mut op, vector, &operands)
        }
        Meaning::Clc => arithmetic::carry::<0, O>,
        Meaning::Stc => arithmetic::carry::<1, O>,
        Meaning::Cmc => arithmetic::carry::<2, O>,
        Meaning::SpreadSign => by_width!(width, spread_sign, []),
        Meaning::Jmp => match first {
            Is::Reg => by_mode!(narrow, arithmetic::jump_to, [First]),
            Is::Mem => by_mode!(narrow, arithmetic::jump_to, [Mem]),
            _ => arithmetic::jump::<O>,
        },
        Meaning::JmpWord => match first {
            Is::Reg => arithmetic::jump_to::<First, B16, O>,
            Is::Mem => arithmetic::jump_to::<Mem, B16, O>,
            _ => arithmetic::jump::<O>,
        },
        Meaning::Jcc(cond) => conditional_jumps::jump(cond),
        Meaning::Setcc(_) => match first {
            Is::Mem => arithmetic::setcc::<Mem, O>,
            _ => arithmetic::setcc::<First, O>,
        },
        Meaning::Cmovcc(_) => match second {
            Is::Mem => by_width!(width, cmovcc, [Mem]),
            _ => by_width!(width, cmovcc, [Second]),
        },
        Meaning::Call => match first {
            Is::Reg => by_mode!(narrow, arithmetic::call_to, [First]),
            Is::Mem => by_mode!(narrow, arithmetic::call_to, [Mem]),
            _ => by_mode!(narrow, arithmetic::call, []),
        },
        Meaning::CallWord => match first {
            Is::Reg => arithmetic::call_to::<First, B16, O>,
            Is::Mem => arithmetic::call_to::<Mem, B16, O>,
            _ => arithmetic::call::<B16, O>,
        },
        Meaning::Ret => by_mode!(narrow, arithmetic::ret, []),
        Meaning::RetWord => arithmetic::ret::<B16, O>,
        Meaning::Loop => by_mode!(narrow, arithmetic::loop_while, [2]),
        Meaning::Loope => by_mode!(narrow, arithmetic::loop_while, [1]),
        Meaning::Loopne => by_mode!(narrow, arithmetic::loop_while, [0]),
        Meaning::LoopNarrow(wanted) => match (wanted, narrow) {
            (None, false) => arithmetic::loop_while::<2, B32, O>,
            (Some(true), false) => arithmetic::loop_while::<1, B32, O>,
            (Some(false), false) => arithmetic::loop_while::<0, B32, O>,
            (None, true) => arithmetic::loop_while::<2, B16, O>,
            (Some(true), true) => arithmetic::loop_while::<1, B16, O>,
            (Some(false), true) => arithmetic::loop_while::<0, B16, O>,
        },
        Meaning::JumpIfZero(width) => sized!(width, arithmetic::jump_if_counter_zero, []),
        Meaning::Nop => arithmetic::nop::<O>,
        Meaning::Syscall => arithmetic::syscall::<O>,
        Meaning::Sysenter if narrow => arithmetic::sysenter::<O>,
        // The kernel comes back into 32-bit code.
        Meaning::Sysenter => segments::into_other_mode::<O>,
        Meaning::Int3 => arithmetic::int3::<O>,
        Meaning::Ud2 => arithmetic::invalid::<O>,
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
pub(crate) fn kind_of(operand: &isa::Operand) -> Is {
    match operand {
        isa::Operand::Reg(reg) if reg.id().is_some() => Is::Vector,
        isa::Operand::Reg(_) => Is::Reg,
        isa::Operand::Imm(_) | isa::Operand::Target(_) => Is::Imm,
        isa::Operand::Mem(_) => Is::Mem,
        isa::Operand::ShiftedImm(..)
        | isa::Operand::Shifted(..)
        | isa::Operand::Extended(..)
        | isa::Operand::Cond(_)
        | isa::Operand::ShiftedOnes(..)
        | isa::Operand::Float(_)
        | isa::Operand::Vector(..)
        | isa::Operand::Element(..)
        | isa::Operand::List(_)
        | isa::Operand::Named(_) => Is::None,
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
        | isa::Operand::Cond(_)
        | isa::Operand::ShiftedOnes(..)
        | isa::Operand::Float(_)
        | isa::Operand::Vector(..)
        | isa::Operand::Element(..)
        | isa::Operand::List(_)
        | isa::Operand::Named(_) => {}
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
                Width::W64 => arithmetic::extend::<SIGNED, $place, $from, B64, O> as Run<O>,
                Width::W32 => arithmetic::extend::<SIGNED, $place, $from, B32, O>,
                _ => arithmetic::extend::<SIGNED, $place, $from, B16, O>,
            }
        };
    }
    match source {
        Is::Mem => from_width!(Mem),
        _ => from_width!(Second),
    }
}

fn bit_test<C: arithmetic::BitChange, O: Observer>(kinds: (Is, Is), width: Width) -> Run<O> {
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
