//! Sources as text: files, spans, tokens, expressions and diagnostics. Knows no instruction.

pub(crate) mod diagnostic;
pub(crate) mod disk;
pub(crate) mod expr;
pub(crate) mod hints;
pub(crate) mod lexer;
pub(crate) mod source;
pub(crate) mod suggest;
pub(crate) mod syntax;
