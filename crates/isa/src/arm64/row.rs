//! Rows with their encoding parsed, and the index by which the decoder finds them.

use std::sync::OnceLock;

use super::{Form, table};

/// A row with its encoding parsed.
#[derive(Copy, Clone)]
pub(crate) struct Row {
    pub form: &'static Form,
    /// Bits that are literal.
    pub mask: u32,
    /// Their values.
    pub value: u32,
}

impl Row {
    /// # Panics
    ///
    /// If the row is not written in the notation that this folder's head explains, so that it does not compile.
    const fn parse(form: &'static Form) -> Row {
        let text = form.encoding.as_bytes();
        let (mut mask, mut value, mut bit, mut at) = (0u32, 0u32, 32u32, 0);
        while at < text.len() {
            let byte = text[at];
            if byte == b' ' {
                at += 1;
            } else if byte == b'0' || byte == b'1' {
                bit -= 1;
                mask |= 1 << bit;
                value |= ((byte - b'0') as u32) << bit;
                at += 1;
            } else {
                // A field: its name, and its width unless that is 5.
                let mut width = 5;
                while at < text.len() && text[at] != b' ' && text[at] != b':' {
                    at += 1;
                }
                if at < text.len() && text[at] == b':' {
                    (at, width) = (at + 1, 0);
                    while at < text.len() && text[at] != b' ' {
                        width = width * 10 + (text[at] - b'0') as u32;
                        at += 1;
                    }
                }
                bit -= width;
            }
        }
        assert!(bit == 0, "an encoding has 32 bits");
        Row { form, mask, value }
    }
}

const COUNT: usize = {
    let (mut count, mut group) = (0, 0);
    while group < table::GROUPS.len() {
        count += table::GROUPS[group].len();
        group += 1;
    }
    count
};

static ROWS: [Row; COUNT] = {
    let mut rows = [Row { form: &table::GROUPS[0][0], mask: 0, value: 0 }; COUNT];
    let (mut at, mut group) = (0, 0);
    while group < table::GROUPS.len() {
        let mut row = 0;
        while row < table::GROUPS[group].len() {
            rows[at] = Row::parse(&table::GROUPS[group][row]);
            (at, row) = (at + 1, row + 1);
        }
        group += 1;
    }
    rows
};

/// Every row, in table order.
pub(crate) fn rows() -> &'static [Row] {
    &ROWS
}

/// The bits of a word that choose the first list: the highest eleven.
const FIRST_BITS: u32 = 11;
/// Rows that a list of the first level may have without a second level.
const FEW: usize = 6;

/// Rows that may match words of the same highest bits.
struct Bucket {
    rows: Vec<u16>,
    /// The same by bits 10 to 15, if they are many.
    finer: OnceLock<Box<[Vec<u16>]>>,
}

/// Rows that may match a word, best first.
pub(crate) struct Index {
    buckets: Vec<Bucket>,
}

impl Index {
    /// The rows that may match this word.
    #[inline]
    pub fn candidates(&self, word: u32) -> &[u16] {
        let bucket = &self.buckets[(word >> (32 - FIRST_BITS)) as usize];
        if bucket.rows.len() <= FEW {
            return &bucket.rows;
        }
        let finer = bucket.finer.get_or_init(|| finer(&bucket.rows));
        &finer[(word >> 10 & 63) as usize]
    }
}

fn finer(list: &[u16]) -> Box<[Vec<u16>]> {
    let matching = |part: u32| {
        let may = |row: &Row| (part << 10 ^ row.value) & row.mask & 63 << 10 == 0;
        list.iter().copied().filter(|&n| may(&ROWS[usize::from(n)])).collect()
    };
    (0..64).map(matching).collect()
}

/// The index of the table.
pub(crate) fn index() -> &'static Index {
    static INDEX: OnceLock<Index> = OnceLock::new();
    INDEX.get_or_init(|| {
        let mut lists = vec![Vec::new(); 1 << FIRST_BITS];
        // An alias fixes more bits than the instruction it stands for.
        let mut order: Vec<u16> = (0..ROWS.len() as u16).collect();
        order.sort_by_key(|&number| {
            let row = &ROWS[usize::from(number)];
            (row.form.accepted_only, 32 - row.mask.count_ones(), number)
        });
        for number in order {
            let row = &ROWS[usize::from(number)];
            let low = 32 - FIRST_BITS;
            let (fixed, open) = (row.value >> low, !(row.mask >> low) & ((1 << FIRST_BITS) - 1));
            // Every subset of the open bits, from all of them down to none.
            let mut subset = open;
            loop {
                lists[(fixed | subset) as usize].push(number);
                if subset == 0 {
                    break;
                }
                subset = (subset - 1) & open;
            }
        }
        let bucket = |rows| Bucket { rows, finer: OnceLock::new() };
        Index { buckets: lists.into_iter().map(bucket).collect() }
    })
}
