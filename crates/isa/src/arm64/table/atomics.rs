//! Exclusive loads and stores, those that acquire and release, and atomic operations on memory.
//!
//! The order of memory that acquiring and releasing ask for is the order in which a single processor makes its accesses.

use super::rows::*;
use crate::arm64::RegField::{Rs, Rt, Rt2};
use crate::arm64::{AtomicOp, Form, Meaning, OperandSpec, Pattern, field};
use crate::{Access, Width};

pub(super) const ROWS: &[Form] = rows![
    EXCLUSIVE, EXCLUSIVE_PAIRS, ORDERED, ATOMIC, STORED, COMPARE_AND_SWAP, COMPARE_AND_SWAP_PAIRS, CLEAR,
];

const fn at(width: Width) -> OperandSpec {
    spec(Access::Read, Pattern::MemBase(width))
}

const fn at_written(width: Width) -> OperandSpec {
    spec(Access::Write, Pattern::MemBase(width))
}

const fn at_changed(width: Width) -> OperandSpec {
    spec(Access::ReadWrite, Pattern::MemBase(width))
}

/// The registers of accesses of each width: bytes and halfwords use W registers.
macro_rules! by_width {
    ($make:ident, $byte:literal, $half:literal, $whole:literal, $($argument:tt),*) => {
        [
            $make!("00", $byte, W8, W32, $($argument),*),
            $make!("01", $half, W16, W32, $($argument),*),
            $make!("10", $whole, W32, W32, $($argument),*),
            $make!("11", $whole, W64, W64, $($argument),*),
        ]
    };
}

macro_rules! load_exclusive {
    ($size:literal, $name:literal, $access:expr, $width:expr, $ordered:literal) => {
        Form { operands: &[w($width, Rt), at($access)], encoding: concat!($size, " 001000 0 1 0 11111 ", $ordered, " 11111 Rn Rt"),
            ..named($name, Meaning::LoadExclusive { access: $access }, "loads from memory, and marks the address for an exclusive store", "Arm ARM, C6.2 LDXR, LDAXR") }
    };
}
macro_rules! store_exclusive {
    ($size:literal, $name:literal, $access:expr, $width:expr, $ordered:literal) => {
        Form { operands: &[w(W32, Rs), r($width, Rt), at_written($access)], encoding: concat!($size, " 001000 0 0 0 Rs ", $ordered, " 11111 Rn Rt"),
            ..named($name, Meaning::StoreExclusive { access: $access }, "stores if the address is still marked; the first register becomes 0 if so, else 1", "Arm ARM, C6.2 STXR, STLXR") }
    };
}
const EXCLUSIVE: &[Form] = rows![
    by_width!(load_exclusive, "ldxrb", "ldxrh", "ldxr", "0"),
    by_width!(load_exclusive, "ldaxrb", "ldaxrh", "ldaxr", "1"),
    by_width!(store_exclusive, "stxrb", "stxrh", "stxr", "0"),
    by_width!(store_exclusive, "stlxrb", "stlxrh", "stlxr", "1"),
];

macro_rules! exclusive_pair {
    ($load:literal, $store:literal, $ordered:literal, $sz:literal, $width:expr) => {
        [
            Form { operands: &[w($width, Rt), w($width, Rt2), at($width)], encoding: concat!("1", $sz, " 001000 0 1 1 11111 ", $ordered, " Rt2 Rn Rt"),
                ..named($load, Meaning::LoadExclusivePair { access: $width }, "loads two registers from memory, and marks the address for an exclusive store", "Arm ARM, C6.2 LDXP, LDAXP") },
            Form { operands: &[w(W32, Rs), r($width, Rt), r($width, Rt2), at_written($width)], encoding: concat!("1", $sz, " 001000 0 0 1 Rs ", $ordered, " Rt2 Rn Rt"),
                ..named($store, Meaning::StoreExclusivePair { access: $width }, "stores two registers if the address is still marked; the first register becomes 0 if so, else 1", "Arm ARM, C6.2 STXP, STLXP") },
        ]
    };
}
const EXCLUSIVE_PAIRS: &[Form] = rows![
    exclusive_pair!("ldxp", "stxp", "0", "0", W32),
    exclusive_pair!("ldxp", "stxp", "0", "1", W64),
    exclusive_pair!("ldaxp", "stlxp", "1", "0", W32),
    exclusive_pair!("ldaxp", "stlxp", "1", "1", W64),
];

macro_rules! load_ordered {
    ($size:literal, $name:literal, $access:expr, $width:expr, $rest:literal) => {
        Form { operands: &[w($width, Rt), at($access)], encoding: concat!($size, $rest),
            ..named($name, Meaning::LoadOrdered { access: $access }, "loads from memory; later accesses stay after it", "Arm ARM, C6.2 LDAR, LDAPR, LDLAR") }
    };
}
macro_rules! store_ordered {
    ($size:literal, $name:literal, $access:expr, $width:expr, $rest:literal) => {
        Form { operands: &[r($width, Rt), at_written($access)], encoding: concat!($size, $rest),
            ..named($name, Meaning::StoreOrdered { access: $access }, "stores to memory; earlier accesses stay before it", "Arm ARM, C6.2 STLR, STLLR") }
    };
}
const ORDERED: &[Form] = rows![
    by_width!(load_ordered, "ldarb", "ldarh", "ldar", " 001000 1 1 0 11111 1 11111 Rn Rt"),
    by_width!(load_ordered, "ldlarb", "ldlarh", "ldlar", " 001000 1 1 0 11111 0 11111 Rn Rt"),
    by_width!(load_ordered, "ldaprb", "ldaprh", "ldapr", " 111 0 00 1 0 1 11111 1 100 00 Rn Rt"),
    by_width!(store_ordered, "stlrb", "stlrh", "stlr", " 001000 1 0 0 11111 1 11111 Rn Rt"),
    by_width!(store_ordered, "stllrb", "stllrh", "stllr", " 001000 1 0 0 11111 0 11111 Rn Rt"),
];

macro_rules! atomic {
    ($size:literal, $name:literal, $access:expr, $width:expr, $op:ident, $order:literal, $opc:literal) => {
        Form { operands: &[r($width, Rs), w($width, Rt), at_changed($access)], encoding: concat!($size, " 111 0 00 ", $order, " 1 Rs ", $opc, " 00 Rn Rt"),
            ..named($name, Meaning::Atomic { op: AtomicOp::$op, access: $access }, "loads from memory, and stores what the first register makes of the value, as one access", "Arm ARM, C6.2 LDADD, LDCLR, LDEOR, LDSET, LDSMAX, LDSMIN, LDUMAX, LDUMIN, SWP") }
    };
}
/// The four orders of an atomic operation, each for four widths. Names: of a byte, a halfword and a whole register.
macro_rules! atomics {
    ($($op:ident $opc:literal [$($byte:literal $half:literal $whole:literal)*])*) => {
        rows![$(
            atomics!(@orders $op $opc [$($byte $half $whole)*])
        ),*]
    };
    (@orders $op:ident $opc:literal [$b0:literal $h0:literal $w0:literal $b1:literal $h1:literal $w1:literal $b2:literal $h2:literal $w2:literal $b3:literal $h3:literal $w3:literal]) => {
        *rows![
            by_width!(atomic, $b0, $h0, $w0, $op, "0 0", $opc),
            by_width!(atomic, $b1, $h1, $w1, $op, "1 0", $opc),
            by_width!(atomic, $b2, $h2, $w2, $op, "0 1", $opc),
            by_width!(atomic, $b3, $h3, $w3, $op, "1 1", $opc),
        ]
    };
}
const ATOMIC: &[Form] = atomics! {
    Add "0 000" ["ldaddb" "ldaddh" "ldadd" "ldaddab" "ldaddah" "ldadda" "ldaddlb" "ldaddlh" "ldaddl" "ldaddalb" "ldaddalh" "ldaddal"]
    Clear "0 001" ["ldclrb" "ldclrh" "ldclr" "ldclrab" "ldclrah" "ldclra" "ldclrlb" "ldclrlh" "ldclrl" "ldclralb" "ldclralh" "ldclral"]
    ExclusiveOr "0 010" ["ldeorb" "ldeorh" "ldeor" "ldeorab" "ldeorah" "ldeora" "ldeorlb" "ldeorlh" "ldeorl" "ldeoralb" "ldeoralh" "ldeoral"]
    Set "0 011" ["ldsetb" "ldseth" "ldset" "ldsetab" "ldsetah" "ldseta" "ldsetlb" "ldsetlh" "ldsetl" "ldsetalb" "ldsetalh" "ldsetal"]
    SignedMax "0 100" ["ldsmaxb" "ldsmaxh" "ldsmax" "ldsmaxab" "ldsmaxah" "ldsmaxa" "ldsmaxlb" "ldsmaxlh" "ldsmaxl" "ldsmaxalb" "ldsmaxalh" "ldsmaxal"]
    SignedMin "0 101" ["ldsminb" "ldsminh" "ldsmin" "ldsminab" "ldsminah" "ldsmina" "ldsminlb" "ldsminlh" "ldsminl" "ldsminalb" "ldsminalh" "ldsminal"]
    UnsignedMax "0 110" ["ldumaxb" "ldumaxh" "ldumax" "ldumaxab" "ldumaxah" "ldumaxa" "ldumaxlb" "ldumaxlh" "ldumaxl" "ldumaxalb" "ldumaxalh" "ldumaxal"]
    UnsignedMin "0 111" ["lduminb" "lduminh" "ldumin" "lduminab" "lduminah" "ldumina" "lduminlb" "lduminlh" "lduminl" "lduminalb" "lduminalh" "lduminal"]
    Swap "1 000" ["swpb" "swph" "swp" "swpab" "swpah" "swpa" "swplb" "swplh" "swpl" "swpalb" "swpalh" "swpal"]
};

macro_rules! stored {
    ($size:literal, $name:literal, $access:expr, $width:expr, $op:ident, $order:literal, $opc:literal) => {
        Form { operands: &[r($width, Rs), at_changed($access)], encoding: concat!($size, " 111 0 00 ", $order, " 1 Rs ", $opc, " 00 Rn 11111"),
            ..named($name, Meaning::Atomic { op: AtomicOp::$op, access: $access }, "stores what the register makes of the value in memory, as one access", "Arm ARM, C6.2 STADD, STCLR, STEOR, STSET, STSMAX, STSMIN, STUMAX, STUMIN") }
    };
}
const STORED: &[Form] = rows![
    by_width!(stored, "staddb", "staddh", "stadd", Add, "0 0", "0 000"),
    by_width!(stored, "staddlb", "staddlh", "staddl", Add, "0 1", "0 000"),
    by_width!(stored, "stclrb", "stclrh", "stclr", Clear, "0 0", "0 001"),
    by_width!(stored, "stclrlb", "stclrlh", "stclrl", Clear, "0 1", "0 001"),
    by_width!(stored, "steorb", "steorh", "steor", ExclusiveOr, "0 0", "0 010"),
    by_width!(stored, "steorlb", "steorlh", "steorl", ExclusiveOr, "0 1", "0 010"),
    by_width!(stored, "stsetb", "stseth", "stset", Set, "0 0", "0 011"),
    by_width!(stored, "stsetlb", "stsetlh", "stsetl", Set, "0 1", "0 011"),
    by_width!(stored, "stsmaxb", "stsmaxh", "stsmax", SignedMax, "0 0", "0 100"),
    by_width!(stored, "stsmaxlb", "stsmaxlh", "stsmaxl", SignedMax, "0 1", "0 100"),
    by_width!(stored, "stsminb", "stsminh", "stsmin", SignedMin, "0 0", "0 101"),
    by_width!(stored, "stsminlb", "stsminlh", "stsminl", SignedMin, "0 1", "0 101"),
    by_width!(stored, "stumaxb", "stumaxh", "stumax", UnsignedMax, "0 0", "0 110"),
    by_width!(stored, "stumaxlb", "stumaxlh", "stumaxl", UnsignedMax, "0 1", "0 110"),
    by_width!(stored, "stuminb", "stuminh", "stumin", UnsignedMin, "0 0", "0 111"),
    by_width!(stored, "stuminlb", "stuminlh", "stuminl", UnsignedMin, "0 1", "0 111"),
];

macro_rules! compare_and_swap {
    ($size:literal, $name:literal, $access:expr, $width:expr, $acquire:literal, $release:literal) => {
        Form { operands: &[spec(Access::ReadWrite, Pattern::R($width, Rs)), r($width, Rt), at_changed($access)], encoding: concat!($size, " 001000 1 ", $acquire, " 1 Rs ", $release, " 11111 Rn Rt"),
            ..named($name, Meaning::CompareAndSwap { access: $access }, "stores the second register if memory holds the value of the first; the first becomes what memory held", "Arm ARM, C6.2 CAS") }
    };
}
const COMPARE_AND_SWAP: &[Form] = rows![
    by_width!(compare_and_swap, "casb", "cash", "cas", "0", "0"),
    by_width!(compare_and_swap, "casab", "casah", "casa", "1", "0"),
    by_width!(compare_and_swap, "caslb", "caslh", "casl", "0", "1"),
    by_width!(compare_and_swap, "casalb", "casalh", "casal", "1", "1"),
];
macro_rules! compare_and_swap_pair {
    ($name:literal, $sz:literal, $width:expr, $acquire:literal, $release:literal) => {
        Form {
            mnemonic: $name,
            meaning: Meaning::CompareAndSwapPair { access: $width },
            operands: &[spec(Access::ReadWrite, Pattern::REven($width, Rs)), spec(Access::ReadWrite, Pattern::RNext($width, Rs)), spec(Access::Read, Pattern::REven($width, Rt)), spec(Access::Read, Pattern::RNext($width, Rt)), at_changed($width)],
            encoding: concat!("0 ", $sz, " 001000 0 ", $acquire, " 1 Rs ", $release, " 11111 Rn Rt"),
            ..CASP
        }
    };
}
const CASP: Form = named("casp", Meaning::CompareAndSwapPair { access: W64 }, "stores the second pair of registers if memory holds the values of the first; the first becomes what memory held", "Arm ARM, C6.2 CASP");
const COMPARE_AND_SWAP_PAIRS: &[Form] = &[
    compare_and_swap_pair!("casp", "0", W32, "0", "0"),
    compare_and_swap_pair!("casp", "1", W64, "0", "0"),
    compare_and_swap_pair!("caspa", "0", W32, "1", "0"),
    compare_and_swap_pair!("caspa", "1", W64, "1", "0"),
    compare_and_swap_pair!("caspl", "0", W32, "0", "1"),
    compare_and_swap_pair!("caspl", "1", W64, "0", "1"),
    compare_and_swap_pair!("caspal", "0", W32, "1", "1"),
    compare_and_swap_pair!("caspal", "1", W64, "1", "1"),
];

const CLREX: Form = named("clrex", Meaning::ClearExclusive, "takes the mark for an exclusive store away", "Arm ARM, C6.2 CLREX");
const CLEAR: &[Form] = &[
    Form { encoding: "11010101000000110011 1111 010 11111", ..CLREX },
    Form { operands: &[p(Pattern::Unsigned(field::CRM))], encoding: "11010101000000110011 CRm:4 010 11111", ..CLREX },
];
