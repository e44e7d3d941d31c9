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
        hidden: false,
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
    Object { arch: Arch::X86_64, files: vec![file.into()], sections, symbols, unwind: Vec::new() }
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
