//! A program run on this computer's own processor, one instruction at a time.
//!
//! The kernel's process tracing stops the child before its first instruction; from there it is
//! stepped, and its registers and memory are read and set. Only on x86-64 Linux, for programs of either
//! mode of x86.
//!
//! Source: ptrace(2), proc_pid_mem(5).

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use nix::libc;
use nix::sys::personality::{self, Persona};
use nix::sys::ptrace;
use nix::sys::signal::Signal;
use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::Pid;
use sotto_isa::x86::flag;
use sotto_isa::{FlagSet, RegisterValue, Width};
use sotto_machine::CpuState;

/// A traced process, stopped between two instructions. It is killed when dropped.
pub struct Native {
    pid: Pid,
    memory: File,
    /// The segment of code in which it started, which decides the mode.
    code_segment: u64,
    ended: bool,
}

/// What came of one native step.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum NativeEvent {
    /// The instruction completed.
    Stepped,
    /// It raised this signal; the signal is not delivered.
    Signal(i32),
    /// The program ended with this status.
    Exited(i32),
}

/// Starts a program that was written just now. Another thread that forks meanwhile holds the file open
/// for writing until its child executes something else, which is soon: execve(2), ETXTBSY.
fn spawn(command: &mut Command) -> io::Result<std::process::Child> {
    const TRIES: u32 = 100;
    for _ in 0..TRIES {
        match command.spawn() {
            Err(error) if error.kind() == io::ErrorKind::ExecutableFileBusy => {
                std::thread::sleep(std::time::Duration::from_millis(10));
            }
            other => return other,
        }
    }
    command.spawn()
}

fn io_error(error: nix::Error) -> io::Error {
    io::Error::from_raw_os_error(error as i32)
}

impl Native {
    /// Starts a program, stopped at its first instruction, with address randomization off and an
    /// environment that holds nothing.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn start(
        path: &Path,
        arguments: &[&str],
        input: Stdio,
        output: Stdio,
    ) -> io::Result<Native> {
        let mut command = Command::new(path);
        command.args(arguments).env_clear().stdin(input).stdout(output);
        // SAFETY: between fork and exec only these two system calls are made.
        unsafe {
            command.pre_exec(|| {
                personality::set(Persona::ADDR_NO_RANDOMIZE).map_err(io_error)?;
                ptrace::traceme().map_err(io_error)
            });
        }
        let child = spawn(&mut command)?;
        let pid = Pid::from_raw(child.id() as i32);
        match waitpid(pid, None).map_err(io_error)? {
            WaitStatus::Stopped(_, Signal::SIGTRAP) => {}
            other => return Err(io::Error::other(format!("the program did not start: {other:?}"))),
        }
        ptrace::setoptions(pid, ptrace::Options::PTRACE_O_EXITKILL).map_err(io_error)?;
        let memory = File::options().read(true).write(true).open(format!("/proc/{pid}/mem"))?;
        let code_segment = ptrace::getregs(pid).map_err(io_error)?.cs;
        Ok(Native { pid, memory, code_segment, ended: false })
    }

    /// Registers and status flags.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn cpu_state(&self) -> io::Result<CpuState> {
        let r = ptrace::getregs(self.pid).map_err(io_error)?;
        let mut registers = vec![
            r.rax, r.rcx, r.rdx, r.rbx, r.rsp, r.rbp, r.rsi, r.rdi, r.r8, r.r9, r.r10, r.r11,
            r.r12, r.r13, r.r14, r.r15, r.rip, r.fs_base, r.gs_base,
        ];
        let f = self.float_registers()?;
        registers.extend([u64::from(f.mxcsr), u64::from(f.cwd) | u64::from(f.swd) << 16]);
        registers.push(r.es | r.ds << 16 | r.fs << 32 | r.gs << 48);
        let banks = f
            .xmm_space
            .chunks(4)
            .map(|four| {
                let join = |value: u128, word: &u32| value << 32 | u128::from(*word);
                RegisterValue::from(four.iter().rev().fold(0, join))
            })
            .collect();
        let flags = FlagSet(r.eflags as u32) & (flag::STATUS | flag::CONTROL);
        Ok(CpuState { registers, flags, banks })
    }

    /// Sets registers and status flags.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn set_cpu_state(&self, state: &CpuState) -> io::Result<()> {
        let mut r = ptrace::getregs(self.pid).map_err(io_error)?;
        {
            let fields = [
                &mut r.rax,
                &mut r.rcx,
                &mut r.rdx,
                &mut r.rbx,
                &mut r.rsp,
                &mut r.rbp,
                &mut r.rsi,
                &mut r.rdi,
                &mut r.r8,
                &mut r.r9,
                &mut r.r10,
                &mut r.r11,
                &mut r.r12,
                &mut r.r13,
                &mut r.r14,
                &mut r.r15,
                &mut r.rip,
                &mut r.fs_base,
                &mut r.gs_base,
            ];
            for (field, value) in fields.into_iter().zip(&state.registers) {
                *field = *value;
            }
            // What stands for no base in 32-bit mode is no address.
            for base in [&mut r.fs_base, &mut r.gs_base] {
                *base = if *base >> 47 == 0 { *base } else { 0 };
            }
        }
        let ours = u64::from((flag::STATUS | flag::CONTROL).0);
        r.eflags = (r.eflags & !ours) | u64::from(state.flags.0);
        r.cs = self.code_segment;
        let selectors = state.registers.get(21).copied().unwrap_or(0);
        let selector = |number: u32| selectors >> (16 * number) & 0xffff;
        (r.es, r.ds, r.fs, r.gs) = (selector(0), selector(1), selector(2), selector(3));
        // The kernel must not take the last stop for an interrupted system call.
        r.orig_rax = u64::MAX;
        ptrace::setregs(self.pid, r).map_err(io_error)?;
        if state.banks.is_empty() {
            return Ok(());
        }
        let mut f = self.float_registers()?;
        for (words, value) in f.xmm_space.chunks_mut(4).zip(&state.banks) {
            for (n, word) in words.iter_mut().enumerate() {
                *word = value.element(n, Width::W32) as u32;
            }
        }
        if let Some([mxcsr, words]) = state.registers.get(19..21) {
            (f.mxcsr, f.cwd) = (*mxcsr as u32, *words as u16);
            f.swd = (words >> 16) as u16;
        }
        // SAFETY: the kernel reads a structure of this type, as for a 64-bit tracer.
        let done = unsafe { libc::ptrace(libc::PTRACE_SETFPREGS, self.pid.as_raw(), 0, &f) };
        if done < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
    }

    /// The registers of x87 and of vectors, laid out as 64-bit mode does it also for a 32-bit process.
    fn float_registers(&self) -> io::Result<libc::user_fpregs_struct> {
        // SAFETY: zeros are a value of this type, and the kernel fills one in, as for a 64-bit tracer.
        unsafe {
            let mut f: libc::user_fpregs_struct = std::mem::zeroed();
            match libc::ptrace(libc::PTRACE_GETFPREGS, self.pid.as_raw(), 0, &mut f) {
                0.. => Ok(f),
                _ => Err(io::Error::last_os_error()),
            }
        }
    }

    /// Reads memory.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn read(&self, address: u64, bytes: &mut [u8]) -> io::Result<()> {
        self.memory.read_exact_at(bytes, address)
    }

    /// Writes memory, whatever its permissions.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn write(&self, address: u64, bytes: &[u8]) -> io::Result<()> {
        self.memory.write_all_at(bytes, address)
    }

    /// The lines of the kernel's map of the process that name this region: start and end addresses.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn region(&self, name: &str) -> io::Result<Option<(u64, u64)>> {
        let maps = std::fs::read_to_string(format!("/proc/{}/maps", self.pid))?;
        let line = maps.lines().find(|line| line.ends_with(name));
        let range =
            line.and_then(|line| line.split(' ').next()).and_then(|range| range.split_once('-'));
        Ok(range.and_then(|(start, end)| {
            Some((u64::from_str_radix(start, 16).ok()?, u64::from_str_radix(end, 16).ok()?))
        }))
    }

    /// The address that the kernel tells with the last signal: of the access that was refused, or 0 where
    /// the processor does not say.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn fault_address(&self) -> io::Result<u64> {
        let info = ptrace::getsiginfo(self.pid).map_err(io_error)?;
        // SAFETY: the kernel filled the structure in, and every signal of a fault has this field.
        Ok(unsafe { info.si_addr() } as u64)
    }

    /// Executes one instruction.
    ///
    /// # Errors
    ///
    /// What the operating system says.
    pub fn step(&mut self) -> io::Result<NativeEvent> {
        ptrace::step(self.pid, None).map_err(io_error)?;
        match waitpid(self.pid, None).map_err(io_error)? {
            WaitStatus::Stopped(_, Signal::SIGTRAP) => Ok(NativeEvent::Stepped),
            WaitStatus::Stopped(_, signal) => Ok(NativeEvent::Signal(signal as i32)),
            WaitStatus::Exited(_, status) => {
                self.ended = true;
                Ok(NativeEvent::Exited(status))
            }
            WaitStatus::Signaled(_, signal, _) => {
                self.ended = true;
                Ok(NativeEvent::Signal(signal as i32))
            }
            other => Err(io::Error::other(format!("unexpected stop: {other:?}"))),
        }
    }
}

impl Drop for Native {
    fn drop(&mut self) {
        if !self.ended {
            // The process may be gone already; there is nothing else to do about it.
            let _ = ptrace::kill(self.pid);
            let _ = waitpid(self.pid, None);
        }
    }
}
