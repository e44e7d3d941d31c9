//! Scalar floating point of A64 against this computer's arithmetic, in every rounding mode: results and exceptions.
//!
//! A C program compiled here sets the rounding mode, computes, and asks for the exceptions; the emulator carries out the A64
//! instruction of the same meaning. Three differences between the machines are allowed for: which NaN an operation makes;
//! that Arm looks for tiny results before rounding, so that a result which rounds up to the smallest normal number is told as
//! an underflow there; and that on Arm the product of zero and infinity is invalid beside a NaN too.

mod common;

use std::io::Write;
use std::process::{Command, Stdio};

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::arm64::storage;
use sotto_isa::{Arch, OperandOrder, RegisterId};
use sotto_machine::{Machine, Permissions, RegionKind};

const CODE: u64 = 0x40_0000;

/// Instances of each operation and mode; `SOTTO_A64_FLOATS` asks for more.
fn instances() -> usize {
    std::env::var("SOTTO_A64_FLOATS").ok().and_then(|text| text.parse().ok()).unwrap_or(1000)
}

/// An operation: the instruction, and how C writes it for the numbers `a`, `b` and `c`.
const OPERATIONS: &[(&str, bool, &str)] = &[
    ("fadd d0, d1, d2", true, "r = a + b"),
    ("fsub d0, d1, d2", true, "r = a - b"),
    ("fmul d0, d1, d2", true, "r = a * b"),
    ("fdiv d0, d1, d2", true, "r = a / b"),
    ("fsqrt d0, d1", true, "r = sqrt(a)"),
    ("fmadd d0, d1, d2, d3", true, "r = fma(a, b, c)"),
    ("fnmsub d0, d1, d2, d3", true, "r = fma(a, b, -c)"),
    ("frintx d0, d1", true, "r = rint(a)"),
    ("fadd s0, s1, s2", false, "r = a + b"),
    ("fsub s0, s1, s2", false, "r = a - b"),
    ("fmul s0, s1, s2", false, "r = a * b"),
    ("fdiv s0, s1, s2", false, "r = a / b"),
    ("fsqrt s0, s1", false, "r = sqrtf(a)"),
    ("fmadd s0, s1, s2, s3", false, "r = fmaf(a, b, c)"),
    ("fmsub s0, s1, s2, s3", false, "r = fmaf(-a, b, c)"),
    ("frintx s0, s1", false, "r = rintf(a)"),
];

/// The C program: lines of operation, mode and bits of three numbers in, bits of the result and exceptions out.
fn program() -> String {
    let mut cases = String::new();
    for (number, (_, double, text)) in OPERATIONS.iter().enumerate() {
        let (kind, bits) = if *double { ("double", "uint64_t") } else { ("float", "uint32_t") };
        cases += &format!(
            "case {number}: {{ volatile {kind} a, b, c, r; {bits} x = p, y = q, z = s, w; \
             a = from_{kind}(x); b = from_{kind}(y); c = from_{kind}(z); feclearexcept(FE_ALL_EXCEPT); {text}; \
             raised = fetestexcept(FE_ALL_EXCEPT); w = to_{kind}(r); result = w; break; }}\n"
        );
    }
    format!(
        r#"#include <fenv.h>
#include <inttypes.h>
#include <math.h>
#include <stdio.h>
#include <string.h>
static double from_double(uint64_t x) {{ double d; memcpy(&d, &x, 8); return d; }}
static float from_float(uint32_t x) {{ float d; memcpy(&d, &x, 4); return d; }}
static uint64_t to_double(double d) {{ uint64_t x; memcpy(&x, &d, 8); return x; }}
static uint32_t to_float(float d) {{ uint32_t x; memcpy(&x, &d, 4); return x; }}
int main(void) {{
    int operation, mode;
    uint64_t p, q, s;
    const int modes[] = {{FE_TONEAREST, FE_UPWARD, FE_DOWNWARD, FE_TOWARDZERO}};
    while (scanf("%d %d %" SCNx64 " %" SCNx64 " %" SCNx64, &operation, &mode, &p, &q, &s) == 5) {{
        uint64_t result = 0;
        int raised = 0;
        fesetround(modes[mode]);
        switch (operation) {{
{cases}        }}
        fesetround(FE_TONEAREST);
        printf("%" PRIx64 " %d\n", result,
            !!(raised & FE_INVALID) | !!(raised & FE_DIVBYZERO) << 1 | !!(raised & FE_OVERFLOW) << 2
            | !!(raised & FE_UNDERFLOW) << 3 | !!(raised & FE_INEXACT) << 4);
    }}
    return 0;
}}
"#
    )
}

/// The bits of a number: any, a corner, or one near 1.
fn number(double: bool, rng: &mut SmallRng) -> u64 {
    let (bits, fraction, bias) = if double { (64, 52, 1023u64) } else { (32, 23, 127) };
    let mask = u64::MAX >> (64 - bits);
    let sign = u64::from(rng.random::<bool>()) << (bits - 1);
    let infinity = (2 * bias + 1) << fraction;
    let some = rng.random::<u64>();
    match rng.random_range(0..8) {
        0 => some & mask,
        1 => {
            let corners = [
                0,
                1,
                1 << fraction,
                (1 << fraction) - 1,
                infinity,
                infinity - 1,
                infinity | 1 << (fraction - 1),
                infinity | 1,
                bias << fraction,
            ];
            sign | corners[rng.random_range(0..corners.len())]
        }
        // Few bits set, so that results are exact or halfway.
        2 => sign | (bias - 2 + some % 5) << fraction | (some >> 60) << (fraction - 4),
        // Near the ends of the range.
        3 => sign | (some % 60) << fraction | some >> 8 & ((1 << fraction) - 1),
        4 => sign | (2 * bias - some % 60) << fraction | some >> 8 & ((1 << fraction) - 1),
        _ => sign | (bias - 30 + some % 60) << fraction | some >> 8 & ((1 << fraction) - 1),
    }
}

fn is_nan(bits: u64, double: bool) -> bool {
    match double {
        true => f64::from_bits(bits).is_nan(),
        false => f32::from_bits(bits as u32).is_nan(),
    }
}

#[test]
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn operations_are_rounded_and_told_as_on_this_computer() {
    if !common::has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let (source, native) = (folder.path().join("lamp.c"), folder.path().join("lamp"));
    std::fs::write(&source, program()).unwrap();
    let built = Command::new("cc")
        .args(["-O1", "-frounding-math", "-ffp-contract=off", "-o"])
        .args([&native, &source])
        .arg("-lm")
        .output()
        .unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));

    let mut rng = SmallRng::seed_from_u64(11);
    let mut cases = Vec::new();
    let mut input = String::new();
    for (operation, (_, double, _)) in OPERATIONS.iter().enumerate() {
        for mode in 0..4 {
            for _ in 0..instances() {
                let numbers: [u64; 3] = std::array::from_fn(|_| number(*double, &mut rng));
                let [a, b, c] = numbers;
                input += &format!("{operation} {mode} {a:x} {b:x} {c:x}\n");
                cases.push((operation, mode, numbers));
            }
        }
    }
    let mut child =
        Command::new(&native).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let mut stdin = child.stdin.take().unwrap();
    let writer = std::thread::spawn(move || stdin.write_all(input.as_bytes()).unwrap());
    let output = child.wait_with_output().unwrap();
    writer.join().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();

    let mut machine = Machine::new(Arch::Arm64);
    let permissions = Permissions { read: true, write: true, execute: true };
    machine.memory_mut().map(RegionKind::Code, CODE, 0x1000, permissions).unwrap();
    let mut last = usize::MAX;
    assert_eq!(text.lines().count(), cases.len());
    for ((operation, mode, numbers), line) in cases.iter().zip(text.lines()) {
        let (instruction, double, _) = OPERATIONS[*operation];
        if *operation != last {
            let order = OperandOrder::DestinationFirst;
            let bytes =
                sotto_asm::assemble_instruction(Arch::Arm64, order, instruction, CODE).unwrap();
            machine.memory_mut().load(CODE, &bytes).unwrap();
            last = *operation;
        }
        for (index, value) in (1..).zip(numbers) {
            machine.set_bank_register(RegisterId::vector(index), u128::from(*value).into());
        }
        machine.set_register(storage::FPCR, mode << 22);
        // The flag of precision is set before half of the operations, since the host may be asked then.
        let before = if numbers[0] & 1 == 0 { 0x10 } else { 0 };
        machine.set_register(storage::FPSR, before);
        machine.set_register(Arch::Arm64.pc(), CODE);
        assert_eq!(machine.step().event, None);
        let got = machine.bank_register(RegisterId::vector(0)).word(0);
        let told = machine.register(storage::FPSR);
        let (bits, raised) = line.split_once(' ').unwrap();
        let wanted = u64::from_str_radix(bits, 16).unwrap();
        let raised: u64 = raised.parse().unwrap();
        let what = format!("{instruction} of {numbers:x?} in mode {mode}");
        let same = got == wanted || (is_nan(got, double) && is_nan(wanted, double));
        assert!(same, "{what}: {got:#x}, not {wanted:#x}");
        let smallest = if double { 1 << 52 } else { 1 << 23 };
        let magnitude = got & if double { u64::MAX >> 1 } else { 0x7fff_ffff };
        let tiny = if magnitude == smallest { 8 } else { 0 };
        let value = |bits: u64| match double {
            true => f64::from_bits(bits),
            false => f64::from(f32::from_bits(bits as u32)),
        };
        let [a, b, c] = numbers.map(value);
        let invalid = u64::from((a * b).is_nan() && !a.is_nan() && !b.is_nan() && c.is_nan());
        let allowed = tiny | invalid;
        let differing = (told | before) ^ (raised | before);
        assert_eq!(differing & !allowed, 0, "{what}: told {told:#x}, not {raised:#x}");
    }
    println!("{} operations", cases.len());
}
