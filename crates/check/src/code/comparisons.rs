//! Comparisons whose branch takes the numbers for what they are not: with a sign, or without one.

use sotto_isa::{Arch, Control, FlagRole, FlagSet, Instruction, Operand};
use sotto_session::Session;

use crate::checker::RawFinding;
use crate::code::graph::{CodeGraph, written};
use crate::kinds::Kind;

/// Adds branches that do not go with the constant that was compared with.
pub fn find(graph: &CodeGraph, session: &Session, found: &mut Vec<RawFinding>) {
    for node in graph.nodes.values() {
        let branch = &node.instruction;
        if branch.control() != Control::Branch {
            continue;
        }
        let Some(before) = graph.only_before(branch.address) else { continue };
        let Some((width, constant)) = compared_with(&before.instruction) else { continue };
        let Some(sign) = sign_of_condition(branch) else { continue };
        let comparison = before.instruction.address;
        let written = graph.line_text(comparison).and_then(|text| written_constant(session, text));
        // Of what was not written as a constant, nothing is known but its bits.
        let Some(written) = written else { continue };
        let top = 1i128 << (width - 1);
        let fact = match sign {
            Sign::Without if constant == 0 && tests_carry_alone(branch) => {
                "no number without a sign is below 0, so that the branch always goes the same way"
                    .to_string()
            }
            Sign::Without
                if written < -4095 || (written < 0 && !may_be_error(width, branch.arch)) =>
            {
                let bits = written & ((1i128 << width) - 1);
                format!("the branch takes {written} for a number without a sign: {bits}")
            }
            Sign::With if written >= top && written < 2 * top => {
                let signed = written - 2 * top;
                format!(
                    "the branch takes {written} for a number with a sign: in {width} bits, {signed}"
                )
            }
            _ => continue,
        };
        let raw = RawFinding::new(Kind::SignOfComparison, branch.address, fact);
        found.push(raw.at(comparison, "the comparison"));
    }
}

/// How a condition takes numbers.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Sign {
    With,
    Without,
}

/// The width in bits and the constant of a comparison: an instruction that sets all flags, writes no register and has an
/// immediate as its second operand.
fn compared_with(instruction: &Instruction) -> Option<(u32, i64)> {
    let [Operand::Reg(_) | Operand::Mem(_), Operand::Imm(constant)] = instruction.operands[..]
    else {
        return None;
    };
    let width = match instruction.operands[0] {
        Operand::Reg(reg) => reg.width().bits(),
        Operand::Mem(mem) => mem.width?.bits(),
        _ => return None,
    };
    let flags = instruction.flags();
    let all = [FlagRole::Carry, FlagRole::Zero, FlagRole::Sign, FlagRole::Overflow];
    let sets_all = all.iter().all(|role| {
        let flag = flag(instruction.arch, *role);
        flag.is_some_and(|flag| flags.written().contains(flag) && !flags.undefined.contains(flag))
    });
    let writes_nothing = written(instruction) == Default::default()
        && !instruction.access(0).writes()
        && instruction.control() == Control::Next;
    // A test for single bits clears the flags that say how numbers compare.
    let subtracts =
        flag(instruction.arch, FlagRole::Carry).is_some_and(|carry| !flags.cleared.contains(carry));
    (sets_all && writes_nothing && subtracts && width <= 64)
        .then(|| constant.known().map(|constant| (width, constant)))?
}

fn flag(arch: Arch, role: FlagRole) -> Option<FlagSet> {
    arch.flags().iter().find(|info| info.role == role).map(|info| info.flag)
}

fn sign_of_condition(branch: &Instruction) -> Option<Sign> {
    let tested = branch.flags().tested;
    let tests = |role| flag(branch.arch, role).is_some_and(|flag| tested.contains(flag));
    match (tests(FlagRole::Carry), tests(FlagRole::Overflow)) {
        (true, false) => Some(Sign::Without),
        (false, true) => Some(Sign::With),
        _ => None,
    }
}

fn tests_carry_alone(branch: &Instruction) -> bool {
    flag(branch.arch, FlagRole::Carry) == Some(branch.flags().tested)
}

/// Whether small negative numbers of this width are errors of system calls, which are told by a comparison without a sign.
fn may_be_error(width: u32, arch: Arch) -> bool {
    u64::from(width) == arch.address_bytes() * 8
}

/// The value of the constant at the end of a comparison's line, as it is written there.
fn written_constant(session: &Session, line: &str) -> Option<i128> {
    let signs = sotto_asm::comment_signs(session.arch());
    let end = signs.iter().filter_map(|sign| line.find(sign)).min().unwrap_or(line.len());
    let (_, text) = line[..end].rsplit_once(',')?;
    let text = text.trim().trim_start_matches(['#', '$']);
    text.parse::<i128>().ok().or_else(|| {
        let (sign, digits) = match text.strip_prefix('-') {
            Some(digits) => (-1, digits),
            None => (1, text),
        };
        let digits = digits.strip_prefix("0x")?;
        i128::from_str_radix(digits, 16).ok().map(|value| sign * value)
    })
}
