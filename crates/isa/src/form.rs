//! The shape of a row: an instruction form, the same for every machine.

use std::ops::Range;

use crate::{Arch, FlagEffects, OperandContext, Reg};

/// Whether an operand is read, written or both.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Access {
    /// Only read.
    Read,
    /// Only written.
    Write,
    /// Read, then written.
    ReadWrite,
    /// Not accessed: the address of LEA, the operand of a long no-op.
    None,
}

impl Access {
    /// Whether the operand's value is an input.
    pub const fn reads(self) -> bool {
        matches!(self, Access::Read | Access::ReadWrite)
    }

    /// Whether the operand's value is an output.
    pub const fn writes(self) -> bool {
        matches!(self, Access::Write | Access::ReadWrite)
    }
}

/// An operand position of a form: what may stand there and what happens to it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Slot<P> {
    /// Direction of the data.
    pub access: Access,
    /// What may stand there.
    pub pattern: P,
}

/// A register that a form uses without naming it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Implicit {
    /// Direction of the data.
    pub access: Access,
    /// The register, at the width used.
    pub reg: Reg,
}

/// Where control goes after an instruction.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Control {
    /// To the next instruction.
    Next,
    /// To the operand, always.
    Jump,
    /// To the operand if a condition holds, else to the next instruction.
    Branch,
    /// To the operand, leaving a return address.
    Call,
    /// To the return address.
    Return,
    /// Into the kernel, then to the next instruction.
    Syscall,
    /// Nowhere: it raises a signal.
    Trap,
}

/// The modes of its processor in which a row is valid.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Modes {
    /// Every mode that there is.
    All,
    /// x86: 64-bit mode alone.
    Only64,
    /// x86: 32-bit mode alone.
    Only32,
}

impl Modes {
    /// Whether the row is valid on this machine, which has its table.
    pub const fn include(self, arch: Arch) -> bool {
        match self {
            Modes::All => true,
            Modes::Only64 => !matches!(arch, Arch::X86_32),
            Modes::Only32 => matches!(arch, Arch::X86_32),
        }
    }
}

/// One row of a machine's table.
///
/// `M` is the machine's list of meanings, `P` its list of operand patterns.
#[derive(Copy, Clone, Debug)]
pub struct Form<M: 'static, P: 'static> {
    /// Preferred mnemonic, in lower case.
    pub mnemonic: &'static str,
    /// Other mnemonics for the same row.
    pub aliases: &'static [&'static str],
    /// What it does; the machine crate carries it out.
    pub meaning: M,
    /// Explicit operands, in the manual's order.
    pub operands: &'static [Slot<P>],
    /// Registers used beside the operands.
    pub implicit: &'static [Implicit],
    /// The manual's encoding, in the notation the machine's module documents.
    pub encoding: &'static str,
    /// In which modes it is valid.
    pub modes: Modes,
    /// Effects on the flags.
    pub flags: FlagEffects,
    /// Where control goes.
    pub control: Control,
    /// Another row claims the same bytes and is printed instead.
    pub accepted_only: bool,
    /// One line in words, starting with a verb.
    pub summary: &'static str,
    /// Manual and page heading.
    pub source: &'static str,
}

impl<M: 'static, P: 'static> Form<M, P> {
    /// What rows have in common unless they say otherwise, with the meaning of doing nothing.
    pub(crate) const fn plain(meaning: M) -> Form<M, P> {
        Form {
            mnemonic: "",
            aliases: &[],
            meaning,
            operands: &[],
            implicit: &[],
            encoding: "",
            modes: Modes::All,
            flags: FlagEffects::NONE,
            control: Control::Next,
            accepted_only: false,
            summary: "",
            source: "",
        }
    }

    /// The row as reference, with its operands as a reader would write them, and its condition.
    pub(crate) fn doc(&self, syntax: String, condition: Option<&'static str>) -> FormDoc {
        FormDoc {
            mnemonic: self.mnemonic,
            aliases: self.aliases,
            syntax,
            encoding: self.encoding,
            feature: None,
            flags: self.flags,
            condition,
            summary: self.summary,
            source: self.source,
        }
    }
}

/// Rows by mnemonic, aliases included.
///
/// Every line of a source asks here, so the index is made for that: a mnemonic of up to 16 letters
/// is one number, looked up in a table of open addresses.
pub(crate) struct Mnemonics {
    /// Entry numbers plus 1, by hash; 0 where there is none. The length is a power of two.
    slots: Vec<u16>,
    entries: Vec<Entry>,
    /// Numbers of rows, those of an entry beside each other.
    rows: Vec<u16>,
    /// Every mnemonic, sorted.
    pub sorted: Vec<&'static str>,
}

/// A mnemonic and its rows.
struct Entry {
    key: u128,
    name: &'static str,
    rows: Range<usize>,
    context: OperandContext,
}

/// The letters of a mnemonic in lower case as one number, in the order of the alphabet; `None` if there are
/// more than 16.
fn key_of(word: &str) -> Option<u128> {
    let mut bytes = [0; 16];
    bytes.get_mut(..word.len())?.copy_from_slice(word.as_bytes());
    bytes.make_ascii_lowercase();
    Some(u128::from_be_bytes(bytes))
}

fn slot_of(key: u128, slots: usize) -> usize {
    // Multiplying spreads the letters over the upper half, the remainder of a Fibonacci hash.
    let folded = ((key >> 64) as u64) ^ (key as u64).rotate_left(29);
    (folded.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40) as usize & (slots - 1)
}

impl Mnemonics {
    /// The index of rows with their numbers, in table order; `context` tells what the operands of some rows can be.
    ///
    /// # Panics
    ///
    /// If a mnemonic has more than 16 letters.
    pub fn of<M: 'static, P: 'static>(
        forms: impl Iterator<Item = (u16, &'static Form<M, P>)>,
        context: impl Fn(&[u16]) -> OperandContext,
    ) -> Mnemonics {
        let named = forms.flat_map(|(number, form)| {
            let names = std::iter::once(&form.mnemonic).chain(form.aliases);
            names.map(move |&name| {
                (key_of(name).expect("a mnemonic has at most 16 letters"), number, name)
            })
        });
        // Every program that assembles builds this once: numbers are sorted sooner than texts.
        let mut named: Vec<(u128, u16, &'static str)> = named.collect();
        named.sort_unstable_by_key(|&(key, number, _)| (key, number));
        let rows: Vec<u16> = named.iter().map(|&(_, number, _)| number).collect();
        let (mut entries, mut sorted) = (Vec::new(), Vec::new());
        let mut start = 0;
        for same in named.chunk_by(|a, b| a.0 == b.0) {
            let (key, _, name) = same[0];
            let range = start..start + same.len();
            start = range.end;
            let context = context(&rows[range.clone()]);
            entries.push(Entry { key, name, rows: range, context });
            sorted.push(name);
        }
        let mut slots = vec![0; (4 * entries.len()).next_power_of_two()];
        for (number, entry) in (1..).zip(&entries) {
            let mut slot = slot_of(entry.key, slots.len());
            while slots[slot] != 0 {
                slot = (slot + 1) & (slots.len() - 1);
            }
            slots[slot] = number;
        }
        Mnemonics { slots, entries, rows, sorted }
    }

    fn find(&self, word: &str) -> Option<&Entry> {
        let key = key_of(word)?;
        let mut slot = slot_of(key, self.slots.len());
        loop {
            let entry = self.entries.get(usize::from(self.slots[slot]).checked_sub(1)?)?;
            if entry.key == key {
                return Some(entry);
            }
            slot = (slot + 1) & (self.slots.len() - 1);
        }
    }

    /// Numbers of the rows with this mnemonic, in any case, in table order.
    pub fn rows(&self, mnemonic: &str) -> Option<&[u16]> {
        self.find(mnemonic).map(|entry| &self.rows[entry.rows.clone()])
    }

    /// The mnemonic as the table spells it, and what its operands can be.
    pub fn mnemonic(&self, word: &str) -> Option<(&'static str, OperandContext)> {
        self.find(word).map(|entry| (entry.name, entry.context))
    }
}

/// What `explain` and error messages need of a row.
#[derive(Debug, Clone)]
pub struct FormDoc {
    /// Preferred mnemonic.
    pub mnemonic: &'static str,
    /// Other mnemonics.
    pub aliases: &'static [&'static str],
    /// Operands as a reader would write them: `r32, r/m32`.
    pub syntax: String,
    /// The manual's encoding.
    pub encoding: &'static str,
    /// The feature of the processor that it needs, if it needs one.
    pub feature: Option<&'static str>,
    /// Effects on the flags.
    pub flags: FlagEffects,
    /// The condition in words, if it has one.
    pub condition: Option<&'static str>,
    /// One line in words.
    pub summary: &'static str,
    /// Manual and page heading.
    pub source: &'static str,
}
