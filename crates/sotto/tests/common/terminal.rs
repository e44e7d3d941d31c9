//! The built program on a terminal of its own, whose screen is read by a terminal-state parser.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, AsRawFd};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use nix::fcntl::{FcntlArg, FdFlag, fcntl};
use nix::poll::{PollFd, PollFlags, poll};
use nix::pty::{Winsize, openpty};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::Folder;

nix::ioctl_write_ptr_bad!(set_size, nix::libc::TIOCSWINSZ, Winsize);
nix::ioctl_none_bad!(make_controlling, nix::libc::TIOCSCTTY);

/// `sotto` on a terminal that controls it.
pub struct Terminal {
    child: Child,
    keys: File,
    /// What appeared and was not looked at yet, read by a thread that ends with the terminal.
    display: Receiver<Vec<u8>>,
    screen: vt100::Parser,
    /// All bytes that appeared.
    pub raw: Vec<u8>,
}

impl Terminal {
    /// Starts `sotto WORDS` in a folder, on a terminal of so many columns and rows.
    pub fn start(folder: &Folder, words: &[&str], columns: u16, rows: u16) -> Terminal {
        Terminal::start_with(folder, words, columns, rows, &[])
    }

    /// Starts likewise with variables of the environment set.
    pub fn start_with(
        folder: &Folder,
        words: &[&str],
        columns: u16,
        rows: u16,
        variables: &[(&str, &str)],
    ) -> Terminal {
        let program = assert_cmd::cargo::cargo_bin("sotto");
        Terminal::start_program(folder, &program, words, columns, rows, variables)
    }

    /// Starts any program likewise.
    pub fn start_program(
        folder: &Folder,
        program: &std::path::Path,
        words: &[&str],
        columns: u16,
        rows: u16,
        variables: &[(&str, &str)],
    ) -> Terminal {
        let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        let pair = openpty(Some(&size), None).unwrap();
        // A terminal is closed when nobody holds this end any more, no child of ours either.
        fcntl(&pair.master, FcntlArg::F_SETFD(FdFlag::FD_CLOEXEC)).unwrap();
        let terminal = || Stdio::from(pair.slave.try_clone().unwrap());
        let mut command = Command::new(program);
        command
            .current_dir(folder.path(""))
            .args(words)
            .env("TERM", "xterm")
            .env("NO_COLOR", "1")
            .env("LANG", "C.UTF-8")
            .env_remove("LC_ALL")
            .env("XDG_STATE_HOME", folder.path("state"))
            .envs(variables.iter().copied())
            .stdin(terminal())
            .stdout(terminal())
            .stderr(terminal());
        // SAFETY: both calls are async-signal-safe, and nothing else happens between fork and exec.
        unsafe {
            command.pre_exec(|| {
                nix::unistd::setsid()?;
                make_controlling(0)?;
                Ok(())
            });
        }
        let child = command.spawn().unwrap();
        let mut output = File::from(pair.master.try_clone().unwrap());
        let (sender, display) = channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            loop {
                // Whoever closes the terminal must not have to wait for more to read.
                let mut ready = [PollFd::new(output.as_fd(), PollFlags::POLLIN)];
                if poll(&mut ready, 50u8).unwrap_or(0) == 0 {
                    if sender.send(Vec::new()).is_err() {
                        break;
                    }
                    continue;
                }
                let Ok(count @ 1..) = output.read(&mut bytes) else { break };
                if sender.send(bytes[..count].to_vec()).is_err() {
                    break;
                }
            }
        });
        let screen = vt100::Parser::new(size_of(rows), size_of(columns), 0);
        Terminal { child, keys: File::from(pair.master), display, screen, raw: Vec::new() }
    }

    /// Presses keys.
    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
    }

    fn take_in(&mut self, bytes: &[u8]) {
        self.raw.extend_from_slice(bytes);
        self.screen.process(bytes);
    }

    /// The text on the screen.
    pub fn text(&mut self) -> String {
        while let Ok(bytes) = self.display.try_recv() {
            self.take_in(&bytes);
        }
        self.screen.screen().contents()
    }

    /// Waits until the screen is as asked for.
    pub fn wait_until(&mut self, what: &str, is_so: impl Fn(&str) -> bool) -> String {
        let end = Instant::now() + Duration::from_secs(20);
        loop {
            let text = self.text();
            if self.frame_is_whole() && is_so(&text) {
                return text;
            }
            let left = end.saturating_duration_since(Instant::now());
            match self.display.recv_timeout(left) {
                Ok(bytes) => self.take_in(&bytes),
                Err(_) => panic!("{what} did not come; the screen:\n{text}"),
            }
        }
    }

    /// Whether no frame is being drawn just now. Source: the terminal's synchronized output, mode 2026.
    fn frame_is_whole(&self) -> bool {
        let last = |mark: &[u8]| self.raw.windows(mark.len()).rposition(|bytes| bytes == mark);
        last(b"\x1b[?2026l") >= last(b"\x1b[?2026h")
    }

    /// Waits until a text is on the screen.
    pub fn wait_for(&mut self, text: &str) -> String {
        self.wait_until(&format!("`{text}`"), |screen| screen.contains(text))
    }

    /// Makes the terminal another size.
    pub fn resize(&mut self, columns: u16, rows: u16) {
        let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        // SAFETY: the descriptor is the terminal's, and the size lives as long as the call.
        unsafe { set_size(self.keys.as_raw_fd(), &size) }.unwrap();
        self.screen.screen_mut().set_size(size_of(rows), size_of(columns));
    }

    /// Sends a signal.
    pub fn signal(&self, signal: Signal) {
        kill(Pid::from_raw(self.child.id() as i32), signal).unwrap();
    }

    /// Closes the terminal, as a window that is closed.
    pub fn close(mut self) -> ExitStatus {
        let (_, nothing) = channel();
        self.keys = File::open("/dev/null").unwrap();
        self.display = nothing;
        wait(&mut self.child)
    }

    /// Waits for the end.
    pub fn end(&mut self) -> ExitStatus {
        wait(&mut self.child)
    }

    /// Waits until the terminal is as a shell wants it.
    pub fn wait_given_back(&mut self) {
        let end = Instant::now() + Duration::from_secs(20);
        while !self.is_given_back() {
            assert!(Instant::now() < end, "the terminal was not given back");
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Whether the terminal is as a shell wants it: lines are edited, and keys are echoed.
    pub fn is_given_back(&mut self) -> bool {
        self.text();
        let modes = nix::sys::termios::tcgetattr(&self.keys).unwrap().local_flags;
        use nix::sys::termios::LocalFlags;
        modes.contains(LocalFlags::ICANON | LocalFlags::ECHO)
            && !self.screen.screen().alternate_screen()
    }
}

impl Drop for Terminal {
    /// Whatever a test found, it leaves nothing running.
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn wait(child: &mut Child) -> ExitStatus {
    let end = Instant::now() + Duration::from_secs(20);
    while Instant::now() < end {
        if let Some(status) = child.try_wait().unwrap() {
            return status;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    panic!("it did not end");
}

fn size_of(cells: u16) -> std::num::NonZero<u16> {
    std::num::NonZero::new(cells).expect("a terminal has a size")
}
