//! Reports as data: what a view or a program that reads JSON relies on.

mod common;

use serde_json::{Value, json};
use sotto_isa::Arch;
use sotto_session::{Format, StopReason};

fn steps(text: &str, count: usize) -> Vec<Value> {
    let mut session = common::session(text);
    (0..count).map(|_| serde_json::to_value(session.step().0.unwrap()).unwrap()).collect()
}

#[test]
fn a_step_as_data_holds_place_effects_and_moment() {
    let text = " .target x86-64\n .global _start\n .data\ntide: dd 4, 7\n .text\n_start: mov eax, -1\n add [tide + 4], eax\n movzx ecx, byte [tide + 4]\n";
    let steps = steps(text, 3);
    assert_eq!(steps[0]["moment"], 1);
    assert_eq!(
        steps[0]["place"],
        json!({ "address": "0x401000", "symbol": "_start", "offset": 0, "file": "lamp.s", "line": 6,
                "source": "_start: mov eax, -1" })
    );
    assert_eq!(
        steps[0]["registers"],
        json!([{ "name": "eax", "old": "0x0", "new": "0xffffffff", "bits": 32,
                 "cleared_above": null, "points_to": null }])
    );
    let memory = &steps[1]["memory"][0];
    assert_eq!(
        (&memory["bytes"], &memory["old"], &memory["new"]),
        (&json!(4), &json!("0x7"), &json!("0x6"))
    );
    assert_eq!(
        (&memory["place"]["symbol"], &memory["place"]["offset"]),
        (&json!("tide"), &json!(4))
    );
    let flags: Vec<(&str, bool)> = steps[1]["flags"]
        .as_array()
        .unwrap()
        .iter()
        .map(|flag| (flag["name"].as_str().unwrap(), flag["new"].as_bool().unwrap()))
        .collect();
    // 7 + 0xffffffff carries out of every bit; 6 has an even number of ones.
    assert_eq!(
        flags,
        [("CF", true), ("ZF", false), ("SF", false), ("OF", false), ("PF", true), ("AF", true)]
    );
    assert_eq!(steps[2]["reads"][0]["bytes"], 1);
}

#[test]
fn narrow_writes_say_what_they_keep_and_wide_ones_what_they_clear() {
    let text = " .target x86-64\n .global _start\n_start: mov rax, -1\n mov ah, 5\n mov ax, 7\n mov eax, 9\n";
    let steps = steps(text, 4);
    let register = |n: usize| &steps[n]["registers"][0];
    assert_eq!(
        (&register(1)["name"], &register(1)["old"], &register(1)["new"]),
        (&json!("ah"), &json!("0xff"), &json!("0x5"))
    );
    assert_eq!((&register(2)["bits"], &register(2)["old"]), (&json!(16), &json!("0x5ff")));
    assert_eq!(register(3)["cleared_above"], "rax");
    assert_eq!(register(0)["cleared_above"], Value::Null);
}

#[test]
fn jumps_say_what_they_read_and_decided() {
    let text = " .target x86-64\n .global _start\n_start: mov eax, 3\n cmp eax, 5\n jge _start\n jb .on\n.on: mov ecx, 1\n loop _start\n jecxz .end\n.end: nop\n";
    let steps = steps(text, 7);
    let branch = |n: usize| &steps[n]["branch"];
    assert_eq!(
        *branch(2),
        json!({
            "taken": false,
            "condition": "less (signed)",
            "flags": [["SF", true], ["OF", false]],
            "compared": "eax = 3 against 5",
        })
    );
    // Taken, though control comes to the next line either way.
    let below = json!({
        "taken": true,
        "condition": "below (unsigned)",
        "flags": [["CF", true]],
        "compared": "eax = 3 against 5",
    });
    assert_eq!(*branch(3), below);
    assert_eq!(*branch(5), json!({ "taken": false, "condition": "rcx zero", "flags": [] }));
    assert_eq!(steps[0]["branch"], Value::Null);
    let arm =
        " .target arm64\n .global _start\n_start: cmp x0, #1\n b.lt on\non: cbnz x0, _start\n";
    let steps = self::steps(arm, 3);
    assert_eq!(steps[1]["branch"]["condition"], "less (signed)");
    assert_eq!(
        steps[2]["branch"],
        json!({
            "taken": false,
            "condition": "register zero",
            "flags": [],
            "tested": { "name": "x0", "value": "0x0" },
        })
    );
}

#[test]
fn faults_as_data_hold_the_registers_that_matter() {
    let text = " .target x86-64\n .global _start\n .bss\nlog: .skip 8\n .text\n_start: lea rbx, [log]\n mov ecx, 1000\n mov [rbx + rcx*8], ecx\n";
    let mut session = common::session(text);
    assert_eq!(session.resume(&[], 100, &|| false), StopReason::Terminated);
    let report = serde_json::to_value(session.fault_report().unwrap()).unwrap();
    assert_eq!(report["signal"], "SIGSEGV");
    assert_eq!(report["instruction"], "mov [rbx + rcx*8], ecx");
    assert_eq!(
        report["registers"],
        json!([{ "name": "rbx", "value": "0x402000" }, { "name": "rcx", "value": "0x3e8" }])
    );
    assert_eq!(report["facts"][0], "0x403f40 is 7992 bytes past the end of `log`");
}

#[test]
fn places_are_named_by_label_line_and_file() {
    let text = " .target x86-64\n .global _start\n_start: nop\n\n; the lamp\nlamp: nop\n nop\n";
    let mut session = common::session(text);
    for (place, address) in [
        ("lamp", 0x40_1001),
        ("lamp + 1", 0x40_1002),
        ("6", 0x40_1001),
        // A line without code stands for the next one that has some.
        ("4", 0x40_1001),
        ("lamp.s:7", 0x40_1002),
        ("0x401002", 0x40_1002),
        (" _start ", 0x40_1000),
    ] {
        assert_eq!(session.resolve_place(place), Ok(address), "{place}");
    }
    for place in ["lmap", "99", "fog.s:3", "0x500000", "lamp +", ""] {
        assert!(session.resolve_place(place).is_err(), "{place}");
    }
}

#[test]
fn vectors_are_reported_as_the_elements_that_the_instruction_works_on() {
    let text = " .target x86-64\n .global _start\n .data\n .align 16\nswell: .double 1.5, 2.5\n .text\n_start: movapd xmm0, [swell]\n addsd xmm0, xmm0\n paddw xmm0, xmm0\n movsd [swell], xmm0\n";
    let steps = steps(text, 4);
    let vector = &steps[0]["vectors"][0];
    assert_eq!(
        (&vector["name"], &vector["lanes"], &vector["new"]),
        (&json!("xmm0"), &json!("f64"), &json!(["1.5", "2.5"]))
    );
    assert_eq!(vector["new_bits"], "0x40040000000000003ff8000000000000");
    assert_eq!(steps[1]["vectors"][0]["new"], json!(["3", "2.5"]));
    assert_eq!(steps[2]["vectors"][0]["lanes"], "i16");
    assert_eq!(steps[3]["memory"][0]["number"], steps_number(&steps[3]));
    assert!(steps[3].get("vectors").is_none(), "none was written");
}

/// The stored bits read as a double.
fn steps_number(step: &Value) -> Value {
    let bits = step["memory"][0]["new"].as_str().unwrap().trim_start_matches("0x");
    let value = f64::from_bits(u64::from_str_radix(bits, 16).unwrap());
    let text =
        if value != 0.0 && value.abs() < 1e-5 { format!("{value:e}") } else { value.to_string() };
    json!(text)
}

#[test]
fn a_repeated_instruction_reports_its_elements_together_and_who_finds_them() {
    let text = " .target x86-64\n .global _start\n .bss\nfog: .skip 64\n .text\n_start: lea rdi, [fog]\n mov ecx, 16\n mov eax, 7\n rep stosd\n mov ecx, 2\n rep stosd\n";
    let steps = steps(text, 6);
    let memory = steps[3]["memory"].as_array().unwrap();
    assert_eq!(memory.len(), 1);
    assert_eq!(
        (&memory[0]["bytes"], &memory[0]["elements"], &memory[0]["new"]),
        (&json!(64), &json!(16), &json!("0x7"))
    );
    // A few stay as they are.
    assert_eq!(steps[5]["memory"].as_array().unwrap().len(), 2);
    let mut session = common::session(text);
    (0..5).for_each(|_| drop(session.step()));
    let target = session.target("[fog + 40]").unwrap();
    assert_eq!(session.who(target).instruction().unwrap().report.instruction.as_ref(), "rep stosd");
}

#[test]
fn who_finds_the_writer_of_a_vector_and_vectors_have_values() {
    let mut session = common::session(
        " .target x86-64\n .global _start\n_start: pxor xmm3, xmm3\n nop\n mov eax, 5\n",
    );
    (0..3).for_each(|_| drop(session.step()));
    let target = session.target("xmm3").unwrap();
    let writer = session.who(target).instruction().unwrap();
    assert_eq!((&*writer.report.instruction, writer.ago), ("pxor xmm3, xmm3", 3));
    session.change("xmm3", "0x3f80000040000000").unwrap();
    assert_eq!(session.evaluate("xmm3 == 0").unwrap().value, 0);
    let shown = |session: &mut sotto_session::Session, format: &str| {
        session.show("xmm3", Format::parse(format, Arch::X86_64).unwrap()).unwrap()
    };
    assert_eq!(shown(&mut session, "f32"), "2, 1, 0, 0");
    assert_eq!(shown(&mut session, "x64"), "0x3f80000040000000, 0x0000000000000000");
    assert_eq!(session.show("xmm3", Format::default()).unwrap(), "0x3f80000040000000");
}
