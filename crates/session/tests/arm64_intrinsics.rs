//! The vector instructions that a compiler chooses for the intrinsics of the Arm C Language Extensions: each decodes to the mnemonic that
//! the list of intrinsics names, and reads back.

mod common;

use std::fmt::Write;
use std::process::Command;

use sotto_isa::{Arch, decode};
use sotto_object::read_object;

const COMPILER: &str = "aarch64-linux-gnu-gcc";
const FLAGS: [&str; 3] = ["-O2", "-march=armv8.2-a+crypto+dotprod+fp16+rdma", "-w"];

/// Declarations of the variables that the expressions name.
fn declarations() -> String {
    let mut text = "#include <arm_neon.h>\nextern void keep(const void *);\n".to_string();
    let vectors = [
        ("s", "int", &[8, 16, 32, 64][..]),
        ("u", "uint", &[8, 16, 32, 64]),
        ("f", "float", &[16, 32, 64]),
        ("p", "poly", &[8, 64]),
    ];
    for (letter, kind, widths) in vectors {
        for width in widths {
            for (half, bits) in [("", 128), ("h", 64)] {
                for other in ["", "b", "c"] {
                    let (name, count) = (format!("{half}{letter}{width}{other}"), bits / width);
                    writeln!(text, "extern {kind}{width}x{count}_t {name};").unwrap();
                }
            }
        }
    }
    for width in [8, 16, 32, 64] {
        for other in ["", "b"] {
            writeln!(text, "extern int{width}_t i{width}{other};").unwrap();
            writeln!(text, "extern uint{width}_t n{width}{other};").unwrap();
        }
    }
    text + "extern float16_t e16;\nextern float e32;\nextern double e64;\n"
}

#[test]
fn intrinsics_become_the_instructions_that_their_list_names() {
    if !common::has(COMPILER) {
        return;
    }
    let list = std::fs::read_to_string(common::data().join("arm64/intrinsics.txt")).unwrap();
    let rows: Vec<(&str, &str)> = list
        .lines()
        .filter(|line| !line.starts_with('#'))
        .map(|line| line.split_once(' ').expect("a mnemonic and an expression"))
        .map(|(mnemonic, expression)| (mnemonic, expression.trim()))
        .collect();
    let mut text = declarations();
    for (number, (_, expression)) in rows.iter().enumerate() {
        // Results stay in registers until they are kept.
        writeln!(text, "void lamp_{number}(void) {{ __auto_type r = {expression}; keep(&r); }}")
            .unwrap();
    }
    let folder = tempfile::tempdir().unwrap();
    let (source, object) = (folder.path().join("lamp.c"), folder.path().join("lamp.o"));
    std::fs::write(&source, text).unwrap();
    let arguments = [source.as_path(), "-c".as_ref(), "-o".as_ref(), object.as_path()];
    let result = Command::new(COMPILER).args(FLAGS).args(arguments).output().unwrap();
    assert!(result.status.success(), "{}", String::from_utf8_lossy(&result.stderr));
    let parsed = read_object("lamp.o", &std::fs::read(&object).unwrap()).unwrap();
    let mut wrong = Vec::new();
    for (number, (mnemonic, expression)) in rows.iter().enumerate() {
        let name = format!("lamp_{number}");
        let symbol = parsed.symbols.iter().find(|symbol| symbol.name == name).unwrap();
        let sotto_object::Place::Section(section, offset) = symbol.place else {
            panic!("{name} has no place");
        };
        let code = &parsed.sections[section.0 as usize].data;
        let range = offset as usize..(offset + symbol.size) as usize;
        let mut found = Vec::new();
        for (word, at) in code[range].chunks(4).zip((offset..).step_by(4)) {
            let instruction = decode(Arch::Arm64, word, at)
                .unwrap_or_else(|error| panic!("{expression}: {word:02x?}: {error}"));
            common::reassembles(&instruction, word);
            found.push(instruction.mnemonic());
        }
        if !found.contains(mnemonic) {
            wrong.push(format!("{mnemonic} {expression}: {found:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
