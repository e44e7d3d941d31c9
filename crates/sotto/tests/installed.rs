//! Programs as they are installed, dynamically linked, give what they give natively.

#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use common::Folder;

const LOG: &str = "02:40 fog north\n03:10 bell east\n02:55 lamp north\n03:10 fog south\n";

/// Programs with their arguments, and whether what they write comes in an order of its own. `LOG` is their input.
const PROGRAMS: &[(&str, &[&str], bool)] = &[
    ("true", &[], false),
    ("cat", &["log", "-"], false),
    ("sort", &["-k2", "log"], false),
    ("sort", &["-r", "-n", "numbers"], false),
    ("uniq", &["-c"], false),
    ("wc", &["log", "numbers"], false),
    ("head", &["-c", "20", "log"], false),
    ("cut", &["-d", " ", "-f", "2", "log"], false),
    ("tr", &["a-z", "A-Z"], false),
    ("sha256sum", &["log", "numbers"], false),
    ("base64", &["log"], false),
    ("find", &[".", "-type", "f", "-name", "*o*"], true),
    ("grep", &["-n", "-E", "fog|bell", "log"], false),
    ("sed", &["-E", "s/([0-9]+):([0-9]+)/\\2.\\1/; 2d", "log"], false),
    (
        "awk",
        &["{ n[$2]++; t += $1 } END { print n[\"fog\"], t, length(n[\"fog\"]) }", "log"],
        false,
    ),
    ("tar", &["tf", "log.tar"], false),
    ("gzip", &["-9", "-c"], false),
    (
        "perl",
        &[
            "-e",
            "my %n; while (<>) { $n{(split)[2]}++ } print map { \"$_ $n{$_}\\n\" } sort keys %n",
        ],
        false,
    ),
    ("diff", &["log", "numbers"], false),
    ("od", &["-A", "x", "-t", "x1z", "log"], false),
    ("expr", &["6", "*", "7"], false),
    ("date", &["-u", "-d", "2026-03-20 02:40", "+%s %A"], false),
    ("ls", &["-1", "."], false),
];

/// Where an installed program is.
fn installed(name: &str) -> Option<PathBuf> {
    ["/usr/bin", "/bin"]
        .iter()
        .map(|folder| Path::new(folder).join(name))
        .find(|path| path.is_file())
}

/// The status of a command, and what it writes.
fn outcome(mut command: Command) -> (Option<i32>, String) {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = command.spawn().unwrap();
    // Who does not read the input may be gone already.
    let _ = child.stdin.take().unwrap().write_all(LOG.as_bytes());
    let output = child.wait_with_output().unwrap();
    (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
}

#[test]
fn installed_programs_give_what_they_give_natively() {
    let folder = Folder::new(&[("log", LOG), ("numbers", "240\n-3\n17\n17\n9000\n")]);
    let packed = Command::new("tar")
        .args(["cf", "log.tar", "log", "numbers"])
        .current_dir(folder.path(""))
        .status();
    assert!(packed.unwrap().success());
    let mut wrong = Vec::new();
    for (name, arguments, is_unordered) in PROGRAMS {
        let Some(program) = installed(name) else {
            assert!(std::env::var_os("CI").is_none(), "{name} is not installed");
            eprintln!("skipped: {name} is not installed");
            continue;
        };
        let mut native = Command::new(&program);
        native.args(*arguments).env_clear().env("LANG", "C.UTF-8").env("TERM", "dumb");
        let mut emulated = Command::new(env!("CARGO_BIN_EXE_sotto"));
        emulated
            .args(["run", "--files", "/", "--files", "."])
            .arg(&program)
            .arg("--")
            .args(*arguments);
        let [mut theirs, mut ours] = [native, emulated].map(|mut command| {
            command.current_dir(folder.path(""));
            outcome(command)
        });
        if *is_unordered {
            for (_, text) in [&mut theirs, &mut ours] {
                let mut lines: Vec<&str> = text.lines().collect();
                lines.sort();
                *text = lines.join("\n");
            }
        }
        if ours != theirs {
            wrong.push(format!("{name} {arguments:?}\nhere:     {ours:?}\nnatively: {theirs:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// The C compiler's own front end, which is a large program.
#[test]
fn the_front_end_of_the_c_compiler_compiles() {
    let path = Command::new("cc").arg("-print-prog-name=cc1").output();
    let Some(front_end) = path.ok().and_then(|output| String::from_utf8(output.stdout).ok()) else {
        eprintln!("skipped: no C compiler");
        return;
    };
    let front_end = front_end.trim();
    if !Path::new(front_end).is_file() {
        eprintln!("skipped: no front end of the C compiler");
        return;
    }
    let folder = Folder::new(&[(
        "tide.c",
        "int high(const int *hours, int count) {\n  int best = 0;\n  for (int n = 0; n < count; n++)\n    if (hours[n] > best) best = hours[n];\n  return best;\n}\n",
    )]);
    let arguments = ["-quiet", "-O2", "tide.c", "-o", "-"];
    let mut native = Command::new(front_end);
    native.args(arguments).env_clear();
    let mut emulated = Command::new(env!("CARGO_BIN_EXE_sotto"));
    emulated.args(["run", "--files", "/", "--files", ".", front_end, "--"]).args(arguments);
    let [theirs, ours] = [native, emulated].map(|mut command| {
        command.current_dir(folder.path(""));
        outcome(command)
    });
    assert_eq!(ours, theirs);
}

/// A fault in a library says which, and where the program called it.
#[test]
fn a_fault_in_a_library_says_which_and_where_it_was_called() {
    if !common::has("cc") {
        eprintln!("skipped: no C compiler");
        return;
    }
    let folder = Folder::new(&[(
        "bell.c",
        "#include <stdio.h>\nint main(int count, char **words) {\n  return puts(words[count]);\n}\n",
    )]);
    let built = Command::new("cc")
        .args(["-g", "-O0", "-fno-builtin", "-o", "bell", "bell.c"])
        .current_dir(folder.path(""))
        .status();
    assert!(built.unwrap().success());
    let output = folder.sotto(&["run", "--files", "/", "bell"]).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(said.contains("at libc.so.6"), "{said}");
    assert!(said.contains("called from") && said.contains("bell.c:3  main"), "{said}");
    // Without its loader it cannot be started, and says what to do.
    let output = folder.sotto(&["run", "bell"]).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(said.contains("dynamically linked") && said.contains("--files /"), "{said}");
    let transcript =
        folder.transcript(&["step", "--files", "/", "bell"], "until main\nuntil puts\nframes\n");
    assert!(transcript.contains("libc.so.6"), "{transcript}");
    assert!(transcript.contains("  1  main("), "{transcript}");
}

/// A command natively in a folder: its status and what it writes.
fn native(folder: &Folder, program: &str, arguments: &[&str]) -> (Option<i32>, String) {
    let mut command = Command::new(program);
    command.args(arguments).current_dir(folder.path(""));
    command.env_clear().env("PATH", "/usr/bin:/bin");
    outcome(command)
}

/// The same here, with these options.
fn emulated(folder: &Folder, options: &[&str], words: &[&str]) -> (Option<i32>, String) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_sotto"));
    command.arg("run").args(options).args(words).current_dir(folder.path(""));
    outcome(command)
}

/// Runs a program with other programs natively, here in rotation and by seeds, and from recordings when its files are gone.
fn compare_in_every_order(
    folder: &Folder,
    words: &[&str],
    theirs: (Option<i32>, String),
    sorted: bool,
) {
    let in_order = |(status, text): (Option<i32>, String)| {
        let mut lines: Vec<&str> = text.lines().collect();
        if sorted {
            lines.sort();
        }
        (status, lines.join("\n"))
    };
    let theirs = in_order(theirs);
    // By that clock files that were just written are not from the future.
    let with = ["--files", "/", "--files", ".", "--clock", "2038-01-01"];
    let mut runs = Vec::new();
    for seed in ["", "3", "4", "5"] {
        let recording = format!("{seed}.rec");
        let mut options = [&with[..], &["--record", &recording]].concat();
        if !seed.is_empty() {
            options.extend(["--seed", seed]);
        }
        let ours = emulated(folder, &options, words);
        assert_eq!(in_order(ours.clone()), theirs, "seed {seed}");
        runs.push((recording, ours));
    }
    // Whatever was there is not any more.
    for name in ["watch.sh", "Makefile", "in/north.txt"] {
        let _ = std::fs::write(folder.path(name), "gone");
    }
    let words = &words[..1];
    for (recording, ours) in runs {
        assert_eq!(emulated(folder, &["--replay", &recording], words), ours, "{recording}");
    }
}

#[test]
fn a_shell_script_with_pipelines_and_background_jobs_gives_what_it_gives_natively() {
    let script = std::fs::read_to_string(common::data().join("shell/watch.sh")).unwrap();
    let folder = Folder::new(&[("watch.sh", &script)]);
    let theirs = native(&folder, "/bin/sh", &["watch.sh"]);
    assert_eq!(theirs.0, Some(4), "{}", theirs.1);
    compare_in_every_order(&folder, &["/bin/sh", "--", "watch.sh"], theirs, false);
}

#[test]
fn a_make_that_runs_several_programs_at_once_gives_what_it_gives_natively() {
    let Some(make) = installed("make") else {
        assert!(std::env::var_os("CI").is_none(), "make is not installed");
        return eprintln!("skipped: make is not installed");
    };
    let make = make.to_str().unwrap();
    let rules = std::fs::read_to_string(common::data().join("shell/Makefile")).unwrap();
    let folder = Folder::new(&[("Makefile", &rules)]);
    std::fs::create_dir(folder.path("in")).unwrap();
    for lamp in ["north", "south", "east", "west"] {
        folder.write(&format!("in/{lamp}.txt"), &format!("lamp {lamp} dim\nfog\n"));
    }
    let theirs = native(&folder, make, &["-j2"]);
    assert_eq!(theirs.0, Some(0), "{}", theirs.1);
    std::fs::remove_dir_all(folder.path("log")).unwrap();
    let words = ["/usr/bin/env", "--", "PATH=/usr/bin:/bin", make, "-j2"];
    compare_in_every_order(&folder, &words, theirs, true);
}
