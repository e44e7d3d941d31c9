//! Sources that are made to take for ever, or all memory there is. Each is one that took minutes or gigabytes; none
//! asserts on time, and all of them together are done in seconds.

use std::fmt::Write;

use sotto_asm::{Assembly, Options, Severity, Source, assemble};
use sotto_isa::Arch;

fn assembly(text: String) -> Assembly {
    let source = Source { name: "tide.s".into(), text: text.into() };
    assemble(&source, &Options::for_target(Arch::X86_64))
}

fn errors(assembly: &Assembly) -> usize {
    assembly.diagnostics.iter().filter(|d| d.severity == Severity::Error).count()
}

/// Lines that a pattern makes of numbers.
fn lines(count: usize, line: impl Fn(usize) -> String) -> String {
    (0..count).fold(String::new(), |mut text, number| {
        let _ = writeln!(text, "{}", line(number));
        text
    })
}

#[test]
fn constants_made_of_each_other_are_evaluated_once_each() {
    // Each is the difference of the one before and half of it, twice: 2^n evaluations, were they not kept.
    let chain = lines(60, |n| format!("t{} equ t{n} + t{n} - t{n}", n + 1));
    let made = assembly(format!("t0 equ 7\n{chain} .byte t60\n"));
    assert_eq!(made.object.unwrap().sections[0].data, [7]);
}

#[test]
fn a_long_chain_of_constants_is_no_circle() {
    let chain = lines(20_000, |n| format!("t{n} equ t{} + 1", n + 1));
    let made = assembly(format!("{chain}t20000 equ 5\n .4byte t0\n"));
    assert_eq!(made.object.unwrap().sections[0].data, 20_005u32.to_le_bytes());
    for circle in ["a equ b\nb equ c + 1\nc equ a\n .byte a\n", "a equ a + 1\n .byte a\n"] {
        let refused = assembly(circle.to_string());
        let messages: Vec<&str> = refused.diagnostics.iter().map(|d| d.message.as_str()).collect();
        assert!(messages.contains(&"the constant is defined by itself"), "{circle}: {messages:?}");
    }
}

#[test]
fn many_undefined_names_beside_many_similar_ones_end_at_the_cap() {
    let known = lines(50_000, |n| format!("tide_reading_{n:06}: nop"));
    let wrong = lines(50_000, |n| format!(" .quad tide_raeding_{n:06}"));
    let refused = assembly(known + &wrong);
    assert!((100..=102).contains(&errors(&refused)), "{}", errors(&refused));
    assert!(refused.diagnostics[0].help.as_deref().unwrap().contains("tide_reading_000000"));
    assert!(refused.diagnostics.last().unwrap().message.starts_with("100 errors"));
}

#[test]
fn errors_are_capped_wherever_they_come_from() {
    for (what, line) in
        [("layout", " mov al, far - . + 70000"), ("reading", " rign"), ("values", " .byte 1 << 20")]
    {
        let refused = assembly(lines(5_000, |_| line.to_string()) + "far equ 1000\n");
        assert!((1..=102).contains(&errors(&refused)), "{what}: {}", errors(&refused));
    }
}

#[test]
fn labels_at_one_address_and_sections_by_the_thousand() {
    let labels = lines(100_000, |n| format!("l{n}:"));
    let made = assembly(format!("{labels} .byte 1\n"));
    assert_eq!(made.object.unwrap().sections[0].data, [1]);
    let sections = lines(50_000, |n| format!(" .section .s{n}, \"aw\"\n .byte 1"));
    assert_eq!(assembly(sections).object.unwrap().sections.len(), 50_001);
}

#[test]
fn a_macro_may_have_very_many_parameters() {
    let names = (0..50_000).map(|n| format!("p{n}=0")).collect::<Vec<_>>().join(", ");
    let made = assembly(format!(".macro bells {names}\n .byte \\p49999\n.endm\n bells\n"));
    assert_eq!(made.object.unwrap().sections[0].data, [0]);
}

#[test]
fn contents_of_all_sections_together_are_bounded_and_empty_lines_take_no_room() {
    let sections = lines(40, |n| format!(" .section .s{n}, \"aw\"\n .skip 1 << 27"));
    let refused = assembly(sections);
    assert_eq!(errors(&refused), 1);
    assert!(refused.diagnostics[0].message.contains("together"), "{:?}", refused.diagnostics);
    let made = assembly("\n".repeat(20 << 20) + " nop\n");
    assert_eq!(made.object.unwrap().sections[0].data, [0x90]);
}

#[test]
fn names_have_an_end() {
    for text in ["a".repeat(20 << 20) + ": nop\n", format!(" mov {}, 1\n", "a".repeat(20 << 20))] {
        let refused = assembly(text);
        assert_eq!(refused.diagnostics[0].message, "a name has at most 4096 bytes");
    }
}
