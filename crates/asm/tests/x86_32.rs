//! 32-bit mode in sources: what is chosen, what is refused, and what objects hold.

use sotto_asm::{Assembly, Code, Options, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{
    LinkOptions, Object, RelocationKind, link, read_executable, read_object, write_executable,
    write_object,
};

fn assembly(text: &str) -> Assembly {
    let source = Source { name: "bell.s".into(), text: text.into() };
    assemble(&source, &Options::for_target(Arch::X86_32))
}

fn object(text: &str) -> Object {
    let assembly = assembly(text);
    let messages: Vec<_> = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    assembly.object.unwrap_or_else(|| panic!("{text}: {messages:?}"))
}

fn code(text: &str) -> Vec<u8> {
    object(&format!(" .extern bell\n {text}\n")).sections[0].data.clone()
}

#[test]
fn the_short_forms_of_the_mode_are_chosen() {
    let cases: [(&str, &[u8]); 12] = [
        ("inc ecx", &[0x41]),
        ("dec word [ebx]", &[0x66, 0xff, 0x0b]),
        ("push 5", &[0x6a, 5]),
        ("push ebp", &[0x55]),
        ("mov eax, [bell]", &[0xa1, 0, 0, 0, 0]),
        ("mov ecx, [bell]", &[0x8b, 0x0d, 0, 0, 0, 0]),
        ("mov eax, [0xffffe000]", &[0xa1, 0, 0xe0, 0xff, 0xff]),
        ("lea ebx, [esi + edi*4 + bell]", &[0x8d, 0x9c, 0xbe, 0, 0, 0, 0]),
        ("call [bell + eax*4]", &[0xff, 0x14, 0x85, 0, 0, 0, 0]),
        ("mov al, [bx + si + 5]", &[0x67, 0x8a, 0x40, 5]),
        ("mov es:[edi], al", &[0x26, 0x88, 0x07]),
        ("mov gs, ax", &[0x8e, 0xe8]),
    ];
    for (text, wanted) in cases {
        assert_eq!(code(text), wanted, "{text}");
    }
    let source_first = [
        ("movl bell, %eax", &[0xa1, 0, 0, 0, 0][..]),
        ("pushl $bell", &[0x68, 0, 0, 0, 0]),
        ("shldl %esi, -36(%ebp)", &[0x0f, 0xa5, 0x75, 0xdc]),
        ("movsl", &[0xa5]),
        ("ret", &[0xc3]),
    ];
    for (text, wanted) in source_first {
        assert_eq!(code(&format!(".operands source-first\n {text}")), wanted, "{text}");
    }
}

#[test]
fn targets_of_16_bits_are_for_addresses_that_are_known() {
    use sotto_asm::assemble_instruction;
    use sotto_isa::OperandOrder::{DestinationFirst, SourceFirst};
    let one = |order, text: &str| {
        assemble_instruction(Arch::X86_32, order, text, 0x804_9000).map_err(|d| d.message.clone())
    };
    let cases = [
        (DestinationFirst, "data16 jmp 0x9001", &[0x66, 0xeb, 0xfe][..]),
        (DestinationFirst, "DATA16 JZ 0x9010", &[0x66, 0x74, 0x0d]),
        (DestinationFirst, "data16 jnz 0x1000", &[0x66, 0x0f, 0x85, 0xfb, 0x7f]),
        (DestinationFirst, "data16 call 0", &[0x66, 0xe8, 0xfc, 0x6f]),
        (DestinationFirst, "data16 ret", &[0x66, 0xc3]),
        (SourceFirst, "data16 jmp *%bx", &[0x66, 0xff, 0xe3]),
        (SourceFirst, "data16 loop 0x9000", &[0x66, 0xe2, 0xfd]),
    ];
    for (order, text, wanted) in cases {
        assert_eq!(one(order, text).as_deref(), Ok(wanted), "{text}");
    }
    let beyond = one(DestinationFirst, "data16 jmp 0x10000").unwrap_err();
    assert!(beyond.contains("65536 does not fit"), "{beyond}");
    // Where a label comes to be is known only when the program is linked.
    let source = Source { name: "bell.s".into(), text: "bell: data16 jz bell\n".into() };
    let assembly = assemble(&source, &Options::for_target(Arch::X86_32));
    let message = &assembly.diagnostics[0].message;
    assert!(message.contains("below 64 KiB, where the kernel lets no program"), "{message}");
}

#[test]
fn what_only_the_other_mode_has_is_named() {
    let message = |target, text: &str| {
        let source = Source { name: "bell.s".into(), text: text.into() };
        let assembly = assemble(&source, &Options::for_target(target));
        let error = assembly.diagnostics.first().unwrap_or_else(|| panic!("{text}")).clone();
        (error.code, error.message.clone(), format!("{error:?}"))
    };
    let (code, text, more) = message(Arch::X86_64, " pusha");
    assert_eq!((code, &*text), (Code::UnknownInstruction, "no instruction `pusha` on x86-64"));
    assert!(more.contains("`pusha` is an instruction of x86-32"), "{more}");
    let (code, text, more) = message(Arch::X86_32, " mov rax, 1");
    assert_eq!((code, &*text), (Code::UndefinedSymbol, "no symbol `rax`"));
    assert!(more.contains("`rax` is a register of x86-64"), "{more}");
    let (code, text, _) = message(Arch::X86_32, " mov eax, [0x123456789]");
    assert_eq!(code, Code::OutOfRange, "{text}");
    let (_, text, more) = message(Arch::X86_64, " mov eax, es:[rdi]");
    assert_eq!(text, "`es` has no effect on an address in 64-bit mode");
    assert!(more.contains("only `fs` and `gs`"), "{more}");
    let (_, text, _) = message(Arch::X86_32, " mov al, [ax]");
    assert!(text.contains("16-bit address"), "{text}");
}

#[test]
fn references_through_the_table_have_their_relocations() {
    let text = "        .extern bell\n        .section .rodata\nplaces: .long .near@gotoff\n        .text\n.near:  add     ebx, offset _GLOBAL_OFFSET_TABLE_\n        mov     eax, [ebx + bell@got]\n        lea     eax, [ebx + places@gotoff]\n        call    bell@plt\n        .long   bell\n";
    let source = Source { name: "bell.s".into(), text: text.into() };
    let options = Options { externals: true, ..Options::for_target(Arch::X86_32) };
    let object = assemble(&source, &options).object.unwrap();
    let kinds = |object: &Object, name: &str| -> Vec<_> {
        let section = object.sections.iter().find(|section| section.name == name).unwrap();
        section.relocations.iter().map(|r| (r.offset, r.kind, r.addend)).collect()
    };
    let wanted = [
        // The distance to the table counts from the instruction, two bytes before the field.
        (2, RelocationKind::GotDistance32, 2),
        (8, RelocationKind::GotEntry32, 0),
        (14, RelocationKind::GotOffset32, 0),
        (19, RelocationKind::Plt32, -4),
        (23, RelocationKind::Abs32, 0),
    ];
    assert_eq!(kinds(&object, ".text"), wanted);
    assert_eq!(kinds(&object, ".rodata"), [(0, RelocationKind::GotOffset32, 0)]);
    // The addends are in the fields of the file, and are found there again.
    let back = read_object("bell.o", &write_object(&object).unwrap()).unwrap();
    assert_eq!(back.arch, Arch::X86_32);
    assert_eq!(kinds(&back, ".text"), wanted);
}

#[test]
fn sections_of_groups_are_kept_apart_and_linked_once() {
    let thunk = "        .section .text.bell_place,\"axG\",@progbits,bell_place,comdat\n        .globl bell_place\n        .hidden bell_place\nbell_place: mov ebx, [esp]\n        ret\n";
    let first = format!("        .globl _start\n_start: call bell_place\n{thunk}");
    let second = format!("        .globl ring\nring: call bell_place\n{thunk}");
    let objects = [object(&first), object(&second)];
    for made in &objects {
        assert_eq!(made.groups.len(), 1);
        let back = read_object("bell.o", &write_object(made).unwrap()).unwrap();
        assert_eq!(back.groups, made.groups);
    }
    let image = link(&objects, &LinkOptions::default()).unwrap();
    let copies = image.symbols.iter().filter(|symbol| symbol.name == "bell_place").count();
    assert_eq!(copies, 1);
    // Both calls reach the one copy.
    let place = image.symbol("bell_place").unwrap().address;
    for name in ["_start", "ring"] {
        let at = image.symbol(name).unwrap().address;
        let start = (at - image.segments[0].address) as usize;
        let field = &image.segments[0].data[start + 1..start + 5];
        let distance = i32::from_le_bytes(field.try_into().unwrap());
        assert_eq!((at + 5).wrapping_add_signed(distance.into()), place, "{name}");
    }
    // Without its name a group is refused.
    let bad = assembly("        .section .text.x,\"axG\",@progbits\n");
    assert!(bad.diagnostics[0].message.contains("the group's name"));
}

#[test]
fn executables_are_of_the_32_bit_class_and_are_read_back() {
    let image =
        link(&[object(" .globl _start\n_start: mov eax, 1\n int 0x80\n")], &LinkOptions::default())
            .unwrap();
    let bytes = write_executable(&image);
    assert_eq!(bytes[4], 1, "ELFCLASS32");
    assert_eq!(bytes[18..20], [3, 0], "EM_386");
    let back = read_executable(&bytes).unwrap();
    assert_eq!((back.arch, back.entry), (Arch::X86_32, image.entry));
    assert_eq!(back.lines.rows, image.lines.rows);
    // A file of the other class for this machine is not ours.
    let mut odd = bytes;
    odd[18..20].copy_from_slice(&[62, 0]);
    assert!(read_executable(&odd).unwrap_err().to_string().contains("not supported"));
}
