//! Marks, and what differs between two moments.

use serde::Serialize;
use sotto_isa::{Arch, LaneKind, Lanes, Reg, RegisterValue, Storage, Width};
use sotto_machine::{Difference, Snapshot};

use crate::views::places::{Place, hex};
use crate::{LastMoment, Session, SessionError};

/// A moment with a name.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Mark {
    /// Its name.
    pub name: String,
    /// Instructions completed at it.
    pub moment: u64,
    /// The instruction that was next there.
    pub place: Place,
}

/// A register that differs.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct RegisterDifference {
    /// Its name.
    pub name: String,
    /// Its value at the mark.
    #[serde(serialize_with = "hex")]
    pub old: u64,
    /// Its value now.
    #[serde(serialize_with = "hex")]
    pub new: u64,
    /// Its bits.
    pub bits: u32,
}

/// Bytes beside each other that differ.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct MemoryDifference {
    /// The first of them.
    pub place: Place,
    /// What part of memory they lie in: `stack`, `heap`, a segment's name.
    pub region: Option<String>,
    /// The bytes at the mark.
    pub old: Vec<u8>,
    /// The bytes now.
    pub new: Vec<u8>,
    /// Bytes of an element as it was declared, or of a slot.
    pub unit: u64,
}

impl MemoryDifference {
    /// The values at the mark and now, if the bytes are one element.
    pub fn values(&self) -> Option<(u64, u64)> {
        let number = |bytes: &[u8]| {
            let mut all = [0; 8];
            all.get_mut(..bytes.len())?.copy_from_slice(bytes);
            Some(u64::from_le_bytes(all))
        };
        (self.old.len() as u64 == self.unit).then_some((number(&self.old)?, number(&self.new)?))
    }
}

/// What differs between a mark and now.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Comparison {
    /// The mark.
    pub mark: Mark,
    /// Instructions completed now.
    pub moment: u64,
    /// General registers.
    pub registers: Vec<RegisterDifference>,
    /// Vector registers: name, elements at the mark, elements now.
    pub vectors: Vec<(String, String, String)>,
    /// Flags: the manual's name, the value at the mark, the value now.
    pub flags: Vec<(&'static str, bool, bool)>,
    /// Memory, by ascending address.
    pub memory: Vec<MemoryDifference>,
}

impl Session {
    /// Gives this moment a name; one of the same name moves here.
    pub fn mark(&mut self, name: &str) -> Mark {
        let (name, moment, place) = (name.to_string(), self.moment(), self.here());
        self.marks.retain(|mark| mark.name != name);
        let mark = Mark { name, moment, place };
        self.marks.push(mark.clone());
        mark
    }

    /// The marks, in the order in which they were set.
    pub fn marks(&self) -> &[Mark] {
        &self.marks
    }

    /// What differs between a mark, or another moment written `#N`, and now.
    ///
    /// # Errors
    ///
    /// If there is no such mark.
    pub fn compare(&mut self, name: &str) -> Result<Comparison, SessionError> {
        let mark = match self.marks.iter().find(|mark| mark.name == name) {
            Some(mark) => mark.clone(),
            None => {
                let moment = name.strip_prefix('#').and_then(|text| text.parse::<u64>().ok());
                let moment = moment.ok_or_else(|| SessionError::NoMark(name.to_string()))?;
                Mark { name: name.to_string(), moment, place: self.here() }
            }
        };
        let (moment, ending) = (self.moment(), self.ending());
        let now = self.system.machine.snapshot();
        self.go_to(mark.moment);
        let (reached, then) = (self.moment(), self.system.machine.snapshot());
        let (place, waits) = (self.here(), self.ending().is_none());
        self.return_to(moment, ending);
        if reached != mark.moment {
            let last = LastMoment { moment: reached, waits };
            return Err(SessionError::NoMoment { wanted: mark.moment, last });
        }
        let mark = Mark { place, ..mark };
        let memory = then.memory().differences(now.memory());
        let words = self.joined(memory, &then, &now);
        let memory = words.into_iter().map(|difference| self.in_words(difference)).collect();
        Ok(Comparison {
            mark,
            moment,
            registers: self.register_differences(&then, &now),
            vectors: bank_differences(self.arch(), &then, &now),
            flags: self.flag_differences(&then, &now),
            memory,
        })
    }

    fn register_differences(&self, then: &Snapshot, now: &Snapshot) -> Vec<RegisterDifference> {
        let arch = self.arch();
        let pairs = then.cpu.registers.iter().zip(&now.cpu.registers).enumerate();
        pairs
            .filter(|(_, (old, new))| old != new)
            .map(|(number, (&old, &new))| {
                let name = arch.storage_name(Storage(number as u8)).to_string();
                RegisterDifference { name, old, new, bits: arch.address_width().bits() }
            })
            .collect()
    }

    fn flag_differences(&self, then: &Snapshot, now: &Snapshot) -> Vec<(&'static str, bool, bool)> {
        let values = |info: &sotto_isa::FlagInfo| {
            (info.name, then.cpu.flags.contains(info.flag), now.cpu.flags.contains(info.flag))
        };
        self.arch().flags().iter().map(values).filter(|(_, old, new)| old != new).collect()
    }

    /// Differing bytes widened to the elements that they are parts of, and joined where these meet.
    fn joined(
        &self,
        differences: Vec<Difference>,
        then: &Snapshot,
        now: &Snapshot,
    ) -> Vec<Difference> {
        let mut joined: Vec<Difference> = Vec::new();
        for difference in differences {
            let unit = self.unit_at(difference.address);
            let end = difference.address + difference.here.len() as u64;
            let base = unit.0;
            let start = base + (difference.address - base) / unit.1 * unit.1;
            let end = base + (end - base).div_ceil(unit.1) * unit.1;
            let (mut here, mut there) =
                (vec![0; (end - start) as usize], vec![0; (end - start) as usize]);
            let whole = then.memory().read_bytes(start, &mut here).is_some()
                && now.memory().read_bytes(start, &mut there).is_some();
            let wide = match whole {
                true => Difference { address: start, here, there },
                false => difference,
            };
            match joined.last_mut() {
                Some(last) if last.address + last.here.len() as u64 >= wide.address => {
                    let known = (last.address + last.here.len() as u64 - wide.address) as usize;
                    let known = known.min(wide.here.len());
                    last.here.extend_from_slice(&wide.here[known..]);
                    last.there.extend_from_slice(&wide.there[known..]);
                }
                _ => joined.push(wide),
            }
        }
        joined
    }

    /// Where elements count from at an address, and the bytes of one: as declared, or a slot.
    fn unit_at(&self, address: u64) -> (u64, u64) {
        let slot = self.arch().address_bytes();
        match self
            .image
            .symbol_before(address)
            .and_then(|(symbol, _)| Some((symbol.address, u64::from(symbol.datum?.element_bytes))))
        {
            Some((base, bytes @ 1..)) => (base, bytes),
            _ => (address / slot * slot, slot),
        }
    }

    fn in_words(&self, difference: Difference) -> MemoryDifference {
        let Difference { address, here: old, there: new } = difference;
        let unit = self.unit_at(address).1;
        let region = self.system.machine.memory().region_at(address);
        let region = region.map(|region| region.kind.name().to_string());
        MemoryDifference { place: self.place(address), region, old, new, unit }
    }
}

fn bank_differences(arch: Arch, then: &Snapshot, now: &Snapshot) -> Vec<(String, String, String)> {
    let lanes = Lanes::new(LaneKind::Bits, Width::W64);
    let text = |reg: Reg, value: &RegisterValue| {
        format!("[{}]", lanes.texts(value, reg.width().bits()).join(", "))
    };
    let pairs = then.cpu.banks.iter().zip(&now.cpu.banks);
    arch.bank_registers()
        .zip(pairs)
        .filter(|(_, (old, new))| old != new)
        .map(|((_, reg), (old, new))| (reg.name().to_string(), text(reg, old), text(reg, new)))
        .collect()
}
