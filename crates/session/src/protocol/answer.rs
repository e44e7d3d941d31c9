//! Answers: facts as fields, beside the words for a person.

use std::sync::Arc;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;
use serde::{Serialize, Serializer};
use sotto_finding::{Finding, Place, hex};

use crate::{
    Change, CircleView, CodeLine, Comparison, FaultReport, Frame, Mark, MemoryLine, NamedVariable,
    Readings, StackView, StepReport, SyscallView, TaskView,
};

/// An answer.
#[derive(Clone, PartialEq, Debug, Serialize)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum Answer {
    /// The first answer of a session.
    Session {
        /// The version of the protocol.
        version: u32,
        /// The program's name.
        program: String,
        /// The machine's name.
        machine: &'static str,
    },
    /// What an instruction did.
    Step(Arc<StepReport>),
    /// Instructions were executed without a report of each.
    Ran {
        /// How many.
        instructions: u64,
    },
    /// What the program wrote, since it was shown last or in all.
    Output(OutputText),
    /// Something that the program does and probably should not.
    Finding {
        /// What it is, with its places.
        finding: Finding,
    },
    /// What was found up to now, in all.
    Checked {
        /// How many findings there are.
        findings: usize,
        /// Instructions that were looked at.
        instructions: u64,
        /// The same in words.
        words: String,
    },
    /// The program stopped and can go on.
    Stopped {
        /// Why.
        reason: StopTag,
        /// The breakpoint or the watch, by number.
        number: Option<u32>,
        /// How often the breakpoint was arrived at.
        times: Option<u64>,
        /// Why, in words, if there is something to say.
        words: Option<String>,
        /// Where.
        #[serde(flatten)]
        at: At,
    },
    /// Where the program is, after something else than a run.
    Next(At),
    /// The program ended.
    Ended {
        /// The status that a shell shows.
        status: i32,
        /// Instructions completed.
        moment: u64,
        /// Why it died, if it did.
        fault: Option<Box<FaultReport>>,
    },
    /// A watched value changed.
    Watched {
        /// The watch.
        number: u32,
        /// The expression.
        expression: String,
        /// Its value before as a decimal number; `null` if it had none.
        old: Option<String>,
        /// Its value now; `null` if it has none.
        new: Option<String>,
        /// Bits of what it was read from.
        bits: u32,
        /// The addresses that it was read from, if they differ: before and now.
        moved: Option<[String; 2]>,
        /// The instruction that changed it.
        by: Box<StepReport>,
    },
    /// An expression and its value.
    Value(Shown),
    /// A value in every reading that it has.
    Readings {
        /// The expression.
        expression: String,
        /// Its readings.
        readings: Readings,
    },
    /// Registers.
    Registers {
        /// The registers, in the order of the convention or as they were named.
        registers: Vec<RegisterAnswer>,
    },
    /// A vector register with its elements, the lowest first, by their type.
    Vector {
        /// Its name.
        name: String,
        /// All of it.
        value: String,
        /// Its elements by their type: `f32`, `i16`.
        #[serde(serialize_with = "as_map")]
        lanes: Vec<(String, Vec<String>)>,
    },
    /// All vector registers, in hex.
    Vectors {
        /// Names and values.
        #[serde(serialize_with = "as_map")]
        vectors: Vec<(String, String)>,
    },
    /// The status flags.
    Flags {
        /// The flags, in the order of the machine.
        flags: Vec<FlagAnswer>,
    },
    /// The stack around its pointer.
    Stack(StackView),
    /// The chain of calls, the innermost first.
    Frames {
        /// The innermost.
        frames: Vec<Frame>,
        /// How many come between.
        left_out: usize,
        /// The outermost.
        outermost: Vec<Frame>,
    },
    /// The tasks.
    Tasks {
        /// In the order in which they are run; none once the program has ended.
        tasks: Vec<TaskView>,
        /// A circle of tasks that wait for each other, each for the next and the last for the first; empty if there is none
        /// that can be told.
        circle: Vec<CircleView>,
    },
    /// The latest instructions that were executed.
    Recent {
        /// What each did, the earliest first.
        steps: Vec<Arc<StepReport>>,
    },
    /// Memory.
    Memory {
        /// Lines of elements.
        lines: Vec<MemoryLine>,
    },
    /// Something was changed.
    Changed(Change),
    /// The instruction that last wrote something; the session is before it now.
    Writer {
        /// What it did.
        step: Box<StepReport>,
        /// How many instructions ago.
        ago: u64,
    },
    /// A breakpoint was set.
    BreakpointSet(BreakpointAnswer),
    /// A watch was set.
    WatchSet(WatchAnswer),
    /// Breakpoints and watches.
    Stops {
        /// The breakpoints.
        breakpoints: Vec<BreakpointAnswer>,
        /// The watches.
        watches: Vec<WatchAnswer>,
    },
    /// Moments with names.
    Marks {
        /// The marks, in the order in which they were set.
        marks: Vec<Mark>,
    },
    /// What differs between two moments.
    Comparison(Box<Comparison>),
    /// System calls that the program made, the latest last.
    Syscalls {
        /// The calls, the earliest first.
        syscalls: Vec<SyscallRow>,
    },
    /// Source lines.
    Source {
        /// The file.
        file: String,
        /// Lines around the next one.
        lines: Vec<SourceRow>,
    },
    /// Instructions.
    Code {
        /// The instructions, by ascending address.
        lines: Vec<CodeLine>,
        /// The address of the one that is next.
        #[serde(serialize_with = "hex")]
        next: u64,
    },
    /// Variables of the routine that is running.
    Variables {
        /// The variables, by name.
        variables: Vec<NamedVariable>,
    },
    /// What was asked about a command or a topic.
    Help {
        /// Words for a person.
        words: String,
    },
    /// Words for a person alone.
    Notice {
        /// The words.
        words: String,
    },
    /// The request cannot be carried out.
    Error {
        /// Why, and what to do.
        message: String,
    },
    /// The end of a request's answers.
    End {
        /// Whether it was carried out.
        ok: bool,
    },
}

/// Writes pairs as an object, in their order.
fn as_map<S: Serializer, T: Serialize>(
    pairs: &[(String, T)],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    serializer.collect_map(pairs.iter().map(|(name, value)| (name, value)))
}

/// Why a program stopped.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs, reason = "see the reasons for which a session stops")]
pub enum StopTag {
    Done,
    Breakpoint,
    Watch,
    Place,
    SystemCall,
    NeedsInput,
    Stuck,
    Limit,
    MemoryLimit,
    Interrupted,
    AtStart,
}

/// Where a program is.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct At {
    /// Instructions completed.
    pub moment: u64,
    /// The task that is looked at, if there are several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub task: Option<u32>,
    /// The instruction that is next.
    pub place: Place,
    /// It as text; `null` if there is none.
    pub instruction: Option<String>,
    /// The expressions that are shown at every stop.
    pub shown: Vec<Shown>,
}

/// An expression and its value.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Shown {
    /// The expression, with its format.
    pub expression: String,
    /// The value in words, or why it has none.
    pub value: String,
}

/// Text that the program wrote.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct OutputText {
    /// The text; what is no UTF-8 is replaced in it.
    pub text: String,
    /// The bytes in base 64, if they are no UTF-8 text. Source: RFC 4648, 4.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub base64: Option<String>,
    /// Bytes before these that are not here.
    pub left_out: u64,
}

impl OutputText {
    /// Bytes that the program wrote, behind so many that are left out.
    pub fn of(bytes: &[u8], left_out: u64) -> OutputText {
        let text = String::from_utf8_lossy(bytes);
        let base64 = match text {
            std::borrow::Cow::Borrowed(_) => None,
            std::borrow::Cow::Owned(_) => Some(BASE64.encode(bytes)),
        };
        OutputText { text: text.into_owned(), base64, left_out }
    }
}

/// A register.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct RegisterAnswer {
    /// Its name.
    pub name: String,
    /// What it is for, by the convention.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub role: Option<&'static str>,
    /// Its value.
    #[serde(serialize_with = "hex")]
    pub value: u64,
    /// Its bits.
    pub bits: u32,
    /// The symbol that it is the address of, or in whose reach it points.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub points_to: Option<String>,
    /// Other names, which stand for more or less of it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
}

/// A part of a register.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Part {
    /// Its name.
    pub name: &'static str,
    /// Its value.
    #[serde(serialize_with = "hex")]
    pub value: u64,
    /// Its bits.
    pub bits: u32,
}

/// A flag.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct FlagAnswer {
    /// The manual's name.
    pub name: &'static str,
    /// What it stands for.
    pub word: &'static str,
    /// Whether it is set.
    pub set: bool,
}

/// A breakpoint.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct BreakpointAnswer {
    /// Its number.
    pub number: u32,
    /// Where it is: several places for a line of a macro.
    pub places: Vec<Place>,
    /// Its condition.
    pub when: Option<String>,
    /// The program stops there from this arrival on.
    pub from_arrival: u64,
    /// How often the program has arrived.
    pub arrivals: u64,
}

/// A watch.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct WatchAnswer {
    /// Its number.
    pub number: u32,
    /// The expression.
    pub expression: String,
}

/// A system call that was made.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct SyscallRow {
    /// The moment after it.
    pub moment: u64,
    /// Where it was made.
    pub place: Place,
    /// The call with its arguments and its result.
    pub syscall: SyscallView,
}

/// A source line.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct SourceRow {
    /// Its number.
    pub line: u32,
    /// Its text.
    pub text: String,
    /// It is the next one.
    pub next: bool,
}

/// An answer with the id of its request.
#[derive(Clone, PartialEq, Debug, Serialize)]
pub struct Reply<'a> {
    /// The request's id; left out if it had none.
    #[serde(skip_serializing_if = "serde_json::Value::is_null")]
    pub id: &'a serde_json::Value,
    /// The answer.
    #[serde(flatten)]
    pub answer: &'a Answer,
}
