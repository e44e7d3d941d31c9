//! The features of CPUID that rows need.
//!
//! Source: SDM Vol. 2A, CPUID, tables 3-8 to 3-11; the column "CPUID Feature Flag" of each instruction's page.

use crate::{Feature, FeatureBit};

const EBX: u8 = 1;
const ECX: u8 = 2;
const EDX: u8 = 3;

const fn feature(name: &'static str, leaf: u32, register: u8, bit: u8) -> Option<Feature> {
    Some(Feature { name, bit: FeatureBit::Cpuid { leaf, register, bit } })
}

pub(super) const TSC: Option<Feature> = feature("TSC", 1, EDX, 4);
pub(super) const CX8: Option<Feature> = feature("CX8", 1, EDX, 8);
pub(super) const SEP: Option<Feature> = feature("SEP", 1, EDX, 11);
pub(super) const CMOV: Option<Feature> = feature("CMOV", 1, EDX, 15);
pub(super) const CLFSH: Option<Feature> = feature("CLFSH", 1, EDX, 19);
pub(super) const FXSR: Option<Feature> = feature("FXSR", 1, EDX, 24);
pub(super) const SSE: Option<Feature> = feature("SSE", 1, EDX, 25);
pub(super) const SSE2: Option<Feature> = feature("SSE2", 1, EDX, 26);
pub(super) const SSE3: Option<Feature> = feature("SSE3", 1, ECX, 0);
pub(super) const SSSE3: Option<Feature> = feature("SSSE3", 1, ECX, 9);
pub(super) const CMPXCHG16B: Option<Feature> = feature("CMPXCHG16B", 1, ECX, 13);
pub(super) const SSE4_1: Option<Feature> = feature("SSE4.1", 1, ECX, 19);
pub(super) const SSE4_2: Option<Feature> = feature("SSE4.2", 1, ECX, 20);
pub(super) const MOVBE: Option<Feature> = feature("MOVBE", 1, ECX, 22);
pub(super) const POPCNT: Option<Feature> = feature("POPCNT", 1, ECX, 23);
pub(super) const RDRAND: Option<Feature> = feature("RDRAND", 1, ECX, 30);
pub(super) const FSGSBASE: Option<Feature> = feature("FSGSBASE", 7, EBX, 0);
pub(super) const BMI1: Option<Feature> = feature("BMI1", 7, EBX, 3);
pub(super) const BMI2: Option<Feature> = feature("BMI2", 7, EBX, 8);
pub(super) const RDSEED: Option<Feature> = feature("RDSEED", 7, EBX, 18);
pub(super) const ADX: Option<Feature> = feature("ADX", 7, EBX, 19);
pub(super) const RDPID: Option<Feature> = feature("RDPID", 7, ECX, 22);
const EXTENDED: u32 = 0x8000_0001;
pub(super) const LZCNT: Option<Feature> = feature("LZCNT", EXTENDED, ECX, 5);
pub(super) const PREFETCHW: Option<Feature> = feature("PREFETCHW", EXTENDED, ECX, 8);
pub(super) const SYSCALL: Option<Feature> = feature("SYSCALL", EXTENDED, EDX, 11);
pub(super) const RDTSCP: Option<Feature> = feature("RDTSCP", EXTENDED, EDX, 27);
