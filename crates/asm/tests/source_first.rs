//! x86 in source-first order: the same bytes as destination first, and errors that name the order.

use sotto_asm::{Assembly, Options, Source, assemble, assemble_instruction};
use sotto_isa::{Arch, NoNames, OperandOrder, decode};

fn assembly(text: &str) -> Assembly {
    let source = Source { name: "fog.s".into(), text: text.into() };
    assemble(&source, &Options::for_target(Arch::X86_64))
}

fn code(text: &str) -> Vec<u8> {
    let assembly = assembly(text);
    let messages: Vec<_> = assembly.diagnostics.iter().map(|d| d.message.clone()).collect();
    let object = assembly.object.unwrap_or_else(|| panic!("{text}: {messages:?}"));
    object.sections[0].data.clone()
}

#[test]
fn both_orders_say_the_same() {
    let cases = [
        ("mov $5, %eax", "mov eax, 5"),
        ("movq %rax, %rbx", "mov rbx, rax"),
        ("movl $7, 8(%rsp)", "mov dword [rsp + 8], 7"),
        ("movb $'x', (%rdi,%rcx)", "mov byte [rdi + rcx], 'x'"),
        ("movw %ax, -2(%rbp,%rsi,4)", "mov [rbp + rsi*4 - 2], ax"),
        ("leaq (,%rcx,8), %rdx", "lea rdx, [rcx*8]"),
        ("leaq 3(%rcx,%rcx,2), %rdx", "lea rdx, [rcx*3 + 3]"),
        ("addl %ebx, %ecx", "add ecx, ebx"),
        ("cmpq $-1, %r8", "cmp r8, -1"),
        ("subq $40, %rsp", "sub rsp, 40"),
        ("imull $12, %esi, %edi", "imul edi, esi, 12"),
        ("movzbl (%rsi), %eax", "movzx eax, byte [rsi]"),
        ("movzwl %cx, %eax", "movzx eax, cx"),
        ("movsbq %al, %rax", "movsx rax, al"),
        ("movslq %edi, %rdi", "movsxd rdi, edi"),
        ("movslq 4(%rdi), %rax", "movsxd rax, dword [rdi + 4]"),
        ("movsb %al, %ecx", "movsx ecx, al"),
        ("cltq", "cdqe"),
        ("cqto", "cqo"),
        ("cltd", "cdq"),
        ("cwtl", "cwde"),
        ("shll %eax", "shl eax, 1"),
        ("sarq $3, %rdx", "sar rdx, 3"),
        ("shlb %cl, (%rax)", "shl byte [rax], cl"),
        ("pushq %rbx", "push rbx"),
        ("pushq $5", "push 5"),
        ("popq %rbx", "pop rbx"),
        ("jmp *%rax", "jmp rax"),
        ("jmp *8(%rax)", "jmp [rax + 8]"),
        ("call *(%rax,%rbx,8)", "call [rax + rbx*8]"),
        ("retq", "ret"),
        ("leaveq", "leave"),
        ("sete %al", "sete al"),
        ("setl %al", "setl al"),
        ("cmovl %eax, %ebx", "cmovl ebx, eax"),
        ("cmovel %eax, %ebx", "cmove ebx, eax"),
        ("notl %ecx", "not ecx"),
        ("incq (%rax)", "inc qword [rax]"),
        ("testb $1, 3(%rax)", "test byte [rax + 3], 1"),
        ("MOVL $1, %EAX", "mov eax, 1"),
        ("movabsq $0x1122334455667788, %rax", "mov rax, 0x1122334455667788"),
        ("mov $(2+3)*4, %eax", "mov eax, 20"),
        ("mov (2+2)(%rax), %eax", "mov eax, [rax + 4]"),
        ("xchgl %eax, (%rdi)", "xchg [rdi], eax"),
        ("rep movsb", "rep movsb"),
        ("rep movsl", "rep movsd"),
        ("repz cmpsb", "repe cmpsb"),
        ("rep cmpsw", "repe cmpsw"),
        ("repnz scasb", "repne scasb"),
        ("rep stosl", "rep stosd"),
        ("movsl", "movsd"),
        ("stosq", "stosq"),
        ("lock addl $1, (%rdi)", "lock add dword [rdi], 1"),
        ("lock cmpxchgq %rcx, 8(%rdx)", "lock cmpxchg [rdx + 8], rcx"),
        ("lock cmpxchg16b (%rdi)", "lock cmpxchg16b [rdi]"),
        ("notrack jmp *%rax", "notrack jmp rax"),
        ("movq %fs:40, %rax", "mov rax, fs:[40]"),
        ("movl %gs:(%rbx,%rcx,4), %eax", "mov eax, [gs:rbx + rcx*4]"),
        ("movl $3, %fs:8(%rax)", "mov dword ptr fs:[rax + 8], 3"),
        ("movw %ds, %ax", "mov ax, ds"),
        ("shldl $3, %ecx, %eax", "shld eax, ecx, 3"),
        ("bsfq (%rdi), %rax", "bsf rax, [rdi]"),
        ("popcntl %ecx, %eax", "popcnt eax, ecx"),
        ("andnq %rax, %rbx, %rcx", "andn rcx, rbx, rax"),
        ("rorxl $7, %ecx, %eax", "rorx eax, ecx, 7"),
        ("crc32b %cl, %eax", "crc32 eax, cl"),
        ("crc32w (%rdi), %eax", "crc32 eax, word [rdi]"),
        ("enter $16, $1", "enter 16, 1"),
        ("int $0x80", "int 128"),
        ("inb $96, %al", "in al, 96"),
        ("outl %eax, %dx", "out dx, eax"),
        ("xlatb", "xlatb"),
        ("pushfq", "pushfq"),
        ("movaps %xmm1, %xmm0", "movaps xmm0, xmm1"),
        ("movups %xmm0, 16(%rsp)", "movups [rsp + 16], xmm0"),
        ("movsd 8(%rdi), %xmm9", "movsd xmm9, [rdi + 8]"),
        ("movd %eax, %xmm0", "movd xmm0, eax"),
        ("movq %rax, %xmm0", "movq xmm0, rax"),
        ("movq %xmm0, (%rdi)", "movq [rdi], xmm0"),
        ("movq %xmm1, %xmm0", "movq xmm0, xmm1"),
        ("cvtsi2sdl %eax, %xmm0", "cvtsi2sd xmm0, eax"),
        ("cvtsi2sdq (%rdi), %xmm0", "cvtsi2sd xmm0, qword [rdi]"),
        ("cvttsd2si %xmm0, %rax", "cvttsd2si rax, xmm0"),
        ("pshufd $27, %xmm1, %xmm0", "pshufd xmm0, xmm1, 27"),
        ("pinsrw $3, (%rdi), %xmm0", "pinsrw xmm0, [rdi], 3"),
        ("pextrb $1, %xmm0, (%rdi)", "pextrb [rdi], xmm0, 1"),
        ("cmpltsd %xmm1, %xmm0", "cmpsd xmm0, xmm1, 1"),
        ("pblendvb %xmm0, %xmm1, %xmm2", "pblendvb xmm2, xmm1, xmm0"),
        ("pblendvb %xmm1, %xmm2", "pblendvb xmm2, xmm1"),
        ("psrldq $8, %xmm0", "psrldq xmm0, 8"),
        ("ldmxcsr (%rsp)", "ldmxcsr [rsp]"),
    ];
    for (source_first, destination_first) in cases {
        let text = format!(".att_syntax\n {source_first}\n");
        let other = format!(".operands destination-first\n {destination_first}\n");
        assert_eq!(code(&text), code(&other), "{source_first}");
    }
}

#[test]
fn symbols_are_memory_and_their_address_has_a_mark() {
    let head = " .data\ntide: .long 4\ntwo = 2\n .text\n";
    let cases = [
        ("movl tide, %eax", "mov eax, [tide]"),
        ("movl tide+4(%rip), %eax", "mov eax, [rip + tide + 4]"),
        ("mov $tide, %rdi", "mov rdi, tide"),
        ("leaq tide(%rip), %rdi", "lea rdi, [rip + tide]"),
        ("movl tide(,%rcx,4), %eax", "mov eax, [tide + rcx*4]"),
        ("mov $two, %eax", "mov eax, 2"),
        ("movl two(%rax), %eax", "mov eax, [rax + 2]"),
    ];
    for (source_first, destination_first) in cases {
        let both = [(".att_syntax", source_first), ("", destination_first)].map(|(order, line)| {
            let object = assembly(&format!("{order}\n{head} {line}\n")).object.expect(line);
            (object.sections[0].data.clone(), object.sections[0].relocations.clone())
        });
        assert_eq!(both[0], both[1], "{source_first}");
    }
    assert_eq!(
        code("lamp: jmp lamp\n jmp *%rax\n call lamp\n"),
        code("lamp: jmp lamp\n jmp rax\n call lamp\n")
    );
}

#[test]
fn the_order_is_that_of_the_first_register() {
    assert_eq!(code(" mov $1, %eax\n"), [0xb8, 1, 0, 0, 0]);
    assert_eq!(code("# a comment, 5 % eax\n mov eax, 1\n"), [0xb8, 1, 0, 0, 0]);
    assert_eq!(code(".operands source-first\n mov $1, %eax\n"), [0xb8, 1, 0, 0, 0]);
}

#[test]
fn a_file_that_mixes_the_orders_is_told_where_it_changed() {
    let cases = [
        (
            " mov eax, 1\n mov $2, %ecx\n",
            "this file writes operands without `%` and `$`, the destination first",
            "$",
            "eax",
        ),
        (
            " mov $2, %ecx\n mov eax, 1\n",
            "in this file the register is written `%eax`",
            "eax",
            "%ecx",
        ),
        (
            " mov $2, %ecx\n mov $1, [%rax]\n",
            "this file writes addresses as `disp(base,index,scale)`",
            "[",
            "%ecx",
        ),
        (
            " mov $2, %ecx\n.intel_syntax noprefix\n",
            "a file has one order of operands, and this one has the other",
            ".intel_syntax noprefix",
            "%ecx",
        ),
        (
            " mov $2, %ecx\n.operands destination-first\n",
            "a file has one order of operands, and this one has the other",
            ".operands destination-first",
            "%ecx",
        ),
    ];
    for (text, message, at, from) in cases {
        let assembly = assembly(text);
        let diagnostic = &assembly.diagnostics[0];
        assert_eq!(diagnostic.message, message, "{text}");
        assert_eq!(assembly.sources.slice(diagnostic.span), at, "{text}");
        let decided = diagnostic.notes.iter().filter_map(|note| note.span).next().expect(text);
        assert_eq!(assembly.sources.slice(decided), from, "{text}");
    }
}

#[test]
fn letters_that_contradict_the_registers_are_refused() {
    let cases = [
        ("movl $1, %rax", "`%rax` has 64 bits, and the mnemonic says 32"),
        ("movzbl %ax, %eax", "`%ax` has 16 bits, and the mnemonic says 8"),
        ("pushl $5", "no instruction `pushl` on x86-64"),
        ("mov $5, (%rax)", "nothing says how wide the memory operand is"),
        ("jmp %rax", "an indirect target is marked with `*`"),
        ("mov $1, %eex", "no register `%eex`"),
        ("mov (%rax,%rcx,3), %eax", "an index is scaled by 1, 2, 4 or 8"),
        ("mov (%ax), %eax", "`%ax` cannot be part of an address"),
    ];
    for (line, message) in cases {
        let assembly = assembly(&format!(".att_syntax\n {line}\n"));
        assert_eq!(assembly.diagnostics[0].message, message, "{line}");
    }
}

#[test]
fn a_bare_symbol_is_refused_where_other_tools_read_its_contents() {
    let text = |line: &str| {
        format!(".intel_syntax noprefix\n.data\ntide: .long 4\nfour = 4\n.text\nlamp: {line}\n")
    };
    let messages = |line: &str| -> Vec<String> {
        assembly(&text(line)).diagnostics.iter().map(|d| d.message.clone()).collect()
    };
    assert_eq!(
        messages("mov eax, tide"),
        ["`tide` alone is the address here and the contents in other tools"]
    );
    for fine in ["mov eax, offset tide", "mov eax, four", "call lamp", "mov eax, [tide]"] {
        assert!(messages(fine).is_empty(), "{fine}");
    }
}

#[test]
fn instructions_print_in_either_order() {
    let cases: &[(&[u8], &str, &str)] = &[
        (&[0xb8, 5, 0, 0, 0], "mov eax, 5", "mov $5, %eax"),
        (&[0xc7, 0x44, 0x24, 8, 7, 0, 0, 0], "mov dword [rsp + 8], 7", "movl $7, 8(%rsp)"),
        (&[0x0f, 0xb6, 0x04, 0x0e], "movzx eax, byte [rsi + rcx]", "movzbl (%rsi,%rcx,1), %eax"),
        (&[0x48, 0x63, 0xff], "movsxd rdi, edi", "movslq %edi, %rdi"),
        (&[0x48, 0x98], "cdqe", "cltq"),
        (&[0xff, 0xe0], "jmp rax", "jmp *%rax"),
        (&[0xd3, 0xe0], "shl eax, cl", "shl %cl, %eax"),
    ];
    for (bytes, destination_first, source_first) in cases {
        let instruction = decode(Arch::X86_64, bytes, 0x1000).unwrap();
        let print = |order| instruction.print_in(order, &NoNames);
        assert_eq!(print(OperandOrder::DestinationFirst), *destination_first);
        assert_eq!(print(OperandOrder::SourceFirst), *source_first);
    }
}

/// So compilers write string instructions and fillers: segments without effect in 64-bit code.
#[test]
fn segments_without_effect_are_taken_in_64_bit_code() {
    let pairs = [
        ("rep movsl (%rsi), %es:(%rdi)", "rep movsl"),
        ("nopw %cs:0(%rax,%rax,1)", "nopw 0(%rax,%rax,1)"),
        ("movl %ds:8, %eax", "movl 8, %eax"),
    ];
    for (with, without) in pairs {
        let bytes = |text: &str| {
            assemble_instruction(Arch::X86_64, OperandOrder::SourceFirst, text, 0).unwrap()
        };
        assert_eq!(bytes(with), bytes(without), "{with}");
    }
}

/// A filler of any length is laid down, and no line exhausts the stack.
#[test]
fn prefixes_that_only_fill_may_be_repeated() {
    let text = format!("        {}nop\n        mov %eax, %ecx\n", "data16 ".repeat(100_000));
    let source = Source { name: "lamp.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::for_target(Arch::X86_64));
    let object = assembly.object.unwrap();
    assert_eq!(object.sections[0].data.len(), 100_000 + 1 + 2);
    assert_eq!(object.sections[0].data[99_999..], [0x66, 0x90, 0x89, 0xc1]);
}
