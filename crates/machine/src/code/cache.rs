//! The cache of decoded code.

use std::collections::HashMap;

use foldhash::fast::FixedState;
use sotto_isa::Control;

use crate::code::processor::BlockKey;
use crate::code::watch::Writes;
use crate::memory::code_marks::CodeChange;
use crate::memory::region::PAGE_BYTES;

/// Blocks end after this many instructions.
pub(crate) const MAX_BLOCK: usize = 64;
pub(crate) const LOOKUP_ENTRIES: usize = 4096;
pub(crate) const NO_BLOCK: u32 = u32::MAX;

/// No block has this key: no instruction can stand at the last address.
pub(crate) const NO_KEY: BlockKey = BlockKey(u64::MAX);

/// Instructions that follow each other, up to one that control does not simply go on from.
pub(crate) struct Block<Op> {
    pub start: u64,
    /// An operation for each instruction; if the last two are fused, what they are fused to before them.
    pub ops: Box<[Op]>,
    /// How many operations from the first on carry out the whole block.
    pub whole: usize,
    /// Address after each instruction.
    pub ends: Box<[u64]>,
    /// Address after the last one.
    pub end: u64,
    /// What each instruction writes, for observers who ask.
    pub writes: Box<[Writes]>,
    /// Where control goes after the last one.
    pub control: Control,
    /// Blocks that followed this one last: key and number. The number may have been given to another block since.
    pub successors: [(BlockKey, u32); 2],
    /// The program is to be stopped before this block.
    pub is_stop: bool,
    /// Its first instruction asks for the clock; others cannot.
    pub asks_clock: bool,
    /// Its key if it wants no more than to be carried out; else [`NO_KEY`].
    pub plain_key: BlockKey,
    /// The key that it is found by; [`NO_KEY`] once its code has changed.
    pub key: BlockKey,
    /// Its last instruction is a call, a return or an indirect jump.
    pub transfers: bool,
}

impl<Op> Block<Op> {
    /// Operations from the start of the block for `most` instructions, which are fewer than the block has and at
    /// least one.
    #[cold]
    pub fn first_ops(&self, most: usize) -> &[Op] {
        let plain = if self.whole < self.ends.len() { self.whole - 1 } else { self.whole };
        match plain.min(most) {
            // The first of two that are fused stands behind what they are fused to.
            0 => &self.ops[1..2],
            count => &self.ops[..count],
        }
    }

    /// The block that followed this one lately, by its key; [`NO_BLOCK`] if there is none.
    #[inline(always)]
    pub fn successor(&self, key: BlockKey) -> u32 {
        let [(first, a), (second, b)] = self.successors;
        if first == key {
            a
        } else if second == key {
            b
        } else {
            NO_BLOCK
        }
    }
}

/// Decoded code, as operations for one kind of observer.
pub(crate) struct Code<Op> {
    /// Blocks by number. The numbers of those that were dropped are given again.
    pub blocks: Vec<Block<Op>>,
    by_key: HashMap<BlockKey, u32, FixedState>,
    lookup: Box<[(BlockKey, u32)]>,
    /// Which blocks lie on each page, at least in part; and some that did.
    by_page: HashMap<u64, Vec<u32>, FixedState>,
    dropped: Vec<u32>,
}

impl<Op> Code<Op> {
    pub fn new() -> Code<Op> {
        Code {
            blocks: Vec::new(),
            by_key: HashMap::default(),
            lookup: vec![(NO_KEY, NO_BLOCK); LOOKUP_ENTRIES].into(),
            by_page: HashMap::default(),
            dropped: Vec::new(),
        }
    }

    /// Where in the table of look-ups a block is, if it was looked up lately.
    #[inline(always)]
    fn slot(key: BlockKey) -> usize {
        (key.0 ^ key.0 >> 12) as usize % LOOKUP_ENTRIES
    }

    /// The block with a key, if it was looked up lately; else [`NO_BLOCK`].
    #[inline(always)]
    pub fn looked_up(&self, key: BlockKey) -> u32 {
        let (other, number) = self.lookup[Self::slot(key)];
        if other == key { number } else { NO_BLOCK }
    }

    /// The block with a key.
    pub fn find(&mut self, key: BlockKey) -> Option<u32> {
        let number = *self.by_key.get(&key)?;
        self.lookup[Self::slot(key)] = (key, number);
        Some(number)
    }

    /// Adds a block; its number.
    pub fn add(&mut self, block: Block<Op>) -> u32 {
        let (key, start, end) = (block.key, block.start, block.end);
        let number = match self.dropped.pop() {
            Some(number) => {
                self.blocks[number as usize] = block;
                number
            }
            None => {
                self.blocks.push(block);
                self.blocks.len() as u32 - 1
            }
        };
        self.by_key.insert(key, number);
        self.lookup[Self::slot(key)] = (key, number);
        for page in start / PAGE_BYTES..=end.saturating_sub(1).max(start) / PAGE_BYTES {
            self.by_page.entry(page).or_default().push(number);
        }
        number
    }

    /// Drops what was decoded of code that has changed.
    pub fn drop_changed(&mut self, change: &CodeChange) {
        match change {
            CodeChange::All => self.forget(),
            CodeChange::Pages(pages) => {
                for page in pages {
                    for number in self.by_page.remove(page).unwrap_or_default() {
                        self.drop_block(number);
                    }
                }
            }
        }
    }

    fn drop_block(&mut self, number: u32) {
        let block = &mut self.blocks[number as usize];
        let key = std::mem::replace(&mut block.key, NO_KEY);
        if key == NO_KEY {
            return;
        }
        block.plain_key = NO_KEY;
        block.ops = Box::new([]);
        self.by_key.remove(&key);
        let slot = &mut self.lookup[Self::slot(key)];
        if slot.1 == number {
            *slot = (NO_KEY, NO_BLOCK);
        }
        self.dropped.push(number);
    }

    /// Forgets everything.
    pub fn forget(&mut self) {
        self.blocks.clear();
        self.by_key.clear();
        self.lookup.fill((NO_KEY, NO_BLOCK));
        self.by_page.clear();
        self.dropped.clear();
    }
}
