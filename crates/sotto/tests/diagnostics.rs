//! How errors read, rendered in full. Each was read by a person.

mod common;

use common::Folder;

/// The errors of some lines, each rendered.
fn errors(target: &str, lines: &str) -> String {
    let text = format!(
        " .target {target}\n .global _start\n .data\ntide: db 4, 7\n .text\n_start:\n{lines}"
    );
    let folder = Folder::new(&[("fog.s", &text)]);
    folder.transcript(&["assemble", "fog.s"], "")
}

#[test]
fn errors_of_operands() {
    insta::assert_snapshot!(errors(
        "x86-64",
        "\tmov eax, rbx\n\tpush eax\n\tlea rax, 5\n\tshl [tide], 1\n\tadd rax, 0x123456789\n\tmov al, 999\n\tmov [rax+rbx*3], cl\n\tmov sil, ah\n"
    ));
}

#[test]
fn errors_of_names() {
    insta::assert_snapshot!(errors(
        "x86-64",
        "\tmov eax, [tyde]\n\tcall horn\n\tmoov eax, 1\n\t.quad tide - nowhere\n\tldr x0, [x1]\n\tjmp .next\none:\n.next: nop\ntwo:\n.next: nop\nthree: jmp .next\ntide: nop\n"
    ));
}

#[test]
fn errors_of_writing() {
    insta::assert_snapshot!(errors(
        "x86-64",
        "\tmov eax, 017\n\tmov eax, 12ab\n\t.ascii \"fog\n\t.asciz \"\\q\"\n\tmov eax 5\n\t.byte 1 +\n\t.align 3\n\t.macro flash\n\tmov eax, %ebx\n"
    ));
}

#[test]
fn errors_on_the_arm_board() {
    insta::assert_snapshot!(errors(
        "arm64",
        "\tmov x0, #0x12345\n\tand w0, w1, #5\n\tadd x0, x1, w2\n\tldr x0, =tide\n\tldr x0, [x1, #4]!, #8\n\tstr x0, [x1, #32768]\n\tcset x0, maybe\n\tsyscall\n"
    ));
}

/// The errors of a whole file, with other files beside it.
fn errors_of(text: &str) -> String {
    let folder = Folder::new(&[
        ("fog.s", text),
        ("ring.inc", "\t.include \"ring2.inc\"\n"),
        ("ring2.inc", "\t.include \"ring.inc\"\n"),
        ("wrong.inc", "; part of the fog signal\n\tmov eax, [nowhere]\n"),
        ("open.inc", "\t.if 1\n\tnop\n"),
    ]);
    folder.transcript(&["assemble", "fog.s", "--target", "x86-64"], "")
}

#[test]
fn errors_of_conditionals_and_repeats() {
    let texts = [
        "\t.if 1\n\tnop\n",
        "\tnop\n\t.endif\n",
        "\t.else\n",
        "\t.if 1\n\t.else\n\t.elseif 1\n\t.endif\n",
        "\t.if later\n\t.endif\nlater equ 1\n\t.ifdef 5\n\t.endif\n",
        "\t.rept 3\n\tnop\n",
        "\t.rept 0 - 2\n\t.endr\n",
        "\t.endr\n",
        "\t.irp\n\t.endr\n",
        "\t.irp reg, eax, ebx\n\tmov \\rge, 1\n\t.endr\n",
        "\t.rept 1 << 50\n\t.endr\n",
    ];
    insta::assert_snapshot!(texts.map(errors_of).join("\n\n"));
}

#[test]
fn errors_of_macros() {
    let flash = "\t.macro flash count, pause=2\n\tmov ecx, \\count\n\tmov al, \\pause\n\t.endm\n";
    let calls = [
        "\tflash\n",
        "\tflash 1, 2, 3\n",
        "\tflash count=1, count=2\n",
        "\tflahs 1\n",
        "\tflash 5, 999\n",
        "\t.macro flash\n\t.endm\n",
        "\t.macro mov\n\t.endm\n",
        "\t.macro .data\n\t.endm\n",
        "\t.macro tide v\n\tmov eax, \\w\n\t.endm\n",
        "\t.macro tide v, v\n\t.endm\n",
        "\t.macro tide 1v\n\t.endm\n",
        "\t.macro tide all:vararg, more\n\t.endm\n",
        "\t.macro tide v:maybe\n\t.endm\n",
        "\t.macro tide n\n\t.ascii \"\\n\"\n\t.endm\n\tnop nop\n",
        "\t.macro tide\n\tnop\n",
        "\t.endm\n",
        "\t.macro ring v\n\tring \\v + 1\n\t.endm\n\tring 0\n",
        "\t.macro inner v\n\t.byte \\v\n\t.endm\n\t.macro outer v\n\tinner \\v * 100\n\t.endm\n\touter 3\n",
    ];
    let texts = calls.map(|call| errors_of(&format!("{flash}{call}")));
    insta::assert_snapshot!(texts.join("\n\n"));
}

#[test]
fn errors_of_includes() {
    let texts = [
        "\t.include \"fgo.inc\"\n",
        "\t.include fog.inc\n",
        "\t.include \"ring.inc\"\n",
        "\t.include \"wrong.inc\"\n",
        "\t.include \"open.inc\"\n\tret\n",
        "\t.incbin \"ring.inc\", 500\n",
        "\t.incbin \"nothing.bin\"\n",
    ];
    insta::assert_snapshot!(texts.map(errors_of).join("\n\n"));
}

#[test]
fn errors_of_the_two_orders() {
    let texts = [
        "\tmov eax, 1\n\tmov %eax, %ebx\n",
        "\tmov $1, %eax\n\tmov ebx, 2\n\tmovl %eax, [%rbx]\n",
        "\tmov $1, %eax\n\t.intel_syntax noprefix\n",
        "\t.operands backwards\n",
        "\tmovl $1, %rax\n\tmovzbl %ax, %ecx\n",
        "\tmov $1, (%rax)\n\tjmp %rax\n\tmov $1, %eex\n\tmov (%rax,%rcx,3), %edx\n",
        "\t.intel_syntax noprefix\n\t.data\ntide: .long 4\n\t.text\n\tmov eax, tide\n",
        "\t.att_syntax noprefix\n",
    ];
    insta::assert_snapshot!(texts.map(errors_of).join("\n\n"));
}

#[test]
fn errors_of_prefixes_segments_and_vectors() {
    insta::assert_snapshot!(errors(
        "x86-64",
        " rep add eax, 1\n lock mov [rax], ecx\n lock\n repne movsb\n rep fog\n lock add eax, 1\n \
         mov fs:[rax], 5\n movaps xmm0, [rax], 5\n addsd eax, xmm1\n cvtsi2sd xmm0, [rdi]\n mov cs:[rax], al\n \
         pextrd xmm0, eax, 1\n crc32 eax, [rdi]\n paddd xmm0, qword [rax]\n xmm16 equ 5\n shufps xmm0, xmm1, 256\n"
    ));
}

#[test]
fn errors_of_directives() {
    let texts = [
        "\t.data\n\t.float 1.5, fog\n\t.double\n\t.octa 1 << 127\n",
        "\t.data\n\t.skip 9\n\t.org 4\n\t.org later\nlater:\n",
        "\t.comm log\n\t.comm log, -1\n\t.comm log, 4, 3\nlog: nop\n",
        "\t.ltorg\n",
        "\t.cfi_def_cfa_offset 16\n\t.cfi_startproc\n\t.cfi_startproc\n\t.cfi_offset lamp, 8\n",
        "\t.bss\nroom 8\n\t.byte 1\n",
        "\t.data\n\t.quad lamp@plt\nlamp: .quad lamp@got\n\t.text\n\tmov rax, lamp@plt\n\tcall lamp@gotpcrel\n",
        "\t.global _start\n_start: mov eax, [tide\n",
        "\t.section lamp\n\t.section fog, \"aq\"\n\t.type lamp, fog\n",
        "five = 5\nfive: nop\nsix equ 6\nsix = 7\n",
        "two: nop\n\t.if two\n\t.endif\n\t.skip end - start\nstart: jmp two\nend:\n",
        "\tmov eax, 170141183460469231731687303715884105728\n\tmov eax, 1 << 200\n\tmov eax, 5 / 0\n",
    ];
    insta::assert_snapshot!(texts.map(errors_of).join("\n\n"));
}

#[test]
fn what_is_taken_to_be_elsewhere_is_noted() {
    let folder = Folder::new(&[(
        "fog.s",
        "\t.target x86-64\n\t.global horn\nhorn:\tcall puts\n\tcall hron\n\tcall puts\n\tret\n",
    )]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "--object", "fog.s"], ""));
}
