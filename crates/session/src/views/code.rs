//! Instructions in the order of their addresses.

use serde::Serialize;

use crate::Session;
use crate::views::places::Place;

/// An instruction, or bytes that are none.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct CodeLine {
    /// Where.
    pub place: Place,
    /// The instruction, or the directive that lays down the bytes.
    pub text: String,
}

/// Bytes before an address in which the instructions before it are looked for.
const REACH: u64 = 512;

impl Session {
    /// So many instructions around an address, of which at most `before` lie before it. They end where memory cannot be read.
    pub fn code_around(&mut self, address: u64, before: usize, count: usize) -> Vec<CodeLine> {
        let mut at = address;
        let mut left = before;
        while left > 0
            && let Some(earlier) = self.instruction_before(at)
        {
            at = earlier;
            left -= 1;
        }
        let mut lines = Vec::new();
        while lines.len() < count
            && let Some((text, bytes)) = self.code_at(at)
        {
            lines.push(CodeLine { place: self.place(at), text });
            at = at.wrapping_add(bytes);
        }
        lines
    }

    /// The instruction at an address as text, and its length; of what cannot be decoded, the directive for its bytes.
    fn code_at(&mut self, address: u64) -> Option<(String, u64)> {
        let step = self.arch().code_alignment();
        let mut bytes = [0; 4];
        let bytes = &mut bytes[..step as usize];
        let machine = &mut self.system.machine;
        // Behind the code of a program its page goes on, with nothing that is fetched.
        let in_image = self.image.segment_at(address).is_some_and(|segment| segment.exec);
        let page = self.image.segment_at(address & !0xfff).is_some();
        let region = machine.memory().region_at(address)?;
        if !region.permissions.execute || (page && !in_image) {
            return None;
        }
        if let Ok(instruction) = machine.instruction_at(address) {
            return Some((self.instruction_text(&instruction), u64::from(instruction.length)));
        }
        machine.memory().read_bytes(address, bytes).ok()?;
        let text = match bytes {
            [byte] => format!(".byte {byte:#04x}"),
            word => {
                let word = word.iter().rev().fold(0u32, |word, byte| word << 8 | u32::from(*byte));
                format!(".inst {word:#010x}")
            }
        };
        Some((text, step))
    }

    /// The address of the instruction that ends where one begins, as far as labels and lines tell: bytes before an address
    /// alone do not say how they are divided.
    fn instruction_before(&mut self, address: u64) -> Option<u64> {
        let step = self.arch().code_alignment();
        if step > 1 {
            return self.code_at(address.checked_sub(step)?).map(|_| address - step);
        }
        let near = |start: &u64| *start < address && address - start <= REACH;
        let symbol = self.image.symbol_before(address.checked_sub(1)?).map(|(s, _)| s.address);
        let rows = &self.image.lines.rows;
        let row = rows[..rows.partition_point(|row| row.0 < address)].last().map(|row| row.0);
        // The nearest place that is known to begin an instruction, and on from there.
        let mut at = symbol.into_iter().chain(row).filter(near).max()?;
        loop {
            let (_, bytes) = self.code_at(at)?;
            if at + bytes >= address {
                return (at + bytes == address).then_some(at);
            }
            at += bytes;
        }
    }
}
