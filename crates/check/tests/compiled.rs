//! Functions of a C compiler, called with arguments and results of each class, against the same functions run natively.
//!
//! Each class has thirty functions that differ in how many arguments they take and in which order; a function's result
//! depends on each of its arguments.

mod common;

use std::fmt::Write;
use std::process::Command;

use sotto_check::call::{Argument, Routine, by_convention};
use sotto_isa::{Arch, Width};
use sotto_kernel::Startup;
use sotto_object::contract::{Contract, Location, Value, ValueType};
use sotto_object::read_object;

/// The classes: name, and the types whose turns the arguments take.
const CLASSES: [(&str, &[ValueType]); 7] = [
    ("i32", &[ValueType::Signed(Width::W32)]),
    ("u64", &[ValueType::Unsigned(Width::W64)]),
    ("narrow", &[ValueType::Signed(Width::W8), ValueType::Unsigned(Width::W16)]),
    ("mixed", &[ValueType::Signed(Width::W32), ValueType::Unsigned(Width::W64)]),
    ("f64", &[ValueType::Float(Width::W64)]),
    ("f32", &[ValueType::Float(Width::W32)]),
    (
        "all",
        &[
            ValueType::Signed(Width::W32),
            ValueType::Float(Width::W64),
            ValueType::Unsigned(Width::W64),
            ValueType::Float(Width::W32),
        ],
    ),
];

/// Functions of each class.
const FUNCTIONS: usize = 30;

fn c_type(kind: ValueType) -> &'static str {
    match kind {
        ValueType::Signed(Width::W8) => "signed char",
        ValueType::Unsigned(Width::W16) => "unsigned short",
        ValueType::Signed(_) => "int",
        ValueType::Unsigned(Width::W64) => "unsigned long long",
        ValueType::Float(Width::W32) => "float",
        ValueType::Float(_) => "double",
        other => panic!("{other:?} is in no class"),
    }
}

/// A function: its name, the types of its arguments, the arguments, and the type of its result.
struct Function {
    name: String,
    takes: Vec<ValueType>,
    values: Vec<i64>,
    returns: ValueType,
}

fn functions() -> Vec<Function> {
    let mut functions = Vec::new();
    for (class, types) in CLASSES {
        for number in 0..FUNCTIONS {
            // One to ten arguments, which begin at another type each time.
            let count = 1 + number % 10;
            let takes: Vec<ValueType> =
                (0..count).map(|at| types[(at + number / 10) % types.len()]).collect();
            let values = (0..count).map(|at| ((number * 7 + at * 5) % 23) as i64 - 11);
            let unsigned = |kind: ValueType| matches!(kind, ValueType::Unsigned(_));
            let values =
                values.zip(&takes).map(|(v, kind)| if unsigned(*kind) { v.abs() } else { v });
            let values = values.collect();
            let returns = takes[number % count];
            functions.push(Function { name: format!("{class}_{number}"), takes, values, returns });
        }
    }
    functions
}

/// The functions in C: each argument has a weight of its own.
fn definitions(functions: &[Function]) -> String {
    let mut text = String::new();
    for function in functions {
        let parameters: Vec<String> = function
            .takes
            .iter()
            .enumerate()
            .map(|(at, kind)| format!("{} a{at}", c_type(*kind)))
            .collect();
        let terms: Vec<String> =
            (0..parameters.len()).map(|at| format!("a{at} * {}", at + 1)).collect();
        let result = c_type(function.returns);
        writeln!(
            text,
            "{result} {}({}) {{ return ({result})({}); }}",
            function.name,
            parameters.join(", "),
            terms.join(" + ")
        )
        .unwrap();
    }
    text
}

/// A program that prints the bits of every result, a line each.
fn driver(functions: &[Function]) -> String {
    let mut text = definitions(functions);
    text += "#include <stdio.h>\n#include <string.h>\nint main(void) {\n";
    for function in functions {
        let values: Vec<String> = function.values.iter().map(i64::to_string).collect();
        writeln!(
            text,
            "{{ {} r = {}({}); unsigned long long bits = 0; memcpy(&bits, &r, sizeof r); printf(\"%llx\\n\", bits); }}",
            c_type(function.returns),
            function.name,
            values.join(", ")
        )
        .unwrap();
    }
    text + "return 0; }\n"
}

fn compile(compiler: &str, flags: &[&str], source: &str, output: &str, folder: &std::path::Path) {
    let made = Command::new(compiler)
        .current_dir(folder)
        .args(["-O1", "-w", "-fno-pie", "-ffp-contract=off", "-fsigned-char"])
        .args(flags)
        .args(["-o", output, source])
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// The results of a native run of the functions.
fn natively(functions: &[Function], folder: &std::path::Path) -> Vec<u64> {
    std::fs::write(folder.join("driver.c"), driver(functions)).unwrap();
    compile("cc", &["-no-pie"], "driver.c", "driver", folder);
    let output = Command::new(folder.join("driver")).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines().map(|line| u64::from_str_radix(line, 16).unwrap()).collect()
}

fn compare(arch: Arch, compiler: &str, functions: &[Function]) {
    if !common::has(compiler) || !common::has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let wanted = natively(functions, folder.path());
    std::fs::write(folder.path().join("functions.c"), definitions(functions)).unwrap();
    compile(compiler, &["-c"], "functions.c", "functions.o", folder.path());
    let bytes = std::fs::read(folder.path().join("functions.o")).unwrap();
    let object = read_object("functions.o", &bytes).unwrap();
    let image = common::program(&[object], &functions[0].name);
    let startup = Startup::with_arguments(["station"]);
    for (function, wanted) in functions.iter().zip(wanted) {
        let value =
            |kind: ValueType| Value { location: Location::Stack(0), name: String::new(), kind };
        let types = Contract {
            takes: function.takes.iter().map(|kind| value(*kind)).collect(),
            returns: vec![value(function.returns)],
            ..Contract::default()
        };
        let mut routine = Routine::find(&image, &[], &function.name).unwrap();
        routine.contract = Some(by_convention(arch, &types));
        let arguments: Vec<Argument> =
            function.values.iter().map(|value| Argument::Number((*value).into())).collect();
        let report = routine.call(&arguments, &startup, 10_000).unwrap();
        let result = report.results.first().unwrap_or_else(|| panic!("{}", function.name));
        let mask = function.returns.width(arch).mask();
        assert_eq!(result.bits & mask, wanted, "{} on {arch}", function.name);
    }
}

#[test]
fn functions_of_every_class_are_called_on_x86_64() {
    compare(Arch::X86_64, "cc", &functions());
}

#[test]
fn functions_of_every_class_are_called_on_arm64() {
    compare(Arch::Arm64, "aarch64-linux-gnu-gcc", &functions());
}

/// Results of 64 bits are in two registers, and floats are in the x87 unit: neither is called yet.
#[test]
fn functions_of_32_bit_integers_are_called_on_x86_32() {
    let is_integer = |kind: &ValueType| {
        matches!(
            kind,
            ValueType::Signed(_) | ValueType::Unsigned(Width::W8 | Width::W16 | Width::W32)
        )
    };
    let mut functions = functions();
    functions.retain(|function| function.takes.iter().all(is_integer));
    assert!(functions.len() >= 2 * FUNCTIONS);
    compare(Arch::X86_32, "i686-linux-gnu-gcc", &functions);
}
