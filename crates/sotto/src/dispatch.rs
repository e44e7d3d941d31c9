//! From a parsed command to the function that carries it out.

use crate::cli::{Cli, Command, ERROR, RUN_ERROR};
use crate::{assemble, call, check, demo, explain, output, run, stepper, trace};

/// As a shell shows a program that nobody reads any more: 128 and SIGPIPE. Source: signal(7).
const READER_GONE: u8 = 128 + 13;

/// Carries the command out and gives the exit status.
pub fn carry_out(cli: &Cli) -> u8 {
    let json = cli.json;
    let (result, error_status) = match &cli.command {
        Command::Assemble(args) => (assemble::assemble_command(args, json), ERROR),
        Command::Link(args) => (assemble::link_command(args, json), ERROR),
        Command::Run(args) => (run::run_command(args, json), RUN_ERROR),
        Command::Step(args) => (stepper::step_command(args, json), ERROR),
        Command::Trace(args) => (trace::trace_command(args, json), ERROR),
        Command::Call(args) => (call::call_command(args, json), ERROR),
        Command::Check(args) => (check::check_command(args, json), ERROR),
        Command::Explain(args) => (explain::explain_command(args, json), ERROR),
        Command::Demo(args) => (demo::demo_command(args), ERROR),
    };
    match result {
        Ok(status) => status,
        // Who read our output has seen enough of it.
        Err(output::Failure::Write { source, .. })
            if source.kind() == std::io::ErrorKind::BrokenPipe =>
        {
            READER_GONE
        }
        Err(failure) => {
            output::failure(&failure, json);
            error_status
        }
    }
}
