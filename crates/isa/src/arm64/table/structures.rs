//! Loads and stores of structures: LD1 to LD4, ST1 to ST4 and those that replicate an element.

use super::rows::*;
use crate::arm64::RegField::Rt;
use crate::arm64::pattern::{AfterBytes, Count, Elements, LaneSource};
use crate::arm64::{Form, Meaning, OperandSpec, Pattern};
use crate::{Access, Width};

pub(super) const ROWS: &[Form] = rows![WHOLE, LANES, REPLICATED];

const ANY: Elements = elements(LaneSource::ListSize, B | H | S | D, Count::QOrOne);
/// Structures of several members have no arrangement of a single element.
const SEVERAL: Elements = elements(LaneSource::ListSize, B | H | S | D, Count::Q);

const fn list(access: Access, count: u8, elements: Elements) -> OperandSpec {
    spec(access, Pattern::List(Rt, count, elements))
}

/// The three addressing modes of a transfer: alone, and with the base moved by what was transferred or by a register.
macro_rules! modes {
    ($base:expr, $list:expr, $access:expr, $after:expr, $head:literal, $l:literal, $r:literal, $tail:expr) => {
        [
            Form { operands: &[$list, spec($access, Pattern::MemStructures)], encoding: concat!($head, "0 ", $l, " ", $r, " 00000 ", $tail), ..$base },
            Form { operands: &[$list, spec($access, Pattern::MemAfter($after))], encoding: concat!($head, "1 ", $l, " ", $r, " 11111 ", $tail), ..$base },
            Form { operands: &[$list, spec($access, Pattern::MemAfterReg)], encoding: concat!($head, "1 ", $l, " ", $r, " Rm ", $tail), ..$base },
        ]
    };
}

const fn load(mnemonic: &'static str, members: u8) -> Form {
    let (summary, source) = match members {
        1 => ("loads registers from memory, one after the other", "Arm ARM, C7.2 LD1 (multiple structures)"),
        2 => ("loads pairs from memory, their members to two registers", "Arm ARM, C7.2 LD2 (multiple structures)"),
        3 => ("loads structures of three from memory, their members to three registers", "Arm ARM, C7.2 LD3 (multiple structures)"),
        _ => ("loads structures of four from memory, their members to four registers", "Arm ARM, C7.2 LD4 (multiple structures)"),
    };
    named(mnemonic, Meaning::LoadStructures { members }, summary, source)
}

const fn store(mnemonic: &'static str, members: u8) -> Form {
    let (summary, source) = match members {
        1 => ("stores registers to memory, one after the other", "Arm ARM, C7.2 ST1 (multiple structures)"),
        2 => ("stores pairs to memory, their members from two registers", "Arm ARM, C7.2 ST2 (multiple structures)"),
        3 => ("stores structures of three to memory, their members from three registers", "Arm ARM, C7.2 ST3 (multiple structures)"),
        _ => ("stores structures of four to memory, their members from four registers", "Arm ARM, C7.2 ST4 (multiple structures)"),
    };
    named(mnemonic, Meaning::StoreStructures { members }, summary, source)
}

macro_rules! whole {
    ($load:literal, $store:literal, $members:literal, $count:literal, $elements:expr, $tail:literal) => {
        *rows![
            modes!(load($load, $members), list(Access::Write, $count, $elements), Access::Read, AfterBytes::Registers($count), "0 Q:1 001100", "1", "0", $tail),
            modes!(store($store, $members), list(Access::Read, $count, $elements), Access::Write, AfterBytes::Registers($count), "0 Q:1 001100", "0", "0", $tail),
        ]
    };
}
const WHOLE: &[Form] = rows![
    whole!("ld1", "st1", 1, 1, ANY, "0111 lsize:2 Rn Rt"),
    whole!("ld1", "st1", 1, 2, ANY, "1010 lsize:2 Rn Rt"),
    whole!("ld1", "st1", 1, 3, ANY, "0110 lsize:2 Rn Rt"),
    whole!("ld1", "st1", 1, 4, ANY, "0010 lsize:2 Rn Rt"),
    whole!("ld2", "st2", 2, 2, SEVERAL, "1000 lsize:2 Rn Rt"),
    whole!("ld3", "st3", 3, 3, SEVERAL, "0100 lsize:2 Rn Rt"),
    whole!("ld4", "st4", 4, 4, SEVERAL, "0000 lsize:2 Rn Rt"),
];

const fn load_lane(mnemonic: &'static str) -> Form {
    named(mnemonic, Meaning::LoadLane, "loads one element of each register from memory; the others keep their values", "Arm ARM, C7.2 LD1 to LD4 (single structure)")
}

const fn store_lane(mnemonic: &'static str) -> Form {
    named(mnemonic, Meaning::StoreLane, "stores one element of each register to memory", "Arm ARM, C7.2 ST1 to ST4 (single structure)")
}

const fn lane(access: Access, count: u8, width: Width) -> OperandSpec {
    spec(access, Pattern::ListLane(count, width))
}

/// One element of each of so many registers, of each width: the names, `R`, and the low bit of the opcode.
macro_rules! lanes {
    ($load:literal, $store:literal, $count:literal, $r:literal, $low:literal) => {
        *rows![
            lanes!(@width $load, $store, $count, $r, W8, 1, "00", $low, "lS:1 lsize:2"),
            lanes!(@width $load, $store, $count, $r, W16, 2, "01", $low, "lS:1 lsize:1 0"),
            lanes!(@width $load, $store, $count, $r, W32, 4, "10", $low, "lS:1 00"),
            lanes!(@width $load, $store, $count, $r, W64, 8, "10", $low, "0 01"),
        ]
    };
    (@width $load:literal, $store:literal, $count:literal, $r:literal, $width:expr, $bytes:literal, $high:literal, $low:literal, $index:literal) => {
        *rows![
            modes!(load_lane($load), lane(Access::ReadWrite, $count, $width), Access::Read, AfterBytes::Fixed($count * $bytes), "0 Q:1 001101", "1", $r, concat!($high, $low, " ", $index, " Rn Rt")),
            modes!(store_lane($store), lane(Access::Read, $count, $width), Access::Write, AfterBytes::Fixed($count * $bytes), "0 Q:1 001101", "0", $r, concat!($high, $low, " ", $index, " Rn Rt")),
        ]
    };
}
const LANES: &[Form] = rows![
    lanes!("ld1", "st1", 1, "0", "0"),
    lanes!("ld2", "st2", 2, "1", "0"),
    lanes!("ld3", "st3", 3, "0", "1"),
    lanes!("ld4", "st4", 4, "1", "1"),
];

const fn replicated(mnemonic: &'static str) -> Form {
    named(mnemonic, Meaning::LoadReplicated, "loads one structure from memory, each member to every element of a register", "Arm ARM, C7.2 LD1R to LD4R")
}
const REPLICATED: &[Form] = rows![
    modes!(replicated("ld1r"), list(Access::Write, 1, ANY), Access::Read, AfterBytes::Elements(1), "0 Q:1 001101", "1", "0", "110 0 lsize:2 Rn Rt"),
    modes!(replicated("ld2r"), list(Access::Write, 2, ANY), Access::Read, AfterBytes::Elements(2), "0 Q:1 001101", "1", "1", "110 0 lsize:2 Rn Rt"),
    modes!(replicated("ld3r"), list(Access::Write, 3, ANY), Access::Read, AfterBytes::Elements(3), "0 Q:1 001101", "1", "0", "111 0 lsize:2 Rn Rt"),
    modes!(replicated("ld4r"), list(Access::Write, 4, ANY), Access::Read, AfterBytes::Elements(4), "0 Q:1 001101", "1", "1", "111 0 lsize:2 Rn Rt"),
];
