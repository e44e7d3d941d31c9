//! Relocatable objects, as others read them: libraries that only read ELF and DWARF, the system's
//! linker, the kernel, and the C library's unwinder.

use std::path::{Path, PathBuf};
use std::process::Command;

use addr2line::Context;
use gimli::{EndianRcSlice, LittleEndian};
use goblin::elf::Elf;
use goblin::elf::{header, reloc, section_header, sym};
use sotto_asm::{Options, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{
    LinkOptions, Object, Place, SymbolKind, link, read_executable, read_object, write_executable,
    write_object,
};

/// The tide gauge's routine: data in every section, a frame, a call out.
const TIDE: &str = "\
        .global tide_mean, tide_calls
        .hidden tide_inner
        .weak   tide_spare
        .section .rodata
text:   .asciz  \"mean\"
limit   equ     99
        .data
tide_calls: dd  0
table:  dq      text, tide_mean, tide_inner
        .bss
room:   .skip   24
        .text
tide_mean:
        push    rbp
        mov     rbp, rsp
        push    rbx
        sub     rsp, 24
        mov     rbx, rdi
        lea     rdi, [text]
        call    report
        mov     eax, [rbx]
        add     dword [tide_calls], 1
        call    tide_inner
        add     rsp, 24
        pop     rbx
        pop     rbp
        ret
        .global tide_inner
tide_inner:
        push    r12
        xor     r12d, r12d
        call    report@plt
        pop     r12
        ret
        .comm   tide_shared, 32, 16
";

fn object(name: &str, text: &str) -> Object {
    let source = Source { name: name.into(), text: text.into() };
    let options = Options { externals: true, ..Options::for_target(Arch::X86_64) };
    let assembly = assemble(&source, &options);
    assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics))
}

/// Whether the compiler is there. Without it the test is skipped, which it says; in CI it must be there.
fn has(compiler: &str) -> bool {
    let found = Command::new(compiler).arg("--version").output().is_ok();
    if !found {
        assert!(std::env::var_os("CI").is_none(), "{compiler} must be installed in CI");
        eprintln!("skipped: {compiler} is not installed");
    }
    found
}

fn cc(folder: &Path, words: &[&str]) -> std::process::Output {
    Command::new("cc").current_dir(folder).args(words).output().unwrap()
}

#[test]
fn a_reading_library_finds_every_section_symbol_and_relocation() {
    let object = object("tide.s", TIDE);
    let bytes = write_object(&object).unwrap();
    assert_eq!(bytes, write_object(&object).unwrap(), "the same object gives the same bytes");
    let elf = Elf::parse(&bytes).unwrap();
    assert_eq!((elf.header.e_type, elf.header.e_machine), (header::ET_REL, header::EM_X86_64));
    let name = |offset: usize| elf.shdr_strtab.get_at(offset).unwrap();
    for wanted in &object.sections {
        let section = elf
            .section_headers
            .iter()
            .find(|s| name(s.sh_name) == wanted.name)
            .expect(&wanted.name);
        let flag = |bit: u32| section.sh_flags & u64::from(bit) != 0;
        assert_eq!(section.sh_size, wanted.size, "{}", wanted.name);
        assert_eq!(section.sh_addralign, wanted.align, "{}", wanted.name);
        assert_eq!(flag(section_header::SHF_WRITE), wanted.flags.write, "{}", wanted.name);
        assert_eq!(flag(section_header::SHF_EXECINSTR), wanted.flags.exec, "{}", wanted.name);
        assert_eq!(section.sh_type == section_header::SHT_NOBITS, wanted.flags.nobits);
        if !wanted.flags.nobits {
            assert_eq!(bytes[section.file_range().unwrap()], wanted.data, "{}", wanted.name);
        }
    }
    let stack = elf.section_headers.iter().find(|s| name(s.sh_name) == ".note.GNU-stack").unwrap();
    assert_eq!(stack.sh_flags, 0, "the stack need not be executable");

    let symbols: Vec<_> = elf
        .syms
        .iter()
        .map(|s| (elf.strtab.get_at(s.st_name).unwrap(), s))
        .filter(|(name, _)| !name.is_empty())
        .collect();
    let get = |wanted: &str| symbols.iter().find(|(name, _)| *name == wanted).expect(wanted).1;
    for wanted in object.symbols.iter().filter(|s| s.kind != SymbolKind::Section) {
        let symbol = get(&wanted.name);
        match wanted.place {
            Place::Undefined => assert_eq!(symbol.st_shndx, 0, "{}", wanted.name),
            Place::Section(_, offset) => assert_eq!(symbol.st_value, offset, "{}", wanted.name),
            Place::Absolute(value) => {
                assert_eq!((symbol.st_value, symbol.st_shndx), (value, 0xfff1), "{}", wanted.name);
            }
            Place::Common(size, align) => {
                assert_eq!((symbol.st_size, symbol.st_value), (size, align));
                assert_eq!(symbol.st_shndx, 0xfff2);
            }
        }
    }
    assert!(!symbols.iter().any(|(name, _)| name.starts_with('.')), "dotted labels stay out");
    let facts = |name: &str| (get(name).st_bind(), get(name).st_type(), get(name).st_size);
    let whole = object.sections[0].size;
    let inner = get("tide_inner").st_value;
    assert_eq!(facts("tide_mean"), (sym::STB_GLOBAL, sym::STT_FUNC, inner));
    assert_eq!(facts("tide_inner"), (sym::STB_GLOBAL, sym::STT_FUNC, whole - inner));
    assert_eq!(get("tide_inner").st_visibility(), sym::STV_HIDDEN);
    assert_eq!(facts("tide_calls"), (sym::STB_GLOBAL, sym::STT_OBJECT, 4));
    assert_eq!(facts("table"), (sym::STB_LOCAL, sym::STT_OBJECT, 24));
    assert_eq!(facts("tide_spare").0, sym::STB_WEAK);
    assert_eq!(facts("report").0, sym::STB_GLOBAL);

    let relocations = |section: &str| -> Vec<(u64, u32, String)> {
        let index = elf.section_headers.iter().position(|s| name(s.sh_name) == section).unwrap();
        let (_, table) = elf
            .shdr_relocs
            .iter()
            .find(|(at, _)| elf.section_headers[*at].sh_info as usize == index)
            .unwrap();
        table
            .iter()
            .map(|r| {
                let symbol = elf.syms.get(r.r_sym).unwrap();
                (r.r_offset, r.r_type, elf.strtab.get_at(symbol.st_name).unwrap().to_string())
            })
            .collect()
    };
    let kinds: Vec<_> =
        relocations(".text").into_iter().map(|(_, kind, name)| (kind, name)).collect();
    let wanted = [
        (reloc::R_X86_64_PC32, "text"),
        (reloc::R_X86_64_PLT32, "report"),
        (reloc::R_X86_64_PC32, "tide_calls"),
        (reloc::R_X86_64_PLT32, "report"),
    ];
    assert_eq!(kinds, wanted.map(|(kind, name)| (kind, name.to_string())));
    let data: Vec<_> = relocations(".data").into_iter().map(|(at, _, name)| (at, name)).collect();
    assert_eq!(data, [(4, "text".into()), (12, "tide_mean".into()), (20, "tide_inner".into())]);
}

#[test]
fn our_reader_gives_back_what_our_writer_was_given() {
    let object = object("tide.s", TIDE);
    let back = read_object("tide.o", &write_object(&object).unwrap()).unwrap();
    for wanted in &object.sections {
        let section = back.sections.iter().find(|s| s.name == wanted.name).unwrap();
        assert_eq!((section.align, section.size), (wanted.align, wanted.size));
        assert_eq!((section.flags, &section.data), (wanted.flags, &wanted.data));
        let named = |object: &Object, relocations: &[sotto_object::Relocation]| -> Vec<_> {
            let one = |r: &sotto_object::Relocation| {
                (r.offset, r.kind, object.symbols[r.symbol.position()].name.clone(), r.addend)
            };
            relocations.iter().map(one).collect()
        };
        assert_eq!(named(&back, &section.relocations), named(&object, &wanted.relocations));
    }
    for wanted in object.symbols.iter().filter(|s| s.kind != SymbolKind::Section) {
        let symbol = back.symbols.iter().find(|s| s.name == wanted.name).expect(&wanted.name);
        assert_eq!((symbol.binding, symbol.visibility), (wanted.binding, wanted.visibility));
        assert_eq!(symbol.place, wanted.place, "{}", wanted.name);
    }
}

/// Links the tide gauge with a C program in a folder of its own.
fn linked(main: &str, flags: &[&str]) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let bytes = write_object(&object("tide.s", TIDE)).unwrap();
    std::fs::write(folder.path().join("tide.o"), bytes).unwrap();
    std::fs::write(folder.path().join("main.c"), main).unwrap();
    let mut words = vec!["tide.o", "main.c", "-o", "tide"];
    words.extend(flags);
    let output = cc(folder.path(), &words);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    let path = folder.path().join("tide");
    (folder, path)
}

const MAIN: &str = "\
#include <stdio.h>
int tide_mean(int *);
extern int tide_calls;
extern char tide_shared[32];
void report(const char *text) { printf(\"report %d\\n\", tide_calls); (void)text; }
int main(void) { int t[] = { 41 }; int r = tide_mean(t); printf(\"%d %d\\n\", r & 0, tide_calls + tide_shared[3]); return 0; }
";

#[test]
fn the_systems_compiler_links_our_objects_and_the_kernel_runs_them() {
    if !has("cc") {
        return;
    }
    for flags in [&["-pie"][..], &["-no-pie"]] {
        let (_folder, path) = linked(MAIN, flags);
        let output = Command::new(path).output().unwrap();
        assert_eq!(
            String::from_utf8_lossy(&output.stdout),
            "report 0\nreport 1\n0 1\n",
            "{flags:?}"
        );
        assert_eq!(output.status.code(), Some(0));
    }
}

/// A compiler's linker explains what our documentation explains.
#[test]
fn absolute_addresses_are_refused_by_the_linker_for_position_independent_programs() {
    if !has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let text = ".global main\n.data\ntide: dd 4\n.text\nmain: mov rdi, tide\n xor eax, eax\n ret\n";
    let bytes = write_object(&object("fog.s", text)).unwrap();
    std::fs::write(folder.path().join("fog.o"), bytes).unwrap();
    let refused = cc(folder.path(), &["-pie", "fog.o", "-o", "fog"]);
    let message = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success());
    assert!(message.contains("R_X86_64_32S") && message.contains("PIE"), "{message}");
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/linking.md");
    assert!(std::fs::read_to_string(docs).unwrap().contains("R_X86_64_32S"));
    assert!(cc(folder.path(), &["-no-pie", "fog.o", "-o", "fog"]).status.success());
}

/// The lines of the tide gauge in a linked program, by a library that only reads DWARF.
#[test]
fn every_line_is_found_again_in_the_linked_program() {
    let object = object("tide.s", TIDE);
    // Our own linker, with the one routine that is missing.
    let report = ".global report\nreport: ret\n .global _start\n_start: ret\n";
    let report = self::object("report.s", report);
    let image = link(&[object.clone(), report], &LinkOptions::default()).unwrap();
    lines_are_found(&object, &write_executable(&image));
    if has("cc") {
        let (_folder, path) = linked(MAIN, &["-no-pie"]);
        lines_are_found(&object, &std::fs::read(path).unwrap());
    }
}

fn lines_are_found(object: &Object, bytes: &[u8]) {
    let elf = Elf::parse(bytes).unwrap();
    let load = |id: gimli::SectionId| -> Result<_, gimli::Error> {
        let section = elf
            .section_headers
            .iter()
            .find(|s| elf.shdr_strtab.get_at(s.sh_name) == Some(id.name()));
        let data = section.and_then(|s| s.file_range()).map_or(&[][..], |range| &bytes[range]);
        Ok(EndianRcSlice::new(data.into(), LittleEndian))
    };
    let context = Context::from_dwarf(gimli::Dwarf::load(load).unwrap()).unwrap();
    let start = elf
        .syms
        .iter()
        .find(|s| elf.strtab.get_at(s.st_name) == Some("tide_mean"))
        .expect("the routine")
        .st_value;
    let text = &object.sections[0];
    let mut checked = 0;
    for (number, line) in text.lines.iter().enumerate() {
        let end = text.lines.get(number + 1).map_or(text.size, |next| next.offset);
        for offset in line.offset..end {
            let location = context.find_location(start + offset).unwrap().expect("a location");
            assert_eq!(location.line, Some(line.line), "offset {offset}");
            assert!(location.file.unwrap().ends_with("tide.s"));
            checked += 1;
        }
    }
    assert_eq!(checked, text.size);
    // And by ourselves.
    let image = read_executable(bytes);
    let Ok(image) = image else { return }; // it asks for an interpreter
    for line in &text.lines {
        let found = image.lines.at(start + line.offset).unwrap();
        assert_eq!(found.line, line.line);
        assert_eq!(image.lines.files[found.file as usize], "tide.s");
    }
}

#[test]
fn lines_of_an_object_are_read_back_for_linking() {
    let object = object("tide.s", TIDE);
    let back = read_object("tide.o", &write_object(&object).unwrap()).unwrap();
    assert_eq!(back.files, ["tide.o", "tide.s"]);
    let code = |object: &Object| -> Vec<(u64, u32)> {
        object.sections[0].lines.iter().map(|line| (line.offset, line.line)).collect()
    };
    assert_eq!(code(&back), code(&object));
    let mean = back.symbols.iter().find(|symbol| symbol.name == "tide_mean").unwrap();
    let (file, line) = mean.defined_at.unwrap();
    assert_eq!(
        (back.files[file as usize].as_str(), line),
        ("tide.s", 14),
        "the line of its first instruction"
    );
}

/// The C library's unwinder finds `main` from below our frames, in every routine and with and
/// without a frame pointer.
#[test]
fn the_c_librarys_unwinder_passes_our_frames() {
    if !has("cc") {
        return;
    }
    let main = "\
#include <execinfo.h>
#include <stdio.h>
#include <string.h>
int tide_mean(int *);
extern int tide_calls;
extern char tide_shared[32];
void report(const char *text) {
    void *at[20];
    int n = backtrace(at, 20), seen = 0;
    char **names = backtrace_symbols(at, n);
    for (int i = 0; i < n; i++) {
        if (strstr(names[i], \"(tide_mean+\")) seen |= 1;
        if (strstr(names[i], \"(main+\")) seen |= 2;
    }
    printf(\"%d\\n\", seen);
    (void)text;
}
int main(void) { int t[] = { 41 }; return tide_mean(t) + tide_shared[0] != 41 && 0; }
";
    let (_folder, path) = linked(main, &["-rdynamic", "-fomit-frame-pointer", "-O1"]);
    let output = Command::new(path).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "3\n3\n");
}

#[test]
fn unwind_directives_count_where_they_stand() {
    let text = ".global f\nf: .cfi_startproc\n push rbx\n .cfi_def_cfa_offset 16\n .cfi_offset rbx, -16\n pop rbx\n .cfi_adjust_cfa_offset -8\n .cfi_restore %rbx\n ret\n .cfi_endproc\n.global g\ng: push rbx\n pop rbx\n ret\n";
    let object = object("fog.s", text);
    let [f, g] = &object.unwind[..] else { panic!("{:?}", object.unwind) };
    assert_eq!((f.start, f.size, g.start, g.size), (0, 3, 3, 3));
    assert_eq!(f.rules, g.rules, "what the code does is what the directives say");
    assert_eq!(f.rules.iter().map(|(at, _)| *at).collect::<Vec<_>>(), [1, 1, 2, 2]);
}

/// What the compiler prints, in either order of operands, assembles to a program that computes what
/// the compiler's own does.
#[test]
fn compiler_output_in_both_orders_assembles_links_and_computes_the_same() {
    if !has("cc") {
        return;
    }
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data/compiled/buoys.c");
    let source = source.to_str().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let succeed = |words: &[&str]| {
        let output = cc(folder.path(), words);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    };
    let printed = |name: &str| Command::new(folder.path().join(name)).output().unwrap().stdout;
    succeed(&["-DPRINT", source, "-o", "native"]);
    let wanted = printed("native");
    assert!(!wanted.is_empty());
    // Vectors are not there yet.
    let general = ["-fcf-protection=none", "-fno-tree-vectorize", "-mgeneral-regs-only"];
    for level in ["-O0", "-O1", "-O2", "-Os"] {
        for manner in ["att", "intel"] {
            // The compiler's option for the order of operands.
            let manner_flag = ["-m", "asm=", manner].concat();
            let mut words = vec!["-S", "-DPRINT", level, &manner_flag, source, "-o", "buoys.s"];
            words.extend(general);
            succeed(&words);
            let text = std::fs::read_to_string(folder.path().join("buoys.s")).unwrap();
            let bytes = write_object(&object("buoys.s", &text)).unwrap();
            std::fs::write(folder.path().join("buoys.o"), bytes).unwrap();
            succeed(&["buoys.o", "-o", "buoys"]);
            assert_eq!(printed("buoys"), wanted, "{level} {manner}");
        }
    }
}

/// Files keep the numbers that the source gives them, although some have no name and some have the same.
#[test]
fn stated_files_keep_their_numbers() {
    let text = "        .target x86-64\n        .file 4000 \"lamp.c\"\n        .file 3 \"\"\n        .file 4 \"\" \"fog.c\"\n        .file 5 \"\" \"fog.c\"\n        .global _start\n_start:\n        .loc 4000 7 1\n        nop\n        .loc 5 9 1\n        ret\n        .section .debug_info, \"\", @progbits\n        .long unit_end - unit\nunit:   .2byte 5\n        .byte 1, 8\n        .long .debug_abbrev\n        .uleb128 1\n        .long .debug_line\nunit_end:\n        .section .debug_abbrev, \"\", @progbits\n        .uleb128 1, 0x11, 0, 0x10, 0x17, 0, 0, 0\n        .section .debug_line, \"\", @progbits\n";
    let source = Source { name: "lamp.s".into(), text: text.into() };
    let object = assemble(&source, &Options::default()).object.unwrap();
    let stated = object.stated_lines.clone().unwrap();
    assert_eq!(stated.files[4000].1, "lamp.c");
    let written = write_object(&object).unwrap();
    assert!(written.len() < 1 << 20, "{}", written.len());
    let holds = |name: &[u8]| written.windows(name.len()).any(|part| part == name);
    assert!(holds(b"\0fog.c\0") && holds(b"\0unnamed-3\0") && holds(b"./.\0"));
}
