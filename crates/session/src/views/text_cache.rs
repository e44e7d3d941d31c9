//! Words for addresses and instructions, kept once they were found: the same loop is stepped over and over.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use sotto_isa::{Instruction, OperandOrder};
use sotto_object::{Image, SourceLine};

use crate::views::places;
use crate::views::places::{LineWords, Place, SourceText};
use crate::views::step_report::CodeText;

/// As many words are kept of each kind before all are forgotten.
const KEPT: usize = 1 << 14;

/// Something for each of some addresses, or of some lines.
type Kept<T> = HashMap<u64, T, foldhash::fast::FixedState>;

fn forget_if_many<T>(kept: &mut Kept<T>) {
    if kept.len() >= KEPT {
        kept.clear();
    }
}

/// A source line by file and number, as one number.
fn line_key(line: SourceLine) -> u64 {
    u64::from(line.file) << 32 | u64::from(line.line)
}

/// Words found so far.
#[derive(Default)]
pub(crate) struct TextCache {
    /// By the addresses of instructions.
    code: RefCell<Kept<(Arc<Instruction>, Arc<CodeText>)>>,
    /// Names of symbols by their addresses.
    names: RefCell<Kept<Arc<str>>>,
    /// Files, and the texts of their lines.
    lines: RefCell<Kept<LineWords>>,
}

impl TextCache {
    /// An address in words. A program goes over so many that nothing is kept but their symbols and lines.
    pub fn place(&self, image: &Image, sources: &[SourceText], address: u64) -> Place {
        let (symbol, offset) = self.symbol(image, address).unzip();
        let offset = offset.unwrap_or_default();
        let label = match image.labels.is_empty() {
            true => None,
            false => image.label_before(address),
        };
        let (label, label_offset) =
            label.map(|(label, offset)| (label.name.as_str().into(), offset)).unzip();
        let module = image.module_at(address);
        let module_offset = module.map(|module| address - module.start);
        let module = module.map(|module| module.name.as_str().into());
        let here = Place {
            address,
            symbol,
            offset,
            label,
            label_offset,
            module,
            module_offset,
            ..Place::default()
        };
        let Some(line) = image.lines.at(address) else { return here };
        let mut lines = self.lines.borrow_mut();
        forget_if_many(&mut lines);
        let words = || places::source_line(image, sources, line);
        let (file, source) = lines.entry(line_key(line)).or_insert_with(words).clone();
        Place { file, line: Some(line.line), source, ..here }
    }

    /// The name of the nearest symbol at or below an address in the same part of memory, and the distance
    /// from it.
    pub fn symbol(&self, image: &Image, address: u64) -> Option<(Arc<str>, u64)> {
        let (symbol, offset) = image.symbol_before(address)?;
        let mut names = self.names.borrow_mut();
        forget_if_many(&mut names);
        let name = names.entry(symbol.address).or_insert_with(|| symbol.name.as_str().into());
        Some((name.clone(), offset))
    }

    /// What there is to say about an instruction.
    pub fn code(
        &self,
        image: &Image,
        sources: &[SourceText],
        order: OperandOrder,
        instruction: &Arc<Instruction>,
    ) -> Arc<CodeText> {
        let mut code = self.code.borrow_mut();
        // A program that writes itself has another instruction at the same address later.
        if let Some((of, known)) = code.get_mut(&instruction.address)
            && (Arc::ptr_eq(of, instruction) || *of == *instruction)
        {
            // It was decoded again; the next time one look tells that it is the same.
            of.clone_from(instruction);
            return known.clone();
        }
        let place = Arc::new(self.place(image, sources, instruction.address));
        let text = Arc::new(CodeText::new(image, order, place, instruction));
        forget_if_many(&mut code);
        code.insert(instruction.address, (instruction.clone(), text.clone()));
        text
    }
}
