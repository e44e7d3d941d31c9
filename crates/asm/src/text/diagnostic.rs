//! What is wrong with a source, as plain data. Rendering is somebody else's.

use crate::Span;

/// How bad it is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Severity {
    /// There will be no output.
    Error,
    /// Probably a mistake.
    Warning,
    /// For information.
    Note,
}

/// A finding's code. `A1xx` are errors in one source.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
#[non_exhaustive]
pub enum Code {
    /// A word that is no instruction, directive or label.
    UnknownInstruction,
    /// A word with a dot that is no directive.
    UnknownDirective,
    /// A directive that the language has and this version does not.
    UnsupportedDirective,
    /// Something else was expected here.
    Syntax,
    /// A malformed number.
    BadNumber,
    /// A malformed string, character or escape.
    BadText,
    /// No form of the instruction takes these operands.
    NoSuchForm,
    /// A value that its field cannot hold.
    OutOfRange,
    /// Nothing says how wide a memory operand is.
    SizeUnknown,
    /// Registers that do not go together in an address.
    BadAddress,
    /// A name that nothing defines.
    UndefinedSymbol,
    /// A name defined twice.
    DuplicateSymbol,
    /// An address where a number is needed.
    NotConstant,
    /// Arithmetic that has no result.
    Arithmetic,
    /// Contents in a section that has none.
    WrongSection,
    /// Machines that contradict each other.
    TargetConflict,
    /// `ah` and its like beside a register that excludes them.
    HighByte,
    /// The operand order that this file does not use.
    OperandOrder,
    /// A value that is not known yet and is needed to go on.
    ValueNeeded,
    /// A dotted label that several routines have.
    AmbiguousLabel,
    /// An access that is wider or narrower than the variable was declared.
    Width,
    /// A conditional, a repeat or a macro that does not open or close.
    Structure,
    /// A macro's definition or call that does not fit.
    MacroUse,
    /// Nesting, repeating or expanding without an end.
    Runaway,
    /// A file that cannot be taken in.
    Include,
    /// Unwind directives that do not go together.
    Unwind,
    /// A name taken to be defined elsewhere.
    External,
    /// What the source itself says with `.error` or `.warning`.
    StatedTable,
    /// Operands whose result the architecture leaves open.
    Unpredictable,
    /// A contract that says what it cannot, or of no routine.
    Contract,
}

impl Code {
    /// The code as shown.
    pub const fn name(self) -> &'static str {
        match self {
            Code::UnknownInstruction => "A101",
            Code::UnknownDirective => "A102",
            Code::UnsupportedDirective => "A103",
            Code::Syntax => "A104",
            Code::BadNumber => "A105",
            Code::BadText => "A106",
            Code::NoSuchForm => "A107",
            Code::OutOfRange => "A108",
            Code::SizeUnknown => "A109",
            Code::BadAddress => "A110",
            Code::UndefinedSymbol => "A111",
            Code::DuplicateSymbol => "A112",
            Code::NotConstant => "A113",
            Code::Arithmetic => "A114",
            Code::WrongSection => "A115",
            Code::TargetConflict => "A116",
            Code::HighByte => "A117",
            Code::OperandOrder => "A118",
            Code::ValueNeeded => "A119",
            Code::AmbiguousLabel => "A120",
            Code::Width => "A121",
            Code::Structure => "A122",
            Code::MacroUse => "A123",
            Code::Runaway => "A124",
            Code::Include => "A125",
            Code::Unwind => "A126",
            Code::External => "A127",
            Code::StatedTable => "A128",
            Code::Unpredictable => "A129",
            Code::Contract => "A130",
        }
    }
}

/// Something to know beside the message: a place with a few words, or a remark.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Note {
    /// The place, if it is about one.
    pub span: Option<Span>,
    /// The words.
    pub text: String,
}

/// Something wrong in a source.
///
/// The [`Finding`] is behind a pointer, so that results that may hold one stay small.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Diagnostic(Box<Finding>);

impl std::ops::Deref for Diagnostic {
    type Target = Finding;
    fn deref(&self) -> &Finding {
        &self.0
    }
}

impl std::ops::DerefMut for Diagnostic {
    fn deref_mut(&mut self) -> &mut Finding {
        &mut self.0
    }
}

/// What a diagnostic says.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Finding {
    /// What kind of thing.
    pub code: Code,
    /// How bad.
    pub severity: Severity,
    /// The thing, the value and the limit, in lower case without a full stop.
    pub message: String,
    /// Where.
    pub span: Span,
    /// A few words at the place.
    pub label: String,
    /// More places and remarks.
    pub notes: Vec<Note>,
    /// What to do, when we are sure.
    pub help: Option<String>,
    /// Text to put in place of the span, when we are sure.
    pub replacement: Option<String>,
}

impl Diagnostic {
    /// An error at a place.
    pub fn error(code: Code, span: Span, message: impl Into<String>) -> Diagnostic {
        Diagnostic(Box::new(Finding {
            code,
            severity: Severity::Error,
            message: message.into(),
            span,
            label: String::new(),
            notes: Vec::new(),
            help: None,
            replacement: None,
        }))
    }

    /// The same with a few words at the place.
    #[must_use]
    pub fn label(mut self, label: impl Into<String>) -> Diagnostic {
        self.label = label.into();
        self
    }

    /// The same with a remedy.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Diagnostic {
        self.help = Some(help.into());
        self
    }

    /// The same with a remark.
    #[must_use]
    pub fn note(mut self, text: impl Into<String>) -> Diagnostic {
        self.notes.push(Note { span: None, text: text.into() });
        self
    }

    /// The same with another place.
    #[must_use]
    pub fn at(mut self, span: Span, text: impl Into<String>) -> Diagnostic {
        self.notes.push(Note { span: Some(span), text: text.into() });
        self
    }

    /// The same with text to put in place of the span.
    #[must_use]
    pub fn replace_with(mut self, text: impl Into<String>) -> Diagnostic {
        self.replacement = Some(text.into());
        self
    }

    /// The same for information only.
    #[must_use]
    pub fn information(mut self) -> Diagnostic {
        self.severity = Severity::Note;
        self
    }

    /// The same as a warning.
    #[must_use]
    pub fn warning(mut self) -> Diagnostic {
        self.severity = Severity::Warning;
        self
    }
}
