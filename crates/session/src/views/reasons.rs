//! Why a flag has its value, and what a conditional jump compared, in words.
//!
//! Pure functions of the operation that set the flags. What is not known is not said: after an operation
//! whose operands are not kept (a shift, a load of flags) there are no reasons.

use std::fmt;
use std::sync::Arc;

use serde::{Serialize, Serializer};
use sotto_isa::{Arch, FlagInfo, FlagRole, FlagSet, Instruction, Operand, Width};
use sotto_machine::{FlagOperation, FlagOrigin};

/// Why a flag has its value; put into words when somebody reads it, since most are read by nobody.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Reason(Cause);

#[derive(Clone, PartialEq, Eq, Debug)]
enum Cause {
    /// The result of an operation.
    Operation { arch: Arch, info: &'static FlagInfo, set: bool, origin: FlagOrigin },
    /// What the instruction does, and all flags after it.
    FlagRule { arch: Arch, rule: FlagRule, info: &'static FlagInfo, after: FlagSet },
}

/// What an instruction does to flags, where the result of an operation does not say it.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum FlagRule {
    /// Bits move out at one end.
    Shift,
    /// A bit is copied to the carry flag.
    BitTest,
    /// A product of which only the lower half may be kept.
    Product,
    /// Two floating-point numbers are compared.
    FloatComparison,
}

impl FlagRule {
    /// The rule of an x86 instruction, by its effects. Source: SDM Vol. 2, SAL and RCL, BT, MUL, COMISS.
    pub fn of(instruction: &Instruction) -> Option<FlagRule> {
        let flags = instruction.flags();
        let roles = [FlagRole::Carry, FlagRole::Zero, FlagRole::Sign, FlagRole::Overflow];
        let [carry, zero, sign, overflow] = roles.map(|role| instruction.arch.flag(role));
        let in_banks = instruction.operands.iter().any(Operand::is_in_bank);
        if instruction.arch.carry_means_no_borrow() {
            return None;
        }
        if instruction.count_operand().is_some() {
            return Some(FlagRule::Shift);
        }
        if in_banks && flags.modified.contains(carry.with(zero)) && flags.cleared.contains(overflow)
        {
            return Some(FlagRule::FloatComparison);
        }
        if flags.modified == carry && flags.tested.is_empty() && instruction.operands.len() == 2 {
            return Some(FlagRule::BitTest);
        }
        let product =
            flags.modified.contains(carry.with(overflow)) && flags.undefined.contains(sign);
        product.then_some(FlagRule::Product)
    }

    /// Whether it says something of a flag.
    pub fn says_of(self, info: &FlagInfo) -> bool {
        match self {
            FlagRule::Shift | FlagRule::BitTest => info.role == FlagRole::Carry,
            FlagRule::Product => matches!(info.role, FlagRole::Carry | FlagRole::Overflow),
            FlagRule::FloatComparison => {
                matches!(info.role, FlagRole::Carry | FlagRole::Zero | FlagRole::Parity)
            }
        }
    }

    /// Why a flag is what it is after the instruction.
    fn words(self, arch: Arch, info: &FlagInfo, after: FlagSet) -> String {
        let set = after.contains(info.flag);
        let bit = u8::from(set);
        match self {
            FlagRule::Shift => format!("the last bit shifted out is {bit}"),
            FlagRule::BitTest => format!("the tested bit is {bit}"),
            FlagRule::Product if set => "the product does not fit the lower half".to_string(),
            FlagRule::Product => "the product fits the lower half".to_string(),
            FlagRule::FloatComparison => {
                // Source: SDM Vol. 2A, COMISS, Table "EFLAGS": unordered sets all three.
                let roles = [FlagRole::Parity, FlagRole::Zero, FlagRole::Carry];
                let words = match roles.map(|role| after.contains(arch.flag(role))) {
                    [true, ..] => "one of the two is a NaN",
                    [_, true, _] => "the two are equal",
                    [_, _, true] => "the first is less than the second",
                    _ => "the first is greater than the second",
                };
                words.to_string()
            }
        }
    }
}

impl Reason {
    /// Why a flag has the value `set` after an operation; `None` if that cannot be said.
    pub(crate) fn of(
        arch: Arch,
        info: &'static FlagInfo,
        set: bool,
        origin: FlagOrigin,
    ) -> Option<Reason> {
        use FlagOperation::{Add, Logic, Subtract};
        let known = match (info.role, origin.operation) {
            (FlagRole::Carry, Add | Subtract) => true,
            (FlagRole::Carry | FlagRole::Overflow, Logic) => !arch.carry_means_no_borrow(),
            (FlagRole::Carry | FlagRole::Direction, _) => false,
            _ => true,
        };
        known.then_some(Reason(Cause::Operation { arch, info, set, origin }))
    }

    /// Why a flag has its value after an instruction with a rule, given all flags after it.
    pub(crate) fn of_nature(
        arch: Arch,
        rule: FlagRule,
        info: &'static FlagInfo,
        after: FlagSet,
    ) -> Reason {
        Reason(Cause::FlagRule { arch, rule, info, after })
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = match &self.0 {
            Cause::Operation { arch, info, set, origin } => of_flag(*arch, info, *set, origin),
            Cause::FlagRule { arch, rule, info, after } => Some(rule.words(*arch, info, *after)),
        };
        f.write_str(&text.unwrap_or_default())
    }
}

impl Serialize for Reason {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What a conditional jump compared, as it reads it; put into words likewise.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Compared {
    /// Whether the jump takes the operands as signed numbers; `None` if that makes no difference to it.
    pub(crate) signed: Option<bool>,
    pub(crate) origin: FlagOrigin,
    /// The operands as they are written, if the instruction is known.
    pub(crate) names: Option<Arc<[String; 2]>>,
}

impl fmt::Display for Compared {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&compared(self.signed, &self.origin, self.names.as_deref()))
    }
}

impl Serialize for Compared {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// A number as its reader wrote it, most likely: decimal unless that would be long.
fn unsigned(value: u64) -> String {
    if value < 1 << 32 { value.to_string() } else { format!("{value:#x}") }
}

fn signed(width: Width, value: u64) -> String {
    width.sign_extend(value).to_string()
}

/// Why a flag has the value `set` after an operation; `None` if that cannot be said.
///
/// Source: SDM Vol. 1, 3.4.3.1; Arm ARM, C and V of `AddWithCarry`.
fn of_flag(arch: Arch, info: &FlagInfo, set: bool, origin: &FlagOrigin) -> Option<String> {
    let FlagOrigin { operation, width, a, b, value } = *origin;
    let bits = width.bits();
    let sums = matches!(operation, FlagOperation::Add | FlagOperation::Increment);
    let sign = if sums { '+' } else { '-' };
    let carried = match operation {
        FlagOperation::Add if value != a.wrapping_add(b) & width.mask() => " + 1",
        FlagOperation::Subtract if value != a.wrapping_sub(b) & width.mask() => " - 1",
        _ => "",
    };
    Some(match (info.role, operation) {
        (FlagRole::Zero, FlagOperation::Subtract) if carried.is_empty() => match set {
            true => format!("both are {}", unsigned(a)),
            false => format!("{} and {} differ", unsigned(a), unsigned(b)),
        },
        (FlagRole::Zero, _) => match set {
            true => "the result is 0".to_string(),
            false => format!("the result is {}", unsigned(value)),
        },
        (FlagRole::Sign, _) => match set {
            true => format!("the result's top bit is 1: {}", signed(width, value)),
            false => "the result's top bit is 0".to_string(),
        },
        (FlagRole::Carry | FlagRole::Overflow, FlagOperation::Logic)
            if !arch.carry_means_no_borrow() =>
        {
            "a bitwise operation clears it".to_string()
        }
        (FlagRole::Carry, FlagOperation::Add) => {
            let fits = if set { "does not fit" } else { "fits" };
            format!("{} + {}{carried} {fits} {bits} bits", unsigned(a), unsigned(b))
        }
        (FlagRole::Carry, FlagOperation::Subtract) => {
            // On Arm, C after a subtraction means "no borrow".
            let below = set != arch.carry_means_no_borrow();
            let is = if below { "is below" } else { "is not below" };
            let borrowed = if carried.is_empty() { "" } else { " + 1" };
            let borrow = if arch.carry_means_no_borrow() { ", so nothing is borrowed" } else { "" };
            let borrow = if below { "" } else { borrow };
            format!("{} {is} {}{borrowed} (unsigned){borrow}", unsigned(a), unsigned(b))
        }
        (FlagRole::Overflow, FlagOperation::Logic) => return None,
        (FlagRole::Overflow, _) => {
            let fits = if set { "does not fit" } else { "fits" };
            let second = signed(width, b);
            // `5 - -3` reads badly.
            let second = if second.starts_with('-') { format!("({second})") } else { second };
            format!("{} {sign} {second}{carried} {fits} {bits} signed bits", signed(width, a))
        }
        (FlagRole::Parity, _) => {
            let count = (value as u8).count_ones();
            format!("the low byte has {count} one bits")
        }
        (FlagRole::Adjust, _) => {
            let what = if sums { "carried out of" } else { "borrowed into" };
            let not = if set { "" } else { "nothing " };
            format!("{not}{what} the low four bits")
        }
        _ => return None,
    })
}

/// What a conditional jump that tests `tested` found compared, in words: `ecx = 3 against 10`.
fn compared(signedness: Option<bool>, origin: &FlagOrigin, names: Option<&[String; 2]>) -> String {
    let FlagOrigin { operation, width, a, b, value } = *origin;
    let number = |value: u64| match signedness {
        Some(true) => signed(width, value),
        _ => unsigned(value),
    };
    let named = |value: u64, name: Option<&String>| {
        let number = number(value);
        match name {
            Some(name) if name.starts_with(|c: char| c.is_alphabetic() || c == '[') => {
                format!("{name} = {number}")
            }
            _ => number,
        }
    };
    match operation {
        FlagOperation::Subtract => {
            let first = named(a, names.map(|names| &names[0]));
            let second = named(b, names.map(|names| &names[1]));
            format!("{first} against {second}")
        }
        _ => format!("result {}", number(value)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn origin(operation: FlagOperation, a: u64, b: u64, value: u64) -> FlagOrigin {
        FlagOrigin { operation, width: Width::W8, a, b, value }
    }

    fn reason(arch: Arch, name: &str, set: bool, origin: &FlagOrigin) -> String {
        let info = arch.flags().iter().find(|info| info.name == name).unwrap();
        of_flag(arch, info, set, origin).unwrap_or_default()
    }

    #[test]
    fn reasons_name_the_operands_and_the_limit() {
        let sum = origin(FlagOperation::Add, 200, 100, 44);
        let difference = origin(FlagOperation::Subtract, 3, 10, 249);
        let same = origin(FlagOperation::Subtract, 7, 7, 0);
        let cases = [
            (Arch::X86_64, "CF", true, sum, "200 + 100 does not fit 8 bits"),
            (Arch::X86_64, "OF", false, sum, "-56 + 100 fits 8 signed bits"),
            (Arch::X86_64, "CF", true, difference, "3 is below 10 (unsigned)"),
            (Arch::X86_64, "SF", true, difference, "the result's top bit is 1: -7"),
            (Arch::X86_64, "ZF", true, same, "both are 7"),
            (Arch::X86_64, "ZF", false, difference, "3 and 10 differ"),
            (Arch::Arm64, "C", false, difference, "3 is below 10 (unsigned)"),
            (Arch::Arm64, "C", true, same, "7 is not below 7 (unsigned), so nothing is borrowed"),
        ];
        for (arch, name, set, origin, wanted) in cases {
            assert_eq!(reason(arch, name, set, &origin), wanted);
        }
    }

    #[test]
    fn a_comparison_is_read_as_its_jump_reads_it() {
        let origin = origin(FlagOperation::Subtract, 0xfe, 5, 0xf9);
        let names = ["al".to_string(), "5".to_string()];
        assert_eq!(compared(Some(true), &origin, Some(&names)), "al = -2 against 5");
        assert_eq!(compared(Some(false), &origin, Some(&names)), "al = 254 against 5");
        assert_eq!(compared(None, &origin, None), "254 against 5");
    }
}
