//! Contract comments: a comment whose first character is a colon belongs to the routine below it.
//!
//! What the lines say is read by [`sotto_object::contract`]; here they are found, given to their label, and laid down in a
//! section of the object, which is not loaded.

use sotto_isa::Width;
use sotto_object::contract::{self, Contract};
use sotto_object::{Line, Relocation, RelocationKind, Section, SectionFlags, SymbolIndex};

use crate::context::Assembler;
use crate::layout::places::Starts;
use crate::reading::lines::Line as SourceLine;
use crate::symbols::{Definition, SymbolId};
use crate::text::lexer::starts_comment;
use crate::text::suggest::nearest;
use crate::{Code, Diagnostic, Span};

impl Assembler<'_> {
    /// Takes a line that is a contract comment; `false` if it is none.
    pub(crate) fn take_contract_line(&mut self, line: &SourceLine) -> bool {
        let bytes = line.text.as_bytes();
        let Some(start) = bytes.iter().position(|byte| !byte.is_ascii_whitespace()) else {
            return false;
        };
        let mark = if bytes[start..].starts_with(b"//") { 2 } else { 1 };
        if bytes.get(start + mark) != Some(&b':') || !starts_comment(bytes, start, self.arch) {
            return false;
        }
        let text = &line.text[start + mark + 1..];
        let at = line.at + start + mark + 1;
        // `allow CODE` concerns the line below it and not the routine.
        if text.split_whitespace().next() != Some("allow") {
            if self.open_contract.is_empty() {
                self.open_contract_at = self.here();
            }
            self.open_contract.push((text.into(), Span::new(at, at + text.len())));
        }
        true
    }

    /// Gives the contract that is open to the label below it.
    pub(crate) fn close_contract(&mut self, routine: SymbolId) {
        let (from, here) = (self.open_contract_at, self.here());
        let same_fragment = from.section == here.section && from.fragment == here.fragment;
        if same_fragment && from.offset != here.offset {
            // Something else was laid down in between.
            return self.refuse_open_contract();
        }
        let lines = std::mem::take(&mut self.open_contract);
        match Contract::parse(self.arch, lines.iter().map(|(line, _)| &**line)) {
            Ok(_) => {
                let text = lines.iter().map(|(line, _)| format!("{}\n", line.trim())).collect();
                self.contracts.push((routine, text));
            }
            Err(errors) => {
                for error in errors {
                    let start = lines[error.line].1.start as usize;
                    let span = Span::new(start + error.range.start, start + error.range.end);
                    let mut diagnostic = Diagnostic::error(Code::Contract, span, error.message);
                    let near = error.misspelt.and_then(|(written, known)| {
                        nearest(&written, known.iter().map(String::as_str)).map(str::to_string)
                    });
                    if let Some(near) = near {
                        diagnostic =
                            diagnostic.help(format!("did you mean `{near}`?")).replace_with(near);
                    } else if let Some(help) = error.help {
                        diagnostic = diagnostic.help(help);
                    }
                    self.report(diagnostic);
                }
            }
        }
    }

    /// Says of an open contract that no routine is below it.
    pub(crate) fn refuse_open_contract(&mut self) {
        let lines = std::mem::take(&mut self.open_contract);
        if let Some((_, span)) = lines.first() {
            let message = "this contract has no routine below it";
            let error = Diagnostic::error(Code::Contract, *span, message);
            self.report(error.help("put it right above the routine's label"));
        }
    }
}

/// The section of the contracts, if there are some.
pub(crate) fn contract_section(
    assembler: &Assembler,
    starts: &Starts,
    section_symbols: &[SymbolIndex],
) -> Option<Section> {
    let width = assembler.arch.address_bytes();
    let kind = match assembler.arch.address_width() {
        Width::W32 => RelocationKind::Abs32,
        _ => RelocationKind::Abs64,
    };
    let (mut data, mut relocations, mut lines) = (Vec::new(), Vec::new(), Vec::new());
    for (routine, text) in &assembler.contracts {
        let symbol = assembler.symbols.get(*routine);
        let Definition::Label(position) = symbol.definition else { continue };
        let offset = data.len() as u64;
        relocations.push(Relocation {
            offset,
            kind,
            symbol: section_symbols[position.section as usize],
            addend: starts.offset(position) as i64,
        });
        lines.push(Line { offset, file: symbol.line.0, line: symbol.line.1 });
        data.extend(vec![0; width as usize]);
        data.extend(contract::record_tail(text));
    }
    (!data.is_empty()).then(|| Section {
        name: contract::SECTION.to_string(),
        flags: SectionFlags::default(),
        align: 1,
        size: data.len() as u64,
        data,
        relocations,
        lines,
    })
}
