//! Unwind tables as `.cfi_*` directives describe them.

use sotto_object::UnwindRule;

use crate::symbols::{Context, Position};
use crate::{Expr, Span};

/// The tables that directives describe.
#[derive(Default)]
pub(crate) struct Unwind {
    pub open: Option<Table>,
    pub tables: Vec<Table>,
}

/// A table whose places are not settled yet.
pub(crate) struct Table {
    pub span: Span,
    pub from: Position,
    pub to: Position,
    pub rules: Vec<(Position, UnwindRule)>,
    /// Offset of the frame address from its register, as far as the directives say.
    pub frame_offset: i64,
    /// The routine that decides what an exception does here, and the table that it reads.
    pub personality: Option<Pointer>,
    pub exceptions: Option<Pointer>,
}

/// A place that an unwind table names.
pub(crate) struct Pointer {
    /// How it is written: `DW_EH_PE_*`.
    pub encoding: u8,
    pub expr: Expr,
    pub context: Context,
    pub span: Span,
}
