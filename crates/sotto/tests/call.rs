//! `sotto call`: a routine with arguments, as a question, as a test, over a table of cases.

mod common;

use common::Folder;

const TIDE: &str = "\
        .target x86-64

;: mean of a table of tide readings
;: takes    rdi = table: address, esi = count: u32
;: returns  eax = mean
;: changes  rcx, rdx
tide_mean:
        xor     eax, eax
        xor     ecx, ecx
.next:  add     eax, [rdi + rcx*4]
        inc     ecx
        cmp     ecx, esi
        jb      .next
        xor     edx, edx
        div     esi
        ret

;: capital letters, in place
;: takes    rdi = log: text
;: returns  eax = letters
;: changes  rdi
shout:  xor     eax, eax
.next:  cmp     byte [rdi], 0
        je      .done
        and     byte [rdi], 0xdf
        inc     eax
        inc     rdi
        jmp     .next
.done:  ret

;: takes    xmm0 = height: f64, edi = factor: i32
;: returns  xmm0 = higher: f64
;: changes  xmm1
raise:  cvtsi2sd xmm1, edi
        mulsd   xmm0, xmm1
        ret

        .global sum
sum:    lea     rax, [rdi + rsi]        // the seventh is on the stack
        add     rax, [rsp + 8]
        ret

        .global careless
careless:
        mov     rbx, rdi
        mov     rax, rbx
        ret
";

fn folder() -> Folder {
    Folder::new(&[("tide.s", TIDE)])
}

#[test]
fn a_call_shows_results_buffers_memory_and_what_changed() {
    let folder = folder();
    let calls: [&[&str]; 4] = [
        &["call", "tide.s", "tide_mean", "[9,3,7,1]:4byte", "4"],
        &["call", "tide.s", "shout", "ebb"],
        &["call", "tide.s", "raise", "1.5", "-3"],
        &["call", "tide.s", "sum", "1", "2", "3", "4", "5", "6", "40"],
    ];
    let all: Vec<String> = calls.iter().map(|words| folder.transcript(words, "")).collect();
    insta::assert_snapshot!(all.join("\n\n"));
}

#[test]
fn what_a_routine_breaks_is_told_with_its_place() {
    insta::assert_snapshot!(folder().transcript(&["call", "tide.s", "careless", "1"], ""));
}

#[test]
fn an_expectation_makes_it_a_test() {
    let folder = folder();
    let mean = ["call", "tide.s", "tide_mean", "[9,3]:4byte", "2", "--expect"];
    for (wanted, status) in [("6", 0), ("mean=6", 0), ("0x6", 0), ("7", 1)] {
        folder.sotto(&[&mean[..], &[wanted]].concat()).assert().code(status);
    }
    let raise = ["call", "tide.s", "raise", "1.5", "2", "--expect"];
    folder.sotto(&[&raise[..], &["3"]].concat()).assert().code(0);
    folder.sotto(&[&raise[..], &["3.1"]].concat()).assert().code(1);
    folder.sotto(&[&mean[..], &["high"]].concat()).assert().code(2);
}

#[test]
fn a_table_of_cases_is_a_table_of_answers() {
    let folder = folder();
    folder.write(
        "mean.toml",
        "[[case]]\nname = \"four readings\"\narguments = [\"[9,3,7,1]:4byte\", 4]\nexpect = 5\n\n[[case]]\narguments = [\"[8]:4byte\", 1]\nexpect = { mean = 9 }\n",
    );
    insta::assert_snapshot!(
        folder.transcript(&["call", "tide.s", "tide_mean", "--cases", "mean.toml"], ""),
        @r"
    passed four readings  tide_mean([9,3,7,1]:4byte, 4) = 5
    failed case 2  tide_mean([8]:4byte, 1) = 8
             expected mean=9, and it is 8
    1 of 2 cases passed
    --- status 1
    "
    );
    folder.write("wrong.toml", "[[case]]\nname = \"one\"\nargument = [1]\n");
    let wrong = folder.transcript(&["call", "tide.s", "tide_mean", "--cases", "wrong.toml"], "");
    insta::assert_snapshot!(wrong, @r"
    --- standard error
    error: wrong.toml:3: unknown field `argument`, expected one of `name`, `arguments`, `expect`, `output`
      help: a case is `[[case]]` with `name`, `arguments`, `expect` and `output`
    --- status 2
    ");
}

#[test]
fn wrong_calls_say_what_the_routine_takes() {
    let folder = folder();
    let calls: [&[&str]; 6] = [
        &["call", "tide.s", "tide_men", "1"],
        &["call", "tide.s", "tide_mean", "1"],
        &["call", "tide.s", "tide_mean", "[1]:4byte", "-1"],
        &["call", "tide.s", "tide_mean", "[1,2", "2"],
        &["call", "tide.s", "raise", "ebb", "1.5"],
        &["call", "tide.s", "tide_mean", "file:missing", "1"],
    ];
    let all: Vec<String> = calls.iter().map(|words| folder.transcript(words, "")).collect();
    insta::assert_snapshot!(all.join("\n\n"));
}

#[test]
fn contracts_survive_objects_archives_and_programs() {
    let folder = folder();
    folder.write(
        "main.s",
        "        .target x86-64\n        .global _start\n_start: mov eax, 60\n        xor edi, edi\n        syscall\n",
    );
    let contracted = |files: &[&str]| {
        let words = [&["call"], files, &["tide_mean", "1"]].concat();
        let output = folder.sotto(&words).output().unwrap();
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(text.contains("it takes table (address) in rdi, count (u32) in esi"), "{text}");
    };
    folder.sotto(&["assemble", "--object", "tide.s"]).assert().success();
    contracted(&["tide.o"]);
    folder.sotto(&["link", "main.s", "tide.o", "-o", "station"]).assert().success();
    contracted(&["station"]);
    if !common::has("cc") {
        return;
    }
    // Another linker carries the section too.
    folder.sotto(&["assemble", "--object", "main.s"]).assert().success();
    let mut cc = std::process::Command::new("cc");
    let linked = cc
        .current_dir(folder.path(""))
        .args(["-static", "-nostdlib", "main.o", "tide.o", "-o", "by_cc"])
        .output()
        .unwrap();
    assert!(linked.status.success(), "{}", String::from_utf8_lossy(&linked.stderr));
    contracted(&["by_cc"]);
}

#[test]
fn mistakes_in_contracts_are_errors_with_their_place() {
    let source = "        .target x86-64\n;: takes rdi = table, rsy = count\n;: retruns eax = mean\n;: changes rcx, rcx\ntide:   ret\n;: takes edi = depth: u128\n        nop\nfog:    ret\n";
    let folder = Folder::new(&[("tide.s", source)]);
    insta::assert_snapshot!(folder.transcript(&["assemble", "--object", "tide.s"], ""));
}

#[test]
fn routines_of_every_machine_are_called() {
    let arm = "        .target arm64\n//: takes w0 = depth: i32, d0 = factor\n//: returns w0 = deeper: i32, d0 = half\n//: changes d1\ndeeper: add w0, w0, #1\n        fmov d1, #2.0\n        fdiv d0, d0, d1\n        ret\n";
    let x86 = "        .target x86-32\n        .global depth\ndepth:  mov eax, [esp + 4]\n        sub eax, [esp + 8]\n        ret\n";
    let folder = Folder::new(&[("arm.s", arm), ("x86.s", x86)]);
    let calls: [&[&str]; 2] =
        [&["call", "arm.s", "deeper", "-5", "3"], &["call", "x86.s", "depth", "7", "9"]];
    let all: Vec<String> = calls.iter().map(|words| folder.transcript(words, "")).collect();
    insta::assert_snapshot!(all.join("\n\n"));
}

/// Routines, with the C functions that say what they are to do.
const STATION_C: &str = include_str!("../../../tests/data/routines/station.c");
const STATION: &str = include_str!("../../../tests/data/routines/station.s");

/// Twenty mistakes: the routine, the line, and what stands there instead.
const BUGS: [(&str, &str, &str); 20] = [
    ("mean", "xor     ecx, ecx\n.next:  add", "mov     ecx, 1\n.next:  add"),
    ("mean", "add     eax, [rdi + rcx*4]", "add     eax, [rdi + rcx*2]"),
    ("mean", "jb      .next\n        xor     edx", "jbe     .next\n        xor     edx"),
    ("mean", "div     esi", "div     ecx\n        inc     eax"),
    ("mean", "xor     edx, edx\n        div", "mov     edx, 1\n        div"),
    ("highest", "cmova   eax, edx", "cmovg   eax, edx"),
    ("highest", "cmova   eax, edx", "cmovb   eax, edx"),
    ("highest", "highest_: xor   eax, eax", "highest_: mov   eax, 5"),
    ("shout", "jb      .skip", "jbe     .skip"),
    ("shout", "ja      .skip", "jae     .skip"),
    ("shout", "sub     byte [rdi], 32", "sub     byte [rdi], 31"),
    ("shout", ".skip:  inc     eax\n", ".skip:\n"),
    ("raise", "addsd   xmm0, xmm1", "subsd   xmm0, xmm1"),
    ("raise", "cvtsi2sd xmm1, edi", "cvtsi2sd xmm1, rdi"),
    ("raise", "mulsd   xmm0, xmm1", "divsd   xmm0, xmm1"),
    ("clamp", "cmovg   eax, edx", "cmova   eax, edx"),
    ("clamp", "cmovl   eax, esi", "cmovb   eax, esi"),
    (
        "clamp",
        "cmp     edi, esi\n        cmovl   eax, esi",
        "cmp     eax, esi\n        cmovg   eax, esi",
    ),
    ("lit", "adc     eax, 0", "adc     eax, 1"),
    ("lit", "shr     edi, 1", "shr     edi, 2"),
];

#[test]
fn a_routine_is_compared_with_a_c_function_on_random_arguments() {
    if !common::has("cc") {
        return;
    }
    let folder = Folder::new(&[("station.s", STATION), ("station.c", STATION_C)]);
    let compared = |source: &str, name: &str| {
        let (routine, against) = (format!("{name}_"), format!("station.c:{name}"));
        let words = ["call", source, &routine, "--random", "300", "--against", &against];
        folder.transcript(&words, "")
    };
    for name in ["mean", "highest", "shout", "raise", "clamp", "lit"] {
        let said = compared("station.s", name);
        assert_eq!(said, format!("same: `{name}_` and `{name}` agree on 300 calls\n--- status 0"));
    }
    for (name, right, wrong) in BUGS {
        assert!(STATION.contains(right), "{name}: {right}");
        folder.write("wrong.s", &STATION.replacen(right, wrong, 1));
        let said = compared("wrong.s", name);
        assert!(said.starts_with("differs: "), "{name}: {wrong}: {said}");
        assert!(said.ends_with("--- status 1"), "{said}");
    }
    // The difference is made small: one reading of 1 shows that the first is left out.
    folder.write("wrong.s", &STATION.replacen(BUGS[0].1, BUGS[0].2, 1));
    let said = compared("wrong.s", "mean");
    assert!(said.contains("([1,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0]:4byte, 1)"), "{said}");
}
