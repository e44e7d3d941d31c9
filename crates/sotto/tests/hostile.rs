//! Names, sources and guests that were made to do harm: to the terminal, to other files, to memory and patience.

mod common;

use std::ffi::OsStr;
use std::io::{Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::Folder;
use common::terminal::Terminal;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

const LAMP: &str = "        .target x86-64
        .global _start
        .data
text:   .ascii \"lamp lit\\n\"
        .text
_start: mov     eax, 1
        mov     edi, 1
        lea     rsi, [text]
        mov     edx, 9
        syscall
        mov     eax, 60
        xor     edi, edi
        syscall
";

fn lamp() -> Folder {
    Folder::new(&[("lamp.s", LAMP)])
}

fn names(folder: &Folder) -> Vec<String> {
    let entries = std::fs::read_dir(folder.path("")).unwrap();
    let mut names: Vec<String> =
        entries.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

// The terminal.

/// Whether a terminal would obey something in it.
fn obeyed(text: &str) -> Option<char> {
    text.chars().find(|&c| {
        (c.is_control() && c != '\n' && c != '\t')
            || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    })
}

#[test]
fn nothing_that_a_terminal_would_obey_comes_out_of_any_command() {
    // In comments, in a label (letters beyond ASCII are letters), and in what the guest prints.
    let source = "        .target x86-64
        .global _start
        .data
text:   .ascii \"\u{1b}]0;fog\u{7}\u{9b}2J\\033[31m\\177\\r\\n\"
length  equ $ - text
        .text
_start: mov     eax, 1          ; \u{1b}[2J\u{202e}
t\u{9b}\u{202e}: mov     edi, 1
        lea     rsi, [text]
        mov     edx, length
        syscall
        call    t2
        ud2
t2:     mov     rax, [0]        ; \u{1b}[8m
";
    let folder = Folder::new(&[("evil.s", source)]);
    let name = "\u{1b}[2J\u{202e}.s";
    folder.write(name, source);
    folder.write(
        "wrong.s",
        "\u{1b}[2J rign \u{9b}\n mov t\u{202e}, 1\n .ascii \"\u{7}\\q\"\n call t\u{9b}\n",
    );
    folder.sotto(&["assemble", "evil.s", "-o", "evil"]).output().unwrap();
    // Names of symbols that no source could have.
    let mut elf = std::fs::read(folder.path("evil")).unwrap();
    for at in 0..elf.len() - 8 {
        if &elf[at..at + 7] == b"\0_start" {
            elf[at + 1..at + 7].copy_from_slice(b"\x1b[2J\n\x07");
        }
    }
    std::fs::write(folder.path("evil"), elf).unwrap();
    let script = "step 3\nsource\ncode\nregisters\nstack\nframes\nmemory text 40\nshow text as text\nresume\noutput\nsyscalls\nback\nwho [text]\nbreak at \u{1b}[2J\n\u{9b}nonsense\nmark \u{1b}[2J\nmark\nchange \u{202e} to 1\nahead\n";
    folder.write("script", script);
    let runs: Vec<Vec<&str>> = vec![
        vec!["assemble", "evil.s", "--listing", "/dev/stdout", "--map", "/dev/stdout", "-o", "o"],
        vec!["assemble", "wrong.s"],
        vec!["assemble", "wrong.s", "--json"],
        vec!["assemble", name, "-o", "o"],
        vec!["assemble", "evil.s", "-o", "no\u{1b}[2J/\nsuch"],
        vec!["trace", "evil.s"],
        vec!["trace", "evil.s", "--json"],
        vec!["trace", "evil", "--show", "rax", "--", "\u{1b}[2J"],
        vec!["trace", name, "--syscalls"],
        vec!["step", "evil.s", "--plain", "--script", "script"],
        vec!["step", "evil.s", "--json", "--script", "script"],
        vec!["step", "evil", "--plain", "--script", "script", "--", "\u{1b}[2J\u{9b}"],
        vec!["step", name, "--plain", "--script", "script"],
        vec!["explain", "\u{1b}[2J\u{9b}"],
        vec!["run", "no\u{1b}such"],
        vec!["\u{1b}[2J"],
        vec!["run", "--\u{1b}[2J"],
        vec!["step", "evil.s", "--at", "\u{1b}[2J\u{202e}"],
    ];
    for words in runs {
        let output = folder.sotto(&words).output().unwrap();
        for (what, bytes) in [("output", &output.stdout), ("errors", &output.stderr)] {
            let text = String::from_utf8_lossy(bytes);
            assert_eq!(obeyed(&text), None, "{words:?}, {what}:\n{}", text.escape_debug());
        }
        assert!(!output.stdout.is_empty() || !output.stderr.is_empty(), "{words:?}");
    }
    // The program's own output passes through `run` as it is; the report of its fault does not.
    let output = folder.sotto(&["run", "evil.s"]).output().unwrap();
    assert!(output.stdout.starts_with("\u{1b}]0;fog\u{7}\u{9b}2J\u{1b}[31m\u{7f}\r\n".as_bytes()));
    assert_eq!(obeyed(&String::from_utf8_lossy(&output.stderr)), None);
    assert_eq!(output.status.code(), Some(139));
}

#[test]
fn the_full_screen_gives_the_terminal_back_whatever_signal_ends_it() {
    for signal in
        [Signal::SIGUSR1, Signal::SIGQUIT, Signal::SIGALRM, Signal::SIGINT, Signal::SIGSEGV]
    {
        let folder = lamp();
        let mut terminal = Terminal::start(&folder, &["step", "lamp.s"], 80, 24);
        terminal.wait_for("lamp.s");
        terminal.signal(signal);
        let status = terminal.end();
        assert_eq!(status.code(), Some(128 + signal as i32), "{signal}");
        terminal.wait_given_back();
    }
}

// Files.

#[test]
fn an_output_that_is_an_input_by_another_name_is_refused() {
    let source = format!(".include \"chart.inc\"\n{LAMP}\nchart: .incbin \"chart.bin\"\n");
    let folder = Folder::new(&[("a.s", &source), ("chart.inc", "tide = 7\n"), ("chart.bin", "7")]);
    symlink("a.s", folder.path("link.s")).unwrap();
    std::fs::hard_link(folder.path("a.s"), folder.path("hard.s")).unwrap();
    let absolute = folder.path("a.s");
    let absolute = absolute.to_str().unwrap();
    let refused: Vec<Vec<&str>> = vec![
        vec!["assemble", "a.s", "-o", "./a.s"],
        vec!["assemble", "a.s", "-o", absolute],
        vec!["assemble", "a.s", "-o", "link.s"],
        vec!["assemble", "a.s", "-o", "hard.s"],
        vec!["assemble", "link.s", "-o", "a.s"],
        vec!["assemble", "a.s", "-o", "x", "--listing", "./a.s"],
        vec!["assemble", "a.s", "-o", "x", "--map", "./chart.inc"],
        vec!["assemble", "a.s", "-o", "./chart.bin"],
        vec!["assemble", "a.s", "-o", "x", "--listing", "./x"],
        vec!["assemble", "a.s", "-o", "x", "--listing", "y", "--map", "./y"],
        vec!["assemble", "--object", "a.s", "-o", "./a.s"],
        vec!["assemble", "--object", "a.s", "--listing", "./chart.inc"],
        vec!["link", "a.s", "-o", "./a.s"],
        vec!["link", "a.s", "-o", "x", "--map", "./x"],
    ];
    for words in refused {
        let output = folder.sotto(&words).output().unwrap();
        assert_eq!(output.status.code(), Some(2), "{words:?}");
        let errors = String::from_utf8_lossy(&output.stderr);
        assert!(errors.contains("help: "), "{words:?}: {errors}");
        assert_eq!(std::fs::read_to_string(folder.path("a.s")).unwrap(), source, "{words:?}");
        assert_eq!(
            names(&folder),
            ["a.s", "chart.bin", "chart.inc", "hard.s", "link.s"],
            "{words:?}"
        );
    }
    folder
        .sotto(&["assemble", "a.s", "-o", "lamp", "--listing", "l", "--map", "m"])
        .assert()
        .success();
}

#[test]
fn outputs_are_put_in_place_together_and_keep_the_permissions_of_what_they_replace() {
    let folder = lamp();
    folder.write("old", "an older program");
    let mode = |name: &str| folder.path(name).metadata().unwrap().permissions().mode() & 0o777;
    let assemble = |map: &str| {
        folder.sotto(&["assemble", "lamp.s", "-o", "old", "--map", map]).output().unwrap()
    };
    let failed = assemble("no/such/folder/map");
    assert_eq!(failed.status.code(), Some(2));
    assert_eq!(std::fs::read_to_string(folder.path("old")).unwrap(), "an older program");
    assert_eq!(names(&folder), ["lamp.s", "old"]);
    let set = |name: &str, mode: u32| {
        std::fs::set_permissions(folder.path(name), PermissionsExt::from_mode(mode)).unwrap();
    };
    set("old", 0o640);
    folder.write("map", "");
    set("map", 0o600);
    assert!(assemble("map").status.success());
    // Who may read a program may run it.
    assert_eq!((mode("old"), mode("map")), (0o750, 0o600));
    assert_eq!(names(&folder), ["lamp.s", "map", "old"]);
}

#[test]
fn no_file_that_is_half_made_stays_when_a_signal_comes() {
    // Large enough that writing takes a while.
    let text = format!("{LAMP} .data\n .skip 200 << 20, 7\n");
    for wait in [120, 200, 280, 360] {
        let folder = Folder::new(&[("lamp.s", &text)]);
        let mut child = start(&folder, &["assemble", "lamp.s", "-o", "lamp"]);
        std::thread::sleep(Duration::from_millis(wait));
        let _ = kill(pid(&child), Signal::SIGTERM);
        child.wait().unwrap();
        let left: Vec<String> =
            names(&folder).into_iter().filter(|name| name != "lamp.s" && name != "lamp").collect();
        assert_eq!(left, Vec::<String>::new(), "after {wait} ms");
    }
}

#[test]
fn devices_pipes_and_giants_are_refused_or_read_as_far_as_needed() {
    let folder = lamp();
    nix::unistd::mkfifo(&folder.path("pipe"), nix::sys::stat::Mode::S_IRWXU).unwrap();
    let sparse = std::fs::File::create(folder.path("giant")).unwrap();
    sparse.set_len(1 << 40).unwrap();
    folder.write("takes_pipe.s", ".include \"pipe\"\n");
    folder.write("takes_giant.s", ".target x86-64\n.incbin \"giant\", 1 << 39, 4\n");
    folder.write("takes_all.s", ".target x86-64\n.incbin \"giant\"\n");
    folder.write(
        "reads.s",
        &LAMP.replace(
            "mov     eax, 1\n        mov     edi, 1",
            "mov     eax, 0\n        mov     edi, 0",
        ),
    );
    let run = |words: &[&str]| {
        let output = folder.sotto(words).timeout(Duration::from_secs(60)).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let refused = [
        (vec!["run", "/dev/zero"], "error: cannot read /dev/zero: it is a device"),
        (vec!["run", "giant"], "error: cannot read giant: it is larger than 4 GiB"),
        (
            vec!["step", "lamp.s", "--plain", "--script", "/dev/zero"],
            "error: cannot read /dev/zero: a line has more than 65536 bytes",
        ),
        (vec!["assemble", "takes_pipe.s"], "cannot read `pipe`: it is a pipe or a device"),
        (vec!["assemble", "takes_all.s"], "the file fills more than"),
    ];
    for (words, error) in refused {
        let (status, said) = run(&words);
        let wanted = if words[0] == "run" { 125 } else { 2 };
        assert_eq!(status, Some(wanted), "{words:?}: {said}");
        assert!(said.contains(error), "{words:?}: {said}");
    }
    assert_eq!(run(&["assemble", "--object", "takes_giant.s"]).0, Some(0));
    assert_eq!(run(&["run", "reads.s", "--stdin", "/dev/zero"]).0, Some(0));
    assert_eq!(run(&["trace", "reads.s", "--stdin", "/dev/zero"]).0, Some(0));
}

// Arguments and streams.

#[test]
fn arguments_may_be_any_bytes() {
    let folder = lamp();
    let bytes = OsStr::from_bytes(b"fog\xff\xfe");
    let status = |words: &[&OsStr]| {
        let mut command = folder.sotto(&[]);
        let output = command.args(words).env(bytes, bytes).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let text = |text: &'static str| OsStr::new(text);
    assert_eq!(status(&[text("run"), text("lamp.s"), text("--"), bytes]).0, Some(0));
    assert_eq!(status(&[text("trace"), text("lamp.s"), text("--"), bytes]).0, Some(0));
    for (words, wanted) in [
        (vec![text("run"), bytes], 125),
        (vec![text("run"), text("--entry"), bytes, text("lamp.s")], 125),
        (vec![text("step"), text("lamp.s"), text("--at"), bytes], 2),
        (vec![text("explain"), bytes], 2),
        (vec![bytes], 2),
        (vec![text("assemble"), text("lamp.s"), text("--target"), bytes], 2),
        (vec![text("trace"), bytes], 2),
    ] {
        let (code, said) = status(&words);
        assert_eq!(code, Some(wanted), "{words:?}: {said}");
        assert!(said.starts_with("error: ") && !said.contains("backtrace"), "{words:?}: {said}");
    }
    // The guest finds the bytes as they were given.
    folder.write(
        "echo.s",
        ".target x86-64\n.global _start\n_start: mov rsi, [rsp + 16]\n mov eax, 1\n mov edi, 1\n mov edx, 5\n syscall\n mov eax, 60\n xor edi, edi\n syscall\n",
    );
    let mut command = folder.sotto(&["run", "echo.s", "--"]);
    assert_eq!(command.arg(bytes).output().unwrap().stdout, bytes.as_bytes());
    // A source may be called anything.
    std::fs::copy(folder.path("lamp.s"), folder.path("").join(OsStr::from_bytes(b"l\xff.s")))
        .unwrap();
    assert_eq!(status(&[text("run"), OsStr::from_bytes(b"l\xff.s")]).0, Some(0));
}

#[test]
fn errors_of_arguments_are_json_where_json_is_asked_for() {
    let folder = lamp();
    for words in [
        vec!["--json", "run"],
        vec!["run", "--json", "--limit", "x", "lamp.s"],
        vec!["--json", "nonsense"],
        vec!["trace", "--json", "lamp.s", "--memory", "0"],
        vec!["--json", "run", "missing.s"],
    ] {
        let output = folder.sotto(&words).output().unwrap();
        let text = String::from_utf8(output.stderr).unwrap();
        let data: serde_json::Value = serde_json::from_str(text.trim_end()).expect(&text);
        assert!(data["error"].is_string(), "{words:?}: {text}");
        assert!(matches!(output.status.code(), Some(2 | 125)), "{words:?}");
    }
}

#[test]
fn a_full_disk_under_standard_output_is_an_error() {
    let folder = lamp();
    folder.write("script", "step\nregisters\n");
    for words in [
        vec!["explain", "adc"],
        vec!["explain", "adc", "--json"],
        vec!["trace", "lamp.s"],
        vec!["trace", "lamp.s", "--json"],
        vec!["assemble", "lamp.s", "-o", "lamp"],
        vec!["step", "lamp.s", "--plain", "--script", "script"],
        vec!["step", "lamp.s", "--json", "--script", "script"],
        vec!["demo"],
        vec!["run", "lamp.s"],
    ] {
        let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let mut command = command(&folder, &words);
        let output = command.stdout(full).stderr(Stdio::piped()).output().unwrap();
        let wanted = if words[0] == "run" { 125 } else { 2 };
        let said = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(wanted), "{words:?}: {said}");
        assert!(said.contains("cannot write standard output"), "{words:?}: {said}");
    }
}

#[test]
fn step_ends_when_its_reader_is_gone() {
    let folder = lamp();
    for words in [vec!["step", "lamp.s", "--plain"], vec!["step", "lamp.s", "--json"]] {
        let mut child = command(&folder, &words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let mut input = child.stdin.take().unwrap();
        // It may be gone at any of these.
        let _ = (0..1000).try_for_each(|_| input.write_all(b"registers\n"));
        assert_eq!(end(&mut child), Some(141), "{words:?}");
    }
}

#[test]
fn a_notice_that_repeats_is_counted() {
    let folder = Folder::new(&[(
        "fog.s",
        ".target x86-64\n.global _start\n_start: mov ebx, 500\n.more: mov eax, 9999\n syscall\n dec ebx\n jnz .more\n mov eax, 60\n xor edi, edi\n syscall\n",
    )]);
    let output = folder.sotto(&["run", "fog.s"]).output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    let lines: Vec<&str> = said.lines().collect();
    assert_eq!(
        lines,
        [
            "notice: x86-64 has no system call 9999; it returned ENOSYS",
            "notice: 500 times: x86-64 has no system call 9999; it returned ENOSYS"
        ]
    );
}

// Memory.

fn command(folder: &Folder, words: &[&str]) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin("sotto"));
    command.current_dir(folder.path("")).args(words).env("NO_COLOR", "1");
    command
}

fn start(folder: &Folder, words: &[&str]) -> Child {
    let mut command = command(folder, words);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn pid(child: &Child) -> Pid {
    Pid::from_raw(child.id() as i32)
}

/// Waits for the end, at most a minute.
fn end(child: &mut Child) -> Option<i32> {
    let until = Instant::now() + Duration::from_secs(60);
    while Instant::now() < until {
        if let Some(status) = child.try_wait().unwrap() {
            return status.code();
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    child.kill().unwrap();
    panic!("it does not end");
}

/// What a command says on standard error, its status, and the most memory that it had, in MiB.
#[allow(clippy::zombie_processes, reason = "wait4 waits for it, and tells of its memory")]
fn measured(folder: &Folder, words: &[&str]) -> (String, Option<i32>, u64) {
    let mut command = command(folder, words);
    let mut child =
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    let (mut status, mut usage) = (0, no_usage());
    // SAFETY: the process is our child and not waited for yet, and both places are ours.
    let waited = unsafe { nix::libc::wait4(child.id() as i32, &mut status, 0, &mut usage) };
    assert_eq!(waited, child.id() as i32);
    let code = nix::libc::WIFEXITED(status).then(|| nix::libc::WEXITSTATUS(status));
    (said, code, usage.ru_maxrss as u64 >> 10)
}

fn no_usage() -> nix::libc::rusage {
    // SAFETY: the structure is numbers alone, for which zeros are values.
    unsafe { std::mem::zeroed() }
}

const EXIT: &str = " mov eax, 60\n xor edi, edi\n syscall\n";

fn guest(code: &str) -> Folder {
    Folder::new(&[("fog.s", &format!(".target x86-64\n.global _start\n{code}{EXIT}"))])
}

/// Maps `bytes` bytes at r12.
fn map(bytes: &str) -> String {
    format!(
        " mov eax, 9\n xor edi, edi\n mov rsi, {bytes}\n mov edx, 3\n mov r10d, 0x22\n mov r8, -1\n xor r9d, r9d\n syscall\n mov r12, rax\n"
    )
}

#[test]
fn a_guest_has_the_memory_that_it_may_have_and_no_more() {
    let touch = " mov rcx, 200 << 20\n mov rdi, r12\n mov al, 1\n rep stosb\n";
    let folder = guest(&format!("_start:{}{touch}", map("256 << 20")));
    let (said, status, _) = measured(&folder, &["run", "fog.s"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    // The call is refused, and the program writes to -12.
    let (said, status, _) = measured(&folder, &["run", "fog.s", "--memory", "64M"]);
    assert_eq!(status, Some(139), "{said}");
    assert!(said.contains("0xfffffffffffffff4"), "{said}");
    assert!(said.contains("`mmap` asks for more memory than the program may have"), "{said}");
    // Room in .bss and on the stack is touched and not asked for.
    let folder =
        guest(&format!(".bss\nroom: .skip 256 << 20\n.text\n_start: lea r12, [room]\n{touch}"));
    let (said, status, memory) = measured(&folder, &["run", "fog.s", "--memory", "64M"]);
    assert_eq!(status, Some(124), "{said}");
    assert!(
        said.starts_with("stopped: it wants more memory than the 64 MiB that it may have"),
        "{said}"
    );
    assert!(memory < 200, "{memory} MiB");
    folder.write("script", "resume\nregisters\n");
    let (_, status, memory) =
        measured(&folder, &["step", "fog.s", "--plain", "--memory", "64M", "--script", "script"]);
    assert!(status == Some(0) && memory < 400, "{status:?}, {memory} MiB");
}

#[test]
fn pages_that_are_only_read_take_no_room() {
    let read = " mov rcx, 1 << 18\n.next: mov al, [r12]\n add r12, 4096\n loop .next\n";
    let folder = guest(&format!("_start:{}{read}", map("1 << 30")));
    let (said, status, memory) = measured(&folder, &["run", "fog.s"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    assert!(memory < 100, "{memory} MiB");
}

#[test]
fn a_write_of_much_memory_goes_out_piece_by_piece() {
    let write = " mov eax, 1\n mov edi, 1\n mov rsi, r12\n mov rdx, 1 << 30\n syscall\n cmp rax, 1 << 30\n jne _start\n";
    let folder = guest(&format!("_start:{}{write}", map("1 << 30")));
    let (said, status, memory) = measured(&folder, &["run", "fog.s"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    assert!(memory < 100, "{memory} MiB");
    folder.write("script", "resume\nback\nback 3\nresume\n");
    let (said, status, memory) =
        measured(&folder, &["step", "fog.s", "--plain", "--script", "script"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    assert!(memory < 200, "{memory} MiB");
}

#[test]
fn step_holds_five_thousand_writes_of_64_kb_and_goes_about_in_them() {
    let code = ".bss\nroom: .skip 64 << 10\n.text\n_start: mov ebx, 5000\n.more: mov eax, 1\n mov edi, 1\n lea rsi, [room]\n mov edx, 64 << 10\n inc byte [room]\n syscall\n dec ebx\n jnz .more\n";
    let folder = guest(code);
    folder.write("script", "resume\nback 20000\nresume\nback 3\n");
    let (said, status, memory) =
        measured(&folder, &["step", "fog.s", "--plain", "--script", "script"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    assert!(memory < 200, "{memory} MiB");
}

#[test]
fn endless_calls_are_counted_and_not_listed() {
    let text = ".target arm64\n.global _start\n_start: bl lamp\nlamp: b _start\n";
    let folder = Folder::new(&[("fog.s", text)]);
    let (_, status, memory) = measured(&folder, &["run", "fog.s", "--limit", "30000000"]);
    assert_eq!(status, Some(124));
    assert!(memory < 100, "{memory} MiB");
    folder.write("script", "until #20000000\nstack\nout\n");
    let folder_words = ["step", "fog.s", "--plain", "--script", "script"];
    let mut child = start(&folder, &folder_words);
    std::thread::sleep(Duration::from_secs(4));
    kill(pid(&child), Signal::SIGINT).unwrap();
    end(&mut child);
}

#[test]
fn a_repeated_string_instruction_is_stepped_without_listing_each_element() {
    let store = " mov rcx, 100 << 20\n mov rdi, r12\n mov al, 1\nfill: rep stosb\n";
    let folder = guest(&format!("_start:{}{store}", map("128 << 20")));
    folder.write("script", "until fill\nstep\nwho [r12 + 5]\n");
    let (said, status, memory) =
        measured(&folder, &["step", "fog.s", "--plain", "--script", "script"]);
    assert_eq!((status, said.as_str()), (Some(0), ""));
    assert!(memory < 700, "{memory} MiB");
}

// Patience.

#[test]
fn ctrl_c_is_heard_inside_long_instructions_and_calls() {
    let endless = [
        // A string instruction that goes over a gigabyte, again and again.
        format!(
            "_start:{}.more: mov rsi, r12\n mov rcx, 1 << 30\n rep lodsb\n jmp .more\n",
            map("1 << 30")
        ),
        // Calls that write much.
        format!(
            "_start:{}.more: mov eax, 1\n mov edi, 1\n mov rsi, r12\n mov edx, 0x7ffff000\n syscall\n jmp .more\n",
            map("3 << 30")
        ),
        // Mappings that come and go.
        format!(
            "_start:{}.more: mov eax, 10\n mov rdi, r12\n mov esi, 4096\n mov edx, 1\n syscall\n mov eax, 10\n mov rdi, r12\n mov esi, 4096\n mov edx, 3\n syscall\n jmp .more\n",
            map("1 << 20")
        ),
    ];
    for code in endless {
        let folder = guest(&code);
        let mut child = start(&folder, &["run", "fog.s"]);
        std::thread::sleep(Duration::from_millis(400));
        kill(pid(&child), Signal::SIGINT).unwrap();
        assert_eq!(end(&mut child), Some(130), "{code}");
        // In the stepper the moment before the instruction is come back to.
        let mut child = command(&folder, &["step", "fog.s", "--plain"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut input = child.stdin.take().unwrap();
        input.write_all(b"resume\n").unwrap();
        std::thread::sleep(Duration::from_millis(600));
        kill(pid(&child), Signal::SIGINT).unwrap();
        input.write_all(b"registers\nback\nquit\n").unwrap();
        drop(input);
        let mut said = String::new();
        child.stdout.take().unwrap().read_to_string(&mut said).unwrap();
        assert_eq!(end(&mut child), Some(0), "{code}");
        assert!(said.contains("interrupted"), "{code}: {said}");
    }
}

// What is kept.

#[test]
fn a_state_file_that_is_not_understood_is_left_alone() {
    let folder = lamp();
    let step = |keys: &str, wait: &str| {
        let mut terminal = Terminal::start_with(
            &folder,
            &["step", "lamp.s", "--plain"],
            100,
            30,
            &[("XDG_STATE_HOME", folder.path("state").to_str().unwrap())],
        );
        terminal.wait_for("sotto>");
        terminal.press(keys);
        terminal.wait_for(wait);
        terminal.press("quit\r");
        terminal.end();
        terminal.text();
        String::from_utf8_lossy(&terminal.raw).into_owned()
    };
    step("break at 9\r", "breakpoint 1");
    let kept =
        std::fs::read_dir(folder.path("state/sotto")).unwrap().next().unwrap().unwrap().path();
    for contents in ["{\"version\": 99}", "no json", "{\"version\": 1, \"program\": 7}"] {
        std::fs::write(&kept, contents).unwrap();
        let said = step("break at 10\r", "breakpoint 1");
        assert!(said.contains("it is left alone"), "{contents}: {said}");
        assert_eq!(std::fs::read_to_string(&kept).unwrap(), contents);
    }
    // Neither does a pipe there hold up the start.
    std::fs::remove_file(&kept).unwrap();
    nix::unistd::mkfifo(&kept, nix::sys::stat::Mode::S_IRWXU).unwrap();
    assert!(step("break at 10\r", "breakpoint 1").contains("is no file of ours"));
    // Without a home nothing is written.
    for home in ["", "relative"] {
        let mut terminal = Terminal::start_with(
            &folder,
            &["step", "lamp.s", "--plain"],
            100,
            30,
            &[("XDG_STATE_HOME", ""), ("HOME", home)],
        );
        terminal.wait_for("sotto>");
        terminal.press("break at 9\r");
        terminal.wait_for("breakpoint 1");
        terminal.press("quit\r");
        terminal.end();
        assert_eq!(names(&folder), ["lamp.s", "state"], "{home}");
    }
}
