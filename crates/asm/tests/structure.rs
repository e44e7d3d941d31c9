//! Includes, conditionals, repeats and macros, by the bytes that come out.

use std::collections::HashMap;

use sotto_asm::{Assembly, Disk, Options, Source, assemble_with};
use sotto_isa::Arch;

/// Files that are there, by name.
#[derive(Default)]
struct Files(HashMap<&'static str, &'static [u8]>);

impl Disk for Files {
    fn read(&self, name: &str, _: &str) -> Result<(String, Vec<u8>), String> {
        let bytes = self.0.get(name).ok_or("there is no such file")?;
        Ok((name.to_string(), bytes.to_vec()))
    }
}

fn files() -> Files {
    Files(HashMap::from([
        ("lamp.inc", &b"lamp equ 7\n.byte lamp\n"[..]),
        ("outer.inc", b".byte 1\n.include \"lamp.inc\"\n.byte 2\n"),
        ("ring.inc", b".include \"ring2.inc\"\n"),
        ("ring2.inc", b".include \"ring.inc\"\n"),
        ("open.inc", b".if 1\n.byte 3\n"),
        ("wrong.inc", b"\n .byte nowhere\n"),
        ("sourcefirst.inc", b".text\n movl $1, %eax\n.data\n"),
        ("log.bin", b"Skerry\xff\xfe"),
    ]))
}

fn assembly(text: &str) -> Assembly {
    let source = Source { name: "tide.s".into(), text: text.into() };
    assemble_with(&source, &Options::for_target(Arch::X86_64), &files())
}

/// The bytes of `.data`, where the text starts.
fn data(text: &str) -> Vec<u8> {
    section(&format!(".data\n{text}"), ".data")
}

fn section(text: &str, name: &str) -> Vec<u8> {
    let assembly = assembly(text);
    let messages: Vec<_> = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    let object = assembly.object.unwrap_or_else(|| panic!("{text}: {messages:?}"));
    object.sections.into_iter().find(|s| s.name == name).expect("the section").data
}

/// The bytes of the code.
fn bytes(text: &str) -> Vec<u8> {
    section(text, ".text")
}

/// The one error of a text: its message, and file and line.
fn error(text: &str) -> (String, String) {
    let assembly = assembly(text);
    let [diagnostic] = &assembly.diagnostics[..] else {
        panic!("{text}: {:#?}", assembly.diagnostics);
    };
    let place = assembly.sources.location(diagnostic.span.start);
    (diagnostic.message.clone(), format!("{}:{}", place.file, place.line))
}

#[test]
fn conditionals_take_one_branch_and_do_not_look_at_the_others() {
    let cases: &[(&str, &[u8])] = &[
        (".if 1\n.byte 1\n.else\n.byte 2\n.endif\n.byte 3", &[1, 3]),
        (".if 0\n.byte 1\n.else\n.byte 2\n.endif", &[2]),
        (".if 0\n.byte 1\n.elseif 0\n.byte 2\n.elseif 1\n.byte 3\n.else\n.byte 4\n.endif", &[3]),
        (".if 1\n.byte 1\n.elseif 1\n.byte 2\n.endif", &[1]),
        (".if 0\n?? no words\n.if 1\n.else\n.byte 9\n.endif\n.else\n.byte 5\n.endif", &[5]),
        (".if 0\n.byte 1\nlamp: .elseif 1\n.byte 2\nfog: .else\n.byte 3\n.endif", &[2]),
        ("n = 3\n.if n > 2 && n != 4\n.byte n\n.endif", &[3]),
        ("lamp equ 1\n.ifdef lamp\n.byte 1\n.endif\n.ifdef fog\n.byte 2\n.endif", &[1]),
        (".ifndef fog\n.byte 2\n.else\n.byte 3\n.endif", &[2]),
        ("here: .byte 4\n.if . - here == 1\n.byte 6\n.endif", &[4, 6]),
        (".IF 1\n.byte 1\n.ELSE\n.byte 2\n.ENDIF", &[1]),
    ];
    for (text, wanted) in cases {
        assert_eq!(data(text), *wanted, "{text}");
    }
}

#[test]
fn repeats_go_round_and_have_labels_of_their_own() {
    assert_eq!(data(".rept 3\n.byte 1, 2\n.endr"), [1, 2, 1, 2, 1, 2]);
    assert_eq!(data("n = 0\n.rept 3\n.byte n\nn = n + 1\n.endr"), [0, 1, 2]);
    assert_eq!(data(".rept 2\n.rept 2\n.byte 5\n.endr\n.byte 6\n.endr"), [5, 5, 6, 5, 5, 6]);
    assert_eq!(data(".rept 0\n.byte 1\n.endr\n.byte 2"), [2]);
    assert_eq!(data(".irp value, 4, 5+1, 'x'\n.byte \\value\n.endr"), [4, 6, b'x']);
    let text = "lamp: nop\n.rept 2\n.again: jmp .again\n.endr";
    assert_eq!(section(text, ".text"), [0x90, 0xeb, 0xfe, 0xeb, 0xfe]);
}

#[test]
fn macros_put_their_arguments_in() {
    let cases: &[(&str, &[u8])] = &[
        (".macro flash n\n.byte \\n\n.endm\nflash 4\nflash 5", &[4, 5]),
        (".macro flash a, b=7\n.byte \\a, \\b\n.endm\nflash 1\nflash 1, 2", &[1, 7, 1, 2]),
        (".macro all rest:vararg\n.byte \\rest\n.endm\nall 1, 2, 3", &[1, 2, 3]),
        (".macro say text\n.ascii \\text\n.endm\nsay \"a, b\"", b"a, b"),
        (".macro say text\n.ascii \"<\\text>\\n\"\n.endm\nsay fog", b"<fog>\n"),
        (".macro two n\n.byte \\n\n.if \\n\ntwo \\n - 1\n.endif\n.endm\ntwo 2", &[2, 1, 0]),
        (
            ".macro join a\nlamp_\\a\\()_v: .byte \\a\n.endm\njoin 3\n.byte lamp_3_v - lamp_3_v",
            &[3, 0],
        ),
        (".macro Flash\n.byte 1\n.endm\n.macro flash\n.byte 2\n.endm\nFlash\nflash", &[1, 2]),
        (".macro outer\n.macro inner v\n.byte \\v\n.endm\n.endm\nouter\ninner 8", &[8]),
    ];
    for (text, wanted) in cases {
        assert_eq!(data(text), *wanted, "{text}");
    }
}

#[test]
fn dotted_labels_of_a_macro_are_fresh_and_those_passed_in_are_the_callers() {
    let text = ".macro pause_for reg\n.again: dec \\reg\n jnz .again\n.endm\nlamp: pause_for ecx\n pause_for edx\n";
    assert_eq!(section(text, ".text"), [0xff, 0xc9, 0x75, 0xfc, 0xff, 0xca, 0x75, 0xfc]);
    // `.end` is given by the caller, through two macros, one of which has an `.end` of its own.
    let text = ".macro skip to\n.end: jmp \\to\n.endm\n.macro leave2 to\n skip \\to\n.endm\nlamp: leave2 .end\n nop\n.end: ret\n";
    assert_eq!(section(text, ".text"), [0xeb, 0x01, 0x90, 0xc3]);
}

#[test]
fn includes_read_text_and_bytes_beside() {
    assert_eq!(data(".include \"outer.inc\"\n.byte lamp + 1"), [1, 7, 2, 8]);
    assert_eq!(data(".incbin \"log.bin\""), b"Skerry\xff\xfe");
    assert_eq!(data(".incbin \"log.bin\", 2"), b"erry\xff\xfe");
    assert_eq!(data(".incbin \"log.bin\", 1, 3"), b"ker");
    // Each file has its own order of operands.
    let text = " mov eax, 2\n.include \"sourcefirst.inc\"\n.text\n mov ecx, 3\n";
    assert_eq!(section(text, ".text"), [0xb8, 2, 0, 0, 0, 0xb8, 1, 0, 0, 0, 0xb9, 3, 0, 0, 0]);
}

#[test]
fn lines_are_known_by_the_file_and_the_macro_that_they_stand_in() {
    let text = ".macro flash n\n nop\n mov eax, \\n\n.endm\n flash 3\n ret\n";
    let object = assembly(text).object.unwrap();
    let lines: Vec<_> = object.sections[0].lines.iter().map(|l| (l.offset, l.line)).collect();
    assert_eq!(lines, [(0, 2), (1, 3), (6, 6)]);
    let object = assembly(".data\n.include \"outer.inc\"\n.byte 9\n").object.unwrap();
    assert_eq!(object.files, ["tide.s", "outer.inc", "lamp.inc"]);
    let data = object.sections.iter().find(|s| s.name == ".data").unwrap();
    let lines: Vec<_> = data.lines.iter().map(|l| (l.file, l.line)).collect();
    assert_eq!(lines, [(1, 1), (2, 2), (1, 3), (0, 3)]);
}

#[test]
fn what_does_not_open_or_close_is_named_at_its_place() {
    let cases = [
        (".if 1\n", "this has no `.endif`", "tide.s:1"),
        ("\n.endif\n", "`.endif` without `.if`", "tide.s:2"),
        (".else\n", "`.else` without `.if`", "tide.s:1"),
        (".if 1\n.else\n.else\n.endif\n", "`.else` stands after the `.else`", "tide.s:3"),
        (".macro f\n.endif\n.endm\n.if 1\nf\n.endif\n", "`.endif` without `.if`", "tide.s:2"),
        (".rept 2\n", "this has no `.endr`", "tide.s:1"),
        (".rept -1\n.endr\n", "-1 is no count", "tide.s:1"),
        (".endr\n", "`.endr` without `.rept`", "tide.s:1"),
        (".macro flash\n", "this has no `.endm`", "tide.s:1"),
        (".endm\n", "`.endm` without `.macro`", "tide.s:1"),
        (
            ".macro mov\n.endm\n",
            "`mov` is an instruction already, so no macro can be called that",
            "tide.s:1",
        ),
        (".macro a1\n.endm\n.macro a1\n.endm\n", "the macro `a1` is defined twice", "tide.s:3"),
        (".include \"fog.inc\"\n", "cannot read `fog.inc`: there is no such file", "tide.s:1"),
        (".include \"ring.inc\"\n", "`ring.inc` includes itself", "ring2.inc:1"),
        (".include \"log.bin\"\n", "`log.bin` is not UTF-8 text", "tide.s:1"),
        (".include \"open.inc\"\n.data\n", "this has no `.endif`", "open.inc:1"),
        (".data\n.include \"wrong.inc\"\n", "no symbol `nowhere`", "wrong.inc:2"),
        (".data\n.incbin \"log.bin\", 9\n", "9 is out of range", "tide.s:2"),
        (".macro f\n\n .byte nowhere\n.endm\n.data\nf\n", "no symbol `nowhere`", "tide.s:3"),
        (".macro f\nf\n.endm\nf\n", "macros and repeats nest more than 64 deep", "tide.s:2"),
        (".rept 1 << 40\n.endr\n", "macros and repeats read more than 8388608 lines", "tide.s:1"),
        (".if nowhere\n.endif\n", "no symbol `nowhere`", "tide.s:1"),
    ];
    for (text, message, place) in cases {
        assert_eq!(error(text), (message.to_string(), place.to_string()), "{text}");
    }
}

#[test]
fn an_error_in_a_macro_tells_the_calls_that_led_there() {
    let text = ".macro inner v\n .byte \\v\n.endm\n.macro outer v\n inner \\v + 1\n.endm\n.data\n outer 300\n";
    let assembly = assembly(text);
    let diagnostic = &assembly.diagnostics[0];
    assert_eq!(diagnostic.message, "301 does not fit in 1 byte");
    assert_eq!(assembly.sources.excerpt(diagnostic.span).text, " .byte 300 + 1");
    let calls: Vec<_> = assembly
        .sources
        .chain(diagnostic.span.start)
        .iter()
        .map(|(_, span)| {
            (assembly.sources.slice(*span), assembly.sources.location(span.start).line)
        })
        .collect();
    assert_eq!(calls, [("inner 300 + 1", 5), ("outer 300", 8)]);
}

#[test]
fn expansion_without_an_end_is_stopped_however_it_grows() {
    let cases = [
        // Each level doubles the next.
        (1..40).fold(".macro f0\n.endm\n".to_string(), |text, n| {
            format!("{text}.macro f{n}\nf{}\nf{}\n.endm\n", n - 1, n - 1)
        }) + "f39\n",
        ".rept 1 << 60\n.rept 1 << 60\n.endr\n.endr\n".to_string(),
        ".macro long v:vararg\nlong \\v, \\v, \\v, \\v\n.endm\nlong 1234567890\n".to_string(),
    ];
    for text in cases {
        let (message, _) = error(&text);
        assert!(message.contains("more than"), "{message}");
    }
}

/// A chain of branches, each of which only just reaches, and grows when the next one does.
#[test]
fn long_chains_of_growing_branches_settle_to_the_shortest_form() {
    let chain = |padding: usize| {
        let mut text = String::from("start:\n");
        for n in 0..3000 {
            text += &format!(" jmp l{n}\n.skip 61\nl{}: nop\n", n as i64 - 1);
        }
        text + &format!(".skip {padding}\nl2999: nop\n")
    };
    // The last branch decides: if it must be long, every one before it must.
    let short = section(&chain(0).replace("l-1", "first"), ".text");
    let long = section(&chain(200).replace("l-1", "first"), ".text");
    let jumps = |code: &[u8], opcode: u8| code.iter().filter(|&&b| b == opcode).count();
    assert_eq!(jumps(&short, 0xe9), 0);
    assert!(jumps(&long, 0xe9) >= 3000);
}

/// The idiom that saves registers: a repeat with a parameter of its own inside a macro.
#[test]
fn repeats_inside_macros_have_parameters_of_their_own() {
    let text = " .macro save regs:vararg\n .irp reg, \\regs\n push \\reg\n .endr\n .endm\n save rbx, r12\n";
    assert_eq!(bytes(text), [0x53, 0x41, 0x54]);
    let nested = " .irp a, 1, 2\n .irp b, 3, 4\n .byte \\a * 16 + \\b\n .endr\n .endr\n";
    assert_eq!(bytes(nested), [0x13, 0x14, 0x23, 0x24]);
    assert_eq!(bytes(" .irpc d, 120\n .byte \\d + 1\n .endr\n"), [2, 3, 1]);
    assert_eq!(bytes(" .irpc d, \"a,\"\n .byte '\\d'\n .endr\n"), [b'a', b',']);
}

#[test]
fn texts_are_compared_and_looked_for_and_a_macro_can_be_left() {
    let text = " .macro tone a, b=, c=x
 .ifb \\b
 .byte 1
 .exitm
 .endif
 .ifnb \\b
 .byte 2
 .endif
 .ifc \\c, x
 .byte 3
 .endif
 .ifnc \\c, \"x\"
 .byte 4
 .endif
 .rept 3
 .byte 5
 .exitm
 .endr
 .byte 6
 .endm
 tone 1
 tone 1, 2
 tone 1, 2, y
 .byte 9
";
    assert_eq!(bytes(text), [1, 2, 3, 5, 2, 4, 5, 9]);
}

#[test]
fn what_the_source_says_and_sections_that_are_come_back_to() {
    let said = |text: &str| -> Vec<(String, &'static str)> {
        let assembly = assembly(text);
        assembly.diagnostics.iter().map(|d| (d.message.clone(), d.code.name())).collect()
    };
    assert_eq!(said(" .error \"too dim\"\n"), [("too dim".to_string(), "A128")]);
    assert_eq!(said(" .warning \"dim\"\n nop\n"), [("dim".to_string(), "A128")]);
    assert_eq!(said(" .popsection\n")[0].0, "`.popsection` without `.pushsection`");
    assert_eq!(said(" .exitm\n")[0].0, "`.exitm` stands outside a macro");
    let text = " nop\n .pushsection .data\n .byte 7\n .pushsection .rodata\n .byte 8\n .popsection\n .byte 9\n .popsection\n ret\n .lcomm log, 16, 8\n .single 1.5\n";
    let object = assembly(text).object.unwrap();
    let section = |name: &str| object.sections.iter().find(|s| s.name == name).unwrap();
    assert_eq!(section(".text").data, [&[0x90, 0xc3][..], &1.5f32.to_le_bytes()].concat());
    assert_eq!(section(".data").data, [7, 9]);
    assert_eq!(section(".rodata").data, [8]);
    assert_eq!(section(".bss").size, 16);
}

/// One mistake is one error: the end of a conditional that is not known belongs to it.
#[test]
fn an_unknown_conditional_takes_its_end_with_it() {
    let messages = |text: &str| -> Vec<String> {
        assembly(text).diagnostics.iter().map(|d| d.message.clone()).collect()
    };
    let found = messages(" .ifxyz 1\n rign\n .else\n rign\n .endif\n nop\n");
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(
        messages(" .if 0\n .ifxyz 1\n .endif\n rign\n .endif\n nop\n"),
        Vec::<String>::new()
    );
}
