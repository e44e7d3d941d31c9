//! Words for addresses and instructions, kept once they were found: the same loop is stepped over and over.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use sotto_isa::{Instruction, OperandOrder};
use sotto_object::Image;

use crate::place::{self, Place, SourceText};
use crate::report::CodeText;

/// As many words are kept of each kind before all are forgotten.
const KEPT: usize = 1 << 14;

/// Words found so far.
#[derive(Default)]
pub(crate) struct Texts {
    places: RefCell<HashMap<u64, Arc<Place>, foldhash::fast::FixedState>>,
    code: RefCell<HashMap<u64, Arc<CodeText>, foldhash::fast::FixedState>>,
}

impl Texts {
    /// An address in words.
    pub fn place(&self, image: &Image, sources: &[SourceText], address: u64) -> Arc<Place> {
        let mut places = self.places.borrow_mut();
        if places.len() >= KEPT {
            places.clear();
        }
        let describe = || Arc::new(place::describe(image, sources, address));
        places.entry(address).or_insert_with(describe).clone()
    }

    /// What there is to say about an instruction.
    pub fn code(
        &self,
        image: &Image,
        sources: &[SourceText],
        order: OperandOrder,
        instruction: &Arc<Instruction>,
    ) -> Arc<CodeText> {
        // A program that writes itself has another instruction at the same address later.
        let known = |code: &Arc<CodeText>| {
            Arc::ptr_eq(&code.instruction, instruction) || code.instruction == *instruction
        };
        if let Some(code) = self.code.borrow().get(&instruction.address)
            && known(code)
        {
            return code.clone();
        }
        let place = self.place(image, sources, instruction.address);
        let text = Arc::new(CodeText::new(image, order, place, instruction));
        let mut code = self.code.borrow_mut();
        if code.len() >= KEPT {
            code.clear();
        }
        code.insert(instruction.address, text.clone());
        text
    }
}
