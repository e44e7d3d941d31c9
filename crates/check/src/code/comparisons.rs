//! Branches that are signed where the comparison was with an unsigned number, or the reverse.

use sotto_asm::Expr;
use sotto_isa::{Arch, Control, FlagRole, Instruction, Operand};

use crate::code::graph::{CodeGraph, written};
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// The lowest number that a system call returns for an error. Source: psABI x86-64, A.2.1.
const LOWEST_ERROR: i128 = -4095;

/// Adds branches that do not go with the constant that was compared with.
pub fn find(graph: &CodeGraph, found: &mut Vec<RawFinding>) {
    for node in graph.nodes.values() {
        let branch = &node.instruction;
        let Some(condition) = Condition::of(branch) else { continue };
        let Some(before) = graph.only_before(branch.address) else { continue };
        let Some(width) = compared_width(&before.instruction) else { continue };
        let comparison = before.instruction.address;
        // Of what was not written as a constant, nothing is known but its bits.
        let text = graph.line_text(comparison);
        let Some(constant) = text.and_then(|text| constant_in(text, branch.arch)) else { continue };
        if let Some(fact) = misfit(condition, branch, width, constant) {
            let raw = RawFinding::new(Kind::SignOfComparison, branch.address, fact);
            found.push(raw.at(comparison, "the comparison"));
        }
    }
}

/// Why a condition does not go with a constant that so many bits were compared with, if so.
fn misfit(
    condition: Condition,
    branch: &Instruction,
    width: u32,
    constant: i128,
) -> Option<String> {
    let top = 1i128 << (width - 1);
    let carry_alone = branch.flags().tested == branch.arch.flag(FlagRole::Carry);
    // The errors of system calls are told from results by an unsigned comparison with a negative number.
    let may_be_error =
        constant >= LOWEST_ERROR && u64::from(width) == branch.arch.address_bytes() * 8;
    match condition {
        Condition::Unsigned if constant == 0 && carry_alone => Some(
            "no unsigned number is below 0, so that the branch always goes the same way"
                .to_string(),
        ),
        Condition::Unsigned if constant < 0 && !may_be_error => {
            let bits = constant & (2 * top - 1);
            Some(format!("the branch is unsigned and takes {constant} for {bits}"))
        }
        Condition::Signed if constant >= top && constant < 2 * top => {
            let signed = constant - 2 * top;
            Some(format!(
                "the branch is signed and takes {constant}, in {width} bits, for {signed}"
            ))
        }
        _ => None,
    }
}

/// How the condition of a branch reads what was compared.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Condition {
    Signed,
    Unsigned,
}

impl Condition {
    /// That of a conditional branch; `None` if it makes no difference to it.
    fn of(branch: &Instruction) -> Option<Condition> {
        let tested = branch.flags().tested;
        let tests = |role| {
            let flag = branch.arch.flag(role);
            !flag.is_empty() && tested.contains(flag)
        };
        match (branch.control(), tests(FlagRole::Carry), tests(FlagRole::Overflow)) {
            (Control::Branch, true, false) => Some(Condition::Unsigned),
            (Control::Branch, false, true) => Some(Condition::Signed),
            _ => None,
        }
    }
}

/// The width in bits of a comparison with an immediate: an instruction that sets the flags of a subtraction and nothing
/// else.
fn compared_width(instruction: &Instruction) -> Option<u32> {
    let width = match instruction.operands[..] {
        [Operand::Reg(reg), Operand::Imm(_)] => reg.width(),
        [Operand::Mem(mem), Operand::Imm(_)] => mem.width?,
        _ => return None,
    };
    let flags = instruction.flags();
    let defined = |role| {
        let flag = instruction.arch.flag(role);
        flags.modified.contains(flag) && !flags.undefined.contains(flag)
    };
    // A test for single bits clears the carry flag and does not modify it by a result.
    let subtracts = [FlagRole::Carry, FlagRole::Zero, FlagRole::Sign, FlagRole::Overflow]
        .into_iter()
        .all(defined);
    let writes_nothing =
        written(instruction) == Default::default() && !instruction.access(0).writes();
    (subtracts && writes_nothing && width.bits() <= 64).then_some(width.bits())
}

/// The constant at the end of a comparison's line, as it is written there.
fn constant_in(line: &str, arch: Arch) -> Option<i128> {
    let (_, text) = sotto_asm::without_comment(line, arch).rsplit_once(',')?;
    let text = text.trim().trim_start_matches(['#', '$']);
    match sotto_asm::parse_expression(arch, text).ok()? {
        Expr::Number(number) => Some(number),
        Expr::Unary(operator, number) => match *number {
            Expr::Number(number) => operator.apply(number).ok(),
            _ => None,
        },
        _ => None,
    }
}
