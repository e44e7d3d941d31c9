//! What a routine's code says of its frame: which words of the stack it reads and writes, and which it
//! takes the address of.
//!
//! The code is read along its jumps, calls returning, from the entry on; a way ends where the stack pointer
//! moves so that it cannot be followed. Places count from the stack pointer as it is when the routine is
//! entered: on x86 the return address is there, and what was passed on the stack lies above it.

use std::collections::HashSet;

use sotto_isa::{
    Access, Arch, Control, FrameStep, IndexMode, Instruction, Mem, Operand, Reg, Storage,
};

/// A part of the stack that an instruction names.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct FrameUse {
    /// Bytes from the stack pointer at entry.
    pub offset: i64,
    /// How many bytes are accessed; `None` if the address is taken, or another register is added to it, so that
    /// nobody knows how far it reaches.
    pub bytes: Option<i64>,
}

/// The uses of the stack in a routine's code.
#[derive(Clone, Default, Debug)]
pub(crate) struct FrameUses {
    uses: Vec<FrameUse>,
    /// All of the code was read: there is no other use.
    complete: bool,
}

/// Instructions of a routine that are read at most.
const MOST: usize = 512;

/// How far the stack pointer, and a frame pointer made from it, are from where the stack pointer was.
#[derive(Copy, Clone)]
struct Pointers {
    arch: Arch,
    stack: i64,
    frame: Option<i64>,
}

impl Pointers {
    fn of(&self, reg: Reg) -> Option<i64> {
        match reg.storage()? {
            storage if storage == self.arch.stack_pointer() => Some(self.stack),
            storage if storage == self.arch.frame_pointer() => self.frame,
            _ => None,
        }
    }

    /// Follows an instruction; `None` if the stack pointer cannot be followed further.
    fn follow(&mut self, instruction: &Instruction) -> Option<()> {
        let slot = self.arch.address_bytes() as i64;
        let (stack, frame) = (self.arch.stack_pointer(), self.arch.frame_pointer());
        let is = |reg: &Reg, wanted: Storage| reg.storage() == Some(wanted);
        match instruction.frame_step() {
            FrameStep::Push { bytes, .. } => self.stack -= bytes as i64,
            FrameStep::Pop { bytes, loaded } => {
                self.stack += bytes as i64;
                if loaded.is_some_and(|reg| is(&reg, frame)) {
                    self.frame = None;
                }
            }
            FrameStep::Leave => {
                self.stack = self.frame? + slot;
                self.frame = None;
            }
            FrameStep::Offset { to, from, amount } if is(&to, stack) => {
                self.stack = self.of(from)? + amount;
            }
            FrameStep::Offset { to, from, amount } if is(&to, frame) => {
                self.frame = self.of(from).map(|at| at + amount);
            }
            FrameStep::Offset { .. }
            | FrameStep::Align { .. }
            | FrameStep::Transfer { .. }
            | FrameStep::Other => {
                let operands = &instruction.operands;
                for (index, operand) in operands.iter().enumerate() {
                    match operand {
                        Operand::Reg(reg) if instruction.access(index).writes() => {
                            if is(reg, stack) {
                                return None;
                            }
                            if is(reg, frame) {
                                self.frame = None;
                            }
                        }
                        Operand::Mem(Mem { base: Some(base), mode, disp, .. })
                            if *mode != IndexMode::Offset && is(base, stack) =>
                        {
                            self.stack += disp.or_zero();
                        }
                        _ => {}
                    }
                }
            }
        }
        Some(())
    }
}

/// Bytes by which an instruction moves the stack pointer, negative downwards; `None` if that is not known.
pub(crate) fn stack_movement(instruction: &Instruction, arch: Arch) -> Option<i64> {
    let mut pointers = Pointers { arch, stack: 0, frame: None };
    pointers.follow(instruction)?;
    Some(pointers.stack)
}

impl FrameUses {
    /// Whether all of the routine's code was read, so that there are no other uses.
    pub fn is_complete(&self) -> bool {
        self.complete
    }
}

/// What an instruction names of the stack.
fn uses_of(instruction: &Instruction, pointers: &Pointers, uses: &mut Vec<FrameUse>) {
    let arch = pointers.arch;
    for (index, operand) in instruction.operands.iter().enumerate() {
        let Operand::Mem(mem) = operand else { continue };
        let Some(at) = mem.base.and_then(|base| pointers.of(base)) else { continue };
        let offset = match mem.mode {
            IndexMode::Post => at,
            _ => at + mem.disp.or_zero(),
        };
        let accessed = instruction.access(index) != Access::None && mem.index.is_none();
        let words = match instruction.frame_step() {
            FrameStep::Transfer { registers: [Some(_), Some(_)], .. } => 2,
            _ => 1,
        };
        let bytes = accessed.then(|| words * mem.width.map_or(8, |width| width.bytes() as i64));
        uses.push(FrameUse { offset, bytes });
    }
    // The address of a local on its way to somewhere.
    let taken = match instruction.frame_step() {
        FrameStep::Offset { to, from, amount }
            if to.storage() != Some(arch.stack_pointer())
                && !(to.storage() == Some(arch.frame_pointer()) && amount == 0) =>
        {
            pointers.of(from).map(|at| at + amount)
        }
        _ => None,
    };
    uses.extend(taken.map(|offset| FrameUse { offset, bytes: None }));
}

/// The uses of the stack in the code of the routine at `entry`; `fetch` gives the instruction at an address.
pub(crate) fn frame_uses(
    arch: Arch,
    entry: u64,
    mut fetch: impl FnMut(u64) -> Option<Instruction>,
) -> FrameUses {
    let mut found = FrameUses { uses: Vec::new(), complete: true };
    let mut seen = HashSet::new();
    let mut ways = vec![(entry, Pointers { arch, stack: 0, frame: None })];
    while let Some((mut at, mut pointers)) = ways.pop() {
        while seen.insert(at) {
            let Some(instruction) = fetch(at).filter(|_| seen.len() <= MOST) else {
                found.complete = false;
                break;
            };
            uses_of(&instruction, &pointers, &mut found.uses);
            if pointers.follow(&instruction).is_none() {
                found.complete = false;
                break;
            }
            let target = instruction.operands.iter().find_map(|operand| match operand {
                Operand::Target(target) => target.known(),
                _ => None,
            });
            match (instruction.control(), target) {
                (Control::Jump | Control::Branch, Some(target)) => {
                    ways.push((target as u64, pointers));
                }
                (Control::Jump, None) => found.complete = false,
                _ => {}
            }
            if matches!(instruction.control(), Control::Jump | Control::Return | Control::Trap) {
                break;
            }
            at = instruction.end();
        }
    }
    found
}

/// Words that the code reads of what its caller passed on the stack: all up to the last. Source: psABI,
/// 3.2.3; AAPCS64, 6.8.2.
pub(crate) fn words_passed(arch: Arch, found: &FrameUses) -> u64 {
    let slot = arch.address_bytes() as i64;
    let first = first_passed(arch);
    let read = found.uses.iter().filter(|used| used.bytes.is_some() && used.offset >= first);
    let last = read.map(|used| (used.offset - first) / slot + 1).max().unwrap_or(0);
    // More than that is an array of the caller's.
    last.min(8) as u64
}

/// Bytes from the stack pointer at entry up to the first word that was passed on the stack.
pub(crate) fn first_passed(arch: Arch) -> i64 {
    arch.return_address_slot() as i64
}

/// Whether nothing in the code, all of which was read, has to do with a word of its frame.
pub(crate) fn is_gap(arch: Arch, found: &FrameUses, offset: i64) -> bool {
    let slot = arch.address_bytes() as i64;
    let apart = |used: &FrameUse| match used.bytes {
        Some(bytes) => used.offset + bytes <= offset || offset + slot <= used.offset,
        None => offset + slot <= used.offset,
    };
    found.complete && found.uses.iter().all(apart)
}

#[cfg(test)]
mod tests {
    use super::*;
    use sotto_isa::{OperandOrder, decode};

    fn uses(arch: Arch, lines: &[&str]) -> FrameUses {
        let order = OperandOrder::DestinationFirst;
        let mut code = Vec::new();
        for line in lines.iter().chain(&["ret"]) {
            let at = code.len() as u64;
            code.extend(sotto_asm::assemble_instruction(arch, order, line, at).unwrap());
        }
        frame_uses(arch, 0, |at| decode(arch, code.get(at as usize..)?, at).ok())
    }

    #[test]
    fn what_lies_above_the_return_address_was_passed() {
        let plain = uses(Arch::X86_64, &["mov rax, [rsp + 8]", "push rbx", "add rax, [rsp + 24]"]);
        assert_eq!(words_passed(Arch::X86_64, &plain), 2);
        let framed = ["push ebp", "mov ebp, esp", "sub esp, 8", "mov eax, [ebp + 12]"];
        assert_eq!(words_passed(Arch::X86_32, &uses(Arch::X86_32, &framed)), 2);
        let arm = ["stp x29, x30, [sp, -32]!", "mov x29, sp", "ldr x9, [x29, 32]"];
        assert_eq!(words_passed(Arch::Arm64, &uses(Arch::Arm64, &arm)), 1);
        let none = ["push rbp", "mov rbp, rsp", "mov [rbp - 8], rdi", "leave", "ret"];
        assert_eq!(words_passed(Arch::X86_64, &uses(Arch::X86_64, &none)), 0);
    }

    #[test]
    fn what_no_instruction_names_is_a_gap_unless_an_address_below_it_is_taken() {
        let arch = Arch::X86_64;
        let code = ["sub rsp, 24", "mov dword [rsp + 4], 1", "mov [rsp + 8], rdi"];
        let uses_of = uses(arch, &code);
        let gaps: Vec<bool> = [-24, -16, -8].map(|at| is_gap(arch, &uses_of, at)).to_vec();
        assert_eq!(gaps, [false, false, true]);
        let taken = uses(arch, &["sub rsp, 24", "lea rdi, [rsp + 8]", "mov [rdi], rax"]);
        let gaps: Vec<bool> = [-24, -16, -8].map(|at| is_gap(arch, &taken, at)).to_vec();
        assert_eq!(gaps, [true, false, false]);
    }

    #[test]
    fn a_stack_pointer_that_cannot_be_followed_ends_the_reading() {
        let found = uses(Arch::X86_64, &["and rsp, -16", "mov rax, [rsp + 64]"]);
        assert_eq!((found.uses.len(), found.complete), (0, false));
        assert!(!is_gap(Arch::X86_64, &found, -8));
    }

    #[test]
    fn code_is_read_along_its_jumps_as_far_as_they_can_be_followed() {
        let arch = Arch::X86_64;
        // Behind the way out, the frame is still there.
        let code = ["sub rsp, 24", "jz 12", "add rsp, 24", "ret", "nop", "mov [rsp + 16], rax"];
        let found = uses(arch, &code);
        assert_eq!(found.uses, [FrameUse { offset: -8, bytes: Some(8) }]);
        assert!(found.complete && is_gap(arch, &found, -16));
        assert!(!uses(arch, &["sub rsp, 24", "jmp rax"]).complete);
    }
}
