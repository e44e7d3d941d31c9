//! `;` between statements, and byte order marks at the start of a text.

use sotto_asm::{Assembly, Options, Severity, Source, assemble};
use sotto_isa::Arch;

fn assembly(arch: Arch, text: &str) -> Assembly {
    let source = Source { name: "bell.s".into(), text: text.into() };
    assemble(&source, &Options::for_target(arch))
}

/// The code, and what was said.
fn code(arch: Arch, text: &str) -> (Vec<u8>, Vec<String>) {
    let assembly = assembly(arch, text);
    let said = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    let code = assembly.object.map(|object| object.sections[0].data.clone());
    (code.unwrap_or_default(), said)
}

const NOP: u8 = 0x90;
const RET: u8 = 0xc3;

#[test]
fn statements_of_one_line_are_all_assembled_in_source_first_files() {
    let cases: [(&str, &[u8]); 7] = [
        (".operands source-first\n nop; ret\n", &[NOP, RET]),
        (" nop; ret\n movl %eax, %eax\n", &[NOP, RET, 0x89, 0xc0]),
        (".att_syntax\nbell: nop;ret; # ; ret\n nop // ; ret\n", &[NOP, RET, NOP]),
        (".att_syntax\n .byte ';' ; .ascii \";\";nop\n", &[b';', b';', NOP]),
        (".att_syntax\n .macro ring; nop; .endm; ring; ring; ret\n", &[NOP, NOP, RET]),
        (".att_syntax\n .rept 2; nop; .endr; .if 0; ud2; .endif; ret\n", &[NOP, NOP, RET]),
        (" movl %eax, %eax\n /* movl */ nop; /* ; */ ret\n", &[0x89, 0xc0, NOP, RET]),
    ];
    for (text, wanted) in cases {
        assert_eq!(code(Arch::X86_64, text), (wanted.to_vec(), vec![]), "{text}");
    }
    // The place of an error is that of its statement.
    let wrong = assembly(Arch::X86_64, ".att_syntax\n nop; rign\n");
    let place = wrong.sources.location(wrong.diagnostics[0].span.start);
    assert_eq!((place.line, place.column), (2, 7));
    assert_eq!(wrong.sources.slice(wrong.diagnostics[0].span), "rign");
}

#[test]
fn statements_of_one_line_are_all_assembled_between_the_marks_of_inline_assembly() {
    let text = "\
 mov eax, eax ; ret
#APP
# 3 \"bell.c\" 1
 nop; ret
#NO_APP
 nop ; ret
";
    let (bytes, said) = code(Arch::X86_64, text);
    assert_eq!((bytes, said), (vec![0x89, 0xc0, NOP, RET, NOP], vec![]));
    let (bytes, said) = code(Arch::Arm64, "#APP\n nop; ret\n#NO_APP\n");
    assert_eq!((bytes.len(), said.len()), (8, 0));
}

#[test]
fn an_instruction_behind_a_semicolon_that_starts_a_comment_is_warned_of_on_arm() {
    let warned =
        ["nop; ret", "nop ; add x0, x0, x1", "add x0, x0, #1;b bell", "nop; mov x0, #5 ; five"];
    for line in warned {
        let assembly = assembly(Arch::Arm64, &format!("bell: {line}\n"));
        assert_eq!(assembly.object.unwrap().sections[0].data.len(), 4, "{line}");
        let [said] = &assembly.diagnostics[..] else {
            panic!("{line}: {:?}", assembly.diagnostics)
        };
        assert_eq!(said.severity, Severity::Warning);
        assert_eq!(
            said.message,
            "`;` starts a comment, so the instruction behind it is not assembled"
        );
        assert_eq!(assembly.sources.slice(said.span), ";");
    }
    let fine =
        ["nop ; add the two", "nop ; and", "nop // ; ret", "nop ; x0 holds the tide", "nop ;"];
    for line in fine {
        assert_eq!(code(Arch::Arm64, &format!("bell: {line}\n")).1, Vec::<String>::new(), "{line}");
    }
    // On x86 it is what everybody writes.
    assert_eq!(code(Arch::X86_64, "nop ; ret\n"), (vec![NOP], vec![]));
}

#[test]
fn the_number_of_a_bit_needs_no_sign_in_front_of_a_target() {
    let (marked, said) =
        code(Arch::Arm64, "bell: tbz w0, #3, bell\n tbnz x1, #BIT, bell\nBIT = 40\n");
    assert_eq!(said, Vec::<String>::new());
    assert_eq!(
        code(Arch::Arm64, "bell: tbz w0, 3, bell\n tbnz x1, BIT, bell\nBIT = 40\n").0,
        marked
    );
}

/// The letter names the integer, and the float in memory keeps its width.
#[test]
fn the_letter_of_a_conversion_to_an_integer_is_the_integers() {
    let cases = [
        ("cvttsd2sil 8(%rsp), %eax", "cvttsd2si eax, qword [rsp + 8]"),
        ("cvttsd2siq 8(%rsp), %rax", "cvttsd2si rax, qword [rsp + 8]"),
        ("cvttss2sil 8(%rsp), %eax", "cvttss2si eax, dword [rsp + 8]"),
        ("cvtss2siq 8(%rsp), %rax", "cvtss2si rax, dword [rsp + 8]"),
        ("cvtsd2sil %xmm1, %eax", "cvtsd2si eax, xmm1"),
        ("cvtsi2sdl 8(%rsp), %xmm0", "cvtsi2sd xmm0, dword [rsp + 8]"),
        ("cvtsi2sdq 8(%rsp), %xmm0", "cvtsi2sd xmm0, qword [rsp + 8]"),
    ];
    for (source_first, wanted) in cases {
        let (bytes, said) = code(Arch::X86_64, &format!(".att_syntax\n {source_first}\n"));
        assert_eq!(said, Vec::<String>::new(), "{source_first}");
        assert_eq!(bytes, code(Arch::X86_64, wanted).0, "{source_first}");
    }
    let wrong = code(Arch::X86_64, ".att_syntax\n cvttsd2siq 8(%rsp), %eax\n").1;
    assert_eq!(wrong, ["`%eax` has 32 bits, and the mnemonic says 64"]);
}

#[test]
fn a_byte_order_mark_is_no_part_of_the_text() {
    let source =
        Source { name: "bell.s".into(), text: "\u{feff}.target arm64\nbell: rign\n".into() };
    let assembly = assemble(&source, &Options::default());
    assert_eq!((assembly.arch, assembly.inferred.is_none()), (Arch::Arm64, true));
    let place = assembly.sources.location(assembly.diagnostics[0].span.start);
    assert_eq!((place.line, place.column), (2, 7));
    let first = Source { name: "bell.s".into(), text: "\u{feff}rign\n".into() };
    let assembly = assemble(&first, &Options::for_target(Arch::X86_64));
    let place = assembly.sources.location(assembly.diagnostics[0].span.start);
    assert_eq!((place.line, place.column), (1, 1));
    assert_eq!(assembly.sources.excerpt(assembly.diagnostics[0].span).text, "rign");
}
