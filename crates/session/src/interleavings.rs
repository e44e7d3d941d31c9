//! Running a program again and again, with other seeds for when another task goes on, to find a result that depends on it.

use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_machine::Signal;
use sotto_object::Image;

use crate::SessionError;

/// How a run ended.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum RunEnding {
    /// It exited with this status.
    Exited(i32),
    /// A signal killed it.
    Killed(Signal),
    /// All tasks wait, and nothing will wake them.
    Stuck,
    /// It reached the limit on instructions.
    Limit,
    /// It wants more memory than it may have.
    MemoryLimit,
    /// Somebody asked to stop.
    Interrupted,
}

/// What came of a run.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RunResult {
    /// How it ended.
    pub ending: RunEnding,
    /// What it wrote to standard output.
    pub output: Vec<u8>,
    /// What it wrote to standard error.
    pub errors: Vec<u8>,
}

/// What came of trying seeds.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Interleavings {
    /// The run without a seed.
    pub plain: RunResult,
    /// Instructions of that run.
    pub executed: u64,
    /// Seeds that were tried, from 1.
    pub tried: u64,
    /// The first seed that gave another result, and that.
    pub differing: Option<(u64, RunResult)>,
}

/// Runs a program without a seed and then with the seeds from 1 to `seeds`, up to the first whose result is another.
///
/// # Errors
///
/// If the program cannot be started.
pub fn try_interleavings(
    image: &Image,
    startup: &Startup,
    input: &[u8],
    seeds: u64,
    limit: u64,
    interrupted: fn() -> bool,
) -> Result<Interleavings, SessionError> {
    let run = |interleaving: Option<u64>| {
        let startup = Startup { interleaving, ..startup.clone() };
        let mut system = System::start(image, &startup)?;
        system.set_interrupt(interrupted);
        system.give_input(input);
        system.close_input();
        Ok::<_, SessionError>((result(&mut system, limit, interrupted), system.executed()))
    };
    let (plain, executed) = run(None)?;
    let mut found = Interleavings { plain, executed, tried: 0, differing: None };
    for seed in 1..=seeds {
        let (other, _) = run(Some(seed))?;
        if other.ending == RunEnding::Interrupted {
            break;
        }
        found.tried = seed;
        if other != found.plain {
            found.differing = Some((seed, other));
            break;
        }
    }
    Ok(found)
}

fn result(system: &mut System, limit: u64, interrupted: fn() -> bool) -> RunResult {
    const SLICE: u64 = 1 << 22;
    let (mut output, mut errors) = (Vec::new(), Vec::new());
    let ending = loop {
        let left = limit - system.executed();
        if left == 0 {
            break RunEnding::Limit;
        }
        let stop = system.run(left.min(SLICE)).stop;
        for piece in system.take_output() {
            match piece.fd {
                2 => errors.extend(piece.bytes),
                _ => output.extend(piece.bytes),
            }
        }
        match stop {
            Stop::Terminated(Termination::Exited(status)) => break RunEnding::Exited(status),
            Stop::Terminated(Termination::Killed(signal, _)) => break RunEnding::Killed(signal),
            // The input was closed, so that nobody waits for it.
            Stop::Stuck | Stop::NeedsInput => break RunEnding::Stuck,
            Stop::MemoryLimit => break RunEnding::MemoryLimit,
            _ if interrupted() => break RunEnding::Interrupted,
            _ => {}
        }
    };
    RunResult { ending, output, errors }
}
