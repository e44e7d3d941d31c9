//! `sotto step --plain`, on both machines, by script and by pipe.

mod common;

use common::{Folder, demo};

#[test]
fn every_step_shows_the_place_the_line_and_its_effects() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    let transcript =
        folder.transcript(&["step", "lamp.s", "--plain"], "step 5\n\nback 2\nresume\n");
    insta::assert_snapshot!(transcript);
}

#[test]
fn the_same_commands_step_an_arm_program() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp_arm64.s"))]);
    let commands = "step 4\nstep 4\nflags\nuntil 17\nstep 2\nregisters x19 sp\nquit\n";
    insta::assert_snapshot!(folder.transcript(&["step", "lamp.s", "--plain"], commands));
}

#[test]
fn the_tour_of_commands_reads_well() {
    let folder = Folder::new(&[("flash.s", &demo("flash.s"))]);
    let commands = "break at lit_seconds\nbreak at 46 when ebx == 2\nbreaks\nresume\nsource\nstep\nstack\nresume\n\
                    show ebx\nunbreak 2\nover\nout\nmemory bright\ncode\nunshow ebx\nresume\noutput\nrewind\nregisters\n";
    insta::assert_snapshot!(folder.transcript(&["step", "flash.s", "--plain"], commands));
}

#[test]
fn mistakes_at_the_prompt_are_explained_and_lose_nothing() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s"))]);
    let commands = "stpe\nuntil\nuntil nowhere\nuntil 9999\nshow raxx\nshow [0]\nmemory 0\nunbreak 4\nbreak at 14 when foo\nbr\nstep 0\n";
    insta::assert_snapshot!(folder.transcript(&["step", "tide.s", "--plain"], commands));
}

#[test]
fn a_fault_is_shown_and_can_be_gone_back_from() {
    let text = " .target x86-64\n .global _start\n_start: mov eax, 5\n mov rbx, [rax]\n";
    let folder = Folder::new(&[("fog.s", text)]);
    insta::assert_snapshot!(
        folder.transcript(&["step", "fog.s", "--plain"], "resume\nback\nback\nback\n")
    );
}

#[test]
fn findings_stand_below_the_step_that_they_are_about() {
    let lamp = sotto_check::Kind::LostInCall.info().example;
    let folder = Folder::new(&[("lamp.s", lamp)]);
    let commands = "step 7\nback\nstep\nrewind\nresume\ncheck\ncheck off\nback\nback 3\nstep\n";
    insta::assert_snapshot!(folder.transcript(&["step", "lamp.s", "--plain"], commands));
}

#[test]
fn the_past_is_searched_and_shown() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s"))]);
    let commands = "until .next\nbreak at .next when ecx == 5\nwatch [total]\nresume\nresume\nback break\nback watch\n\
                    recent 3\nback to _start\nback to .next\ncode\nuntil tide\nuntil 40\n";
    insta::assert_snapshot!(folder.transcript(&["step", "tide.s", "--plain"], commands));
}

#[test]
fn bits_and_parts_and_reasons_are_shown() {
    let text = " .target x86-64\n .global _start\n_start: mov eax, 0xc0000001\n shl eax, 1\n bt eax, 1\n mov ah, 7\n imul ecx, eax, 16\n push rax\n movq xmm0, rax\n";
    let folder = Folder::new(&[("bits.s", text)]);
    let commands = "step\nbits on\nstep 5\nbits off\nbits\nstep\nshow xmm0 as u16\nregisters brief\nshow rflags\nchange rflags to 1\nchange rflags to 2\n";
    insta::assert_snapshot!(folder.transcript(&["step", "bits.s", "--plain"], commands));
}

#[test]
fn scripts_have_comments_and_their_mistakes_a_status() {
    let script =
        "# a walk\nstep  2\n; and on\nuntil nowhere\nhelp back\nhelp places\nhelp nothing\n";
    let folder = Folder::new(&[
        ("tide.s", &demo("tide.s")),
        ("wrong", script),
        ("right", "# a walk\nstep\n"),
    ]);
    insta::assert_snapshot!(folder.transcript(&["step", "tide.s", "--script", "wrong"], ""));
    folder.sotto(&["step", "tide.s", "--script", "right"]).assert().code(0);
    folder.sotto(&["step", "tide.s", "--script", "wrong"]).assert().code(2);
}

#[test]
fn text_in_quotes_is_fed_as_it_is_and_arguments_are_split_as_a_shell_does() {
    let text = " .target x86-64\n .global _start\n .bss\nline: .skip 8\n .text\n_start: mov rsi, [rsp + 16]\n xor eax, eax\n xor edi, edi\n lea rsi, [line]\n mov edx, 8\n syscall\n nop\n";
    let folder = Folder::new(&[("log.s", text)]);
    let commands = "resume\nfeed \"a\\tb\"\nstep\nrestart \"two words\" one\nmemory [rsp + 16] 9 as text\nfeed \"\\q\"\n";
    let transcript = folder.transcript(&["step", "log.s", "--plain"], commands);
    assert!(transcript.contains("line \"a\\tb\", count = 8) -> 3"), "{transcript}");
    assert!(transcript.contains("two words"), "{transcript}");
    assert!(transcript.contains("`\\q` is not an escape"), "{transcript}");
}

#[test]
fn many_frames_are_folded() {
    let text = " .target x86-64\n .global _start\n_start: mov edi, 60\nsink: dec edi\n jz .on\n call sink\n.on: nop\n jmp .on\n";
    let folder = Folder::new(&[("sink.s", text)]);
    let commands = "until .on\nframes\nframes 2\n";
    let transcript = folder.transcript(&["step", "sink.s", "--plain"], commands);
    assert!(transcript.contains("and 37 more; `frames N`"), "{transcript}");
    assert!(transcript.contains(" 59  _start"), "{transcript}");
    assert!(transcript.contains("and 58 more; `frames N`"), "{transcript}");
}

#[test]
fn input_is_waited_for_and_fed() {
    let common::Program { path, .. } =
        common::programs("x86-64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let folder = Folder::new(&[]);
    let commands = "resume\nfeed 40\nresume\noutput\n";
    let transcript = folder.transcript(&["step", path.to_str().unwrap(), "--plain"], commands);
    assert!(transcript.contains("the program waits for input"), "{transcript}");
    assert!(transcript.contains("output: 40"), "{transcript}");
    assert!(transcript.contains("ended with status 0"), "{transcript}");
}

#[test]
fn places_on_the_command_line_and_commands_from_a_file() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s")), ("commands", "step\nquit\nstep\n")]);
    let transcript =
        folder.transcript(&["step", "tide.s", "--at", "26", "--script", "commands"], "");
    insta::assert_snapshot!(transcript);
    let refused = folder.transcript(&["step", "tide.s", "--at", "tyde"], "");
    assert!(refused.contains("error: no symbol `tyde`"), "{refused}");
}

#[test]
fn steps_as_data_are_one_object_a_line() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    let mut command = folder.sotto(&["step", "lamp.s", "--plain", "--json"]);
    let output = command.write_stdin("step 5\nregisters\n").output().unwrap();
    let values: Vec<serde_json::Value> = String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{line}: {e}")))
        .collect();
    let of = |tag: &str| -> Vec<&serde_json::Value> {
        values.iter().filter(|value| value["answer"] == tag).collect()
    };
    let steps = of("step");
    assert_eq!(steps[0]["registers"][0]["name"], "eax");
    assert_eq!(steps[0]["registers"][0]["new"], "0x1");
    let call = &steps[4]["syscall"];
    assert_eq!((&call["name"], &call["result"]), (&"write".into(), &9.into()));
    assert_eq!(call["arguments"][1]["shown"], "text");
    assert_eq!(of("output")[0]["text"], "lamp lit\n");
    let registers = of("registers")[0]["registers"].as_array().unwrap();
    let rdx = registers.iter().find(|register| register["name"] == "rdx").unwrap();
    assert_eq!((&rdx["value"], &rdx["role"]), (&"0x9".into(), &"arguments".into()));
    assert_eq!(of("end").len(), 2);
}

#[test]
fn a_program_without_its_source_is_stepped_by_its_symbols() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    folder.sotto(&["assemble", "lamp.s"]).assert().success();
    // As a compiler leaves it that was not asked for lines.
    let mut bytes = std::fs::read(folder.path("lamp")).unwrap();
    let name = bytes.windows(11).position(|window| window == b".debug_line").unwrap();
    bytes[name..name + 11].copy_from_slice(b".other_line");
    std::fs::write(folder.path("lamp"), bytes).unwrap();
    insta::assert_snapshot!(
        folder.transcript(&["step", "lamp", "--plain"], "step 3\nmemory text 9\nsource\n")
    );
}

#[test]
fn a_program_is_stepped_by_the_lines_that_it_carries() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    folder.sotto(&["assemble", "lamp.s"]).assert().success();
    folder.sotto(&["assemble", "--object", "lamp.s"]).assert().success();
    folder.sotto(&["link", "lamp.o", "-o", "linked"]).assert().success();
    let commands = "until 17\nstep 2\nback\n";
    let from_source = folder.transcript(&["step", "lamp.s", "--plain"], commands);
    let rest = |text: String| text.split_once('\n').unwrap().1.to_string();
    for program in ["lamp", "linked"] {
        let from_program = folder.transcript(&["step", program, "--plain"], commands);
        assert_eq!(rest(from_program), rest(from_source.clone()), "{program}");
    }
    // Without the source the places are still known.
    std::fs::remove_file(folder.path("lamp.s")).unwrap();
    let bare = folder.transcript(&["step", "lamp", "--plain"], commands);
    assert!(bare.contains("lamp.s:12"), "{bare}");
}

#[test]
fn vectors_are_shown_by_their_elements() {
    let folder = Folder::new(&[("swell.s", &demo("swell.s"))]);
    let commands = "step 5\nregisters xmm0\nwho xmm0\nshow xmm0\nregisters vectors\nexplain\n";
    insta::assert_snapshot!(folder.transcript(&["step", "swell.s", "--plain"], commands));
    let data = folder.transcript(&["step", "swell.s", "--json"], "step\nregisters xmm0\n");
    assert!(
        data.contains(r#""name":"xmm0","lanes":"f64","old":["0","0"],"new":["1.25","0.75"]"#),
        "{data}"
    );
    assert!(data.contains(r#""f64":["1.25","0.75"]"#), "{data}");
}

#[test]
fn a_named_register_is_shown_with_its_parts_and_the_counter_by_the_machines_name() {
    let wide = "mov rax, 0x1122334455667788\nmov eax, 60\nsyscall\n";
    let folder = Folder::new(&[
        ("wide.s", &format!(".global _start\n_start: {wide}")),
        ("bell.s", &demo("bell.s")),
        ("lamp.s", &demo("lamp_arm64.s")),
    ]);
    let commands = "step\nregisters rax\nregisters ah\nshow rip\n";
    let text = folder.transcript(&["step", "wide.s", "--plain"], commands);
    let parts = "eax 0x55667788   ax 0x7788 (30600)   al 0x88 (-120, 136)   ah 0x77 (119, 'w')";
    assert!(text.contains(parts), "{text}");
    assert!(text.contains("ah = 0x77"), "{text}");
    assert!(text.contains("rip = 0x40100a"), "{text}");
    let data = folder.transcript(&["step", "wide.s", "--json"], "step\nregisters rax\n");
    assert!(data.contains(r#"{"name":"ah","value":"0x77","bits":8}"#), "{data}");
    let last = folder.transcript(&["step", "wide.s", "--plain"], "step 2\nwho rip\n");
    assert!(last.contains("wide.s:3") && !last.contains("nothing has written"), "{last}");
    let bell =
        folder.transcript(&["step", "bell.s", "--plain"], "registers eip\nchange eip to eip + 2\n");
    assert!(bell.contains("eip  0x8049000 -> 0x8049002"), "{bell}");
    let lamp =
        folder.transcript(&["step", "lamp.s", "--plain"], "registers pc x0\nchange pc to pc + 4\n");
    assert!(lamp.contains("pc  0x401000 -> 0x401004") && lamp.contains("w0 0"), "{lamp}");
}

#[test]
fn who_and_ahead_look_back_and_forward() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s"))]);
    let commands =
        "until 24\nahead\nwho rax\nstep 5\nwho ebx\nwho [total]\nwho nothing\nresume\nahead\n";
    insta::assert_snapshot!(folder.transcript(&["step", "tide.s", "--plain"], commands));
}

#[test]
fn every_command_answers_as_data_too() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s"))]);
    let commands = "over\nuntil 24\nregisters\nflags\nstack\nmemory reading\nshow eax\nunshow eax\nahead\nwho rax\n\
                    back 3\nbreak at 29 when eax != 1\nbreaks\nresume\nout\noutput\nwho nothing\nstpe\nrewind\nfeed 5\nhelp\nsource\ncode\n";
    let output = folder
        .sotto(&["step", "tide.s", "--plain", "--json"])
        .write_stdin(commands)
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(0));
    let text = String::from_utf8(output.stdout).unwrap();
    let values: Vec<serde_json::Value> = text
        .lines()
        .map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{line}: {e}")))
        .collect();
    let tags: std::collections::BTreeSet<&str> =
        values.iter().map(|value| value["answer"].as_str().unwrap()).collect();
    for tag in [
        "session",
        "step",
        "stopped",
        "next",
        "registers",
        "flags",
        "stack",
        "memory",
        "value",
        "writer",
        "breakpoint-set",
        "stops",
        "ended",
        "output",
        "error",
        "notice",
        "source",
        "code",
        "end",
    ] {
        assert!(tags.contains(tag), "nothing is `{tag}` in\n{text}");
    }
    let ends: Vec<bool> = values
        .iter()
        .filter(|value| value["answer"] == "end")
        .map(|value| value["ok"].as_bool().unwrap())
        .collect();
    assert_eq!(ends.len(), commands.lines().count(), "{text}");
    assert_eq!(ends.iter().filter(|ok| !**ok).count(), 2, "{text}");
    // 64-bit values are strings, since many readers of JSON lose bits above 2^53.
    let find = |tag: &str| values.iter().find(|value| value["answer"] == tag).unwrap();
    let registers = find("registers")["registers"].as_array().unwrap();
    let rax = registers.iter().find(|register| register["name"] == "rax").unwrap();
    assert_eq!(rax["value"], "0x58");
    assert_eq!(find("memory")["lines"][0]["values"][0], "0x0c");
}

#[test]
fn a_request_is_answered_under_its_id_to_an_end() {
    let folder = Folder::new(&[("tide.s", &demo("tide.s"))]);
    let requests = [
        r#"{"id": 1, "command": "break at .next when ecx == 2"}"#,
        r#"{"id": "two", "command": "resume"}"#,
        r#"{"id": 3, "command": "stpe"}"#,
        r#"{"id": 4}"#,
        "step",
    ];
    let text =
        folder.transcript(&["step", "tide.s", "--json"], &format!("{}\n", requests.join("\n")));
    let values: Vec<serde_json::Value> =
        text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let under = |id: serde_json::Value| -> Vec<&str> {
        let own = values.iter().filter(|value| value["id"] == id);
        own.map(|value| value["answer"].as_str().unwrap()).collect()
    };
    assert_eq!(under(1.into()), ["breakpoint-set", "end"]);
    assert_eq!(under("two".into()), ["ran", "stopped", "end"]);
    assert_eq!(under(3.into()), ["error", "end"]);
    // Of what is no request there is no id, and of a command in words.
    let without = under(serde_json::Value::Null);
    assert_eq!(without, ["session", "next", "error", "end", "step", "stopped", "end"]);
    let stopped = values.iter().find(|value| value["answer"] == "stopped").unwrap();
    assert_eq!(
        (&stopped["reason"], &stopped["number"], &stopped["moment"]),
        (&"breakpoint".into(), &1.into(), &12.into())
    );
    assert_eq!(stopped["place"]["label"], ".next");
}

/// The client of docs/json.md.
#[test]
fn the_example_client_steps_a_program() {
    if !common::has("python3") {
        return;
    }
    let folder = Folder::new(&[("flash.s", &demo("flash.s"))]);
    let client = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/client.py");
    let output = std::process::Command::new("python3")
        .arg(client)
        .args([env!("CARGO_BIN_EXE_sotto"), "flash.s"])
        .current_dir(folder.path(""))
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{text}{}", String::from_utf8_lossy(&output.stderr));
    insta::assert_snapshot!(text);
}

#[test]
fn memory_is_shown_as_declared_or_as_asked() {
    let text = " .target x86-64\n .global _start\n .data\nbytes: db 1, 255\nwords: dw 258, 772\nlongs: dd 1, -1\nquads: dq 5\ntext: .asciz \"Skerry\"\n .bss\nroom: .skip 20\n .text\n_start: nop\n";
    let folder = Folder::new(&[("log.s", text)]);
    let commands = "memory bytes\nmemory words\nmemory longs\nmemory quads\nmemory text\nmemory room\nmemory bytes 2 as word\nmemory words + 2 1\nmemory rsp 2 as qword\n";
    insta::assert_snapshot!(folder.transcript(&["step", "log.s", "--plain"], commands));
}

#[test]
fn standard_input_of_the_program_may_be_a_file() {
    let common::Program { path, input, .. } =
        common::programs("arm64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let folder = Folder::new(&[("log", &input)]);
    let words = ["step", path.to_str().unwrap(), "--plain", "--stdin", "log"];
    let transcript = folder.transcript(&words, "resume\noutput\n");
    assert!(transcript.contains("FOG AT FOUR"), "{transcript}");
    let missing = folder.transcript(&["step", path.to_str().unwrap(), "--stdin", "none"], "");
    assert!(missing.contains("cannot read none"), "{missing}");
}

#[test]
fn a_tour_of_time_frames_and_changes_reads_well() {
    let folder = Folder::new(&[("flash.s", &demo("flash.s"))]);
    let commands = "break at lit_seconds\nwatch ebx\nresume\nframes\nmark dusk\nresume\nresume\nbreaks\ncompare dusk\nstack 3\n\
                    change edi to 0\nwho edi\nout\nback line\nback call\nuntil #9\nshow edi as binary\nshow edi as all\n\
                    memory bright as text\nunbreak 1\nunbreak 2\nresume\nsyscalls\nback\nrestart dark\nmark\n";
    insta::assert_snapshot!(folder.transcript(&["step", "flash.s", "--plain"], commands));
}

#[test]
fn a_changed_source_is_reloaded_at_the_same_line_or_not_at_all() {
    let folder = Folder::new(&[("flash.s", &demo("flash.s"))]);
    // The script's file is read at once, and the source is read again while it is carried out: a shell
    // of its own changes it between two commands.
    let mut child = std::process::Command::new(assert_cmd::cargo::cargo_bin("sotto"))
        .args(["step", "flash.s", "--plain"])
        .current_dir(folder.path(""))
        .env("NO_COLOR", "1")
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    use std::io::{BufRead, Write};
    let mut input = child.stdin.take().unwrap();
    let mut output = std::io::BufReader::new(child.stdout.take().unwrap()).lines();
    let mut until = |text: &str| loop {
        let line = output.next().expect("more comes").unwrap();
        if line.contains(text) {
            return line;
        }
    };
    writeln!(input, "break at 46 after 2\nresume").unwrap();
    until("breakpoint 1, 2 times now");
    folder.write("flash.s", &format!("; Skerry\n{}", demo("flash.s")));
    writeln!(input, "reload").unwrap();
    until("reloaded; returned to the same line");
    assert!(until("next").contains("flash.s:47"));
    folder.write("flash.s", "nothing\n");
    writeln!(input, "reload\nsource").unwrap();
    until("error: the source has errors; nothing was reloaded");
    until("-> ");
    drop(input);
    child.wait().unwrap();
}
