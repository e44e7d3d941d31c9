//! Bytes and relocations of sections, once sizes are settled.

use sotto_isa::{Arch, Field, Traits, padding};
use sotto_object::{Line, Relocation, RelocationKind, Section, SymbolIndex, TlsField};

use crate::directives::data::check_fits;
use crate::layout::places::Starts;
use crate::operands::parsed::{Parsed, Spanned};
use crate::sections::fragments::{DataField, Fragment, RelaxableInstruction, SectionBuilder};
use crate::symbols::{Evaluator, GOT, Linear, Memo, Position, SymbolTable};
use crate::text::expr::Via;
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span, TlsOperator};

/// What filling in the sections needs.
pub(crate) struct Emitter<'a> {
    pub(crate) arch: Arch,
    pub(crate) symbols: &'a SymbolTable,
    pub(crate) starts: &'a Starts,
    pub(crate) section_symbols: Vec<SymbolIndex>,
    pub(crate) memo: Memo,
    pub(crate) diagnostics: Vec<Diagnostic>,
}

impl Emitter<'_> {
    pub(crate) fn section(
        &mut self,
        number: usize,
        builder: &SectionBuilder,
        lines: Vec<Line>,
    ) -> Section {
        let size = self.starts.size(number);
        let mut section = Section {
            name: builder.name.clone(),
            flags: builder.flags,
            align: builder.align,
            data: Vec::new(),
            size,
            relocations: Vec::new(),
            lines,
        };
        if builder.flags.nobits {
            return section;
        }
        section.data.reserve(size as usize);
        let mut contents = &builder.bytes[..];
        let mut fields = builder.fields.iter().peekable();
        for (index, fragment) in builder.fragments.iter().enumerate() {
            let start = self.starts.0[number][index];
            let bytes = self.starts.0[number][index + 1] - start;
            match fragment {
                Fragment::Fill { value, .. } => {
                    section.data.resize((start + bytes) as usize, *value)
                }
                Fragment::Org(org) => section.data.resize((start + bytes) as usize, org.fill),
                Fragment::Align(pad) if builder.flags.exec && pad.fill.is_none() => {
                    section.data.extend(padding(self.arch, bytes as usize));
                }
                Fragment::Align(pad) => {
                    section.data.resize((start + bytes) as usize, pad.fill.unwrap_or(0));
                }
                Fragment::Bytes(_) => {
                    let (own, rest) = contents.split_at(bytes as usize);
                    section.data.extend_from_slice(own);
                    contents = rest;
                    while let Some(field) = fields.next_if(|f| f.fragment as usize == index) {
                        let at = start + field.offset;
                        if let Err(diagnostic) = self.data_field(field, at, number, &mut section) {
                            self.diagnostics.push(diagnostic);
                        }
                    }
                }
                Fragment::Leb128(field) => {
                    let field = &builder.leb128[*field as usize];
                    let distance = |from, to| self.distance(from, to);
                    if let Err(diagnostic) = field.check(&self.evaluator(&distance)) {
                        self.diagnostics.push(diagnostic);
                    }
                    section.data.extend_from_slice(&field.bytes);
                }
                Fragment::Instruction(open) => {
                    let open = &builder.open[*open as usize];
                    let operands = builder.operands_of(open);
                    section.data.extend_from_slice(&open.encoded.bytes);
                    if let Err(diagnostic) = self.fixups(open, operands, start, &mut section) {
                        self.diagnostics.push(diagnostic);
                    }
                }
            }
        }
        section
    }

    fn evaluator<'b>(&'b self, distance: crate::symbols::Distance<'b>) -> Evaluator<'b> {
        Evaluator { symbols: self.symbols, distance, memo: &self.memo }
    }

    fn distance(&self, from: Position, to: Position) -> Option<i128> {
        Some(i128::from(self.starts.offset(to)) - i128::from(self.starts.offset(from)))
    }

    fn data_field(
        &self,
        field: &DataField,
        at: u64,
        section_number: usize,
        section: &mut Section,
    ) -> Result<(), Diagnostic> {
        let distance = |from, to| self.distance(from, to);
        let linear = self.evaluator(&distance).eval(&field.expr, field.context, field.span)?;
        if let Some(number) = linear.as_number() {
            check_fits(number, field.bytes, field.span)?;
            let range = at as usize..at as usize + usize::from(field.bytes);
            section.data[range].copy_from_slice(&number.to_le_bytes()[..usize::from(field.bytes)]);
            return Ok(());
        }
        let from_table = linear.via == Some(Via::GotOff) && field.bytes == 4;
        let in_threads = match (linear.via, field.bytes) {
            (Some(Via::Tls(TlsOperator::ThreadOffset)), 4) => Some(TlsField::ThreadOffset),
            (Some(Via::Tls(TlsOperator::ThreadOffset)), 8) => Some(TlsField::ThreadOffset64),
            (Some(Via::Tls(TlsOperator::BlockOffset)), 4) => Some(TlsField::BlockOffset),
            (Some(Via::Tls(TlsOperator::BlockOffset)), 8) => Some(TlsField::BlockOffset64),
            (Some(Via::Tls(TlsOperator::DescriptorCall)), _) => Some(TlsField::A64DescriptorCall),
            _ => None,
        };
        let known = in_threads.is_some() || (from_table && syntax(self.arch).names_offset_table);
        if linear.via.is_some() && !known {
            return Err(Diagnostic::error(
                Code::NotConstant,
                field.span,
                "`@` and `:lo12:` stand in instructions only",
            ));
        }
        let relative = linear.minus.is_some();
        let kind = match (field.bytes, relative) {
            _ if from_table => RelocationKind::GotOffset32,
            _ if let Some(field) = in_threads => RelocationKind::Tls(field),
            (1, false) => RelocationKind::Abs8,
            (2, false) => RelocationKind::Abs16,
            (4, false) => RelocationKind::Abs32,
            (8, false) => RelocationKind::Abs64,
            (1, true) => RelocationKind::Rel8,
            (2, true) => RelocationKind::Rel16,
            (4, true) => RelocationKind::Rel32,
            _ => RelocationKind::Rel64,
        };
        let mut addend = 0;
        if let Some(minus) = linear.minus {
            // The distance is counted from the field itself.
            match minus.position {
                Some(position) if position.section as usize == section_number => {
                    addend = at as i64 - self.starts.offset(position) as i64;
                }
                _ => {
                    return Err(Diagnostic::error(
                        Code::NotConstant,
                        field.span,
                        "the distance between two other sections cannot be known here",
                    ));
                }
            }
        }
        self.relocate(section, at, kind, &linear, addend, field.span)
    }

    /// Adds a relocation for the value's address.
    fn relocate(
        &self,
        section: &mut Section,
        offset: u64,
        kind: RelocationKind,
        linear: &Linear,
        addend: i64,
        span: Span,
    ) -> Result<(), Diagnostic> {
        let not_constant = |message: &str| Diagnostic::error(Code::NotConstant, span, message);
        let anchor = linear.plus.ok_or_else(|| match linear.minus {
            Some(_) => not_constant("an address cannot be subtracted from a number here"),
            None => not_constant("a number is no place in the program").help("use a label"),
        })?;
        let constant = i64::try_from(linear.offset)
            .map_err(|_| not_constant("the distance from the symbol does not fit in 64 bits"))?;
        // A label that other files cannot see is named by its section: debuggers and linkers then
        // need no symbol for it.
        let visible = anchor.symbol.filter(|&id| !self.symbols.get(id).hidden);
        let (symbol, base) = match (visible, anchor.position) {
            (Some(id), _) => (SymbolIndex(id.0), 0),
            (None, Some(position)) => (
                self.section_symbols[position.section as usize],
                self.starts.offset(position) as i64,
            ),
            (None, None) => return Err(not_constant("the symbol has no place")),
        };
        let addend = addend.wrapping_add(constant).wrapping_add(base);
        section.relocations.push(Relocation { offset, kind, symbol, addend });
        Ok(())
    }

    fn fixups(
        &self,
        open: &RelaxableInstruction,
        operands: &[Spanned],
        start: u64,
        section: &mut Section,
    ) -> Result<(), Diagnostic> {
        let distance = |from, to| self.distance(from, to);
        let evaluator = self.evaluator(&distance);
        for fixup in &open.encoded.fixups {
            let operand = &operands[usize::from(fixup.operand)];
            let lowered = operand.lower(&evaluator, open.context, &|_| None)?;
            let Some(linear) = lowered.late else { continue };
            if linear.minus.is_some() {
                return Err(Diagnostic::error(
                    Code::NotConstant,
                    operand.span,
                    "the distance to another section cannot stand in an instruction",
                ));
            }
            let kind = self.kind(fixup.field, open.traits, operand, &linear)?;
            let at = start + u64::from(fixup.offset);
            let mut addend = i64::from(fixup.addend);
            if kind == RelocationKind::GotDistance32 {
                // The distance is counted from the instruction.
                addend += i64::from(fixup.offset);
            }
            self.relocate(section, at, kind, &linear, addend, operand.span)?;
        }
        Ok(())
    }

    /// Whether the value is counted from a symbol of another file.
    fn is_elsewhere(&self, linear: &Linear) -> bool {
        linear.plus.is_some_and(|plus| plus.position.is_none() && plus.symbol.is_some())
    }

    /// Whether the value is the global offset table, by the name that compilers give it.
    fn is_table(&self, linear: &Linear) -> bool {
        let symbol = linear.plus.and_then(|plus| plus.symbol);
        syntax(self.arch).names_offset_table
            && symbol.is_some_and(|id| *self.symbols.get(id).name == *GOT)
    }

    /// What the field of an instruction holds that names thread-local data by this operator.
    fn tls_field(
        &self,
        operator: TlsOperator,
        field: Field,
        span: Span,
    ) -> Result<TlsField, Diagnostic> {
        let any32 = matches!(field, Field::Rel32 | Field::Abs32 | Field::Abs32Signed);
        let low12 = matches!(field, Field::AddLow12 | Field::AccessLow12(_));
        Ok(match operator {
            TlsOperator::General if any32 => TlsField::GeneralEntry,
            TlsOperator::Module if any32 => TlsField::ModuleEntry,
            TlsOperator::OffsetEntry if any32 => TlsField::OffsetEntry,
            TlsOperator::OffsetEntryAddress if any32 => TlsField::OffsetEntryAddress,
            TlsOperator::ThreadOffset if field == Field::Abs64 => TlsField::ThreadOffset64,
            TlsOperator::ThreadOffset if any32 => TlsField::ThreadOffset,
            TlsOperator::BlockOffset if field == Field::Abs64 => TlsField::BlockOffset64,
            TlsOperator::BlockOffset if any32 => TlsField::BlockOffset,
            TlsOperator::High12 if field == Field::AddLow12 => TlsField::A64OffsetHigh12,
            TlsOperator::Low12 if field == Field::AddLow12 => TlsField::A64OffsetLow12,
            TlsOperator::Low12Unchecked if field == Field::AddLow12 => {
                TlsField::A64OffsetLow12Unchecked
            }
            TlsOperator::EntryPage if field == Field::AdrPage21 => TlsField::A64OffsetEntryPage,
            TlsOperator::EntryLow12 if low12 => TlsField::A64OffsetEntryLow12,
            TlsOperator::DescriptorPage if field == Field::AdrPage21 => TlsField::A64DescriptorPage,
            TlsOperator::DescriptorLow12 if field == Field::AddLow12 => {
                TlsField::A64DescriptorAddLow12
            }
            TlsOperator::DescriptorLow12 if low12 => TlsField::A64DescriptorLow12,
            _ => {
                let message = "the operator for thread-local data does not fit this operand";
                return Err(Diagnostic::error(Code::NotConstant, span, message));
            }
        })
    }

    /// The relocation that fills an instruction's field.
    fn kind(
        &self,
        field: Field,
        traits: Traits,
        operand: &Spanned,
        linear: &Linear,
    ) -> Result<RelocationKind, Diagnostic> {
        let span = operand.span;
        let refuse = |message: &str, help: &str| {
            Err(Diagnostic::error(Code::NotConstant, span, message).help(help))
        };
        let is_target = matches!(operand.parsed, Parsed::Target(_));
        match (linear.via, field) {
            (Some(Via::Plt), Field::Rel32) if is_target => return Ok(RelocationKind::Plt32),
            (Some(Via::Plt), _) => {
                return refuse("`@plt` is for the target of a call or jump", "leave it out here");
            }
            (Some(Via::GotPcRel), Field::Rel32) if !is_target => {
                return Ok(match traits.contains(Traits::GOT_RELAXABLE) {
                    true => RelocationKind::GotRel32Relaxable,
                    false => RelocationKind::GotRel32,
                });
            }
            (Some(Via::GotPcRel), _) => {
                return refuse(
                    "`@gotpcrel` is for memory counted from the instruction pointer",
                    "write `[rip + name@gotpcrel]`",
                );
            }
            (Some(Via::Got), Field::Abs32) => return Ok(RelocationKind::GotEntry32),
            (Some(Via::GotOff), Field::Abs32) => return Ok(RelocationKind::GotOffset32),
            (Some(Via::Got | Via::GotOff), _) => {
                return refuse(
                    "`@got` and `@gotoff` are offsets from the table in 32-bit code",
                    "write `[ebx + name@got]`, with the table's address in the register",
                );
            }
            (None, Field::Abs32) if self.is_table(linear) => {
                return Ok(RelocationKind::GotDistance32);
            }
            (Some(Via::Tls(operator)), _) => {
                return self.tls_field(operator, field, span).map(RelocationKind::Tls);
            }
            (Some(Via::GotPage), Field::AdrPage21) => return Ok(RelocationKind::A64GotPage21),
            (Some(Via::GotLow12), Field::AccessLow12(_)) => return Ok(RelocationKind::A64GotLow12),
            (Some(Via::GotPage | Via::GotLow12), _) => {
                return refuse(
                    "`:got:` is for `adrp`, and `:got_lo12:` for the load that follows it",
                    "write `adrp x0, :got:name` and `ldr x0, [x0, :got_lo12:name]`",
                );
            }
            (Some(Via::Low12), Field::AddLow12) => return Ok(RelocationKind::A64AddLow12),
            (Some(Via::Low12), Field::AccessLow12(width)) => {
                return Ok(RelocationKind::A64AccessLow12(width.bytes().trailing_zeros() as u8));
            }
            (Some(Via::MovePart { part, unchecked }), Field::MoveWide16) => {
                return Ok(RelocationKind::A64MoveWide { part, unchecked });
            }
            (Some(Via::MovePart { .. }), _) => {
                return refuse(
                    "`:abs_g0:` and its like are for the immediate of `movz` and `movk`",
                    "leave it out here",
                );
            }
            (None, Field::MoveWide16) => {
                return refuse(
                    "an address does not fit here",
                    "write `:abs_g0:` to `:abs_g3:` before the name for 16 bits of it",
                );
            }
            (Some(Via::Low12), _) => {
                return refuse(
                    "`:lo12:` is for the immediate of `add` and the offset of a load or store",
                    "leave it out here",
                );
            }
            (None, Field::AddLow12 | Field::AccessLow12(_)) => {
                return refuse(
                    "an address does not fit here",
                    "take its page with `adrp`, then write `:lo12:` before the name",
                );
            }
            // A call to another file may end up in a shared library.
            (None, Field::Rel32) if is_target && self.is_elsewhere(linear) => {
                return Ok(RelocationKind::Plt32);
            }
            (None, _) => {}
        }
        Ok({
            match field {
                Field::Rel8 => RelocationKind::Rel8,
                Field::Rel32 => RelocationKind::Rel32,
                Field::Abs8 => RelocationKind::Abs8,
                Field::Abs16 => RelocationKind::Abs16,
                Field::Abs32 => RelocationKind::Abs32,
                Field::Abs32Signed => RelocationKind::Abs32Signed,
                Field::Abs64 => RelocationKind::Abs64,
                Field::Branch26 if traits.contains(Traits::LINKS) => RelocationKind::A64Call26,
                Field::Branch26 => RelocationKind::A64Branch26,
                Field::Branch19 if traits.contains(Traits::LOADS_LITERAL) => {
                    RelocationKind::A64Literal19
                }
                Field::Branch19 => RelocationKind::A64Branch19,
                Field::Branch14 => RelocationKind::A64Branch14,
                Field::Adr21 => RelocationKind::A64Adr21,
                Field::AdrPage21 => RelocationKind::A64AdrPage21,
                Field::AddLow12 => RelocationKind::A64AddLow12,
                Field::MoveWide16 => RelocationKind::A64MoveWide { part: 0, unchecked: false },
                Field::AccessLow12(width) => {
                    RelocationKind::A64AccessLow12(width.bytes().trailing_zeros() as u8)
                }
            }
        })
    }
}
