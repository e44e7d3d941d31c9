//! The linker's rules: which definition counts, what goes where, what is out of reach.

use sotto_isa::Arch;
use sotto_object::*;

fn section(name: &str, size: u64, align: u64) -> Section {
    let flags = SectionFlags::by_name(name);
    let data = if flags.nobits { Vec::new() } else { vec![0x90; size as usize] };
    Section {
        name: name.into(),
        flags,
        align,
        data,
        size,
        relocations: Vec::new(),
        lines: Vec::new(),
    }
}

fn symbol(name: &str, place: Place, binding: Binding) -> Symbol {
    Symbol {
        name: name.into(),
        place,
        binding,
        visibility: Visibility::Default,
        kind: SymbolKind::None,
        size: 0,
        datum: None,
        defined_at: Some((0, 1)),
    }
}

fn at(section: u32, offset: u64) -> Place {
    Place::Section(SectionIndex(section), offset)
}

fn object(file: &str, sections: Vec<Section>, symbols: Vec<Symbol>) -> Object {
    Object {
        arch: Arch::X86_64,
        files: vec![file.into()],
        sections,
        symbols,
        unwind: Vec::new(),
        groups: Vec::new(),
        stated_lines: None,
        labels: Vec::new(),
    }
}

/// An object whose first eight bytes of code wait for a symbol.
fn caller(kind: RelocationKind, target: Symbol) -> Object {
    let mut text = section(".text", 16, 1);
    text.relocations.push(Relocation { offset: 0, kind, symbol: SymbolIndex(1), addend: 0 });
    object("lamp.s", vec![text], vec![symbol("_start", at(0, 8), Binding::Global), target])
}

fn linked(objects: &[Object]) -> Image {
    link(objects, &LinkOptions::default()).unwrap()
}

fn first_word(image: &Image) -> u64 {
    u64::from_le_bytes(image.segments[0].data[..8].try_into().unwrap())
}

#[test]
fn a_global_definition_counts_before_a_weak_one_wherever_it_stands() {
    let wanted = symbol("horn", Place::Undefined, Binding::Global);
    let weak = object("weak.s", vec![], vec![symbol("horn", Place::Absolute(1), Binding::Weak)]);
    let strong = object("fog.s", vec![], vec![symbol("horn", Place::Absolute(2), Binding::Global)]);
    let main = || caller(RelocationKind::Abs64, wanted.clone());
    assert_eq!(first_word(&linked(&[main(), weak.clone(), strong.clone()])), 2);
    assert_eq!(first_word(&linked(&[main(), strong, weak.clone()])), 2);
    assert_eq!(first_word(&linked(&[main(), weak])), 1);
}

#[test]
fn an_undefined_weak_symbol_is_zero_and_a_local_one_is_nobody_elses() {
    let weak = symbol("horn", Place::Undefined, Binding::Weak);
    assert_eq!(first_word(&linked(&[caller(RelocationKind::Abs64, weak)])), 0);

    let wanted = symbol("horn", Place::Undefined, Binding::Global);
    let local = object("fog.s", vec![], vec![symbol("horn", Place::Absolute(2), Binding::Local)]);
    let errors = link(&[caller(RelocationKind::Abs64, wanted), local], &LinkOptions::default());
    assert!(matches!(errors.unwrap_err()[..], [LinkError::Undefined { .. }]));
}

#[test]
fn sections_keep_their_alignment_when_they_join() {
    let first = object(
        "lamp.s",
        vec![section(".text", 5, 1), section(".data", 3, 1)],
        vec![symbol("_start", at(0, 0), Binding::Global)],
    );
    let second = object(
        "tide.s",
        vec![section(".text", 5, 16), section(".data", 8, 8), section(".bss", 100, 32)],
        vec![
            symbol("tide", at(1, 0), Binding::Local),
            symbol("log", at(2, 4), Binding::Local),
            symbol("mean", at(0, 0), Binding::Local),
        ],
    );
    let image = linked(&[first, second]);
    let address = |name: &str| image.symbol(name).unwrap().address;
    assert_eq!(address("mean"), 0x40_1010);
    assert_eq!(address("tide") % 8, 0);
    assert_eq!((address("log") - 4) % 32, 0);
    // What has no contents takes no space in the file, and follows what has.
    let data = image.segments.last().unwrap();
    assert!(data.write && !data.exec);
    assert_eq!(data.data.len(), 16);
    assert_eq!(data.end(), address("log") - 4 + 100);
}

#[test]
fn no_page_is_both_writable_and_executable() {
    for &arch in Arch::ALL {
        let mut all = object(
            "lamp.s",
            vec![
                section(".text", 1, 1),
                section(".rodata", 1, 1),
                section(".data", 1, 1),
                section(".bss", 1, 1),
            ],
            vec![symbol("_start", at(0, 0), Binding::Global)],
        );
        all.arch = arch;
        let image = linked(&[all]);
        for (a, b) in image.segments.iter().zip(&image.segments[1..]) {
            assert!(a.end().next_multiple_of(4096) <= b.address & !4095);
        }
        assert!(image.segments.iter().all(|s| !(s.write && s.exec)));
    }
}

#[test]
fn fields_that_cannot_hold_a_value_name_the_symbol_and_the_place() {
    let far = symbol("buoy", Place::Absolute(1 << 40), Binding::Global);
    let mut main = caller(RelocationKind::Rel32, far);
    main.sections[0].lines = vec![Line { offset: 0, file: 0, line: 12 }];
    let errors = link(&[main], &LinkOptions::default()).unwrap_err();
    let [LinkError::OutOfReach { name, reference, source }] = &errors[..] else {
        panic!("{errors:?}")
    };
    assert_eq!((name.as_str(), reference.file.as_str(), reference.line), ("buoy", "lamp.s", 12));
    assert!(source.value > *source.range.end());
}

#[test]
fn objects_for_different_machines_do_not_link_and_nothing_is_nothing() {
    let x86 = object(
        "lamp.s",
        vec![section(".text", 1, 1)],
        vec![symbol("_start", at(0, 0), Binding::Global)],
    );
    let arm = Object { arch: Arch::Arm64, ..object("board.s", vec![], vec![]) };
    let errors = link(&[x86, arm], &LinkOptions::default()).unwrap_err();
    assert_eq!(errors[0].to_string(), "`board.s` is for arm64, but `lamp.s` is for x86-64");
    assert_eq!(link(&[], &LinkOptions::default()).unwrap_err(), [LinkError::Nothing]);
}

#[test]
fn another_entry_can_be_chosen_and_a_missing_one_says_what_is_there() {
    let main = object(
        "lamp.s",
        vec![section(".text", 4, 1)],
        vec![symbol("main", at(0, 2), Binding::Global)],
    );
    let options = LinkOptions { entry: "main".into(), ..LinkOptions::default() };
    assert_eq!(link(std::slice::from_ref(&main), &options).unwrap().entry, 0x40_1002);
    let errors = link(&[main], &LinkOptions::default()).unwrap_err();
    assert!(matches!(errors[..], [LinkError::NoEntry { has_main: true, local: false, .. }]));
}

#[test]
fn symbols_and_lines_are_found_by_address_and_back() {
    let mut text = section(".text", 16, 1);
    text.lines =
        [(0, 4), (5, 5), (9, 8)].map(|(offset, line)| Line { offset, file: 0, line }).to_vec();
    let symbols = vec![
        symbol("_start", at(0, 0), Binding::Global),
        symbol("start", at(0, 0), Binding::Local),
        symbol("mean", at(0, 9), Binding::Local),
        symbol("count", Place::Absolute(0x40_1005), Binding::Local),
    ];
    let image = linked(&[object("lamp.s", vec![text], symbols)]);
    let near =
        |address: u64| image.symbol_before(address).map(|(s, offset)| (s.name.as_str(), offset));
    // Of two at one place the widely seen one counts, and a number is no place.
    assert_eq!(near(0x40_1000), Some(("_start", 0)));
    assert_eq!(near(0x40_1008), Some(("_start", 8)));
    assert_eq!(near(0x40_1009), Some(("mean", 0)));
    assert_eq!(near(0x40_1010), None);
    assert_eq!(near(0x50_0000), None);
    let line = |address: u64| image.lines.at(address).map(|place| place.line);
    assert_eq!([0, 4, 5, 9, 15].map(|n| line(0x40_1000 + n)), [4, 4, 5, 8, 8].map(Some));
    assert_eq!((line(0x40_0fff), line(0x40_1010)), (None, None));
    // A line that laid nothing down stands for the next one that did.
    assert_eq!(image.lines.address_of(0, 5), Some(0x40_1005));
    assert_eq!(image.lines.address_of(0, 6), Some(0x40_1009));
    assert_eq!(image.lines.address_of(0, 9), None);
    // Sizes reach to the next symbol, or to the end of the section.
    assert_eq!(image.symbol("_start").unwrap().size, 9);
    assert_eq!(image.symbol("mean").unwrap().size, 7);
}

#[test]
fn common_symbols_share_room_as_large_as_the_largest_and_give_way_to_a_definition() {
    let common = |size, align| symbol("log", Place::Common(size, align), Binding::Global);
    let small = caller(RelocationKind::Abs64, common(4, 4));
    let large = object("fog.s", vec![], vec![common(64, 32)]);
    let image = linked(&[small.clone(), large.clone()]);
    let log = image.symbol("log").unwrap();
    assert_eq!((log.size, log.address % 32), (64, 0));
    assert_eq!(first_word(&image), log.address);
    let defined = object(
        "tide.s",
        vec![section(".data", 8, 8)],
        vec![symbol("log", at(0, 4), Binding::Global)],
    );
    let image = linked(&[small, large, defined]);
    assert_eq!(image.symbols.iter().filter(|s| s.name == "log").count(), 1);
    assert!(image.segments.iter().all(|s| s.memory_size < 64), "no room is made");
}

#[test]
fn archives_give_only_what_is_needed_and_what_that_needs() {
    let member = |file: &str, defines: &str, needs: Option<&str>| {
        let mut symbols = vec![symbol(defines, at(0, 0), Binding::Global)];
        symbols.extend(needs.map(|name| symbol(name, Place::Undefined, Binding::Global)));
        object(file, vec![section(".text", 4, 1)], symbols)
    };
    let archive = vec![
        member("unused.o", "unused", None),
        member("air.o", "air", None),
        member("horn.o", "horn", Some("air")),
        // A second one of the same name is not taken.
        member("other.o", "horn", None),
    ];
    let main = caller(RelocationKind::Rel32, symbol("horn", Place::Undefined, Binding::Global));
    let all = with_members(vec![(0, main.clone())], vec![(1, archive.clone())], "_start");
    let files: Vec<_> = all.iter().map(|o| o.files[0].as_str()).collect();
    assert_eq!(files, ["lamp.s", "horn.o", "air.o"]);
    // A weak reference does not ask for a member; the entry symbol does.
    let weak = caller(RelocationKind::Rel32, symbol("horn", Place::Undefined, Binding::Weak));
    assert_eq!(with_members(vec![(0, weak)], vec![(1, archive)], "_start").len(), 1);
    let start = vec![member("start.o", "_start", None)];
    assert_eq!(with_members(vec![], vec![(0, start)], "_start").len(), 1);
}

#[test]
fn the_global_offset_table_holds_what_instructions_cannot_do_without() {
    let target = symbol("tide", at(1, 4), Binding::Global);
    let mut object = caller(RelocationKind::GotRel32, target);
    object.sections.push(section(".data", 8, 8));
    // add rax, [rip + tide@gotpcrel]
    object.sections[0].data[..7].copy_from_slice(&[0x48, 0x03, 0x05, 0, 0, 0, 0]);
    object.sections[0].relocations[0].offset = 3;
    object.sections[0].relocations[0].addend = -4;
    let image = linked(std::slice::from_ref(&object));
    let text = &image.segments[0];
    let distance = i32::from_le_bytes(text.data[3..7].try_into().unwrap());
    let entry = (text.address + 7).wrapping_add_signed(i64::from(distance));
    let segment = image.segment_at(entry).unwrap();
    let at = (entry - segment.address) as usize;
    let held = u64::from_le_bytes(segment.data[at..at + 8].try_into().unwrap());
    assert_eq!(held, image.symbol("tide").unwrap().address);
    // A MOV does without, at any address.
    object.sections[0].data[1] = 0x8b;
    object.sections[0].relocations[0].kind = RelocationKind::GotRel32Relaxable;
    let options = LinkOptions { position_independent: true, ..LinkOptions::default() };
    let image = link(&[object], &options).unwrap();
    assert_eq!(image.segments[0].data[1], 0x8d, "it became LEA");
    assert!(!image.parts.iter().any(|part| part.section == ".got"));
}

#[test]
fn position_independent_programs_refuse_addresses_and_take_distances() {
    let options = LinkOptions { position_independent: true, ..LinkOptions::default() };
    let kinds = [
        (RelocationKind::Abs64, false),
        (RelocationKind::Abs32Signed, false),
        (RelocationKind::Rel32, true),
        (RelocationKind::Plt32, true),
    ];
    for (kind, fits) in kinds {
        let image = link(&[caller(kind, symbol("tide", at(0, 4), Binding::Global))], &options);
        assert_eq!(image.is_ok(), fits, "{kind:?}");
        if let Err(errors) = image {
            assert!(
                matches!(&errors[..], [LinkError::NeedsAddress { name, .. }] if name == "tide")
            );
        }
        // A number stays what it is wherever the program is.
        let number = symbol("limit", Place::Absolute(5), Binding::Global);
        assert_eq!(link(&[caller(kind, number)], &options).is_ok(), !fits, "{kind:?}");
    }
}

#[test]
fn sections_of_a_family_join_under_its_name() {
    let names = [".text.startup", ".rodata.str1.1", ".data.rel.ro.local", ".bss.log", ".textile"];
    let mut sections: Vec<Section> = names.iter().map(|name| section(name, 4, 4)).collect();
    sections[4].flags = SectionFlags { alloc: true, ..SectionFlags::default() };
    let start = symbol("_start", at(0, 0), Binding::Global);
    let image = linked(&[object("lamp.s", sections, vec![start])]);
    let mut joined: Vec<_> =
        image.segments.iter().flat_map(|s| &s.sections).map(|s| s.0.as_str()).collect();
    joined.sort_unstable();
    assert_eq!(joined, [".bss", ".data.rel.ro", ".rodata", ".text", ".textile"]);
}

#[test]
fn a_program_with_nothing_in_it_is_refused() {
    let start = symbol("_start", Place::Absolute(5), Binding::Global);
    let empty = object("lamp.s", vec![], vec![start]);
    assert_eq!(link(&[empty], &LinkOptions::default()).unwrap_err(), [LinkError::Empty]);
    assert_eq!(link(&[], &LinkOptions::default()).unwrap_err(), [LinkError::Nothing]);
}
