//! Literals that wait for the next literal pool of their section.

use crate::symbols::Context;
use crate::{Expr, Span};

/// The values that wait for the next pool of a section.
#[derive(Default)]
pub(crate) struct Pool {
    pub waiting: Vec<Literal>,
}

/// A value that waits for a literal pool.
pub(crate) struct Literal {
    /// The hidden label that the load refers to.
    pub label: String,
    pub expr: Expr,
    pub context: Context,
    pub bytes: u8,
    pub span: Span,
}
