//! Finding a routine's caller by unwind tables, ours or a compiler's.
//!
//! Registers have the numbers that the ABI documents give them for DWARF. Tables are a help and no more: where
//! they make no sense, there is no caller.
//!
//! Sources: DWARF 5, 6.4 "Call Frame Information"; LSB Core, "Exception Frames"; the unpacking is gimli's.

use gimli::{
    BaseAddresses, CfaRule, EhFrame, EndianSlice, EvaluationResult, Expression, LittleEndian,
    Location, Register, RegisterRule, UnwindContext, UnwindExpression, UnwindSection, Value,
};
use sotto_isa::Arch;

use crate::Image;

/// Registers of a machine that are followed: the general ones, the stack pointer and the return address.
pub const MAX_REGISTERS: usize = 33;
/// Operations of one expression.
const MAX_OPERATIONS: u32 = 1000;

/// Values of registers by their DWARF numbers, those that are known.
pub type Registers = [Option<u64>; MAX_REGISTERS];

/// What is known of a routine's caller.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Caller {
    /// The canonical frame address of the routine that it called: where the caller's stack pointer was before
    /// the call.
    pub frame_address: u64,
    /// Where the routine returns to.
    pub return_address: u64,
    /// The caller's registers when it goes on there.
    pub registers: Registers,
}

type Slice<'a> = EndianSlice<'a, LittleEndian>;

impl Image {
    /// The caller of the routine that the instruction at `at` is of, with these values in its registers; `read`
    /// reads so many bytes of memory, little-endian. Of a routine that has called another, `at` is inside the
    /// call and not behind it.
    ///
    /// `None` if no table has the instruction, if the routine has no caller, or if a value is not known.
    pub fn caller(
        &self,
        at: u64,
        registers: &Registers,
        read: &dyn Fn(u64, u8) -> Option<u64>,
    ) -> Option<Caller> {
        // Each has its own tables, and those of a large one take long to go over.
        let module = |address: u64| self.module_at(address).map(|module| module.start);
        self.call_frame_tables()
            .filter(|(address, _)| module(*address) == module(at))
            .find_map(|(address, table)| find(self.arch, (address, table), at, registers, read))
    }

    /// The tables with their addresses: what came with a file, and what is kept of our own.
    fn call_frame_tables(&self) -> impl Iterator<Item = (u64, &[u8])> {
        let sections = self.segments.iter().flat_map(|segment| {
            let named = segment.sections.iter().filter(|section| section.0 == ".eh_frame");
            named.filter_map(|&(_, address, size, ..)| {
                let start = usize::try_from(address.checked_sub(segment.address)?).ok()?;
                let end = start.checked_add(usize::try_from(size).ok()?)?;
                Some((address, segment.data.get(start..end)?))
            })
        });
        sections.chain([(0, &self.call_frames[..])])
    }
}

/// What is needed to work out a rule.
struct Frame<'a> {
    arch: Arch,
    section: &'a EhFrame<Slice<'a>>,
    encoding: gimli::Encoding,
    registers: &'a Registers,
    read: &'a dyn Fn(u64, u8) -> Option<u64>,
}

fn find(
    arch: Arch,
    (address, table): (u64, &[u8]),
    at: u64,
    registers: &Registers,
    read: &dyn Fn(u64, u8) -> Option<u64>,
) -> Option<Caller> {
    let mut section = EhFrame::new(table, LittleEndian);
    section.set_address_size(arch.address_bytes() as u8);
    let bases = BaseAddresses::default().set_eh_frame(address);
    let entry = section.fde_for_address(&bases, at, EhFrame::cie_from_offset).ok()?;
    let mut context = UnwindContext::new();
    let row = entry.unwind_info_for_address(&section, &bases, &mut context, at).ok()?;
    let frame =
        Frame { arch, section: &section, encoding: entry.cie().encoding(), registers, read };
    let frame_address = match row.cfa() {
        CfaRule::RegisterAndOffset { register, offset } => {
            frame.narrow(frame.register(*register)?.wrapping_add(*offset as u64))
        }
        CfaRule::Expression(expression) => frame.evaluate(expression, None)?,
    };
    // What no rule speaks of is taken to be as it was. But where the return address is on the stack, a
    // routine of which no rule says where has none: there a program starts.
    let mut callers = *registers;
    let back = usize::from(entry.cie().return_address_register().0);
    if arch.stacks_return_address() {
        *callers.get_mut(back)? = None;
    }
    let pointer = usize::from(arch.stack_pointer().dwarf_number(arch)?);
    *callers.get_mut(pointer)? = Some(frame_address);
    for (register, rule) in row.registers() {
        let Some(value) = callers.get_mut(usize::from(register.0)) else { continue };
        *value = frame.restored(rule, *register, frame_address);
    }
    let return_address = callers.get(back).copied().flatten()?;
    let caller = Caller { frame_address, return_address, registers: callers };
    (return_address != 0).then_some(caller)
}

impl Frame<'_> {
    fn register(&self, register: Register) -> Option<u64> {
        self.registers.get(usize::from(register.0)).copied().flatten()
    }

    /// An address of this machine's width.
    fn narrow(&self, value: u64) -> u64 {
        if self.arch.address_bytes() == 4 { value & 0xffff_ffff } else { value }
    }

    fn word(&self, address: u64) -> Option<u64> {
        (self.read)(self.narrow(address), self.arch.address_bytes() as u8)
    }

    /// The caller's value of a register.
    fn restored(
        &self,
        rule: &RegisterRule<usize>,
        register: Register,
        frame_address: u64,
    ) -> Option<u64> {
        match rule {
            RegisterRule::SameValue => self.register(register),
            RegisterRule::Offset(offset) => self.word(frame_address.wrapping_add(*offset as u64)),
            RegisterRule::ValOffset(offset) => {
                Some(self.narrow(frame_address.wrapping_add(*offset as u64)))
            }
            RegisterRule::Register(other) => self.register(*other),
            RegisterRule::Expression(expression) => {
                self.word(self.evaluate(expression, Some(frame_address))?)
            }
            RegisterRule::ValExpression(expression) => {
                self.evaluate(expression, Some(frame_address))
            }
            RegisterRule::Constant(value) => Some(*value),
            // Lost, or a rule that is none of the standard's.
            _ => None,
        }
    }

    /// The value of an expression; of a register's, the frame address is on the stack before it starts.
    fn evaluate(
        &self,
        expression: &UnwindExpression<usize>,
        frame_address: Option<u64>,
    ) -> Option<u64> {
        let Expression(code) = expression.get(self.section).ok()?;
        let mut evaluation = Expression(code).evaluation(self.encoding);
        evaluation.set_max_iterations(MAX_OPERATIONS);
        if let Some(address) = frame_address {
            evaluation.set_initial_value(address);
        }
        let mut state = evaluation.evaluate().ok()?;
        loop {
            state = match state {
                EvaluationResult::Complete => break,
                EvaluationResult::RequiresMemory { address, size, .. } => {
                    let value = (self.read)(self.narrow(address), size)?;
                    evaluation.resume_with_memory(Value::Generic(value)).ok()?
                }
                EvaluationResult::RequiresRegister { register, .. } => {
                    let value = self.register(register)?;
                    evaluation.resume_with_register(Value::Generic(value)).ok()?
                }
                EvaluationResult::RequiresCallFrameCfa => {
                    evaluation.resume_with_call_frame_cfa(frame_address?).ok()?
                }
                _ => return None,
            };
        }
        match evaluation.result().first()?.location {
            Location::Address { address } => Some(self.narrow(address)),
            _ => None,
        }
    }
}
