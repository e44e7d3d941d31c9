//! Arguments as typed, and the choice of what to do.

use std::ffi::OsString;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Parser, Subcommand, ValueEnum};
use sotto_isa::{Arch, OperandOrder};

use serde_json::json;

use crate::console::{self, Stream};

/// Write, assemble, run and step user-mode assembly for Linux.
#[derive(Parser, Debug)]
#[command(name = "sotto", version, max_term_width = 100)]
#[command(
    after_help = "New here? `sotto demo` writes example programs and shows what to do with them."
)]
pub struct Cli {
    /// When to use colour
    #[arg(long, value_enum, default_value_t = Color::Auto, global = true)]
    pub color: Color,
    /// Report as data: one JSON object, or one a line
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Copy, Clone, Debug, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

impl Color {
    pub fn apply(self) {
        match self {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        }
        .write_global();
    }
}

#[derive(Subcommand, Debug)]
pub enum Command {
    /// Assemble and link sources to a program that the kernel can run
    Assemble(AssembleArgs),
    /// Link objects, archives and sources to a program
    Link(LinkArgs),
    /// Run a program under the emulator; its output and exit status pass through
    Run(RunArgs),
    /// Step through a program, forwards and backwards
    Step(StepArgs),
    /// Print a line for each executed instruction, or only system calls or chosen values
    Trace(TraceArgs),
    /// Call one routine with arguments: what it returns, what it changes, what it breaks
    Call(CallArgs),
    /// Run a program and report common mistakes, with their places and remedies
    Check(CheckArgs),
    /// Look up an instruction, a system call, a register, a flag, a convention or a finding
    Explain(ExplainArgs),
    /// Write the demo programs to a folder and take a short tour of them
    Demo(DemoArgs),
}

/// What a program is made from.
#[derive(Args, Clone, Debug)]
pub struct ProgramArgs {
    /// Sources, ELF objects and archives, or one ELF executable
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Machine to assemble for: x86-64, x86-32 or arm64; otherwise inferred from the source
    #[arg(long, value_name = "MACHINE")]
    pub target: Option<Arch>,
    /// Symbol at which the program starts
    #[arg(long, value_name = "SYMBOL", default_value = "_start")]
    pub entry: String,
    /// How instructions are printed: destination-first or source-first; otherwise as the first
    /// source writes them
    #[arg(long, value_name = "ORDER")]
    pub operands: Option<OperandOrder>,
    /// Folder in which to look for files that a source includes; can be given several times
    #[arg(short = 'I', long, value_name = "FOLDER")]
    pub include_path: Vec<PathBuf>,
}

#[derive(Args, Debug)]
pub struct AssembleArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// File to write; by default the first source's name without its ending
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Write an object for each source, to be linked later, by `sotto link` or by a C compiler
    #[arg(long)]
    pub object: bool,
    /// File for the listing: addresses, bytes and source, line by line
    #[arg(long, value_name = "FILE")]
    pub listing: Option<PathBuf>,
    /// File for the map: sections and symbols by address
    #[arg(long, value_name = "FILE")]
    pub map: Option<PathBuf>,
    /// Make a program that can be loaded at any address
    #[arg(long)]
    pub pie: bool,
}

#[derive(Args, Debug)]
pub struct LinkArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// File to write
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// File for the map: sections and symbols by address
    #[arg(long, value_name = "FILE")]
    pub map: Option<PathBuf>,
    /// Make a program that can be loaded at any address
    #[arg(long)]
    pub pie: bool,
}

/// What a program finds when it is run here.
#[derive(Args, Clone, Debug)]
pub struct SystemArgs {
    /// Folder that the program finds in its directory, or at GUEST (`/` at the root); `:rw`, for `sotto run` alone, writes changes back
    #[arg(long = "files", value_name = "DIR[:rw][=GUEST]")]
    pub folders: Vec<OsString>,
    /// Memory that the program may have: bytes, or a number with K, M or G; 4G unless said
    #[arg(long, value_name = "SIZE", value_parser = byte_size)]
    pub memory: Option<u64>,
    /// Time of day at which it starts, in UTC; 2026-01-01 unless said
    #[arg(long, value_name = "YYYY-MM-DD[ HH:MM[:SS]]", value_parser = time_of_day)]
    pub clock: Option<u64>,
    /// Draw from this number when another thread or process goes on, and which; in rotation, every 10,000 instructions, unless said
    #[arg(long, value_name = "N")]
    pub seed: Option<u64>,
    /// Recording from which arguments, input, files and the order of tasks are taken; `sotto run --record` makes one
    #[arg(long, value_name = "FILE", conflicts_with_all = ["folders", "memory", "clock", "seed", "stdin", "arguments"])]
    pub replay: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub struct RunArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// Have the system's C compiler link the files with the C library first; C sources may be among them
    #[arg(long)]
    pub with_c: bool,
    /// File to give the program as standard input
    #[arg(long, value_name = "FILE")]
    pub stdin: Option<PathBuf>,
    /// Stop after this many instructions
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
    /// File for a recording of all that the run depends on, which `--replay` takes
    #[arg(long, value_name = "FILE", conflicts_with_all = ["interleavings", "replay"])]
    pub record: Option<PathBuf>,
    /// Run it with the seeds from 1 to N, and report the first whose result is another than without
    #[arg(long, value_name = "N", conflicts_with_all = ["seed", "replay"])]
    pub interleavings: Option<u64>,
    #[command(flatten)]
    pub system: SystemArgs,
    /// Arguments for the program
    #[arg(last = true, value_name = "ARGS")]
    pub arguments: Vec<OsString>,
}

#[derive(Args, Clone, Debug)]
pub struct StepArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// Have the system's C compiler link the files with the C library first; C sources may be among them
    #[arg(long)]
    pub with_c: bool,
    /// Run to this place first: a label, a line, or FILE:LINE
    #[arg(long, value_name = "PLACE")]
    pub at: Option<String>,
    /// Line by line, without the full screen
    #[arg(long)]
    pub plain: bool,
    /// Take the mouse on the full screen: the wheel scrolls, a click on a line's number sets a breakpoint
    #[arg(long)]
    pub mouse: bool,
    /// File to give the program as standard input
    #[arg(long, value_name = "FILE")]
    pub stdin: Option<PathBuf>,
    /// File of commands to carry out
    #[arg(long, value_name = "FILE")]
    pub script: Option<PathBuf>,
    #[command(flatten)]
    pub system: SystemArgs,
    /// Arguments for the program
    #[arg(last = true, value_name = "ARGS")]
    pub arguments: Vec<OsString>,
}

#[derive(Args, Debug)]
pub struct TraceArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// Have the system's C compiler link the files with the C library first; C sources may be among them
    #[arg(long)]
    pub with_c: bool,
    /// Run to this place first
    #[arg(long, value_name = "PLACE")]
    pub from: Option<String>,
    /// Stop when this place is reached
    #[arg(long, value_name = "PLACE")]
    pub to: Option<String>,
    /// Only lines for instructions at these places
    #[arg(long, value_name = "PLACE,...", value_delimiter = ',')]
    pub at: Vec<String>,
    /// Values to show, as the instruction finds them; with `--at`, only these
    #[arg(long, value_name = "EXPR,...", value_delimiter = ',')]
    pub show: Vec<String>,
    /// Only system calls
    #[arg(long)]
    pub syscalls: bool,
    /// Do not check the instructions; otherwise what `sotto check` finds stands below the line it is about
    #[arg(long)]
    pub no_check: bool,
    /// Stop after this many instructions
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
    /// File to give the program as standard input
    #[arg(long, value_name = "FILE")]
    pub stdin: Option<PathBuf>,
    #[command(flatten)]
    pub system: SystemArgs,
    /// Arguments for the program
    #[arg(last = true, value_name = "ARGS")]
    pub arguments: Vec<OsString>,
}

#[derive(Args, Debug)]
pub struct CallArgs {
    /// Source, ELF object or executable that has the routine
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// The routine
    #[arg(value_name = "ROUTINE")]
    pub routine: String,
    /// Numbers (-5, 0x1f, 'a'), floats (1.5), text (ebb), arrays ([1,2,3]:4byte), room (buffer:64), a file's bytes
    /// (file:PATH), registers (eax=7)
    #[arg(value_name = "ARG", allow_negative_numbers = true)]
    pub arguments: Vec<String>,
    /// Fail unless the result is this; with several results `name=value` says which
    #[arg(long, value_name = "VALUE", allow_negative_numbers = true)]
    pub expect: Vec<String>,
    /// Table of cases (TOML), each with arguments and what to expect
    #[arg(long, value_name = "FILE", conflicts_with_all = ["expect", "arguments"])]
    pub cases: Option<PathBuf>,
    /// Call it so many times with random arguments by its contract, and compare with `--against`
    #[arg(long, value_name = "N", requires = "against", conflicts_with_all = ["expect", "arguments", "cases"])]
    pub random: Option<u64>,
    /// C function to compare with, which the C compiler compiles
    #[arg(long, value_name = "FILE.c:FUNCTION", requires = "random")]
    pub against: Option<String>,
    /// Decides the random arguments
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// More files to link with it; can be given several times
    #[arg(long, value_name = "FILE")]
    pub link: Vec<PathBuf>,
    /// Stop after this many instructions
    #[arg(long, value_name = "N", default_value_t = 100_000_000)]
    pub limit: u64,
    /// Machine to assemble for: x86-64, x86-32 or arm64; otherwise inferred from the source
    #[arg(long, value_name = "MACHINE")]
    pub target: Option<Arch>,
    /// Folder in which to look for files that a source includes; can be given several times
    #[arg(short = 'I', long, value_name = "FOLDER")]
    pub include_path: Vec<PathBuf>,
}

/// From which severity on findings make the status 1.
#[derive(Copy, Clone, Debug, PartialEq, Eq, PartialOrd, Ord, ValueEnum)]
pub enum Deny {
    Hint,
    Warning,
    Error,
}

#[derive(Args, Debug)]
pub struct CheckArgs {
    #[command(flatten)]
    pub program: ProgramArgs,
    /// Have the system's C compiler link the files with the C library first; C sources may be among them
    #[arg(long)]
    pub with_c: bool,
    /// File to give the program as standard input
    #[arg(long, value_name = "FILE")]
    pub stdin: Option<PathBuf>,
    /// Table of cases (TOML) to run too, for the routine that it names or is called after; can be given several times
    #[arg(long, value_name = "FILE")]
    pub cases: Vec<PathBuf>,
    /// Stop after this many instructions
    #[arg(long, value_name = "N", default_value_t = 20_000_000)]
    pub limit: u64,
    #[command(flatten)]
    pub system: SystemArgs,
    /// Findings from this severity on make the exit status 1
    #[arg(long, value_enum, value_name = "SEVERITY", default_value_t = Deny::Warning)]
    pub deny: Deny,
    /// Say nothing about findings of this code; can be given several times
    #[arg(long, value_name = "CODE")]
    pub allow: Vec<String>,
    /// Judge code without source and contract too
    #[arg(long)]
    pub libraries: bool,
    /// Arguments for the program
    #[arg(last = true, value_name = "ARGS")]
    pub arguments: Vec<OsString>,
}

/// Where a program that the C library starts begins for its reader.
const MAIN: &str = "main";

impl StepArgs {
    /// Where to run to before anything is shown.
    pub fn first_place(&self) -> Option<&str> {
        self.at.as_deref().or(self.with_c.then_some(MAIN))
    }
}

impl TraceArgs {
    /// Where to run to before anything is traced.
    pub fn first_place(&self) -> Option<&str> {
        self.from.as_deref().or(self.with_c.then_some(MAIN))
    }
}

#[derive(Args, Debug)]
pub struct ExplainArgs {
    /// What to look up: `adc`, `write`, `60`, `eax`, `CF`
    #[arg(required = true)]
    pub topic: Vec<String>,
    /// Machine to look it up for; otherwise every machine that has it
    #[arg(long, value_name = "MACHINE")]
    pub target: Option<Arch>,
}

#[derive(Args, Debug)]
pub struct DemoArgs {
    /// Folder to write to
    #[arg(default_value = "skerry")]
    pub folder: PathBuf,
}

/// Status of our own errors.
pub const ERROR: u8 = 2;
/// Status of our own failures under `run`, whose other statuses are the program's.
pub const RUN_ERROR: u8 = 125;

/// A number of bytes as it is typed: `200000`, `64K`, `16M`, `2G`; K is 1024.
fn byte_size(text: &str) -> Result<u64, String> {
    let (digits, unit) = match text.char_indices().last() {
        Some((at, 'k' | 'K')) => (&text[..at], 1 << 10),
        Some((at, 'm' | 'M')) => (&text[..at], 1 << 20),
        Some((at, 'g' | 'G')) => (&text[..at], 1 << 30),
        _ => (text, 1),
    };
    let size = digits.parse::<u64>().ok().and_then(|number| number.checked_mul(unit));
    match size {
        Some(size) if size > 0 => Ok(size),
        _ => Err("write a number of bytes, or one with K, M or G: 64M".to_string()),
    }
}

/// A time of day as seconds since 1970.
fn time_of_day(text: &str) -> Result<u64, String> {
    let rest = match text.len() {
        10 => " 00:00:00",
        16 => ":00",
        _ => "",
    };
    let time = humantime::parse_rfc3339_weak(&format!("{text}{rest}"));
    time.ok()
        .and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok())
        .map(|since| since.as_secs())
        .ok_or_else(|| {
            "write a day from 1970 on, and a time of it if you like: 2026-03-20 02:40".to_string()
        })
}

/// Prints what clap has to say; `run` keeps its own status for bad arguments.
pub fn refuse(error: &clap::Error) -> ExitCode {
    let words: Vec<OsString> =
        std::env::args_os().skip(1).take_while(|word| word != "--").collect();
    let as_json = words.iter().any(|word| word == "--json");
    if !error.use_stderr() {
        // A closed pipe is all that can go wrong, and then nobody is listening.
        let _ = error.print();
        return ExitCode::SUCCESS;
    }
    let text = error.render().to_string();
    let text = console::sanitized(text.trim_end());
    let _ = match as_json {
        true => {
            let mut parts = text.splitn(2, '\n').map(str::trim);
            let message = parts.next().unwrap_or_default().trim_start_matches("error: ");
            let help = parts.next().filter(|help| !help.is_empty());
            Stream::Error.say_json(&json!({ "error": message, "help": help }))
        }
        // An argument that is quoted in it may hold anything.
        false if text == error.render().to_string().trim_end() => error.print(),
        false => Stream::Error.say(&text),
    };
    let runs = words.iter().find(|word| !word.as_encoded_bytes().starts_with(b"-"));
    ExitCode::from(if runs.is_some_and(|word| word == "run") { RUN_ERROR } else { ERROR })
}
