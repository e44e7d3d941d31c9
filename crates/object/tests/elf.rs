//! What we write is read back by a library that only reads, and what we read may be hostile.

use elf_layout::{Object as _, ObjectSection as _, ObjectSegment as _, ObjectSymbol as _};
use proptest::prelude::*;
use sotto_isa::Arch;
use sotto_object::*;

fn lamp(arch: Arch) -> Image {
    let section = |name: &str, data: &[u8], size| Section {
        name: name.into(),
        flags: SectionFlags::by_name(name),
        align: 4,
        data: data.to_vec(),
        size,
        relocations: Vec::new(),
        lines: Vec::new(),
    };
    let symbol = |name: &str, section, offset, binding| Symbol {
        name: name.into(),
        place: Place::Section(SectionIndex(section), offset),
        binding,
        visibility: Visibility::Default,
        kind: SymbolKind::None,
        size: 0,
        datum: None,
        defined_at: None,
    };
    let object = Object {
        arch,
        files: vec!["lamp.s".into()],
        sections: vec![
            section(".text", &[0x90; 12], 12),
            section(".rodata", b"lamp lit\n", 9),
            section(".data", &[1, 2, 3, 4], 4),
            section(".bss", &[], 100),
        ],
        symbols: vec![
            symbol("_start", 0, 0, Binding::Global),
            symbol("text", 1, 0, Binding::Local),
            symbol("tide", 2, 0, Binding::Local),
            symbol("log", 3, 0, Binding::Global),
        ],
        unwind: Vec::new(),
        groups: Vec::new(),
        stated_lines: None,
        labels: Vec::new(),
    };
    link(&[object], &LinkOptions::default()).unwrap()
}

#[test]
fn a_reading_library_finds_every_segment_section_and_symbol() {
    for &arch in Arch::ALL {
        let image = lamp(arch);
        let bytes = write_executable(&image);
        let file = elf_layout::File::parse(&*bytes).unwrap();
        assert_eq!(file.kind(), elf_layout::ObjectKind::Executable);
        assert_eq!(file.entry(), image.entry);
        let loaded: Vec<_> = file.segments().map(|s| (s.address(), s.size())).collect();
        let wanted: Vec<_> = image.segments.iter().map(|s| (s.address, s.memory_size)).collect();
        assert_eq!(loaded, wanted);
        for (segment, wanted) in file.segments().zip(&image.segments) {
            assert_eq!(segment.data().unwrap(), wanted.data);
        }
        let text = file.section_by_name(".rodata").unwrap();
        assert_eq!(text.data().unwrap(), b"lamp lit\n");
        assert_eq!(file.section_by_name(".bss").unwrap().size(), 100);
        for wanted in &image.symbols {
            let symbol = file.symbol_by_name(&wanted.name).unwrap();
            assert_eq!((symbol.address(), symbol.size()), (wanted.address, wanted.size));
            assert_eq!(symbol.is_global(), wanted.binding == Binding::Global);
        }
    }
}

#[test]
fn our_reader_gives_back_what_our_writer_was_given() {
    for &arch in Arch::ALL {
        let image = lamp(arch);
        let bytes = write_executable(&image);
        assert_eq!(bytes, write_executable(&image), "the same image gives the same bytes");
        let back = read_executable(&bytes).unwrap();
        assert_eq!((back.arch, back.entry), (image.arch, image.entry));
        // Where a symbol was defined is not in the symbol table.
        let mut wanted = image.symbols.clone();
        wanted.iter_mut().for_each(|symbol| symbol.defined_at = None);
        assert_eq!(back.symbols, wanted);
        for (a, b) in back.segments.iter().zip(&image.segments) {
            assert_eq!((a.address, &a.data, a.memory_size), (b.address, &b.data, b.memory_size));
            assert_eq!((a.write, a.exec, &a.sections), (b.write, b.exec, &b.sections));
        }
    }
}

#[test]
fn files_that_are_not_programs_are_told_apart() {
    let good = write_executable(&lamp(Arch::X86_64));
    let with = |offset: usize, bytes: &[u8]| {
        let mut file = good.clone();
        file[offset..offset + bytes.len()].copy_from_slice(bytes);
        read_executable(&file).unwrap_err().to_string()
    };
    assert_eq!(read_executable(b"tide 4 7 9").unwrap_err(), ReadError::NotElf);
    assert!(with(18, &[8, 0]).contains("e_machine 8"));
    assert!(with(16, &[1, 0]).contains("e_type 1"));
    // Program headers start at 64; p_offset is at 8, p_vaddr at 16, p_filesz at 32, p_memsz at 40.
    assert!(with(64 + 8, &u64::MAX.to_le_bytes()).contains("p_offset"));
    assert!(with(64 + 40, &1u64.to_le_bytes()).contains("p_memsz"));
    assert!(with(64 + 40, &(1u64 << 40).to_le_bytes()).contains("4 GiB"));
    assert!(with(64 + 16, &(u64::MAX - 5).to_le_bytes()).contains("p_vaddr"));
    for cut in 0..good.len().min(600) {
        assert!(read_executable(&good[..cut]).is_err(), "cut at {cut}");
    }
}

proptest! {
    #[test]
    fn damaged_files_are_read_or_refused_without_a_panic(
        changes in proptest::collection::vec((0usize..13_000, any::<u8>()), 1..20)
    ) {
        let mut file = write_executable(&lamp(Arch::X86_64));
        for (at, value) in changes {
            let at = at % file.len();
            file[at] = value;
        }
        let _ = read_executable(&file);
    }
}
