//! Why objects do not make a program.

use sotto_isa::Arch;

use crate::{ApplyError, Object};

/// A place in a source that refers to or defines a symbol.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Reference {
    /// File name as given.
    pub file: String,
    /// Line number, from 1; 0 if not known.
    pub line: u32,
}

/// Why objects do not make a program.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinkError {
    /// No object defines the symbol.
    #[error("no symbol `{name}`")]
    Undefined {
        /// The symbol.
        name: String,
        /// Every place that refers to it.
        references: Vec<Reference>,
        /// Names that are defined, for a suggestion.
        known: Vec<String>,
    },
    /// Two objects define the symbol.
    #[error("`{name}` is defined twice")]
    Duplicate {
        /// The symbol.
        name: String,
        /// The first definition.
        first: Reference,
        /// The second definition.
        second: Reference,
    },
    /// The entry symbol is not defined.
    #[error("no entry symbol `{name}`")]
    NoEntry {
        /// The symbol.
        name: String,
        /// The entry symbol is there but not `.global`.
        local: bool,
        /// There is a `main`, as programs for the C library have.
        has_main: bool,
    },
    /// A value does not fit its field.
    #[error("`{name}` is out of reach: {source}")]
    OutOfReach {
        /// The symbol.
        name: String,
        /// The place that refers to it.
        reference: Reference,
        /// The value and the field's range.
        source: ApplyError,
    },
    /// A field holds an address, which a program that can be loaded anywhere does not know.
    #[error("the address of `{name}` is not known before the program is loaded")]
    NeedsAddress {
        /// The symbol.
        name: String,
        /// Every place that needs its address.
        references: Vec<Reference>,
    },
    /// A section whose pages could be written and executed.
    #[error("section `{section}` is both writable and executable")]
    WritableCode {
        /// The section.
        section: String,
        /// The object's source.
        file: String,
    },
    /// The sections together are larger than what programs may ask for.
    #[error("the sections together take {size} bytes, and a program may take {limit}")]
    TooLarge {
        /// Bytes in all.
        size: u64,
        /// The most that is allowed.
        limit: u64,
    },
    /// Objects for different machines.
    #[error("`{file}` is for {found}, but `{first_file}` is for {wanted}")]
    MixedTargets {
        /// The first object's source.
        first_file: String,
        /// The first object's machine.
        wanted: Arch,
        /// The other object's source.
        file: String,
        /// The other object's machine.
        found: Arch,
    },
    /// A thread-local variable is reached as one of a module that is loaded later.
    #[error("`{name}` is reached by a model for modules that are loaded later")]
    LaterModule {
        /// The variable.
        name: String,
        /// The place that refers to it.
        reference: Reference,
    },
    /// A field for thread-local data names something else.
    #[error("`{name}` is not in a thread-local section")]
    NotThreadLocal {
        /// The symbol.
        name: String,
        /// The place that refers to it.
        reference: Reference,
    },
    /// A thread-local variable is used as if it had one address.
    #[error(
        "`{name}` is thread-local: each thread has its own, and none has an address that is known here"
    )]
    ThreadLocal {
        /// The variable.
        name: String,
        /// The place that refers to it.
        reference: Reference,
    },
    /// The objects hold nothing that is loaded.
    #[error("the files hold no code and no data")]
    Empty,
    /// There is nothing to link.
    #[error("there is nothing to link")]
    Nothing,
}

/// The place of an object's definition; line 0 if only the file is known.
pub(crate) fn definition(object: &Object, at: Option<(u32, u32)>) -> Reference {
    let (file, line) = at.unwrap_or((0, 0));
    Reference { file: object.files.get(file as usize).cloned().unwrap_or_default(), line }
}

/// The source line that laid down a byte of a section.
pub(crate) fn line_of(object: &Object, section: usize, offset: u64) -> Reference {
    let lines = &object.sections[section].lines;
    let after = lines.partition_point(|line| line.offset <= offset);
    definition(object, lines[..after].last().map(|line| (line.file, line.line)))
}

/// How messages call an object: by its first file.
pub(crate) fn file_name(object: &Object) -> String {
    object.files.first().cloned().unwrap_or_default()
}
