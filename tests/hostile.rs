//! What must hold for any input at all: no panic, always an answer, and the answer consistent.
//!
//! The fuzz targets in `fuzz/` and the property tests of the assembler's crate run the same bodies.

use sotto_asm::{Disk, Options, Source, assemble_instruction, assemble_with};
use sotto_isa::{Arch, MAX_INSTRUCTION_BYTES, NoNames, Operand, OperandOrder, decode};
use sotto_object::{
    LinkOptions, Object, link, read_archive, read_executable, read_object, with_members,
    write_executable, write_object,
};

/// Two files that include each other, and one that does not.
struct Ring;

impl Disk for Ring {
    fn read(&self, name: &str, _: &str) -> Result<(String, Vec<u8>), String> {
        match name {
            "a" => Ok(("a".into(), b".include \"b\"\nlamp_a = 1\n".to_vec())),
            "b" => Ok(("b".into(), b".if lamp_a\n.include \"a\"\n.endif\n".to_vec())),
            "c" => Ok(("c".into(), b".macro c_flash n\n.byte \\n\n.endm\n".to_vec())),
            _ => Err("there is no such file".into()),
        }
    }
}

/// Assembles a text for both machines, and takes what comes out through ELF and the linker.
pub fn text(text: &str) {
    for target in [Arch::X86_64, Arch::Arm64] {
        let source = Source { name: "fog.s".into(), text: text.into() };
        let options =
            Options { externals: true, listing: true, labels: true, target: Some(target) };
        let assembly = assemble_with(&source, &options, &Ring);
        let again = assemble_with(&source, &options, &Ring);
        assert_eq!(assembly.diagnostics, again.diagnostics, "twice the same");
        assert!(assembly.object.is_some() || !assembly.diagnostics.is_empty());
        for diagnostic in &assembly.diagnostics {
            let excerpt = assembly.sources.excerpt(diagnostic.span);
            assert!(excerpt.range.start <= excerpt.range.end, "{diagnostic:?}");
            assert!(excerpt.text.get(excerpt.range.start..).is_some(), "{diagnostic:?}");
            assembly.sources.location(diagnostic.span.start);
            assembly.sources.chain(diagnostic.span.start);
        }
        let Some(object) = assembly.object else { continue };
        if let Ok(bytes) = write_object(&object) {
            let back = read_object("fog.o", &bytes).expect("what we write, we read");
            let loaded = object.sections.iter().filter(|s| s.flags.alloc).count();
            assert!(back.sections.len() >= loaded);
            program(vec![back]);
        }
        program(vec![object]);
    }
}

/// Reads bytes as everything that we read, and links what can be linked.
pub fn file(bytes: &[u8]) {
    let _ = read_executable(bytes);
    if let Ok(object) = read_object("fog.o", bytes) {
        let _ = write_object(&object);
        program(vec![object]);
    }
    if let Ok(members) = read_archive("fog.a", bytes) {
        program(with_members(Vec::new(), vec![(0, members)], "_start"));
    }
}

/// Decodes bytes on every machine. What is an instruction is no longer than one may be, needs no byte
/// beyond its own, and reads in either order of operands as text that assembles to the same instruction.
pub fn code(bytes: &[u8]) {
    const AT: u64 = 0x40_1000;
    for &arch in Arch::ALL {
        let Ok(instruction) = decode(arch, bytes, AT) else { continue };
        let length = usize::from(instruction.length);
        assert!((1..=MAX_INSTRUCTION_BYTES).contains(&length));
        assert_eq!(decode(arch, &bytes[..length], AT).as_ref(), Ok(&instruction));
        for order in [OperandOrder::DestinationFirst, OperandOrder::SourceFirst] {
            let text = instruction.print_in(order, &NoNames);
            // Without its redundant prefixes a branch is shorter, and its target may be too far off.
            let branches = instruction.operands.iter().any(|o| matches!(o, Operand::Target(_)));
            let again = match assemble_instruction(arch, order, &text, AT) {
                Ok(again) => again,
                Err(error) => {
                    assert!(branches, "`{text}`: {}", error.message);
                    continue;
                }
            };
            // An address that the address-size prefix cut short is written out whole.
            let whole = bytes[..length].contains(&0x67);
            assert!(
                branches || whole || again.len() <= length,
                "`{text}` {again:02x?} {bytes:02x?}"
            );
            let second = decode(arch, &again, AT).expect("what we assemble, we decode");
            assert_eq!(second.mnemonic(), instruction.mnemonic(), "`{text}` {bytes:02x?}");
            // [r*2] becomes [r + r], which is shorter with a small displacement; from there on nothing moves.
            let settled = second.print_in(order, &NoNames);
            let third = assemble_instruction(arch, order, &settled, AT);
            assert_eq!(third.ok().as_ref(), Some(&again), "`{settled}` {bytes:02x?}");
        }
    }
}

/// Links objects, in place and to be loaded anywhere.
fn program(objects: Vec<Object>) {
    // Room without contents may be large; there is no need to have it.
    let size: u64 = objects.iter().flat_map(|o| &o.sections).map(|s| s.size).sum();
    if size > 1 << 24 {
        return;
    }
    for position_independent in [false, true] {
        let options = LinkOptions { position_independent, ..LinkOptions::default() };
        if let Ok(image) = link(&objects, &options) {
            let bytes = write_executable(&image);
            let back = read_executable(&bytes).expect("what we write, we read");
            assert_eq!(back.segments.len(), image.segments.len());
        }
    }
}
