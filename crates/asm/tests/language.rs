//! The language's rules, by the bytes they lay down.

use proptest::prelude::*;
use sotto_asm::{Assembly, Options, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{Binding, DatumKind, Object, Place, RelocationKind, SymbolKind};

fn assembly(text: &str) -> Assembly {
    let source = Source { name: "tide.s".into(), text: text.into() };
    assemble(&source, &Options::for_target(Arch::X86_64))
}

fn object(text: &str) -> Object {
    let assembly = assembly(text);
    let messages: Vec<_> = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    assembly.object.unwrap_or_else(|| panic!("{text}: {messages:?}"))
}

/// Bytes of a section.
fn section(text: &str, name: &str) -> Vec<u8> {
    let object = object(text);
    object.sections.into_iter().find(|s| s.name == name).expect("the section").data
}

fn data(text: &str) -> Vec<u8> {
    section(&format!(".data\n{text}"), ".data")
}

#[test]
fn a_variable_can_be_named_before_its_line_and_can_name_what_comes_after_it() {
    // As compilers print constants that share their bytes.
    let text = "        mov eax, [.tide]\n .set .tide, .log + 8\n .set turn, 1\n .data\n .log: .quad 1, 2\n .byte turn\n .set turn, 2\n .byte turn, turns\n .set turns, 5\n";
    assert_eq!(section(text, ".data")[16..], [1, 2, 5]);
    let object = object(text);
    let relocation = &object.sections[0].relocations[0];
    assert_eq!((relocation.offset, relocation.addend), (2, 8 - 4));
    // The address is that of the data, and no name of its own.
    assert!(object.symbols.iter().all(|symbol| symbol.name != ".tide"));
}

#[test]
fn room_kept_to_this_file_is_made_in_bss_and_shared_room_by_the_linker() {
    let object =
        object(" .local gauge\n .comm gauge, 40, 32\n .comm bell, 8\n .data\n .quad gauge, bell\n");
    let symbol = |name: &str| object.symbols.iter().find(|s| s.name == name).unwrap();
    let bss = object.sections.iter().find(|s| s.name == ".bss").unwrap();
    assert_eq!((bss.size, bss.align), (40, 32));
    assert!(matches!(symbol("gauge").place, Place::Section(_, 0)));
    assert_eq!((symbol("gauge").binding, symbol("gauge").size), (Binding::Local, 40));
    assert_eq!(symbol("bell").place, Place::Common(8, 8));
}

#[test]
fn data_directives_lay_down_little_endian_values() {
    let cases: &[(&str, &[u8])] = &[
        (".byte 1, -1, 255, 'A'", &[1, 255, 255, 65]),
        (".2byte 0x1234", &[0x34, 0x12]),
        (".short 1\n.hword 2\n.word 3", &[1, 0, 2, 0, 3, 0]),
        (".long 1\n.int -2", &[1, 0, 0, 0, 0xfe, 255, 255, 255]),
        (".4byte 5", &[5, 0, 0, 0]),
        (".quad 0xffffffffffffffff", &[255; 8]),
        (".8byte 1", &[1, 0, 0, 0, 0, 0, 0, 0]),
        (".xword 2", &[2, 0, 0, 0, 0, 0, 0, 0]),
        (".ascii \"fog\", \"\\n\"", b"fog\n"),
        (".asciz \"fog\"", b"fog\0"),
        (".string \"\"", b"\0"),
        ("db \"fog\", 10, 'x'", b"fog\nx"),
        ("dw \"abc\", 1", b"abc\0\x01\0"),
        ("dd 1", &[1, 0, 0, 0]),
        ("dq 'a'", &[97, 0, 0, 0, 0, 0, 0, 0]),
        (".zero 3\n.skip 1, 7\n.space 2", &[0, 0, 0, 7, 0, 0]),
        (".fill 2, 2, 0x0102", &[2, 1, 2, 1]),
        (".byte 1\n.balign 4\n.byte 2", &[1, 0, 0, 0, 2]),
        (".byte 1\n.p2align 2, 9\n.byte 2", &[1, 9, 9, 9, 2]),
        (".byte 1\n.align 4, , 2\n.byte 2", &[1, 2]),
    ];
    for (text, wanted) in cases {
        assert_eq!(data(text), *wanted, "{text}");
    }
}

#[test]
fn constants_variables_and_differences() {
    assert_eq!(data("two equ 2\n.byte two, three\nthree = 3"), [2, 3]);
    assert_eq!(data("n = 1\n.byte n\nn = n + 1\n.byte n\n.set n, 9\n.byte n"), [1, 2, 9]);
    assert_eq!(data("text: .ascii \"fog\"\nlength: equ $ - text\n.byte length"), b"fog\x03");
    assert_eq!(data("start = .\n.byte 1, 2\n.byte . - start"), [1, 2, 2]);
    assert_eq!(data(".byte end - begin\nbegin: .skip 5\nend:"), [5, 0, 0, 0, 0, 0]);
    assert_eq!(data("reading db 7\n.equ size, 4\n.byte size"), [7, 4]);
    assert_eq!(data("equ size, 4\nEQU two, 2\n.byte size, two"), [4, 2]);
    // A use before the first `=` sees the last value.
    assert_eq!(data(".byte late\nlate = 4"), [4]);
}

#[test]
fn dotted_labels_belong_to_the_label_above_and_numbered_ones_to_their_place() {
    let text = "one: nop\n.loop: jmp .loop\ntwo: nop\n.loop: jmp .loop\n jmp one.loop";
    assert_eq!(section(text, ".text"), [0x90, 0xeb, 0xfe, 0x90, 0xeb, 0xfe, 0xeb, 0xf9]);
    let text = "1: jmp 1f\n1: jmp 1b\n jmp 1b";
    assert_eq!(section(text, ".text"), [0xeb, 0x00, 0xeb, 0xfe, 0xeb, 0xfc]);
    let object = object("one: nop\n.loop: nop\n1: nop");
    let named: Vec<_> =
        object.symbols.iter().filter(|s| s.kind != SymbolKind::Section).map(|s| &*s.name).collect();
    assert_eq!(named, ["one"]);
}

#[test]
fn a_label_has_as_many_dotted_ones_as_it_likes() {
    // With names of another kind between them, and read from here as from elsewhere.
    let many: Vec<String> =
        (0..40).map(|n| format!(".bell{n}: .byte {n}\nhours{n} equ {n}\n")).collect();
    for n in [0, 3, 7, 8, 20, 39] {
        let text =
            format!("        .data\ntide:\n{}log: .quad tide.bell{n} - tide\n", many.concat());
        assert_eq!(section(&text, ".data")[40..], u64::to_le_bytes(n), "{n}");
        let twice = format!("        .data\ntide:\n{}.bell{n}: .byte 1\n", many.concat());
        let messages: Vec<_> =
            assembly(&twice).diagnostics.iter().map(|d| d.message.clone()).collect();
        assert_eq!(messages, [format!("`.bell{n}` is defined twice")]);
        let anew = format!(
            "        .data\ntide:\n{}gauge:\n.bell{n}: .byte .bell{n} - gauge\n",
            many.concat()
        );
        assert_eq!(section(&anew, ".data")[40..], [0], "{n}");
    }
}

#[test]
fn branches_take_the_shortest_reach_even_when_settling_cascades() {
    let near = |bytes: usize| section(&format!(" jmp end\n.skip {bytes}\nend: nop"), ".text");
    assert_eq!(near(127)[..2], [0xeb, 127]);
    assert_eq!(near(128)[..5], [0xe9, 128, 0, 0, 0]);
    // Each jump is short only as long as the one inside it is.
    let text = " jmp a\n jmp b\n.skip 124\na: .skip 1\nb: nop\n";
    assert_eq!(section(text, ".text")[..4], [0xeb, 126, 0xeb, 125]);
    let text = " jmp a\n jmp b\n.skip 126\na: .skip 2\nb: nop\n";
    assert_eq!(section(text, ".text")[0], 0xe9);
}

#[test]
fn references_across_sections_become_relocations_with_the_right_addend() {
    let object = object(
        ".rodata\ntext: .ascii \"fog\"\n.text\n.extern horn\n lea rsi, [text + 1]\n mov byte [text], 5\n mov rdi, text\n call horn\n.data\n.quad text + 2\n.4byte text - .\n",
    );
    let symbol = |r: &sotto_object::Relocation| &*object.symbols[r.symbol.position()].name;
    let relocations: Vec<_> = object
        .sections
        .iter()
        .flat_map(|s| s.relocations.iter())
        .map(|r| (r.offset, r.kind, symbol(r), r.addend))
        .collect();
    assert_eq!(
        relocations,
        [
            (3, RelocationKind::Rel32, "text", -3),
            (9, RelocationKind::Rel32, "text", -5),
            (17, RelocationKind::Abs32Signed, "text", 0),
            (22, RelocationKind::Plt32, "horn", -4),
            (0, RelocationKind::Abs64, "text", 2),
            (8, RelocationKind::Rel32, "text", 0),
        ]
    );
}

#[test]
fn symbols_know_their_binding_kind_and_how_their_data_was_declared() {
    let object = object(
        ".global _start\n.weak spare\n.type _start, @function\n.size _start, end - _start\n.data\ntide: dw 4, 7\n dw 9\nname: .asciz \"Skerry\"\n.bss\nroom: .skip 8\n.text\n_start: nop\n nop\nend:\n",
    );
    let get = |name: &str| object.symbols.iter().find(|s| s.name == name).expect("the symbol");
    assert_eq!(
        (get("_start").binding, get("_start").kind),
        (Binding::Global, SymbolKind::Function)
    );
    assert_eq!(get("_start").size, 2);
    assert_eq!((get("spare").binding, get("spare").place), (Binding::Weak, Place::Undefined));
    let tide = get("tide").datum.unwrap();
    assert_eq!((tide.element_bytes, tide.count, tide.kind), (2, 3, DatumKind::Integer));
    assert_eq!(get("name").datum.unwrap().kind, DatumKind::Text);
    assert_eq!(get("room").datum.unwrap().kind, DatumKind::Space);
    assert_eq!(get("end").defined_at, Some((0, 14)));
}

#[test]
fn words_of_any_case_and_dots_that_may_be_dropped() {
    let text = "GLOBAL _start\nSection .text\n_START: NOP\n_start: Mov EAX, 0X10\n ALIGN 8\n";
    let bytes = section(text, ".text");
    assert_eq!(bytes[..6], [0x90, 0xb8, 0x10, 0, 0, 0]);
    // Alignment in code is one long no-op.
    assert_eq!(bytes[6..], [0x66, 0x90]);
    // An instruction wins over a label without a colon, a word before a colon is a symbol.
    assert_eq!(section("loop: nop\n loop loop", ".text"), [0x90, 0xe2, 0xfd]);
}

#[test]
fn x86_addresses_take_terms_in_any_order() {
    let same: &[(&str, &str)] = &[
        ("mov eax, [rbx + rcx*4 + 8]", "mov eax, [8 + rcx*4 + rbx]"),
        ("mov eax, [rbx + rcx*4 + 8]", "mov eax, 8[rbx + 4*rcx]"),
        ("mov eax, [rbx + rcx*4 + 8]", "mov eax, dword ptr [rbx + rcx*(2*2) + 2*4]"),
        ("mov eax, [rcx + rcx*2]", "mov eax, [rcx*3]"),
        ("mov eax, [rcx + rcx]", "mov eax, [rcx*2]"),
        ("mov eax, [rsp + rax]", "mov eax, [rax + rsp]"),
        ("lea rax, [rbx - 8]", "lea rax, [rbx + 8 - 16]"),
    ];
    for (a, b) in same {
        assert_eq!(section(a, ".text"), section(b, ".text"), "{b}");
    }
}

#[test]
fn a_width_before_an_immediate_chooses_how_much_is_pushed() {
    assert_eq!(section("push 5", ".text"), [0x6a, 5]);
    assert_eq!(section("push word 5", ".text"), [0x66, 0x6a, 5]);
    assert_eq!(section("push word 0x1234", ".text"), [0x66, 0x68, 0x34, 0x12]);
    assert_eq!(section("push qword 5", ".text"), [0x6a, 5]);
}

#[test]
fn files_from_other_editors_read_the_same() {
    assert_eq!(section("\u{feff}nop\r\n\tret\r\n", ".text"), [0x90, 0xc3]);
    assert_eq!(section("nop\n/* the\nlamp */ ret", ".text"), [0x90, 0xc3]);
    let many = ".data\n.fill 1 << 29, 1, 5\n".repeat(4);
    assert!(assembly(&many).diagnostics[0].message.contains("fills more than"));
}

#[test]
fn section_flags_come_from_the_name_or_are_given() {
    let object = object(
        ".section .rodata.lamp\n.byte 1\n.section lamp, \"aw\", @progbits\n.byte 2\n.section fog, \"aw\", @nobits\n.skip 4\n",
    );
    let flags = |name: &str| object.sections.iter().find(|s| s.name == name).unwrap().flags;
    assert!(!flags(".rodata.lamp").write && flags(".rodata.lamp").alloc);
    assert!(flags("lamp").write && !flags("lamp").nobits && flags("fog").nobits);
}

#[test]
fn a_section_that_has_flags_is_entered_again_by_its_name() {
    let object = object(".section lamp, \"aw\"\n.byte 1\n.text\nnop\n.section lamp\n.byte 2\n");
    let lamp = object.sections.iter().find(|s| s.name == "lamp").unwrap();
    assert!(lamp.flags.write && lamp.data == [1, 2]);
    let refused = assembly(".section fog\n.byte 1\n");
    assert!(refused.diagnostics[0].message.contains("no section that has flags by its name"));
}

#[test]
fn the_target_is_stated_given_or_inferred() {
    let assembled = |text: &str, target| {
        let source = Source { name: "lamp.s".into(), text: text.into() };
        assemble(&source, &Options { target, ..Options::default() })
    };
    let stated = assembled(".target arm64\n nop\n", None);
    assert_eq!((stated.arch, stated.inferred), (Arch::Arm64, None));
    let inferred = assembled(" mov x0, #1\n", None);
    assert_eq!(inferred.arch, Arch::Arm64);
    assert_eq!(inferred.inferred.unwrap().word.unwrap().0, "x0");
    let conflict = assembled(".target arm64\n nop\n", Some(Arch::X86_64));
    assert!(conflict.object.is_none());
    assert!(conflict.diagnostics[0].message.contains("for arm64, but x86-64"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Any text gives an object or a diagnostic, and no panic; and does so twice the same.
    #[test]
    fn any_text_is_assembled_or_refused(text in "[ -~\\n\\t]{0,200}") {
        for target in [Arch::X86_64, Arch::Arm64] {
            let source = Source { name: "fog.s".into(), text: text.as_str().into() };
            let first = assemble(&source, &Options::for_target(target));
            prop_assert!(first.object.is_some() || !first.diagnostics.is_empty());
            let second = assemble(&source, &Options::for_target(target));
            prop_assert_eq!(first.diagnostics, second.diagnostics);
        }
    }

    /// Lines of the language's own words, put together at random.
    #[test]
    fn any_words_are_assembled_or_refused(
        lines in proptest::collection::vec(
            proptest::collection::vec(
                proptest::sample::select(vec![
                    "mov", "add", "lea", "jmp", "call", "eax", "rbx", "al", "[", "]", "+", "*", "4", ",",
                    "tide", "tide:", ".loop:", ".loop", "1:", "1b", "1f", "equ", "=", "-", "$", ".",
                    ".data", ".text", ".bss", ".byte", ".quad", ".align", ".skip", "db", "\"fog\"", "'x'",
                    "qword", "byte", "(", ")", "<<", "/", "0", "-1", "0x7fffffffffffffffffffffffffffffff",
                ]),
                0..8,
            ),
            0..12,
        )
    ) {
        let text: String = lines.iter().map(|line| line.join(" ") + "\n").collect();
        let source = Source { name: "fog.s".into(), text: text.as_str().into() };
        let assembly = assemble(&source, &Options::for_target(Arch::X86_64));
        prop_assert!(assembly.object.is_some() || !assembly.diagnostics.is_empty(), "{}", text);
        for diagnostic in &assembly.diagnostics {
            prop_assert!(diagnostic.span.start <= diagnostic.span.end);
            prop_assert!(diagnostic.span.end as usize <= text.len());
        }
    }
}

#[test]
fn an_access_wider_than_its_variable_is_warned_of_unless_it_is_said() {
    let found = |line: &str| {
        let text = format!(
            ".data\ntide_v: db 12\nwide: dw 7\ntotal: dd 0\nname: .ascii \"fog\"\nroom: .skip 8\n.text\n {line}\n"
        );
        let assembly = assembly(&text);
        assert!(assembly.object.is_some(), "{line}: a warning is no error");
        assembly.diagnostics.first().map(|d| (d.code.name(), d.message.clone()))
    };
    for (line, message) in [
        ("mov rax, [tide_v]", "8 bytes are read from `tide_v`, declared 1 byte wide"),
        ("mov eax, [wide]", "4 bytes are read from `wide`, declared 2 bytes wide"),
        ("add [total], rax", "8 bytes are written to `total`, declared 4 bytes wide"),
        ("cmp ax, [tide_v]", "2 bytes are read from `tide_v`, declared 1 byte wide"),
    ] {
        assert_eq!(found(line), Some(("A121", message.to_string())), "{line}");
    }
    for line in [
        "mov al, [tide_v]",
        "movzx eax, byte [tide_v]",
        "mov eax, [total]",
        "mov ax, [total]",
        "mov rax, qword [tide_v]",
        "lea rax, [tide_v]",
        "mov eax, [tide_v + rcx]",
        "mov eax, [name]",
        "mov rax, [room]",
        "mov rax, tide_v",
    ] {
        assert_eq!(found(line), None, "{line}");
    }
}

#[test]
fn a_line_that_is_repeated_lays_down_the_same_with_a_place_of_its_own() {
    let lines = ["push rbp", "mov al, ';'", "mov al, ';' + 1", "lock add [rdi], eax", "ret ; home"];
    let mut apart = Vec::new();
    for line in lines {
        let bytes = section(line, ".text");
        assert!(!bytes.is_empty());
        apart.extend(bytes);
    }
    let text = lines.join("\n");
    let twice = object(&format!("{text}\n  {text}\n"));
    assert_eq!(twice.sections[0].data, [&apart[..], &apart[..]].concat());
    let places: Vec<u32> = twice.sections[0].lines.iter().map(|line| line.line).collect();
    assert_eq!(places, (1..=10).collect::<Vec<_>>());
    // In a macro too, and behind a label, which a label before data is no part of.
    let object =
        object("ret\n.macro home\n ret\n.endm\n home\nlamp:\n ret\n .data\ntide: ret\n .byte 1\n");
    assert_eq!(object.sections[0].data, [0xc3; 3]);
    assert!(object.symbols.iter().all(|symbol| symbol.datum.is_none()));
}

#[test]
fn a_repeated_line_is_refused_where_nothing_can_be_laid_down() {
    let assembly = assembly(" nop\n .bss\n nop\n");
    assert_eq!(assembly.diagnostics[0].message, "`.bss` cannot hold an instruction");
}

/// So another compiler writes them where the destination comes first.
#[test]
fn names_in_addresses_and_string_operands_of_compilers_are_taken() {
    let text = "        .intel_syntax noprefix\n        .globl di, eax\n        .text\n        mov ecx, dword ptr [rip + eax]\n        mov ecx, dword ptr [4*rax + di + 4]\n        mov rcx, qword ptr [rip + di@GOTPCREL]\n        rep movsq es:[rdi], [rsi]\n        .data\neax:    .long 1\ndi:     .long 2, 3\n";
    let source = Source { name: "lamp.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    let code = &object.sections[0];
    assert_eq!(code.relocations.len(), 3);
    assert_eq!(code.data[code.data.len() - 3..], [0xf3, 0x48, 0xa5]);
    assert!(sotto_asm::text_with_comments(b" .byte 232 # \xe8\n").is_some());
    assert!(sotto_asm::text_with_comments(b" .ascii \"\xe8\"\n").is_none());
}
