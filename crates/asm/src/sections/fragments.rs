//! Sections while they are filled: stretches whose sizes may not be settled yet.

use std::ops::Range;

use sotto_isa::{Encoded, Traits};
use sotto_object::{Line, SectionFlags};

use crate::operands::parsed::Spanned;
use crate::sections::leb128::Leb128;
use crate::sections::pools::Pool;
use crate::symbols::{Context, Position};
use crate::{Expr, Span};

/// A number to be put into data once it is known.
pub(crate) struct DataField {
    /// The fragment it is in, and bytes into that.
    pub fragment: u32,
    pub offset: u64,
    pub bytes: u8,
    pub expr: Expr,
    pub context: Context,
    pub span: Span,
}

/// An instruction whose size or bytes depend on addresses.
pub(crate) struct RelaxableInstruction {
    pub mnemonic: &'static str,
    /// Facts about the mnemonic's rows.
    pub traits: Traits,
    /// Its operands among those of the section.
    pub operands: Range<u32>,
    pub context: Context,
    pub span: Span,
    pub encoded: Encoded,
    /// Nothing that it was encoded from can change any more.
    pub settled: bool,
    /// It could not be encoded, which was reported.
    pub failed: bool,
    /// The file is marked as one where other tools read a bare symbol as its contents.
    pub bare_is_contents: bool,
}

/// A stretch of a section.
pub(crate) enum Fragment {
    /// The next so many of the section's bytes, some of which wait for values.
    Bytes(u64),
    /// Bytes of one value.
    Fill { count: u64, value: u8 },
    /// Up to a multiple of an alignment.
    Align(Box<Align>),
    /// Up to a place.
    Org(Box<Org>),
    /// An instruction of the section's list.
    Instruction(u32),
    /// A number in LEB128 of the section's list.
    Leb128(u32),
}

/// Up to a multiple of `align`, if that takes no more than `max` bytes.
pub(crate) struct Align {
    pub align: u64,
    pub fill: Option<u8>,
    pub max: u64,
}

/// Up to an offset in the section, counted from a place in it if one is given.
pub(crate) struct Org {
    pub from: Option<Position>,
    pub offset: i128,
    pub fill: u8,
    pub span: Span,
}

/// What lies before a fragment: bytes whose number is settled, and fragments of which it is not.
#[derive(Copy, Clone, Default)]
struct Before {
    bytes: u64,
    open: u32,
}

/// Where what a source line makes starts. A large source has millions of these.
///
/// It is as large as what becomes of it in the object, and takes its place there.
pub(crate) struct LineStart {
    /// The fragment, above the bytes into it: one with line starts inside holds no more than a section may.
    place: u64,
    file: u32,
    line: u32,
}

impl LineStart {
    /// The line, where each fragment starts.
    pub fn settle(self, starts: &[u64]) -> Line {
        let (fragment, offset) = (self.place >> 32, self.place & 0xffff_ffff);
        Line { offset: starts[fragment as usize] + offset, file: self.file, line: self.line }
    }
}

/// A section being filled.
pub(crate) struct SectionBuilder {
    pub name: String,
    pub flags: SectionFlags,
    pub align: u64,
    /// The group that it is of, of which a program has one copy.
    pub group: Option<String>,
    pub fragments: Vec<Fragment>,
    /// What lies before each fragment.
    before: Vec<Before>,
    /// Contents of all the byte fragments.
    pub bytes: Vec<u8>,
    /// Fields in them, in order.
    pub fields: Vec<DataField>,
    /// Instructions that wait for addresses, and the operands of all of them, each in order.
    pub open: Vec<RelaxableInstruction>,
    pub operands: Vec<Spanned>,
    /// Numbers in LEB128 that wait for addresses, in order.
    pub leb128: Vec<Leb128>,
    /// It holds an instruction although it is not executed, which was warned of.
    pub has_instructions: bool,
    /// Where code starts (`true`) and where data does, in a section that holds both.
    pub kinds: Vec<(u32, u64, bool)>,
    /// Where source lines start.
    pub lines: Vec<LineStart>,
    /// Values that wait for the next literal pool.
    pub pool: Pool,
}

impl SectionBuilder {
    pub fn new(name: &str, flags: SectionFlags, align: u64) -> SectionBuilder {
        SectionBuilder {
            name: name.to_string(),
            flags,
            align,
            group: None,
            fragments: Vec::new(),
            before: Vec::new(),
            bytes: Vec::new(),
            fields: Vec::new(),
            open: Vec::new(),
            operands: Vec::new(),
            leb128: Vec::new(),
            has_instructions: false,
            kinds: Vec::new(),
            lines: Vec::new(),
            pool: Pool::default(),
        }
    }

    /// Makes room for what so many lines of code lay down.
    pub fn make_room(&mut self, lines: usize) {
        self.lines.reserve(lines);
        self.bytes.reserve(4 * lines);
        self.fragments.reserve(lines / 2);
        self.before.reserve(lines / 2);
        self.open.reserve(lines / 4);
        self.operands.reserve(lines / 4);
    }

    /// Adds a fragment at the end.
    pub fn push(&mut self, fragment: Fragment) {
        let mut before = self.before.last().copied().unwrap_or_default();
        match self.fragments.last() {
            Some(Fragment::Bytes(count) | Fragment::Fill { count, .. }) => before.bytes += count,
            Some(_) => before.open += 1,
            None => {}
        }
        self.before.push(before);
        self.fragments.push(fragment);
    }

    /// Adds bytes at the end.
    pub fn lay(&mut self, bytes: &[u8]) {
        match self.fragments.last_mut() {
            Some(Fragment::Bytes(count)) => *count += bytes.len() as u64,
            _ => self.push(Fragment::Bytes(bytes.len() as u64)),
        }
        self.bytes.extend_from_slice(bytes);
    }

    /// Whether the next instruction is the first in a section that is loaded and not executed.
    pub fn warns_of_instructions(&self) -> bool {
        self.flags.alloc && !self.flags.exec && !self.has_instructions
    }

    /// Notes whether what comes now is code.
    pub fn mark_kind(&mut self, is_code: bool) {
        if self.flags.exec && self.kinds.last().is_none_or(|last| last.2 != is_code) {
            let (fragment, offset) = self.end();
            self.kinds.push((fragment, offset, is_code));
        }
    }

    /// Notes that what a source line makes starts here.
    pub fn mark_line(&mut self, file: u32, line: u32) {
        let (fragment, offset) = self.end();
        self.lines.push(LineStart { place: u64::from(fragment) << 32 | offset, file, line });
    }

    /// Adds an instruction at the end, whose operands the section has already.
    pub fn lay_open(&mut self, instruction: RelaxableInstruction) {
        self.push(Fragment::Instruction(self.open.len() as u32));
        self.open.push(instruction);
    }

    /// The operands of an instruction of this section.
    pub fn operands_of(&self, open: &RelaxableInstruction) -> &[Spanned] {
        &self.operands[open.operands.start as usize..open.operands.end as usize]
    }

    /// Adds a field of zeros that waits for its value.
    pub fn lay_field(&mut self, bytes: u8, expr: Expr, context: Context, span: Span) {
        let offset = match self.fragments.last() {
            Some(Fragment::Bytes(count)) => *count,
            _ => 0,
        };
        self.lay(&[0; 16][..usize::from(bytes)]);
        let fragment = self.fragments.len() as u32 - 1;
        self.fields.push(DataField { fragment, offset, bytes, expr, context, span });
    }

    /// Adds a field of no bytes here: a mark that a linker reads.
    pub fn lay_mark(&mut self, expr: Expr, context: Context, span: Span) {
        self.lay(&[]);
        let (fragment, offset) = self.end();
        self.fields.push(DataField { fragment, offset, bytes: 0, expr, context, span });
    }

    /// Fragment and offset of the next byte.
    pub fn end(&self) -> (u32, u64) {
        match self.fragments.last() {
            Some(Fragment::Bytes(count)) => (self.fragments.len() as u32 - 1, *count),
            _ => (self.fragments.len() as u32, 0),
        }
    }

    /// Bytes between two places of the section, if nothing open lies between.
    pub fn settled_distance(&self, from: Position, to: Position) -> Option<i128> {
        let before = |position: Position| match self.before.get(position.fragment as usize) {
            Some(before) => *before,
            // The place after the last fragment.
            None => {
                let mut before = self.before.last().copied().unwrap_or_default();
                match self.fragments.last() {
                    Some(Fragment::Bytes(count) | Fragment::Fill { count, .. }) => {
                        before.bytes += count;
                    }
                    Some(_) => before.open += 1,
                    None => {}
                }
                before
            }
        };
        let (start, end) = (before(from), before(to));
        let place = |before: Before, offset: u64| i128::from(before.bytes) + i128::from(offset);
        (start.open == end.open).then(|| place(end, to.offset) - place(start, from.offset))
    }
}
