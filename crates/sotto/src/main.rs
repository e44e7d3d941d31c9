//! The command line of sotto: parses arguments, calls the libraries, prints what they answer.

mod assemble;
mod call;
mod call_cases;
mod check;
mod cli;
mod console;
mod demo;
mod diagnostics;
mod disk;
mod dispatch;
mod explain;
mod findings;
mod guest_io;
mod host_files;
mod interleavings;
mod interrupt;
mod output;
mod program;
mod render;
mod run;
mod start;
mod stepper;
mod trace;
mod with_c;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let arguments = match cli::Cli::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return cli::refuse(&error),
    };
    arguments.color.apply();
    ExitCode::from(dispatch::carry_out(&arguments))
}
