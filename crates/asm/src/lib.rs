//! Source text to object, with diagnostics.
//!
//! [`assemble`] reads one source, collects every error it can find, and gives an object if there
//! was none. Reading goes line by line: the [lexer](lexer) cuts a line into tokens, the parser of the
//! machine's operands makes operands of them, and what depends on addresses waits in a section's
//! list of fragments. When the whole source is read, sizes are settled and the fragments are filled.
//!
//! The language is the project's own; `LANGUAGE.md` beside the project's other decisions is its
//! definition.

mod arm64;
mod assembler;
mod data;
mod diagnostic;
mod directive;
mod disk;
mod expr;
mod fragments;
mod frames;
mod habits;
mod infer;
mod known;
mod layout;
mod leb128;
mod lexer;
mod line_marks;
mod listing;
mod macros;
mod operand;
mod pool;
mod refusal;
mod source;
mod source_first;
mod structure;
mod suggest;
mod symbols;
mod unwind;
mod x86;

pub use assembler::{Assembly, Options, assemble, assemble_instruction, assemble_with};
pub use diagnostic::{Code, Diagnostic, Finding, Note, Severity};
pub use directive::names as directives;
pub use disk::{Disk, NoDisk};
pub use expr::{Binary, EvalError, Expr, TlsOperator, Unary, Via, parse_expression};
pub use infer::Inference;
pub use lexer::text_with_comments;
pub use listing::{Listing, ListingLine};
pub use source::{Excerpt, Location, Origin, Source, Sources, Span, Text};
pub use suggest::nearest;
