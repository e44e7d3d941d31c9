//! A64 sources as people write them, by the words they give. Words are worked out from the manual's
//! diagrams.

use sotto_asm::{Options, Source, assemble, assemble_instruction};
use sotto_isa::{Arch, NoNames, OperandOrder, decode};
use sotto_object::{LinkOptions, Object, Place, RelocationKind, SectionIndex, link};

fn word(text: &str) -> u32 {
    let bytes = assemble_instruction(Arch::Arm64, OperandOrder::DestinationFirst, text, 0x1000)
        .unwrap_or_else(|diagnostic| panic!("{text}: {}", diagnostic.message));
    u32::from_le_bytes(bytes.try_into().unwrap())
}

fn object(text: &str) -> Object {
    let source = Source { name: "board.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::for_target(Arch::Arm64));
    let messages: Vec<_> = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    assembly.object.unwrap_or_else(|| panic!("{text}: {messages:?}"))
}

fn words(text: &str) -> Vec<u32> {
    let text = object(text).sections.into_iter().find(|s| s.name == ".text").unwrap();
    text.data.chunks(4).map(|bytes| u32::from_le_bytes(bytes.try_into().unwrap())).collect()
}

#[test]
fn immediates_with_and_without_their_mark() {
    for (a, b) in [
        ("mov x0, #5", "mov x0, 5"),
        ("add x0, x1, #16", "add x0, x1, 0x10"),
        ("ldr x0, [x1, #8]", "ldr x0, [x1, 8]"),
        ("svc #0", "svc 0"),
        ("lsl w0, w1, #3", "LSL W0, W1, 3"),
        ("mov w0, #'A'", "mov w0, #65"),
        ("movk x0, #0xdead, lsl #16", "movk x0, 0xdead, lsl 16"),
        ("stp fp, lr, [sp, #-16]!", "stp x29, x30, [sp, #-(8 * 2)]!"),
    ] {
        assert_eq!(word(a), word(b), "{a}");
    }
}

#[test]
fn what_people_write_is_encoded_by_the_form_that_exists() {
    for (written, printed) in [
        ("add x0, x1, #-5", "sub x0, x1, #5"),
        ("sub w0, w1, #-5", "add w0, w1, #5"),
        ("adds x0, x1, #-1", "subs x0, x1, #1"),
        ("cmp w0, #-1", "cmn w0, #1"),
        ("cmn x0, #-1", "cmp x0, #1"),
        ("add x0, x1, #0x5000", "add x0, x1, #5, lsl #12"),
        ("ldr x0, [x1, #-8]", "ldur x0, [x1, #-8]"),
        ("ldr w0, [x1, #3]", "ldur w0, [x1, #3]"),
        ("strb w0, [x1, #-1]", "sturb w0, [x1, #-1]"),
        ("bic x0, x1, #15", "and x0, x1, #-16"),
        ("orn w0, w1, #0xfffffff0", "orr w0, w1, #15"),
        ("mov x0, #0xffffffffffff0000", "mov x0, #-0x10000"),
        ("mov w0, #0xffff0000", "mov w0, #0xffff0000"),
        ("mov x0, #0x00ff00ff00ff00ff", "mov x0, #0xff00ff00ff00ff"),
        ("tbz x3, #5, 0x1008", "tbz w3, #5, 0x1008"),
        ("mov sp, x0", "mov sp, x0"),
        ("mov x0, lr", "mov x0, x30"),
        ("cmp x0, x1, lsl #2", "cmp x0, x1, lsl #2"),
        ("add sp, sp, x0", "add sp, sp, x0"),
        ("add x0, sp, x1, lsl #3", "add x0, sp, x1, lsl #3"),
        ("b.hs 0x1010", "b.cs 0x1010"),
        ("cset w0, lo", "cset w0, cc"),
    ] {
        let bytes = word(written).to_le_bytes();
        let instruction = decode(Arch::Arm64, &bytes, 0x1000).unwrap();
        assert_eq!(instruction.print(&NoNames), printed, "{written}");
    }
}

#[test]
fn every_addressing_mode_of_loads_and_stores() {
    for (text, wanted) in [
        ("ldr x0, [x1]", 0xf940_0020),
        ("ldr x0, [sp, #16]", 0xf940_0be0),
        ("ldr x0, [x1, #16]!", 0xf841_0c20),
        ("ldr x0, [x1], #16", 0xf841_0420),
        ("ldr x0, [x1, x2]", 0xf862_6820),
        ("ldr x0, [x1, x2, lsl #3]", 0xf862_7820),
        ("ldr w0, [x1, w2, uxtw #2]", 0xb862_5820),
        ("ldrb w0, [x1, w2, sxtw]", 0x3862_c820),
        ("strh w3, [x4, #2]", 0x7900_0483),
        ("ldrsw x5, [x6, #4]", 0xb980_04c5),
        ("ldp w0, w1, [x2, #8]", 0x2941_0440),
        ("stp x0, x1, [x2], #-32", 0xa8be_0440),
    ] {
        assert_eq!(word(text), wanted, "{text}: {:#x}", word(text));
    }
}

#[test]
fn labels_reach_back_and_ahead_and_across_sections() {
    let text = "_start: b.ne ahead\n cbz x0, _start\n tbnz w1, #3, ahead\n bl _start\nahead: adr x2, _start\n ret\n";
    assert_eq!(
        words(text),
        [0x5400_0081, 0xb4ff_ffe0, 0x3718_0041, 0x97ff_fffd, 0x10ff_ff82, 0xd65f_03c0]
    );
    let object = object(
        ".data\ntide: .word 4\n.text\n.extern horn\n adr x0, tide\n ldr w1, tide\n bl horn\n b.eq horn\n",
    );
    let relocations: Vec<_> = object
        .sections
        .iter()
        .flat_map(|s| &s.relocations)
        .map(|r| (r.offset, r.kind, object.symbols[r.symbol.position()].name.as_str()))
        .collect();
    assert_eq!(
        relocations,
        [
            (0, RelocationKind::A64Adr21, "tide"),
            (4, RelocationKind::A64Literal19, "tide"),
            (8, RelocationKind::A64Call26, "horn"),
            (12, RelocationKind::A64Branch19, "horn"),
        ]
    );
}

#[test]
fn the_words_of_the_machine_and_its_alignment() {
    // `.word` is 4 bytes, `.align` a power of two, code is padded with no-ops.
    let data = object(".data\n.word 1\n.hword 2\n.align 3\n.xword 3\n");
    let data = data.sections.iter().find(|s| s.name == ".data").unwrap();
    assert_eq!(data.data, [1, 0, 0, 0, 2, 0, 0, 0, 3, 0, 0, 0, 0, 0, 0, 0]);
    assert_eq!(data.align, 8);
    assert_eq!(words(" ret\n.align 3\n ret\n"), [0xd65f_03c0, 0xd503_201f, 0xd65f_03c0]);
    // A mark at the start of a line is a comment, elsewhere it marks an immediate.
    assert_eq!(words("# the lamp\n mov x0, #1 // lit\n"), [0xd280_0020]);
    assert_eq!(
        words("length = 9\n mov x2, #length\n mov x3, length + 1\n"),
        [0xd280_0122, 0xd280_0143]
    );
}

/// Data between instructions has lines too, at any byte.
#[test]
fn lines_of_bytes_between_instructions_are_written() {
    let text = " .global flash\nflash: nop\n .byte 1\n .byte 2\n .byte 3\n .byte 4\n ret\n";
    let source = sotto_asm::Source { name: "flash.s".into(), text: text.into() };
    let options = sotto_asm::Options::for_target(Arch::Arm64);
    let object = sotto_asm::assemble(&source, &options).object.unwrap();
    let bytes = sotto_object::write_object(&object).unwrap();
    let back = sotto_object::read_object("flash.o", &bytes).unwrap();
    let lines: Vec<(u64, u32)> =
        back.sections[0].lines.iter().map(|line| (line.offset, line.line)).collect();
    assert_eq!(lines, [(0, 2), (4, 3), (5, 4), (6, 5), (7, 6), (8, 7)]);
}

#[test]
fn dword_and_inst_are_for_arm_alone() {
    let source = |text: &str| Source { name: "board.s".into(), text: text.into() };
    let made =
        assemble(&source(" .inst 0xd503201f\n .dword 5\n"), &Options::for_target(Arch::Arm64));
    let wanted = [&0xd503_201fu32.to_le_bytes()[..], &5u64.to_le_bytes()].concat();
    assert_eq!(made.object.unwrap().sections[0].data, wanted);
    let refused = assemble(&source(" .dword 5\n"), &Options::for_target(Arch::X86_64));
    assert_eq!(refused.diagnostics[0].message, "`.dword` is for ARM");
}

#[test]
fn registers_have_the_names_that_a_file_gives_them() {
    let text = "level .req x7\n mov level, #4\n add x0, level, x1\n .unreq level\nlevel .req x8\n mov level, #4\n";
    assert_eq!(words(text), [0xd280_0087, 0x8b01_00e0, 0xd280_0088]);
    let cases = [
        ("x3 .req x7\n", "`x3` is a register already"),
        ("level .req buoy\n", "expected the name of a register, but found `buoy`"),
        ("level .req x1\nlevel .req x2\n", "`level` names `x1` already"),
        (" .unreq level\n", "no register was given the name `level`"),
        (" .req x1\n", "the name for the register stands before `.req`"),
    ];
    for (text, wanted) in cases {
        let source = Source { name: "board.s".into(), text: text.into() };
        let assembly = assemble(&source, &Options::for_target(Arch::Arm64));
        assert_eq!(assembly.diagnostics[0].message, wanted, "{text}");
    }
}

/// AAELF64, 5.5.4: `$x` starts code and `$d` data.
#[test]
fn mapping_symbols_tell_code_from_data_and_are_no_places_for_readers() {
    // The second `nop` is a line that was seen before.
    let text = " .global _start\n_start: nop\n .word 1\n nop\n ldr x0, =0x123456789a\n ret\n .data\n .word 3\n";
    let object = object(text);
    let marks: Vec<(String, Place)> = object
        .symbols
        .iter()
        .filter(|symbol| symbol.name.starts_with('$'))
        .map(|symbol| (symbol.name.clone(), symbol.place))
        .collect();
    let at = |name: &str, offset| (name.to_string(), Place::Section(SectionIndex(0), offset));
    assert_eq!(marks, [at("$x", 0), at("$d", 4), at("$x", 8), at("$d", 20)]);
    let image = link(&[object], &LinkOptions::default()).unwrap();
    assert!(image.symbols.iter().all(|symbol| !symbol.name.starts_with('$')));
}

#[test]
fn values_of_a_pool_stand_in_the_listing() {
    let text = " ldr x0, =0x123456789a\n ret\n .ltorg\n ldr x1, =7\n";
    let source = Source { name: "board.s".into(), text: text.into() };
    let options = Options { listing: true, ..Options::for_target(Arch::Arm64) };
    let assembly = assemble(&source, &options);
    let listing = assembly.listing.unwrap();
    let pools: Vec<(&str, u64)> = listing
        .lines
        .iter()
        .filter_map(|line| {
            let text = assembly.sources.slice(line.span);
            let (_, range) = line.bytes.clone()?;
            text.starts_with('=').then_some((text, range.start))
        })
        .collect();
    assert_eq!(pools, [("=0x123456789a", 8), ("=7", 24)]);
}
