//! Sizes of instructions, settled: each starts in its shortest form and only ever grows, so that settling ends.

use sotto_isa::{Arch, Field, Operand, OperandOrder, Traits, Value, encode_at_least};
use sotto_object::Binding;

use crate::Diagnostic;
use crate::context::Assembler;
use crate::encode_diagnostics::{bare_symbol, open_diagnostic, width_finding};
use crate::layout::places::Starts;
use crate::operands::parsed::Spanned;
use crate::sections::fragments::{Fragment, RelaxableInstruction, SectionBuilder};
use crate::symbols::{Evaluator, Linear, Memo};

/// Rounds that take sizes as they were at the start of the round, so that an alignment which swallows
/// growth is not missed. Sources need two or three; what needs more is built to.
const EXACT_ROUNDS: u32 = 64;

/// Grows instructions until everything fits; errors of operands are reported once.
pub(crate) fn settle(assembler: &mut Assembler) -> Starts {
    let (arch, order) = (assembler.arch, assembler.order);
    for section in &mut assembler.sections {
        for open in &section.open {
            let range = open.operands.start as usize..open.operands.end as usize;
            for operand in &mut section.operands[range] {
                if let Some(expr) = operand.expr_mut() {
                    assembler.symbols.resolve(expr, open.context);
                }
            }
        }
        for field in &mut section.fields {
            assembler.symbols.resolve(&mut field.expr, field.context);
        }
        for field in &mut section.leb128 {
            assembler.symbols.resolve(&mut field.expr, field.context);
        }
    }
    // In which direction the next round goes: a chain of branches of which each lengthens the one
    // before settles in one round backwards.
    for round in 0.. {
        let starts = Starts::of(&assembler.sections);
        let distance =
            |from, to| Some(i128::from(starts.offset(to)) - i128::from(starts.offset(from)));
        let memo = Memo::default();
        let evaluator = Evaluator { symbols: &assembler.symbols, distance: &distance, memo: &memo };
        let mut changed = false;
        for (number, section) in assembler.sections.iter_mut().enumerate() {
            let padded = section
                .fragments
                .iter()
                .any(|fragment| matches!(fragment, Fragment::Align(_) | Fragment::Org(_)));
            let mut pass = Pass {
                evaluator: &evaluator,
                starts: &starts,
                section: number,
                arch,
                order,
                round,
                grown: Growth::new(
                    section.fragments.len(),
                    round % 2 == 1,
                    padded && round < EXACT_ROUNDS,
                ),
            };
            changed |= pass.run(section, &mut assembler.diagnostics);
        }
        if !changed {
            let mut findings = Vec::new();
            for section in &assembler.sections {
                for open in section.open.iter().filter(|open| !open.failed) {
                    let operands = section.operands_of(open);
                    let finding = bare_symbol(open, operands, &evaluator);
                    findings.extend(
                        finding.or_else(|| width_finding(open, operands, arch, order, &evaluator)),
                    );
                }
            }
            assembler.diagnostics.extend(findings);
            return starts;
        }
    }
    unreachable!("instructions only grow, and to at most 15 bytes")
}

/// By how much the fragments of a section grew in the round so far.
struct Growth {
    backward: bool,
    /// Growth is not counted: something may swallow it.
    uncounted: bool,
    /// Forward: growth before each fragment. Backward: growth from each fragment on.
    sums: Vec<u64>,
}

impl Growth {
    fn new(fragments: usize, backward: bool, uncounted: bool) -> Growth {
        let sums = if uncounted { Vec::new() } else { vec![0; fragments + 1] };
        Growth { backward, uncounted, sums }
    }

    /// Notes by how much a fragment grew, once all on one side of it are done.
    fn note(&mut self, fragment: usize, bytes: u64) {
        if self.uncounted {
            return;
        }
        if self.backward {
            self.sums[fragment] = self.sums[fragment + 1] + bytes;
        } else {
            self.sums[fragment + 1] = self.sums[fragment] + bytes;
        }
    }

    /// Bytes that lie more between an instruction and its target than at the start of the round:
    /// how far the target has moved away from it.
    fn between(&self, instruction: usize, target: usize) -> i64 {
        if self.uncounted {
            0
        } else if self.backward && target > instruction {
            (self.sums[instruction + 1] - self.sums[target]) as i64
        } else if !self.backward && target <= instruction {
            -((self.sums[instruction] - self.sums[target]) as i64)
        } else {
            0
        }
    }
}

/// One round over one section.
struct Pass<'a> {
    evaluator: &'a Evaluator<'a>,
    starts: &'a Starts,
    section: usize,
    arch: Arch,
    order: OperandOrder,
    round: u32,
    grown: Growth,
}

impl Pass<'_> {
    /// Encodes what is not settled; whether anything changed its size.
    fn run(&mut self, section: &mut SectionBuilder, diagnostics: &mut Vec<Diagnostic>) -> bool {
        let mut changed = false;
        let count = section.fragments.len();
        for step in 0..count {
            let number = if self.grown.backward { count - 1 - step } else { step };
            let mut growth = 0;
            if let Fragment::Instruction(index) = section.fragments[number]
                && let open = &mut section.open[index as usize]
                && !open.settled
                && !open.failed
            {
                let range = open.operands.start as usize..open.operands.end as usize;
                let operands = &section.operands[range];
                let before = open.encoded.bytes.len();
                match self.encode(open, operands, number) {
                    Ok(()) => {
                        growth = (open.encoded.bytes.len() - before) as u64;
                        // In the first round everything comes into being.
                        changed |= growth != 0;
                    }
                    Err(diagnostic) => {
                        diagnostics.push(diagnostic);
                        open.failed = true;
                    }
                }
            }
            if let Fragment::Leb128(index) = section.fragments[number] {
                let field = &mut section.leb128[index as usize];
                let before = field.bytes.len();
                if let Err(diagnostic) = field.settle(self.evaluator) {
                    diagnostics.push(diagnostic);
                }
                growth = (field.bytes.len() - before) as u64;
                changed |= growth != 0;
            }
            self.grown.note(number, growth);
        }
        changed
    }

    /// Encodes an instruction for the sizes as they are now.
    fn encode(
        &self,
        open: &mut RelaxableInstruction,
        parsed: &[Spanned],
        number: usize,
    ) -> Result<(), Diagnostic> {
        let at = self.starts.0[self.section][number];
        // Only an address that is known could be truncated, and not a distance.
        let truncated = open.traits.contains(Traits::TARGET_IS_16_BITS);
        let local = |linear: &Linear| {
            let plus = linear.plus?;
            let position = plus.position?;
            // Another file may have the definition of a weak symbol that counts.
            let weak = plus
                .symbol
                .is_some_and(|id| self.evaluator.symbols.get(id).binding == Binding::Weak);
            let plain = linear.minus.is_none() && linear.via.is_none() && !weak;
            let here = position.section as usize == self.section && plain && !truncated;
            // In the first round instructions have no sizes that could have grown.
            let moved = match self.round {
                0 => 0,
                _ => self.grown.between(number, position.fragment as usize),
            };
            here.then(|| self.starts.offset(position) as i64 + linear.offset as i64 + moved)
        };
        let mut operands = sotto_isa::Operands::new();
        let mut only_fixed = true;
        for operand in parsed {
            let lowered = operand.lower(self.evaluator, open.context, &local)?;
            only_fixed &= operand.is_fixed() || lowered.late.is_some();
            operands.push(lowered.operand);
        }
        if let [Operand::Target(Value::Known(target))] = operands[..]
            && self.retarget(open, at, target)
        {
            return Ok(());
        }
        // It never gets shorter, so that settling ends.
        let least = open.encoded.bytes.len();
        let mut encoded = encode_at_least(self.arch, open.mnemonic, &operands, at, least)
            .map_err(|error| open_diagnostic(error, open, parsed, self.evaluator, self.order))?;
        // A one-byte distance is not enough for a place that only the linker knows.
        let short = encoded.fixups.iter().any(|fixup| fixup.field == Field::Rel8);
        if short
            && let Ok(longer) =
                encode_at_least(self.arch, open.mnemonic, &operands, at, encoded.bytes.len() + 1)
        {
            encoded = longer;
        }
        open.encoded = encoded;
        open.settled = only_fixed;
        Ok(())
    }

    /// Puts another distance into a branch of variable length that was encoded before, if it fits there.
    fn retarget(&self, open: &mut RelaxableInstruction, at: u64, target: i64) -> bool {
        let bytes = &mut open.encoded.bytes;
        if self.arch.code_alignment() > 1 || bytes.is_empty() {
            return false;
        }
        let distance = target.wrapping_sub(at as i64 + bytes.len() as i64);
        // The distance is the end of the instruction: one byte in the short forms, else four.
        let size = if bytes.len() < 5 { 1 } else { 4 };
        let limit = 1i64 << (8 * size - 1);
        if !(-limit..limit).contains(&distance) {
            return false;
        }
        let field = bytes.len() - size;
        bytes[field..].copy_from_slice(&distance.to_le_bytes()[..size]);
        true
    }
}
