//! `sotto run`: the program's own output and status pass through; a fault gets a report.

use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use serde_json::json;
use sotto_kernel::{MemoryStore, StartError, Startup, Stop, Termination};
use sotto_session::{Session, SessionError};

use crate::cli::{RunArgs, SystemArgs};
use crate::console::{Stream, Tone, paint};
use crate::guest_io::{self, Notices};
use crate::host_files::{self, Folder};
use crate::output::Failure;
use crate::{interrupt, program, render, with_c};

/// Instructions between looks at the outside world; a run pauses by itself where few of them take long.
const SLICE: u64 = 1 << 20;
/// Status of a run that Ctrl-C stopped: 128 and SIGINT's number.
const INTERRUPTED: u8 = 130;
/// Status of a run whose reader went away: 128 and SIGPIPE's number, as natively.
const BROKEN_PIPE: u8 = 141;
/// Status of a run that reached its limit, as timeout(1) has it.
const LIMIT_REACHED: u8 = 124;
/// What there is to say of a program that waits for ever.
pub const STUCK: &str = "all that is left waits, and nothing will end that";

/// What a program starts with that is given these arguments, its own name first, in such a system with these folders.
pub fn startup(
    name: &std::ffi::OsStr,
    arguments: &[std::ffi::OsString],
    system: &SystemArgs,
    folders: &[Folder],
) -> Startup {
    let all = std::iter::once(name).chain(arguments.iter().map(std::ffi::OsString::as_os_str));
    let mut startup = Startup::with_arguments(all.map(OsStrExt::as_bytes));
    startup.memory_limit = system.memory.unwrap_or(startup.memory_limit);
    startup.clock = system.clock.unwrap_or(startup.clock);
    startup.interleaving = system.seed;
    startup.folders = folders.iter().map(Folder::shown).collect();
    startup
}

/// Says why a program cannot be started.
pub fn refused(error: &SessionError) -> Failure {
    match error {
        SessionError::Start(StartError::NoInterpreter(_)) => Failure::new(
            error.to_string(),
            "show it the files of this computer, `--files /`, or link it with `-static`",
        ),
        SessionError::Start(StartError::NoPlace(_)) => {
            Failure::new(error.to_string(), "say where the program finds it: --files DIR=/log")
        }
        error => Failure::plain(error.to_string()),
    }
}

/// Starts a session of a program with its arguments.
pub fn session(program: program::Program, startup: &Startup) -> Result<Session, Failure> {
    let mut session =
        Session::start(program.image, program.sources, startup).map_err(|error| refused(&error))?;
    session.set_operands(program.operands);
    session.set_interrupt(interrupt::asked);
    Ok(session)
}

/// `sotto run`
pub fn run_command(args: &RunArgs, as_json: bool) -> Result<u8, Failure> {
    let program = with_c::load_program(&args.program, args.with_c, as_json)?;
    let folders = host_files::folders(&args.system.folders)?;
    let startup = startup(&program.argument, &args.arguments, &args.system, &folders);
    if let Some(seeds) = args.interleavings {
        return crate::interleavings::command(program, startup, seeds, args, as_json);
    }
    let mut session = session(program, &startup)?;
    if let Some(path) = &args.stdin {
        session.system_mut().set_input_source(guest_io::file_source(path)?);
    }
    // Nobody goes back in time here, so what was read is not kept.
    let store = || Box::<MemoryStore>::default();
    session.system_mut().set_stores(store(), store());
    interrupt::listen();
    let mut notices = Notices::default();
    let status = run(&mut session, args, &mut notices, as_json);
    notices.tell_counts(as_json);
    let failures = folders.iter().flat_map(|folder| folder.write_back(session.system_mut()));
    let failures: Vec<String> = failures.collect();
    if !failures.is_empty() {
        return Err(Failure::plain(failures.join("\n")));
    }
    status
}

fn run(
    session: &mut Session,
    args: &RunArgs,
    notices: &mut Notices,
    as_json: bool,
) -> Result<u8, Failure> {
    let limit = args.limit.unwrap_or(u64::MAX);
    loop {
        let left = limit - session.moment();
        if left == 0 {
            return stopped(session, "at the limit that was set", LIMIT_REACHED, as_json);
        }
        let stop = session.system_mut().run(left.min(SLICE)).stop;
        session.read_modules();
        session.system_mut().forget_read_input();
        if pass_on(session)? == Reader::Gone {
            return Ok(BROKEN_PIPE);
        }
        notices.tell(session.take_noticed(), as_json);
        match stop {
            Stop::Terminated(Termination::Exited(status)) => return Ok(status as u8),
            Stop::Terminated(ending @ Termination::Killed(..)) => {
                if let Some(report) = session.fault_report() {
                    let _ = match as_json {
                        true => Stream::Error
                            .say_json(&json!({ "fault": report, "moment": session.moment() })),
                        false => Stream::Error.say(&render::fault(&report)),
                    };
                }
                return Ok(ending.shell_status() as u8);
            }
            Stop::NeedsInput => guest_io::more_input(session)?,
            Stop::Stuck => return stuck(session, as_json),
            Stop::MemoryLimit => {
                let limit = render::byte_count(session.system().memory_limit());
                let why = format!("it wants more memory than the {limit} that it may have");
                return stopped(session, &why, LIMIT_REACHED, as_json);
            }
            Stop::Budget
            | Stop::Switched
            | Stop::Delivered(_)
            | Stop::Paused
            | Stop::Unfinished
            | Stop::Output
            | Stop::AtCall
            | Stop::Place
            | Stop::Written => {}
        }
        if interrupt::asked() {
            return stopped(session, "interrupted", INTERRUPTED, as_json);
        }
    }
}

/// Reports a run in which all tasks wait, and what each waits for.
fn stuck(session: &mut Session, as_json: bool) -> Result<u8, Failure> {
    let status = stopped(session, STUCK, LIMIT_REACHED, as_json)?;
    let tasks = session.tasks();
    let _ = match as_json {
        true => Stream::Error.say_json(&json!({ "tasks": tasks })),
        false => Stream::Error.say(&tasks.iter().map(render::task).collect::<Vec<_>>().join("\n")),
    };
    Ok(status)
}

/// Whether somebody still reads the output.
#[derive(PartialEq, Eq)]
enum Reader {
    There,
    Gone,
}

/// Passes the program's output on, as it is.
fn pass_on(session: &mut Session) -> Result<Reader, Failure> {
    if session.system().output_bytes() == 0 {
        return Ok(Reader::There);
    }
    for chunk in session.system_mut().take_output() {
        let (stream, name) = match chunk.fd {
            2 => (Stream::Error, "standard error"),
            _ => (Stream::Output, "standard output"),
        };
        match stream.write(&chunk.bytes) {
            Ok(()) => {}
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(Reader::Gone),
            Err(source) => return Err(Failure::Write { path: PathBuf::from(name), source }),
        }
    }
    Ok(Reader::There)
}

/// Reports where a run was stopped from outside.
pub fn stopped(session: &Session, why: &str, status: u8, as_json: bool) -> Result<u8, Failure> {
    let place = session.here();
    let _ = if as_json {
        let stopped = json!({ "stopped": why, "place": place, "moment": session.moment() });
        Stream::Error.say_json(&stopped)
    } else {
        let count = match session.moment() {
            1 => "1 instruction".to_string(),
            moment => format!("{} instructions", render::thousands(moment)),
        };
        let stopped = paint(Tone::Warning, "stopped:");
        let place = render::place_line(&place);
        Stream::Error.say(&format!("{stopped} {why}, after {count}\n  at {place}"))
    };
    Ok(status)
}
