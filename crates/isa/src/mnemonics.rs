//! Rows by mnemonic, aliases included.
//!
//! Every line of a source asks here, so the index is made for that: a mnemonic of up to 16 letters is one number,
//! looked up in a table of open addresses. It is made when this is compiled, so that no program waits for it.

use crate::{Arch, Form, OperandContext, Traits};

/// The index of a machine's rows.
pub(crate) struct Mnemonics {
    /// Entry numbers plus 1, by hash; 0 where there is none. The length is a power of two.
    slots: &'static [u16],
    entries: &'static [Entry],
    /// Numbers of rows, those of an entry beside each other.
    rows: &'static [u16],
    /// Every mnemonic, sorted.
    pub sorted: &'static [&'static str],
}

/// A mnemonic and its rows.
#[derive(Copy, Clone)]
struct Entry {
    key: u128,
    name: &'static str,
    /// The first of them, and the one after the last.
    rows: (u16, u16),
    context: OperandContext,
}

/// A name of a row.
#[derive(Copy, Clone)]
pub(crate) struct Name {
    key: u128,
    name: &'static str,
    /// The row.
    pub row: u16,
    /// What its operands can be.
    pub context: OperandContext,
}

/// The letters of a mnemonic in lower case as one number, in the order of the alphabet; `None` if there are
/// more than 16.
const fn key_of(word: &str) -> Option<u128> {
    let word = word.as_bytes();
    if word.len() > 16 {
        return None;
    }
    let (mut bytes, mut at) = ([0; 16], 0);
    while at < word.len() {
        bytes[at] = word[at].to_ascii_lowercase();
        at += 1;
    }
    Some(u128::from_be_bytes(bytes))
}

const fn slot_of(key: u128, slots: usize) -> usize {
    // Multiplying spreads the letters over the upper half, the remainder of a Fibonacci hash.
    let folded = ((key >> 64) as u64) ^ (key as u64).rotate_left(29);
    (folded.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40) as usize & (slots - 1)
}

/// How many names the rows of a machine have, those in `groups` that are valid.
pub(crate) const fn count_names<M: 'static, P: 'static>(
    groups: &[&[Form<M, P>]],
    arch: Arch,
) -> usize {
    let (mut count, mut group) = (0, 0);
    while group < groups.len() {
        let mut at = 0;
        while at < groups[group].len() {
            let form = &groups[group][at];
            if form.modes.include(arch) {
                count += 1 + form.aliases.len();
            }
            at += 1;
        }
        group += 1;
    }
    count
}

/// The names, `N` being [`count_names`], by name and then as rows are numbered: through the groups in order.
/// Their contexts are to be set.
///
/// # Panics
///
/// If a mnemonic has more than 16 letters.
pub(crate) const fn names<const N: usize, M: 'static, P: 'static>(
    groups: &[&[Form<M, P>]],
    arch: Arch,
) -> [Name; N] {
    let nothing = OperandContext {
        target: false,
        page: false,
        condition: false,
        names: 0,
        traits: Traits::NONE,
    };
    let mut names = [Name { key: 0, name: "", row: 0, context: nothing }; N];
    let (mut count, mut row, mut group) = (0, 0, 0);
    while group < groups.len() {
        let mut at = 0;
        while at < groups[group].len() {
            let form = &groups[group][at];
            let mut alias = 0;
            while form.modes.include(arch) && alias <= form.aliases.len() {
                let name = if alias == 0 { form.mnemonic } else { form.aliases[alias - 1] };
                let key = key_of(name).expect("a mnemonic has at most 16 letters");
                names[count] = Name { key, name, row, context: nothing };
                (count, alias) = (count + 1, alias + 1);
            }
            (at, row) = (at + 1, row + 1);
        }
        group += 1;
    }
    sort(&mut names);
    names
}

/// Sorts by key and row, over ever smaller distances.
const fn sort(names: &mut [Name]) {
    let mut distance = names.len() / 2;
    while distance > 0 {
        let mut next = distance;
        while next < names.len() {
            let name = names[next];
            let mut at = next;
            while at >= distance && is_before(&name, &names[at - distance]) {
                names[at] = names[at - distance];
                at -= distance;
            }
            names[at] = name;
            next += 1;
        }
        distance = if distance == 2 { 1 } else { distance * 5 / 11 };
    }
}

const fn is_before(a: &Name, b: &Name) -> bool {
    a.key < b.key || (a.key == b.key && a.row < b.row)
}

/// How many mnemonics there are among sorted names.
pub(crate) const fn count_mnemonics(names: &[Name]) -> usize {
    let (mut count, mut at) = (0, 0);
    while at < names.len() {
        count += (at == 0 || names[at].key != names[at - 1].key) as usize;
        at += 1;
    }
    count
}

/// How many slots the table of so many mnemonics has.
pub(crate) const fn count_slots(mnemonics: usize) -> usize {
    (4 * mnemonics).next_power_of_two()
}

/// What a [`Mnemonics`] refers to, of so many mnemonics, names and slots.
pub(crate) struct Tables<const MNEMONICS: usize, const NAMES: usize, const SLOTS: usize> {
    slots: [u16; SLOTS],
    entries: [Entry; MNEMONICS],
    rows: [u16; NAMES],
    sorted: [&'static str; MNEMONICS],
}

impl<const MNEMONICS: usize, const NAMES: usize, const SLOTS: usize>
    Tables<MNEMONICS, NAMES, SLOTS>
{
    /// The tables of sorted names.
    pub const fn of(names: &[Name; NAMES]) -> Self {
        let first = &names[0];
        let (key, name) = (first.key, first.name);
        let entry = Entry { key, name, rows: (0, 0), context: first.context };
        let mut tables = Tables {
            slots: [0; SLOTS],
            entries: [entry; MNEMONICS],
            rows: [0; NAMES],
            sorted: [""; MNEMONICS],
        };
        let (mut at, mut number) = (0, 0);
        while at < NAMES {
            let Name { key, name, mut context, .. } = names[at];
            let start = at as u16;
            while at < NAMES && names[at].key == key {
                let own = names[at].context;
                context.target |= own.target;
                context.page |= own.page;
                context.condition |= own.condition;
                context.names |= own.names;
                context.traits = context.traits.with(own.traits);
                tables.rows[at] = names[at].row;
                at += 1;
            }
            tables.entries[number] = Entry { key, name, rows: (start, at as u16), context };
            tables.sorted[number] = name;
            number += 1;
            let mut slot = slot_of(key, SLOTS);
            while tables.slots[slot] != 0 {
                slot = (slot + 1) & (SLOTS - 1);
            }
            tables.slots[slot] = number as u16;
        }
        tables
    }

    /// The index in these.
    pub const fn index(&'static self) -> Mnemonics {
        Mnemonics {
            slots: &self.slots,
            entries: &self.entries,
            rows: &self.rows,
            sorted: &self.sorted,
        }
    }
}

impl Mnemonics {
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
    pub fn rows(&self, mnemonic: &str) -> Option<&'static [u16]> {
        let (start, end) = self.find(mnemonic)?.rows;
        Some(&self.rows[usize::from(start)..usize::from(end)])
    }

    /// The mnemonic as the table spells it, and what its operands can be.
    pub fn mnemonic(&self, word: &str) -> Option<(&'static str, OperandContext)> {
        self.find(word).map(|entry| (entry.name, entry.context))
    }
}

/// A static index of this name, of a machine's rows, with what the operands of each row can be.
macro_rules! mnemonics {
    ($visibility:vis $name:ident: $groups:expr, $arch:expr, $context:path) => {
        $visibility static $name: $crate::mnemonics::Mnemonics = {
            use $crate::mnemonics::*;
            const COUNT: usize = count_names($groups, $arch);
            const NAMES: [Name; COUNT] = {
                let mut names = names($groups, $arch);
                let mut at = 0;
                while at < names.len() {
                    names[at].context = $context(names[at].row);
                    at += 1;
                }
                names
            };
            const DIFFERENT: usize = count_mnemonics(&NAMES);
            static TABLES: Tables<DIFFERENT, COUNT, { count_slots(DIFFERENT) }> =
                Tables::of(&NAMES);
            TABLES.index()
        };
    };
}
pub(crate) use mnemonics;

#[cfg(test)]
mod tests {
    use crate::{Arch, arm64, x86};

    #[test]
    fn every_name_leads_to_its_rows_in_the_order_of_the_table() {
        for arch in [Arch::X86_64, Arch::X86_32] {
            let mnemonics = x86::by_mnemonic(arch);
            assert!(mnemonics.sorted.is_sorted_by(|a, b| a < b), "{arch:?}");
            for (number, row) in (0..).zip(x86::rows()).filter(|(_, row)| row.modes.include(arch)) {
                for name in std::iter::once(&row.form.mnemonic).chain(row.form.aliases) {
                    let rows = mnemonics.rows(&name.to_uppercase()).unwrap_or_default();
                    assert!(rows.contains(&number) && rows.is_sorted(), "{name}: {rows:?}");
                }
            }
        }
        let listed: usize = arm64::mnemonics()
            .iter()
            .map(|name| arm64::MNEMONICS.rows(name).unwrap_or_default().len())
            .sum();
        assert!(listed >= usize::from(arm64::form_count()), "{listed} names");
    }

    #[test]
    fn words_that_are_no_mnemonics_lead_nowhere() {
        for word in ["", "lamp", "ad", "addd", "the-keeper-of-the-light", "ädd"] {
            assert!(x86::by_mnemonic(Arch::X86_64).rows(word).is_none(), "{word}");
        }
        assert_eq!(
            x86::find_mnemonic(Arch::X86_64, "JE").map(|(name, of)| (name, of.target)),
            Some(("je", true))
        );
        // Each mode has names of its own.
        assert!(x86::find_mnemonic(Arch::X86_64, "pusha").is_none());
        assert!(x86::find_mnemonic(Arch::X86_32, "pushfd").is_some());
        assert!(x86::find_mnemonic(Arch::X86_64, "pushfd").is_none());
    }
}
