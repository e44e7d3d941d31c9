//! The test programs, with what their first lines promise.
#![allow(dead_code, unused_imports, reason = "each test file uses a part of this")]

use std::process::Command;

use sotto_asm::{Options, Source, assemble};
use sotto_isa::{Instruction, NoNames, OperandOrder, decode};
use sotto_kernel::Startup;
use sotto_object::{Image, LinkOptions, link};
use sotto_session::{Session, SourceText};

#[cfg(target_os = "linux")]
pub mod as_user;
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
pub mod native;

#[path = "../../../../tests/programs.rs"]
mod programs;
pub use programs::{Program, data, has, kernel_runs_32_bit, programs};

/// Assembles and links a text.
pub fn image(name: &str, text: &str) -> Image {
    let source = Source { name: name.into(), text: text.into() };
    let options = Options { labels: true, ..Options::default() };
    let assembly = assemble(&source, &options);
    let object = assembly.object.unwrap_or_else(|| panic!("{name}: {:#?}", assembly.diagnostics));
    link(&[object], &LinkOptions::default()).unwrap_or_else(|errors| panic!("{name}: {errors:?}"))
}

/// A session of a C source that a compiler makes a program of, with lines; `None` if there is no such compiler.
pub fn compiled_session(
    compiler: &str,
    options: &[&str],
    file: &str,
    text: &str,
) -> Option<Session> {
    if !has(compiler) {
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join(file), text).unwrap();
    let status = Command::new(compiler)
        .args(["-g", "-static", "-fno-inline"])
        .args(options)
        .args(["-ffile-prefix-map=.=", "-o", "program", file])
        .current_dir(folder.path())
        .status()
        .unwrap();
    assert!(status.success());
    let bytes = std::fs::read(folder.path().join("program")).unwrap();
    let mut image = sotto_object::read_executable(&bytes).unwrap();
    image.variables = sotto_object::read_variables(&bytes, &image);
    let name = image.lines.files.iter().find(|name| name.ends_with(file)).unwrap().clone();
    let sources = vec![SourceText::new(name, text.to_string())];
    let startup = Startup::with_arguments(["buoys"]);
    Some(Session::start(image, sources, &startup).unwrap())
}

/// A session of a text.
pub fn session(text: &str) -> Session {
    let sources = vec![SourceText::new("lamp.s".into(), text.into())];
    let startup = Startup::with_arguments(["lamp"]);
    Session::start(image("lamp.s", text), sources, &startup).unwrap()
}

/// The instruction as printed, in both orders, assembles to the same bytes, or to fewer: the compiler
/// wrote prefixes without effect, scaled a register by 2 where it could be added to itself, or left room
/// in a displacement or an immediate.
pub fn reassembles(instruction: &Instruction, bytes: &[u8]) {
    let (arch, at) = (instruction.arch, instruction.address);
    for order in [OperandOrder::DestinationFirst, OperandOrder::SourceFirst] {
        let text = instruction.print_in(order, &NoNames);
        let again = sotto_asm::assemble_instruction(arch, order, &text, at)
            .unwrap_or_else(|diagnostic| panic!("`{text}` at {at:#x}: {}", diagnostic.message));
        if again == bytes {
            continue;
        }
        assert!(again.len() < bytes.len(), "`{text}` at {at:#x}: {again:02x?}, not {bytes:02x?}");
        let shorter = decode(arch, &again, at).unwrap();
        assert_eq!(shorter.mnemonic(), instruction.mnemonic(), "`{text}` at {at:#x}");
    }
}
