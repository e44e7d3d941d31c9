//! Source text to object, with diagnostics.
//!
//! [`assemble`] reads one source, collects every error it can find, and gives an object if there
//! was none. Reading goes line by line: the [lexer](lexer) cuts a line into tokens, the parser of the
//! machine's operands makes operands of them, and what depends on addresses waits in a section's
//! list of fragments. When the whole source is read, sizes are settled and the fragments are filled.
//!
//! The language is the project's own; `LANGUAGE.md` beside the project's other decisions is its
//! definition.

mod assembler;
mod context;
mod contracts;
mod directives;
mod encode_diagnostics;
mod instructions;
mod layout;
mod operands;
mod other_spellings;
mod reading;
mod sections;
mod statements;
mod symbols;
mod text;

pub use assembler::{Assembly, Options, assemble, assemble_instruction, assemble_with};
pub use directives::table::{fills_up, lays_down_data, names as directives};
pub use reading::infer::Inference;
pub use sections::listing::{Listing, ListingLine};
pub use text::diagnostic::{Code, Diagnostic, Finding, Note, Severity};
pub use text::disk::{Disk, NoDisk};
pub use text::expr::{Binary, EvalError, Expr, TlsOperator, Unary, Via, parse_expression};
pub use text::lexer::{escaped_bytes, text_with_comments};
pub use text::source::{Excerpt, Location, Origin, Source, Sources, Span, Text};
pub use text::suggest::nearest;
pub use text::syntax::{comment_signs, without_comment};
