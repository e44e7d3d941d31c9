//! What a step shows that is probably a mistake, although the processor takes no offence.
//!
//! Pure functions of the step's effects and the state after it, so that going back and forward gives the same remarks.

use sotto_isa::x86::storage::{RAX, RCX, RDX};
use sotto_isa::{Control, Instruction, RegKind, Storage, Traits, Width, x86};
use sotto_kernel::System;
use sotto_machine::StepEffects;

/// The remark about a step, if there is one.
pub(crate) fn of_step(
    instruction: &Instruction,
    effects: &StepEffects,
    after: &mut System,
) -> Option<String> {
    negative_dividend(instruction, effects).or_else(|| lost_count(instruction, effects, after))
}

/// IDIV of a negative number whose upper half is 0, which makes it a large positive one.
fn negative_dividend(instruction: &Instruction, effects: &StepEffects) -> Option<String> {
    if !instruction.traits().contains(Traits::SIGNED_DIVISION) {
        return None;
    }
    let width = x86::operand_width(x86::form(instruction.form));
    let (low, high, spread) = match width {
        Width::W32 => ("eax", "edx", "cdq"),
        Width::W64 => ("rax", "rdx", "cqo"),
        _ => return None,
    };
    let before = |storage: Storage| {
        let change = effects.registers.iter().find(|c| c.reg.storage() == Some(storage))?;
        Some(change.old & width.mask())
    };
    let (dividend, upper) = (before(RAX)?, before(RDX)?);
    let negative = dividend & width.sign_bit() != 0 && upper == 0;
    negative.then(|| {
        format!(
            "{low} was {}, and with {high} = 0 the dividend is {dividend}; `{spread}` before idiv fills {high} with the sign",
            width.sign_extend(dividend)
        )
    })
}

/// A count in RCX, where SYSCALL left the address to return to. Source: SDM Vol. 2B, SYSCALL.
fn lost_count(
    instruction: &Instruction,
    effects: &StepEffects,
    after: &mut System,
) -> Option<String> {
    let destroyed = instruction.arch.convention().syscall_destroys;
    if !destroyed.iter().any(|(storage, _)| *storage == RCX) {
        return None;
    }
    let counts = instruction.operands.iter().any(|operand| {
        matches!(operand, sotto_isa::Operand::Reg(reg) if reg.storage() == Some(RCX) && reg.kind != RegKind::Byte)
    });
    let decides = !effects.flags.written.is_empty() || instruction.control() == Control::Branch;
    let implied = instruction.control() == Control::Branch
        && instruction.implicit().iter().any(|implicit| implicit.reg.storage() == Some(RCX));
    if !(counts && decides || implied) {
        return None;
    }
    let change = effects.registers.iter().find(|change| change.reg.storage() == Some(RCX));
    let count = change.map_or_else(|| after.machine.register(RCX), |change| change.old);
    let mut code = [0; 2];
    after.machine.memory_mut().read_bytes(count.checked_sub(2)?, &mut code).ok()?;
    (code == [0x0f, 0x05]).then(|| {
        "rcx holds the address that `syscall` left in it; keep a count in rbx or r12 to r15, which it leaves alone"
            .to_string()
    })
}

/// What a register of 64 bits looks like that holds a negative number of 32: an index whose upper half was cleared.
pub(crate) fn cleared_upper_half(
    instruction: &Instruction,
    values: &[(&str, u64)],
) -> Option<String> {
    let arch = instruction.arch;
    let extend = arch.sign_extension()?;
    let (name, value) = values.iter().find(|(_, value)| (0x8000_0000..1 << 32).contains(value))?;
    let part = sotto_isa::Reg::parse(arch, name)
        .filter(|reg| reg.kind == RegKind::Qword)
        .map(|reg| sotto_isa::Reg::x86(Width::W32, reg.number))?;
    Some(format!(
        "{name} is {value}, which is {} as a number of 32 bits whose upper half was cleared; `{extend} {name}, {}` keeps the sign",
        *value as u32 as i32,
        part.name()
    ))
}
