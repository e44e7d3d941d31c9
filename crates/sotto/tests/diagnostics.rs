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
