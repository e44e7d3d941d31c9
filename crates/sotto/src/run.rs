//! `sotto run`: the program's own output and status pass through; a fault gets a report.

use std::io;
use std::path::PathBuf;

use serde_json::json;
use sotto_kernel::{MemoryStore, StartError, Startup, Stop, Termination};
use sotto_session::recording::{Outputs, RecordedEnding, RecordedResult, Recorder};
use sotto_session::{Session, SessionError};

use crate::cli::RunArgs;
use crate::console::{Stream, Tone, paint};
use crate::guest_io::{self, Notices};
use crate::output::{self, Failure};
use crate::start::Start;
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

/// A run under way.
struct Running<'a> {
    session: Session,
    /// The most instructions.
    limit: u64,
    /// What is done when the program wants input.
    input: Input<'a>,
    /// What it wrote, if that is to be recorded or compared.
    outputs: Option<Outputs>,
    notices: Notices,
    as_json: bool,
}

/// Where input comes from that is not there yet.
#[derive(Copy, Clone)]
enum Input<'a> {
    /// From our own standard input.
    Own(Option<&'a Recorder>),
    /// From nowhere: it came from a recording.
    None,
}

/// `sotto run`
pub fn run_command(args: &RunArgs, as_json: bool) -> Result<u8, Failure> {
    let program = with_c::load_program(&args.program, args.with_c, as_json)?;
    let stdin = args.stdin.as_deref();
    let mut start = Start::new(&program, &args.system, &args.arguments, stdin, true)?;
    if let Some(seeds) = args.interleavings {
        return crate::interleavings::command(program, start.startup, seeds, args, as_json);
    }
    if let Some(folder) = args.record.as_ref().and_then(|path| path.parent())
        && !folder.as_os_str().is_empty()
        && !folder.is_dir()
    {
        let message = format!("there is no folder {} for the recording", output::shown(folder));
        return Err(Failure::new(message, "make it first, or name another file"));
    }
    let recorder = args.record.as_ref().map(|_| start.record(&program));
    let mut session = start.session(program)?;
    // Nobody goes back in time here, so what was read is not kept.
    let replayed = start.recording.as_ref().map(|recording| recording.result.clone());
    if replayed.is_none() {
        let store = || Box::<MemoryStore>::default();
        session.system_mut().set_stores(store(), store());
    }
    start.give_input(&mut session, recorder.as_ref())?;
    interrupt::listen();
    let stopped_at = replayed.as_ref().filter(|it| it.ending == RecordedEnding::Stopped);
    let mut running = Running {
        session,
        limit: args.limit.or(stopped_at.map(|it| it.instructions)).unwrap_or(u64::MAX),
        input: if replayed.is_some() { Input::None } else { Input::Own(recorder.as_ref()) },
        outputs: (recorder.is_some() || replayed.is_some()).then(Outputs::default),
        notices: Notices::default(),
        as_json,
    };
    let status = running.run();
    running.notices.tell_counts(as_json);
    let Running { mut session, outputs, .. } = running;
    let result = outputs.map(|outputs| outputs.result(session.moment(), session.system().ending()));
    let failures = start.folders.iter().flat_map(|folder| folder.write_back(session.system_mut()));
    let failures: Vec<String> = failures.collect();
    if !failures.is_empty() {
        return Err(Failure::plain(failures.join("\n")));
    }
    if let (Some(recorder), Some(path), Some(result)) = (recorder, &args.record, &result) {
        let recording = recorder.finish(&start.startup, result.clone());
        output::write_whole(path, &recording.to_text())?;
    }
    if let (Some(recorded), Some(result), None) = (&replayed, &result, args.limit) {
        compare(recorded, result)?;
    }
    status
}

/// Says how a run differs from its recording, if it does.
fn compare(recorded: &RecordedResult, result: &RecordedResult) -> Result<(), Failure> {
    if recorded == result || interrupt::asked() {
        return Ok(());
    }
    let told = |it: &RecordedResult| {
        format!("{} after {} instructions", it.ending, render::thousands(it.instructions))
    };
    let difference = match recorded.output == result.output {
        true => format!("{}; recorded was {}", told(result), told(recorded)),
        false if told(recorded) == told(result) => "its output is another".to_string(),
        false => {
            format!("{}, with another output; recorded was {}", told(result), told(recorded))
        }
    };
    Err(Failure::new(
        format!("the run differs from its recording: {difference}"),
        "a recording is good for the Sotto that made it: record the run anew with this one",
    ))
}

impl Running<'_> {
    fn run(&mut self) -> Result<u8, Failure> {
        loop {
            let (session, as_json) = (&mut self.session, self.as_json);
            let left = self.limit.saturating_sub(session.moment());
            if left == 0 {
                return stopped(session, "at the limit that was set", LIMIT_REACHED, as_json);
            }
            let stop = session.system_mut().run(left.min(SLICE)).stop;
            session.read_modules();
            if let Input::Own(_) = self.input {
                session.system_mut().forget_read_input();
            }
            if self.pass_on()? == Reader::Gone {
                return Ok(BROKEN_PIPE);
            }
            let session = &mut self.session;
            self.notices.tell(session.take_noticed(), as_json);
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
                Stop::NeedsInput => match self.input {
                    Input::Own(recorder) => guest_io::more_input(session, recorder)?,
                    Input::None => {
                        let why = "where the recording ends";
                        return stopped(session, why, LIMIT_REACHED, as_json);
                    }
                },
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

    /// Passes the program's output on, as it is.
    fn pass_on(&mut self) -> Result<Reader, Failure> {
        if self.session.system().output_bytes() == 0 {
            return Ok(Reader::There);
        }
        for chunk in self.session.system_mut().take_output() {
            if let Some(outputs) = &mut self.outputs {
                outputs.note(chunk.fd, &chunk.bytes);
            }
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
}

/// Reports a run in which all tasks wait: what each waits for, and the circle that they wait in.
fn stuck(session: &mut Session, as_json: bool) -> Result<u8, Failure> {
    let status = stopped(session, STUCK, LIMIT_REACHED, as_json)?;
    let (tasks, circle) = (session.tasks(), session.waiting_circle());
    let _ = match as_json {
        true => Stream::Error.say_json(&json!({ "tasks": tasks, "circle": circle })),
        false => {
            let tasks = tasks.iter().map(render::task);
            let lines = tasks.chain(render::circle(&circle)).collect::<Vec<_>>();
            Stream::Error.say(&lines.join("\n"))
        }
    };
    Ok(status)
}

/// Whether somebody still reads the output.
#[derive(PartialEq, Eq)]
enum Reader {
    There,
    Gone,
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
