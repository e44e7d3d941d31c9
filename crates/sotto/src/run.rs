//! `sotto run`: the program's own output and status pass through; a fault gets a report.

use std::io::{self, Read, Write};
use std::path::PathBuf;

use serde_json::json;
use sotto_kernel::{Ending, Startup, Stop};
use sotto_session::Session;

use crate::cli::RunArgs;
use crate::output::{self, Failure};
use crate::render::{self, Tone, paint};
use crate::{interrupt, program};

/// Instructions between looks at the clock of the outside world.
const SLICE: u64 = 1 << 20;
/// Status of a run that Ctrl-C stopped: 128 and SIGINT's number.
const INTERRUPTED: u8 = 130;
/// Status of a run whose reader went away: 128 and SIGPIPE's number, as natively.
const BROKEN_PIPE: u8 = 141;
/// Status of a run that reached its limit, as timeout(1) has it.
const LIMIT_REACHED: u8 = 124;

/// Starts a session of a program with its arguments.
pub fn session(program: program::Program, arguments: &[String]) -> Result<Session, Failure> {
    let mut all = vec![program.name];
    all.extend(arguments.iter().cloned());
    let mut session = Session::start(program.image, program.sources, &Startup::with_arguments(all))
        .map_err(|error| Failure::plain(error.to_string()))?;
    session.set_operands(program.operands);
    Ok(session)
}

/// `sotto run`
pub fn run_command(args: &RunArgs, as_json: bool) -> Result<u8, Failure> {
    let program = program::load(&args.program, as_json)?;
    let mut session = session(program, &args.arguments)?;
    let from_file = args.stdin.as_deref().map(output::read).transpose()?;
    if let Some(bytes) = &from_file {
        session.process_mut().give_input(bytes);
        session.process_mut().close_input();
    }
    interrupt::listen();
    let limit = args.limit.unwrap_or(u64::MAX);
    loop {
        let left = limit - session.moment();
        if left == 0 {
            return stopped(&session, "at the limit that was set", LIMIT_REACHED, as_json);
        }
        let stop = session.process_mut().run(left.min(SLICE)).stop;
        if pass_on(&mut session)? == Reader::Gone {
            return Ok(BROKEN_PIPE);
        }
        tell_noticed(&mut session, as_json);
        match stop {
            Stop::Ended(Ending::Exited(status)) => return Ok(status as u8),
            Stop::Ended(ending @ Ending::Killed(..)) => {
                if let Some(report) = session.fault_report() {
                    let mut out = anstream::stderr();
                    let _ = match as_json {
                        true => writeln!(
                            out,
                            "{}",
                            json!({ "fault": report, "moment": session.moment() })
                        ),
                        false => writeln!(out, "{}", render::fault(&report)),
                    };
                }
                return Ok(ending.shell_status() as u8);
            }
            Stop::NeedsInput => more_input(&mut session)?,
            Stop::Budget | Stop::Output | Stop::Place | Stop::Written => {}
        }
        if interrupt::asked() {
            return stopped(&session, "interrupted", INTERRUPTED, as_json);
        }
    }
}

/// Whether somebody still reads the output.
#[derive(PartialEq, Eq)]
enum Reader {
    There,
    Gone,
}

/// Passes the program's output on.
fn pass_on(session: &mut Session) -> Result<Reader, Failure> {
    for chunk in session.process_mut().take_output() {
        let (written, name) = match chunk.fd {
            2 => (io::stderr().write_all(&chunk.bytes), "standard error"),
            _ => {
                let mut out = io::stdout().lock();
                (out.write_all(&chunk.bytes).and_then(|()| out.flush()), "standard output")
            }
        };
        match written {
            Ok(()) => {}
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(Reader::Gone),
            Err(source) => return Err(Failure::Write { path: PathBuf::from(name), source }),
        }
    }
    Ok(Reader::There)
}

/// Says what is suspicious about system calls, as they are made.
fn tell_noticed(session: &mut Session, as_json: bool) {
    for call in session.process_mut().take_noticed() {
        let Some(notice) = &call.notice else { continue };
        let mut out = anstream::stderr();
        let _ = if as_json {
            writeln!(out, "{}", json!({ "notice": notice.message, "help": notice.help }))
        } else {
            let help = notice.help.as_ref().map(|help| format!("; {help}")).unwrap_or_default();
            writeln!(out, "{} {}{help}", paint(Tone::Warning, "notice:"), notice.message)
        };
    }
}

/// Reads on from our own standard input. An interrupted read gives nothing and closes nothing.
pub fn more_input(session: &mut Session) -> Result<(), Failure> {
    let mut bytes = [0; 65536];
    match io::stdin().lock().read(&mut bytes) {
        Ok(0) => session.process_mut().close_input(),
        Ok(count) => {
            session.process_mut().give_input(&bytes[..count]);
        }
        Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
        Err(source) => return Err(Failure::Read { path: PathBuf::from("standard input"), source }),
    }
    Ok(())
}

/// Reports where a run was stopped from outside.
fn stopped(session: &Session, why: &str, status: u8, as_json: bool) -> Result<u8, Failure> {
    let place = session.here();
    let mut out = anstream::stderr();
    let _ = if as_json {
        writeln!(out, "{}", json!({ "stopped": why, "place": place, "moment": session.moment() }))
    } else {
        let count = render::thousands(session.moment());
        let stopped = paint(Tone::Warning, "stopped:");
        let place = render::place_line(&place);
        writeln!(out, "{stopped} {why}, after {count} instructions\n  at {place}")
    };
    Ok(status)
}
