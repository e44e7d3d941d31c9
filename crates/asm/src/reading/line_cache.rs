//! Instructions that were read before.
//!
//! Sources say the same again and again: `push rbp`, `xor eax, eax`, `ret`. What such a line was assembled
//! to is kept under its text, and a line that says the same once more is not read again. Only lines are
//! kept that are one instruction and nothing but registers and numbers: whatever stands around them, they
//! mean the same, as long as the order of operands stays.

/// Letters that a line may have, its comment and the blanks around it taken off.
const TEXT: usize = 40;
/// A text in numbers of eight letters, which are quick to compare.
type Words = [u64; TEXT / 8];
/// Lines that are kept: a power of two.
const SLOTS: usize = 1 << 10;

/// What lines were assembled to, each in the slot that its text leads to.
pub(crate) struct LineCache {
    /// None, until the first is kept.
    slots: Vec<Slot>,
}

#[derive(Copy, Clone)]
struct Slot {
    /// All zeros if nothing is here.
    text: Words,
    count: u8,
    bytes: [u8; sotto_isa::MAX_INSTRUCTION_BYTES],
}

const EMPTY: Slot =
    Slot { text: [0; TEXT / 8], count: 0, bytes: [0; sotto_isa::MAX_INSTRUCTION_BYTES] };

/// The text of a line that can be known, and its slot.
#[derive(Copy, Clone)]
pub(crate) struct Key {
    text: Words,
    slot: u16,
}

impl Key {
    /// The key of a line; `None` if it is too long, empty, or has quotes, in which a comment does not start.
    pub fn of(line: &str) -> Option<Key> {
        let bytes = line.as_bytes().trim_ascii_start();
        let code = match memchr::memchr3(b';', b'"', b'\'', bytes) {
            Some(at) if bytes[at] == b';' => &bytes[..at],
            Some(_) => return None,
            None => bytes,
        };
        let code = code.trim_ascii_end();
        if code.is_empty() || code.len() > TEXT || code[code.len() - 1] == 0 {
            return None;
        }
        let mut letters = [0; TEXT];
        letters[..code.len()].copy_from_slice(code);
        let (words, _) = letters.as_chunks();
        let text: Words = std::array::from_fn(|at| u64::from_le_bytes(words[at]));
        let mut hash = 0u64;
        for word in text {
            // Each word is spread over the upper half by a multiplication, the remainder of a Fibonacci hash.
            hash = (hash.rotate_left(23) ^ word).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        }
        let slot = (hash >> 48) as u16 % SLOTS as u16;
        Some(Key { text, slot })
    }
}

impl LineCache {
    pub const fn new() -> LineCache {
        LineCache { slots: Vec::new() }
    }

    /// What the line was assembled to.
    pub fn find(&self, key: &Key) -> Option<&[u8]> {
        let slot = self.slots.get(usize::from(key.slot))?;
        (slot.text == key.text).then(|| &slot.bytes[..usize::from(slot.count)])
    }

    /// Keeps what the line was assembled to, in place of another.
    pub fn keep(&mut self, key: &Key, bytes: &[u8]) {
        self.slots.resize(SLOTS, EMPTY);
        let slot = &mut self.slots[usize::from(key.slot)];
        (slot.text, slot.count) = (key.text, bytes.len() as u8);
        slot.bytes[..bytes.len()].copy_from_slice(bytes);
    }

    /// Forgets all, since lines mean something else from now on.
    pub fn forget(&mut self) {
        self.slots.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn find(known: &LineCache, line: &str) -> Option<Vec<u8>> {
        known.find(&Key::of(line)?).map(<[u8]>::to_vec)
    }

    #[test]
    fn lines_are_known_by_what_stands_before_their_comment() {
        let mut known = LineCache::new();
        assert_eq!(find(&known, "  ret"), None);
        known.keep(&Key::of("  ret ; to the keeper").unwrap(), &[0xc3]);
        for same in ["ret", "\tret", "  ret  ", "ret;", "ret ; it's late", "ret ; \"later\""] {
            assert_eq!(find(&known, same), Some(vec![0xc3]), "{same:?}");
        }
        for other in ["ret 8", "retf", "RET", "", "lamp: ret", "re", "ret\0"] {
            assert_eq!(find(&known, other), None, "{other:?}");
        }
        known.forget();
        assert_eq!(find(&known, "ret"), None);
    }

    #[test]
    fn quotes_and_long_lines_are_not_known() {
        assert!(Key::of("mov al, ';'").is_none());
        assert!(Key::of("        ; only a comment").is_none());
        assert!(Key::of(&"x".repeat(TEXT)).is_some());
        assert!(Key::of(&"x".repeat(TEXT + 1)).is_none());
    }
}
