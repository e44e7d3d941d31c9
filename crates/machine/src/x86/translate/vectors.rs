//! Vector instructions to compact operations.

use sotto_isa::Width;
use sotto_isa::x86::Pattern;
use sotto_isa::x86::vector::{Convert, FloatOp, Shape, Vector};

use crate::Observer;
use crate::float::softfloat::{F32, F64, HostFormat};
use crate::x86::RDI;
use crate::x86::integer::arithmetic;
use crate::x86::integer::arithmetic::{B8, B16, B32, B64, First, Mem, Second};
use crate::x86::op::{Is, Op, Run};
use crate::x86::vector::moves::{Aligned, FirstVector, General, Narrow, SecondVector, Unaligned};
use crate::x86::vector::{moves, packed, sse_float};

/// What the operands of a vector instruction are.
pub(crate) struct Operands {
    pub(crate) kinds: [Is; 3],
    /// The pattern of the last operand that is a vector or can be memory.
    pub(crate) source: Option<Pattern>,
    /// The pattern of the first.
    pub(crate) destination: Option<Pattern>,
}

/// `vector_source!(operands, moves::f, [A], [B])`: the function `f::<A, S, B, O>` for the place `S` of the second operand.
macro_rules! vector_source {
    ($operands:expr, $module:ident::$f:ident, [$($before:tt),*], [$($after:ty),*]) => {
        match ($operands.kinds[1], $operands.source) {
            (Is::Mem, Some(Pattern::XmUnaligned)) => {
                $module::$f::<$($before,)* Unaligned, $($after,)* O> as Run<O>
            }
            (Is::Mem, Some(pattern)) => match pattern.memory_width() {
                Some(Width::W8) => $module::$f::<$($before,)* Narrow<B8>, $($after,)* O>,
                Some(Width::W16) => $module::$f::<$($before,)* Narrow<B16>, $($after,)* O>,
                Some(Width::W32) => $module::$f::<$($before,)* Narrow<B32>, $($after,)* O>,
                Some(Width::W64) => $module::$f::<$($before,)* Narrow<B64>, $($after,)* O>,
                _ if matches!(pattern, Pattern::Mem(_)) => {
                    $module::$f::<$($before,)* Unaligned, $($after,)* O>
                }
                _ => $module::$f::<$($before,)* Aligned, $($after,)* O>,
            },
            (Is::Reg, _) => $module::$f::<$($before,)* General<B64>, $($after,)* O>,
            (Is::Vector, _) => $module::$f::<$($before,)* SecondVector, $($after,)* O>,
            // The only operand is the destination.
            _ => $module::$f::<$($before,)* FirstVector, $($after,)* O>,
        }
    };
}

/// The function of a vector instruction; what else it needs is put into `op`.
pub(crate) fn vector_instruction<O: Observer>(
    op: &mut Op<O>,
    vector: Vector,
    operands: &Operands,
) -> Run<O> {
    let [first, second, _] = operands.kinds;
    match vector {
        Vector::Packed(packed) => {
            op.function = packed::function(packed);
            vector_source!(operands, moves::packed, [], [])
        }
        Vector::Move if first == Is::Mem => match operands.destination {
            Some(Pattern::XmUnaligned) => moves::store::<false, O>,
            _ => moves::store::<true, O>,
        },
        Vector::Move => vector_source!(operands, moves::load, [], []),
        Vector::MoveScalar(width) | Vector::MoveElement(width) => {
            let keep = matches!(vector, Vector::MoveScalar(_));
            match (first, second, width) {
                (Is::Vector, Is::Vector, Width::W32) => moves::copy_element::<true, B32, O>,
                (Is::Vector, Is::Vector, _) if keep => moves::copy_element::<true, B64, O>,
                (Is::Vector, Is::Vector, _) => moves::copy_element::<false, B64, O>,
                (Is::Vector, Is::Reg, Width::W32) => moves::load::<General<B32>, O>,
                (Is::Vector, Is::Reg, _) => moves::load::<General<B64>, O>,
                (Is::Vector, _, Width::W32) => moves::load::<Narrow<B32>, O>,
                (Is::Vector, _, _) => moves::load::<Narrow<B64>, O>,
                (Is::Reg, _, Width::W32) => moves::store_element::<First, B32, O>,
                (Is::Reg, _, _) => moves::store_element::<First, B64, O>,
                (_, _, Width::W32) => moves::store_element::<Mem, B32, O>,
                (_, _, _) => moves::store_element::<Mem, B64, O>,
            }
        }
        Vector::StoreHalf { high } => {
            op.imm = if high { 64 } else { 0 };
            moves::store_element::<Mem, B64, O>
        }
        Vector::MoveMask(Width::W8) => moves::move_mask::<B8, O>,
        Vector::MoveMask(Width::W32) => moves::move_mask::<B32, O>,
        Vector::MoveMask(_) => moves::move_mask::<B64, O>,
        Vector::Extract(width) => match (first, width) {
            (Is::Mem, Width::W8) => moves::extract::<true, B8, O>,
            (Is::Mem, Width::W16) => moves::extract::<true, B16, O>,
            (Is::Mem, Width::W32) => moves::extract::<true, B32, O>,
            (Is::Mem, _) => moves::extract::<true, B64, O>,
            (_, Width::W8) => moves::extract::<false, B8, O>,
            (_, Width::W16) => moves::extract::<false, B16, O>,
            (_, Width::W32) => moves::extract::<false, B32, O>,
            (_, _) => moves::extract::<false, B64, O>,
        },
        Vector::MaskedStore => {
            // Where it stores may be left unsaid.
            if operands.kinds[2] != Is::Mem {
                op.base = RDI as u8;
                op.special = op.unused_bits > 0;
            }
            moves::masked_store::<O>
        }
        Vector::BlendByMask(width) => match (second, width) {
            (Is::Mem, Width::W8) => moves::blend_by_mask::<Aligned, B8, O>,
            (Is::Mem, Width::W32) => moves::blend_by_mask::<Aligned, B32, O>,
            (Is::Mem, _) => moves::blend_by_mask::<Aligned, B64, O>,
            (_, Width::W8) => moves::blend_by_mask::<SecondVector, B8, O>,
            (_, Width::W32) => moves::blend_by_mask::<SecondVector, B32, O>,
            (_, _) => moves::blend_by_mask::<SecondVector, B64, O>,
        },
        Vector::Float(float, shape) => {
            op.float = (float, shape);
            match (float, shape) {
                (FloatOp::Add, Shape::Ss) => scalar::<sse_float::Add, F32, B32, O>(second),
                (FloatOp::Sub, Shape::Ss) => scalar::<sse_float::Sub, F32, B32, O>(second),
                (FloatOp::Mul, Shape::Ss) => scalar::<sse_float::Mul, F32, B32, O>(second),
                (FloatOp::Div, Shape::Ss) => scalar::<sse_float::Div, F32, B32, O>(second),
                (FloatOp::Add, Shape::Sd) => scalar::<sse_float::Add, F64, B64, O>(second),
                (FloatOp::Sub, Shape::Sd) => scalar::<sse_float::Sub, F64, B64, O>(second),
                (FloatOp::Mul, Shape::Sd) => scalar::<sse_float::Mul, F64, B64, O>(second),
                (FloatOp::Div, Shape::Sd) => scalar::<sse_float::Div, F64, B64, O>(second),
                _ => vector_source!(operands, sse_float::arithmetic, [], []),
            }
        }
        Vector::Compare(shape) => {
            op.float = (FloatOp::Add, shape);
            vector_source!(operands, sse_float::compare, [], [])
        }
        Vector::CompareFlags { width: Width::W32, signaling: false } => {
            vector_source!(operands, sse_float::compare_flags, [false, F32], [])
        }
        Vector::CompareFlags { width: Width::W32, .. } => {
            vector_source!(operands, sse_float::compare_flags, [true, F32], [])
        }
        Vector::CompareFlags { signaling: false, .. } => {
            vector_source!(operands, sse_float::compare_flags, [false, F64], [])
        }
        Vector::CompareFlags { .. } => {
            vector_source!(operands, sse_float::compare_flags, [true, F64], [])
        }
        Vector::Convert(convert) => conversion(convert, operands),
        Vector::Round(shape) => {
            op.float = (FloatOp::Add, shape);
            match shape.width() {
                Width::W32 => vector_source!(operands, sse_float::round, [F32], []),
                _ => vector_source!(operands, sse_float::round, [F64], []),
            }
        }
        Vector::Dot(Shape::Ps) => vector_source!(operands, sse_float::dot, [F32], []),
        Vector::Dot(_) => vector_source!(operands, sse_float::dot, [F64], []),
        Vector::TestBits => vector_source!(operands, moves::test_bits, [], []),
        Vector::CompareStrings { wide: true, mask, .. } => {
            op.wide_lengths = true;
            match mask {
                true => vector_source!(operands, moves::compare_strings, [true, true], []),
                false => vector_source!(operands, moves::compare_strings, [true, false], []),
            }
        }
        Vector::CompareStrings { explicit: true, mask: true, .. } => {
            vector_source!(operands, moves::compare_strings, [true, true], [])
        }
        Vector::CompareStrings { explicit: true, .. } => {
            vector_source!(operands, moves::compare_strings, [true, false], [])
        }
        Vector::CompareStrings { mask: true, .. } => {
            vector_source!(operands, moves::compare_strings, [false, true], [])
        }
        Vector::CompareStrings { .. } => {
            vector_source!(operands, moves::compare_strings, [false, false], [])
        }
        Vector::LoadControl => moves::load_control::<O>,
        Vector::StoreControl => moves::store_control::<O>,
        Vector::SaveState => moves::state::<true, O>,
        Vector::RestoreState => moves::state::<false, O>,
    }
}

fn scalar<B: sse_float::Binary, F: HostFormat, W: arithmetic::Size, O: Observer>(
    source: Is,
) -> Run<O> {
    match source {
        Is::Mem => sse_float::scalar::<B, F, Narrow<W>, O>,
        _ => sse_float::scalar::<B, F, SecondVector, O>,
    }
}

fn conversion<O: Observer>(convert: Convert, operands: &Operands) -> Run<O> {
    macro_rules! from_integer {
        ($format:ident, $size:ident) => {
            match operands.kinds[1] {
                Is::Mem => sse_float::from_integer::<$format, Mem, $size, O> as Run<O>,
                _ => sse_float::from_integer::<$format, Second, $size, O>,
            }
        };
    }
    macro_rules! to_integer {
        ($format:ident, $to:expr, $truncate:expr) => {
            match ($to, $truncate) {
                (Width::W32, true) => {
                    vector_source!(operands, sse_float::to_integer, [true, $format], [B32])
                }
                (Width::W32, false) => {
                    vector_source!(operands, sse_float::to_integer, [false, $format], [B32])
                }
                (_, true) => {
                    vector_source!(operands, sse_float::to_integer, [true, $format], [B64])
                }
                (_, false) => {
                    vector_source!(operands, sse_float::to_integer, [false, $format], [B64])
                }
            }
        };
    }
    match convert {
        Convert::IntToScalar(Width::W32, Width::W32) => from_integer!(F32, B32),
        Convert::IntToScalar(Width::W32, _) => from_integer!(F64, B32),
        Convert::IntToScalar(_, Width::W32) => from_integer!(F32, B64),
        Convert::IntToScalar(..) => from_integer!(F64, B64),
        Convert::ScalarToInt { from: Width::W32, to, truncate } => to_integer!(F32, to, truncate),
        Convert::ScalarToInt { to, truncate, .. } => to_integer!(F64, to, truncate),
        Convert::Scalar(Width::W32) => {
            vector_source!(operands, sse_float::convert_scalar, [F32, F64], [])
        }
        Convert::Scalar(_) => vector_source!(operands, sse_float::convert_scalar, [F64, F32], []),
        Convert::PsToPd => vector_source!(operands, sse_float::convert_packed, [F32, F64], []),
        Convert::PdToPs => vector_source!(operands, sse_float::convert_packed, [F64, F32], []),
        Convert::DqToPs => vector_source!(operands, sse_float::convert_from_integers, [F32], []),
        Convert::DqToPd => vector_source!(operands, sse_float::convert_from_integers, [F64], []),
        Convert::PsToDq { truncate: true } => {
            vector_source!(operands, sse_float::convert_to_integers, [true, F32], [])
        }
        Convert::PsToDq { .. } => {
            vector_source!(operands, sse_float::convert_to_integers, [false, F32], [])
        }
        Convert::PdToDq { truncate: true } => {
            vector_source!(operands, sse_float::convert_to_integers, [true, F64], [])
        }
        Convert::PdToDq { .. } => {
            vector_source!(operands, sse_float::convert_to_integers, [false, F64], [])
        }
    }
}
