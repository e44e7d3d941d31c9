//! The stepper as a person has it: on a terminal, with a prompt, completion and Ctrl-C.

mod common;

use std::fs::File;
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::{Folder, demo};
use nix::pty::openpty;

/// `sotto` on a terminal of its own.
struct Terminal {
    child: Child,
    keys: File,
    /// What appeared so far, read by a thread that ends with the terminal.
    screen: std::sync::mpsc::Receiver<Vec<u8>>,
    seen: String,
}

impl Terminal {
    fn start(folder: &Folder, words: &[&str]) -> Terminal {
        let pair = openpty(None, None).unwrap();
        let terminal = || Stdio::from(pair.slave.try_clone().unwrap());
        let child = Command::new(assert_cmd::cargo::cargo_bin("sotto"))
            .current_dir(folder.path(""))
            .args(words)
            .env("TERM", "xterm")
            .env("NO_COLOR", "1")
            .env("XDG_STATE_HOME", folder.path("state"))
            .stdin(terminal())
            .stdout(terminal())
            .stderr(terminal())
            .spawn()
            .unwrap();
        let mut display = File::from(pair.master.try_clone().unwrap());
        let (sender, screen) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = display.read(&mut bytes) {
                if sender.send(bytes[..count].to_vec()).is_err() {
                    break;
                }
            }
        });
        Terminal { child, keys: File::from(pair.master), screen, seen: String::new() }
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
    }

    /// Waits until the text appears after what was waited for last.
    fn wait_for(&mut self, text: &str) {
        let appeared = self.appears(text, Duration::from_secs(20));
        assert!(appeared, "`{text}` did not appear in:\n{}", self.seen);
    }

    /// Whether the text appears within the time.
    fn appears(&mut self, text: &str, time: Duration) -> bool {
        let end = Instant::now() + time;
        while !self.seen.contains(text) {
            let left = end.saturating_duration_since(Instant::now());
            match self.screen.recv_timeout(left) {
                Ok(bytes) => self.seen += &String::from_utf8_lossy(&bytes),
                Err(_) => return false,
            }
        }
        let at = self.seen.find(text).unwrap() + text.len();
        self.seen.drain(..at);
        true
    }

    fn end(mut self) -> i32 {
        self.child.wait().unwrap().code().unwrap_or(-1)
    }
}

#[test]
fn a_person_steps_completes_words_and_repeats_with_an_empty_line() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    let mut terminal = Terminal::start(&folder, &["step", "lamp.s", "--plain"]);
    terminal.wait_for("next  lamp.s:12");
    terminal.wait_for("sotto> ");
    terminal.press("step\r");
    terminal.wait_for("eax  0 -> 1");
    terminal.wait_for("sotto> ");
    terminal.press("\r");
    terminal.wait_for("edi  0 -> 1");
    terminal.press("regi\t rax\r");
    terminal.wait_for("rax = 1");
    terminal.press("qu\t\r");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn ctrl_c_stops_a_runaway_program_and_keeps_the_session() {
    let folder =
        Folder::new(&[("fog.s", " .target x86-64\n .global _start\n_start: jmp _start\n")]);
    let mut terminal = Terminal::start(&folder, &["step", "fog.s", "--plain"]);
    terminal.wait_for("sotto> ");
    terminal.press("resume\r");
    terminal.wait_for("resume");
    // The terminal is not the child's controlling one, so the key's signal is sent by hand; again
    // if it came before the program ran.
    let pid = nix::unistd::Pid::from_raw(terminal.child.id() as i32);
    for _ in 0..10 {
        std::thread::sleep(Duration::from_millis(300));
        nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGINT).unwrap();
        if terminal.appears("interrupted", Duration::from_secs(2)) {
            break;
        }
    }
    terminal.wait_for("next  fog.s:3");
    terminal.press("quit\r");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn the_end_of_input_leaves() {
    let folder = Folder::new(&[("lamp.s", &demo("lamp.s"))]);
    let mut terminal = Terminal::start(&folder, &["step", "lamp.s", "--plain"]);
    terminal.wait_for("sotto> ");
    terminal.press("\u{4}");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn colours_are_for_terminals_and_for_those_who_ask() {
    let folder = Folder::new(&[("lamp.s", " .target x86-64\n moov eax, 1\n")]);
    let run = |words: &[&str], no_color: bool| {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin("sotto"));
        command.current_dir(folder.path("")).args(words).env_remove("NO_COLOR");
        if no_color {
            command.env("NO_COLOR", "1");
        }
        String::from_utf8(command.output().unwrap().stderr).unwrap().contains('\u{1b}')
    };
    assert!(!run(&["run", "lamp.s"], false));
    assert!(run(&["run", "lamp.s", "--color", "always"], false));
    assert!(!run(&["run", "lamp.s", "--color", "never"], false));
    assert!(!run(&["run", "lamp.s"], true));
}
