//! Steps that are probably mistakes, and what is remarked of them.

mod common;

use sotto_session::Session;

const TEXT: &str =
    "        .data\ntext:   .ascii \"lamp\\n\"\n        .text\n        .global _start\n_start:\n";

/// The remarks of a run, each once.
fn remarks(body: &str) -> (Session, Vec<String>) {
    let mut session = common::session(&format!("        .target x86-64\n{TEXT}{body}"));
    let mut found: Vec<String> = Vec::new();
    for _ in 0..100 {
        let (Some(report), _) = session.step() else { break };
        if let Some(remark) = report.remark
            && !found.contains(&remark)
        {
            found.push(remark);
        }
    }
    (session, found)
}

const END: &str = "        mov eax, 60\n        xor edi, edi\n        syscall\n";

#[test]
fn a_count_that_a_system_call_destroys_is_remarked() {
    let write = "        mov eax, 1\n        mov edi, 1\n        lea rsi, [text]\n        mov edx, 5\n        syscall\n";
    let (_, found) = remarks(&format!(
        "        mov ecx, 3\n.next:\n{write}        dec rcx\n        jnz .done\n.done:\n{END}"
    ));
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0].starts_with("rcx holds the address that `syscall` left in it"));
    let (_, found) = remarks(&format!(
        "        mov ebx, 2\n.next:\n{write}        dec ebx\n        jnz .next\n{END}"
    ));
    assert_eq!(found, [""; 0]);
}

#[test]
fn a_negative_dividend_without_its_sign_is_remarked() {
    let divide = |spread: &str| {
        format!(
            "        mov eax, -10\n        {spread}\n        mov ecx, 3\n        idiv ecx\n{END}"
        )
    };
    let (_, found) = remarks(&divide("xor edx, edx"));
    assert_eq!(
        found,
        [
            "eax was -10, and with edx = 0 the dividend is 4294967286; `cdq` before idiv fills edx with the sign"
        ]
    );
    assert_eq!(remarks(&divide("cdq")).1, [""; 0]);
}

#[test]
fn an_index_whose_upper_half_was_cleared_is_told_in_the_report_of_the_fault() {
    let (mut session, _) =
        remarks("        lea rbx, [text]\n        mov eax, -1\n        mov cl, [rbx + rax]\n");
    let report = session.fault_report().unwrap();
    let wanted = "rax is 4294967295, which is -1 as a number of 32 bits whose upper half was cleared; `movsxd rax, eax` keeps the sign";
    assert!(report.facts.iter().any(|fact| fact == wanted), "{:?}", report.facts);
}
