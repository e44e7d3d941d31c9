//! Unwind rules worked out from code, held against those that compilers write, and against rules
//! worked out by hand.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use sotto_asm::{Options, Source, assemble};
use sotto_isa::Arch;
use sotto_object::{Object, UnwindRule, UnwindTable};

fn object(arch: Arch, text: &str) -> Object {
    let source = Source { name: "fog.s".into(), text: text.into() };
    let options = Options { externals: true, ..Options::for_target(arch) };
    let assembly = assemble(&source, &options);
    assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics))
}

/// Where the frame address is and what is stored below it: register, offset, stored registers.
type Row = (u16, i64, BTreeMap<u16, i64>);

/// The rows of a table by offset, as the rules build them up.
fn rows(arch: Arch, table: &UnwindTable) -> BTreeMap<u64, Row> {
    let mut row: Row = match arch {
        Arch::Arm64 => (31, 0, BTreeMap::new()),
        _ => (7, 8, BTreeMap::new()),
    };
    let mut rows = BTreeMap::from([(0, row.clone())]);
    let mut remembered = Vec::new();
    for (offset, rule) in &table.rules {
        match *rule {
            UnwindRule::Frame(register, bytes) => (row.0, row.1) = (register, bytes),
            UnwindRule::FrameRegister(register) => row.0 = register,
            UnwindRule::FrameOffset(bytes) => row.1 = bytes,
            UnwindRule::Stored(register, bytes) => {
                row.2.insert(register, bytes);
            }
            UnwindRule::Restored(register) | UnwindRule::Same(register) => {
                row.2.remove(&register);
            }
            UnwindRule::Remember => remembered.push(row.clone()),
            UnwindRule::Recall => row = remembered.pop().unwrap(),
            UnwindRule::Lost(_) | UnwindRule::InRegister(..) => {}
            UnwindRule::FrameExpression(_)
            | UnwindRule::StoredExpression(..)
            | UnwindRule::ValueExpression(..) => {}
        }
        rows.insert(*offset, row.clone());
    }
    rows
}

fn at(rows: &BTreeMap<u64, Row>, offset: u64) -> &Row {
    rows.range(..=offset).next_back().unwrap().1
}

#[test]
fn the_rules_found_in_code_are_those_that_compilers_write() {
    if Command::new("cc").arg("--version").output().is_err() {
        assert!(std::env::var_os("CI").is_none(), "a C compiler must be installed in CI");
        eprintln!("skipped: cc is not installed");
        return;
    }
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data/compiled/buoys.c");
    let (mut compared, mut left) = (0, 0);
    for level in ["-O0", "-O1", "-O2", "-Os"] {
        for frames in ["-fomit-frame-pointer", "-fno-omit-frame-pointer"] {
            let output = Command::new("cc")
                .args(["-S", "-o", "-", level, frames, "-fno-inline", "-mgeneral-regs-only"])
                .args(["-fcf-protection=none", "-fno-tree-vectorize"])
                .arg(&source)
                .output()
                .unwrap();
            let text = String::from_utf8(output.stdout).unwrap();
            let without: String = text
                .lines()
                .filter(|line| !line.trim_start().starts_with(".cfi_"))
                .flat_map(|line| [line, "\n"])
                .collect();
            let written = object(Arch::X86_64, &text);
            let found = object(Arch::X86_64, &without);
            for table in &written.unwind {
                let derived = found.unwind.iter().find(|t| t.start == table.start);
                let Some(derived) = derived else {
                    left += 1;
                    continue;
                };
                let (theirs, ours) = (rows(Arch::X86_64, table), rows(Arch::X86_64, derived));
                for offset in theirs.keys().chain(ours.keys()) {
                    let (theirs, ours) = (at(&theirs, *offset), at(&ours, *offset));
                    assert_eq!((ours.0, ours.1), (theirs.0, theirs.1), "{level} {frames} {offset}");
                    // Compilers note a register after all of them are pushed, and not when it is
                    // restored.
                    for (register, bytes) in &ours.2 {
                        let noted = theirs.2.get(register);
                        assert!(noted.is_none_or(|noted| noted == bytes), "{level} {frames}");
                    }
                }
                compared += 1;
            }
        }
    }
    assert!(compared > 30 && left * 5 < compared, "{compared} compared, {left} not found");
}

#[test]
fn arm64_frames_by_hand() {
    let text = "\
        .global gauge, leaf
gauge:  stp     x29, x30, [sp, #-32]!
        mov     x29, sp
        str     x19, [sp, #16]
        bl      leaf
        ldr     x19, [sp, #16]
        ldp     x29, x30, [sp], #32
        ret
leaf:   sub     sp, sp, #16
        str     x0, [sp, #8]
        add     sp, sp, #16
        ret
";
    let object = object(Arch::Arm64, text);
    let [gauge, leaf] = &object.unwind[..] else { panic!("{:?}", object.unwind) };
    let saved = |pairs: &[(u16, i64)]| pairs.iter().copied().collect::<BTreeMap<_, _>>();
    let gauge = rows(Arch::Arm64, gauge);
    assert_eq!(*at(&gauge, 0), (31, 0, saved(&[])));
    assert_eq!(*at(&gauge, 4), (31, 32, saved(&[(29, -32), (30, -24)])));
    assert_eq!(*at(&gauge, 8), (29, 32, saved(&[(29, -32), (30, -24)])));
    assert_eq!(*at(&gauge, 12), (29, 32, saved(&[(19, -16), (29, -32), (30, -24)])));
    assert_eq!(*at(&gauge, 24), (31, 0, saved(&[])));
    let leaf = rows(Arch::Arm64, leaf);
    assert_eq!([0, 4, 12].map(|offset| at(&leaf, offset).1), [0, 16, 0]);
}

#[test]
fn code_that_two_ways_reach_with_different_frames_gets_no_table() {
    let bodies = [
        // Forward.
        "push rbx\n jz .end\n pop rbx\n.end: ret",
        // Backward, into code that stands after a return.
        "jmp .in\n.back: ret\n.in: push rbx\n jmp .back",
        "mov rsp, rax\n ret",
        "sub rsp, rcx\n ret",
    ];
    for body in bodies {
        let object = object(Arch::X86_64, &format!(".global f\nf: {body}\n"));
        assert!(object.unwind.is_empty(), "{body}: {:?}", object.unwind);
    }
    // A jump back that agrees, and padding or data after the last return, are no hindrance.
    for body in
        ["push rbx\n.next: dec ecx\n jnz .next\n pop rbx\n ret\n .p2align 4", "ret\n .quad 5"]
    {
        let object = object(Arch::X86_64, &format!(".global f\nf: {body}\n"));
        assert_eq!(object.unwind.len(), 1, "{body}");
    }
}
