//! The line table that a source states with `.file` and `.loc`.

use sotto_object::StatedLine;

use crate::symbols::Position;

/// What the source states so far.
#[derive(Default)]
pub(crate) struct StatedTable {
    /// Files by number: folder and name.
    pub files: Vec<(Option<String>, String)>,
    pub rows: Vec<StatedRow>,
    /// The view of the last row: how many rows before it are of the same address.
    pub view: i128,
}

/// A row whose place is not settled yet.
pub(crate) struct StatedRow {
    pub at: Position,
    /// Its section and offset are filled in when places are settled.
    pub line: StatedLine,
}
