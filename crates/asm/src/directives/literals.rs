//! Literal pools: values that `ldr register, =value` loads, laid down after the code.

use sotto_isa::{Operand, Traits, Width};
use sotto_object::SectionFlags;

use crate::context::{Assembler, ListedLine};
use crate::operands::parsed::{Parsed, Spanned};
use crate::sections::fragments::{Align, Fragment};
use crate::sections::pools::Literal;
use crate::symbols::Definition;
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Expr};

impl Assembler<'_> {
    /// Turns `=value` operands into references to the next literal pool.
    pub(crate) fn take_literals(
        &mut self,
        traits: Traits,
        operands: &mut [Spanned],
    ) -> Result<(), Diagnostic> {
        let register = match operands.first() {
            Some(Spanned { parsed: Parsed::Fixed(Operand::Reg(reg)), .. }) => Some(*reg),
            _ => None,
        };
        for operand in operands {
            let Parsed::Literal(expr) = &operand.parsed else { continue };
            let span = operand.span;
            let Some(register) = register.filter(|_| traits.contains(Traits::LOADS_LITERAL)) else {
                let message = "`=value` stands in `ldr register, =value` only";
                return Err(Diagnostic::error(Code::Syntax, span, message));
            };
            let bytes = match register.width() {
                Width::W64 => 8,
                Width::W32 => 4,
                _ => {
                    let message =
                        format!("no number in a source is as wide as `{}`", register.name());
                    return Err(Diagnostic::error(Code::OutOfRange, span, message)
                        .help("lay the value down as data, and load it by its label"));
                }
            };
            let mut expr = expr.clone();
            self.bind_names(&mut expr);
            let context = self.context();
            let number = self.symbols.symbols.len();
            let pool = &mut self.sections[self.current].pool;
            // Numbers that are equal share their place.
            let same = pool.waiting.iter().find(|literal| {
                literal.bytes == bytes
                    && literal.expr == expr
                    && matches!(literal.expr, Expr::Number(_))
            });
            let label = match same {
                Some(literal) => literal.label.clone(),
                None => {
                    let label = format!("literal\0{number}.{}", pool.waiting.len());
                    let waiting = label.clone();
                    pool.waiting.push(Literal { label: waiting, expr, context, bytes, span });
                    label
                }
            };
            operand.parsed = Parsed::Target(Expr::Symbol(label.into(), span));
        }
        Ok(())
    }

    /// Lays down the values that wait in the current section.
    pub(crate) fn place_pool(&mut self) {
        let current = self.current;
        let mut waiting = std::mem::take(&mut self.sections[current].pool.waiting);
        // Wider ones first, so that one alignment serves all.
        waiting.sort_by_key(|literal| std::cmp::Reverse(literal.bytes));
        let Some(widest) = waiting.first().map(|literal| u64::from(literal.bytes)) else { return };
        let section = &mut self.sections[current];
        section.align = section.align.max(widest);
        section.mark_kind(false);
        let align = Align { align: widest, fill: Some(0), max: u64::MAX };
        section.push(Fragment::Align(Box::new(align)));
        for literal in waiting {
            let here = Definition::Label(self.here());
            match self.symbols.define(&literal.label, literal.span, here, None) {
                Ok(id) => self.symbols.get_mut(id).hidden = true,
                Err(diagnostic) => self.report(diagnostic),
            }
            let Literal { bytes, expr, context, span, .. } = literal;
            let from = self.here();
            self.section().lay_field(bytes, expr, context, span);
            let to = self.here();
            // In the listing it is a line of its own.
            let (file, line, depth) = (self.file, self.line, self.levels.len());
            if let Some(listing) = &mut self.listing {
                listing.push(ListedLine { span, file, line, depth, from, to });
            }
        }
    }

    /// Lays down what waits in any section, at its end.
    pub(crate) fn place_pools(&mut self) {
        let current = self.current;
        for section in 0..self.sections.len() {
            self.current = section;
            if syntax(self.arch).has_literal_pools
                && self.sections[section].flags != SectionFlags::default()
            {
                self.place_pool();
            }
        }
        self.current = current;
    }
}
