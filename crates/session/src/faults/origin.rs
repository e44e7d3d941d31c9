//! Where a fault came from: who overwrote the return address that was returned to, which variable held the address that
//! was called, at which call the stack was misaligned already.
//!
//! Found by executing again; the session is where it was when these return.

use sotto_isa::{Control, Instruction, Operand, Reg, Storage};
use sotto_kernel::Termination;
use sotto_machine::{AccessKind, Call, Fault, MemoryFaultKind};

use crate::faults::fault_report::FaultReport;
use crate::{Session, StepReport, Target};

impl Session {
    /// Adds to the report of a fault where it came from, as far as that is found.
    pub(crate) fn add_origin(&mut self, report: &mut FaultReport) {
        let (now, ending) = (self.moment(), self.ending());
        let Some(Termination::Killed(_, fault)) = ending else { return };
        match fault {
            Fault::Memory(fault) if fault.access == AccessKind::Execute => {
                // The instruction that sent control there is completed.
                if let Some(before) = now.checked_sub(1) {
                    self.go_to(before);
                    self.add_origin_of_target(report);
                }
            }
            Fault::PcAlignment => {
                self.go_to(now);
                self.add_origin_of_target(report);
            }
            Fault::Memory(fault) if fault.kind == MemoryFaultKind::Alignment => {
                self.add_misaligned_call(report);
            }
            _ => {}
        }
        self.return_to(now, ending);
    }

    /// Where the address came from that the next instruction sends control to.
    fn add_origin_of_target(&mut self, report: &mut FaultReport) {
        let Ok(instruction) = self.system.machine.next_instruction() else { return };
        match instruction.control() {
            Control::Return => self.add_origin_of_return(report),
            Control::Call | Control::Jump => self.add_origin_of_pointer(&instruction, report),
            _ => {}
        }
    }

    /// Who overwrote the return address that the next instruction returns to.
    fn add_origin_of_return(&mut self, report: &mut FaultReport) {
        let Some(call) = self.system.machine.calls().last().copied() else { return };
        let returned = match self.arch().stacks_return_address() {
            true => self.add_origin_of_slot(&call, report),
            false => self.add_origin_of_link(&call, report),
        };
        if let Some((fact, help)) = returned {
            report.facts.push(fact);
            report.help = help;
        }
    }

    /// On x86: who wrote over the return address on the stack, or how far from it the stack pointer is.
    fn add_origin_of_slot(
        &mut self,
        call: &Call,
        report: &mut FaultReport,
    ) -> Option<(String, Option<String>)> {
        let arch = self.arch();
        let (pointer, slot) = (self.register(arch.stack_pointer()), arch.address_bytes());
        let routine = self.name_of(call.routine);
        let expected = call.return_address;
        let name = arch.storage_name(arch.stack_pointer());
        if call.stack_pointer != pointer {
            let distance = call.stack_pointer.wrapping_sub(pointer);
            let words = distance / slot;
            let fact = format!(
                "the return address of `{routine}`, {expected:#x}, lies {distance} bytes higher, at {:#x}",
                call.stack_pointer
            );
            let unit = if words == 1 { "a push of it has" } else { "pushes of it have" };
            let count = if words == 1 { String::new() } else { format!("{words} ") };
            return Some((
                fact,
                Some(format!(
                    "`{routine}` left {name} lower than it was at its start: {count}{unit} no pop"
                )),
            ));
        }
        let writer = self.writer_of(Target::Memory(pointer, slot), call.moment)?;
        report.registers.clear();
        Some((
            format!(
                "the return address of `{routine}`, {expected:#x}, was overwritten {}",
                described(&writer)
            ),
            Some(format!(
                "that store must not reach {pointer:#x}, where `{routine}` has its return address"
            )),
        ))
    }

    /// On machines with a link register: who wrote it last, and if it was loaded, who wrote what was loaded.
    fn add_origin_of_link(
        &mut self,
        call: &Call,
        report: &mut FaultReport,
    ) -> Option<(String, Option<String>)> {
        let link = Reg::new(sotto_isa::RegKind::X, 30);
        let storage = link.storage()?;
        let routine = self.name_of(call.routine);
        let expected = call.return_address;
        let writer = self.writer_of(Target::Register(storage), call.moment)?;
        let loaded = writer.reads.iter().find(|read| {
            writer
                .registers
                .iter()
                .any(|register| register.name == link.name() && register.new == read.new)
        });
        let Some(slot) = loaded.map(|read| read.place.address) else {
            let help =
                format!("save x30 on the stack when `{routine}` starts, and load it before ret");
            let fact = format!(
                "x30, {expected:#x} when `{routine}` was called, was overwritten {}",
                described(&writer)
            );
            return Some((fact, Some(help)));
        };
        // The session is before that load; what it loaded was written earlier.
        let overwriter = self.writer_before_load(slot, call.moment)?;
        report.registers.clear();
        Some((
            format!(
                "x30 was loaded from {slot:#x}, where `{routine}` kept its return address {expected:#x}, and which was overwritten {}",
                described(&overwriter)
            ),
            Some(format!(
                "that store must not reach {slot:#x}, where `{routine}` has its return address"
            )),
        ))
    }

    /// The last write to the slot that the next instruction loads the link register from.
    fn writer_before_load(&mut self, slot: u64, since: u64) -> Option<StepReport> {
        self.writer_of(Target::Memory(slot, self.arch().address_bytes()), since)
    }

    /// Which variable or instruction the address came from that the next instruction calls or jumps to.
    fn add_origin_of_pointer(&mut self, instruction: &Instruction, report: &mut FaultReport) {
        let at = self.moment();
        let register = instruction.operands.iter().find_map(|operand| match operand {
            Operand::Reg(reg) => reg.storage(),
            _ => None,
        });
        let Some(storage) = register else {
            // The address is read from memory by the instruction itself.
            let Some(step) = self.ahead() else { return };
            if let Some(read) = step.reads.first() {
                report.facts.push(format!(
                    "the address came from `{}`, which holds {:#x}",
                    read.name(),
                    read.new
                ));
            }
            return;
        };
        self.add_origin_of_register(storage, report);
        self.go_to(at);
    }

    fn add_origin_of_register(&mut self, storage: Storage, report: &mut FaultReport) {
        let Some(writer) = self.writer_of(Target::Register(storage), 0) else { return };
        let name = self.arch().storage_name(storage);
        let loaded = writer
            .reads
            .iter()
            .find(|read| writer.registers.iter().any(|register| register.new == read.new));
        report.facts.push(match loaded {
            Some(read) => format!(
                "{name} was loaded from `{}`, which held {:#x}, {}",
                read.name(),
                read.new,
                described(&writer)
            ),
            None => format!("{name} was written {}", described(&writer)),
        });
    }

    /// What last wrote a target since a moment; the session is just before that then.
    fn writer_of(&mut self, target: Target, since: u64) -> Option<StepReport> {
        let moment = self.last_write(&target.watched(), since)?;
        self.go_to(moment);
        let report = self.step_plainly().0?;
        self.go_to(moment);
        Some(report)
    }

    /// At which call the stack pointer was no multiple of what the convention asks for.
    ///
    /// Source: psABI x86-64, 3.2.2: (%rsp + 8) is a multiple of 16 at the entry of a function.
    fn add_misaligned_call(&mut self, report: &mut FaultReport) {
        const ALIGNMENT: u64 = 16;
        let arch = self.arch();
        let pointer = arch.stack_pointer();
        let Ok(instruction) = self.system.machine.next_instruction() else { return };
        let by_stack = instruction.operands.iter().any(|operand| match operand {
            Operand::Mem(mem) => mem.base.is_some_and(|base| {
                let storage = base.storage();
                storage == Some(pointer) || storage == Some(arch.frame_pointer())
            }),
            _ => false,
        });
        if !by_stack {
            return;
        }
        let name = arch.storage_name(pointer);
        let Some(call) = self.system.machine.calls().last().copied() else {
            report.help = Some(format!(
                "keep {name} a multiple of {ALIGNMENT}: move it by multiples of {ALIGNMENT}"
            ));
            return;
        };
        let at_call = call.stack_pointer.wrapping_add(arch.address_bytes());
        let routine = self.name_of(call.routine);
        if at_call.is_multiple_of(ALIGNMENT) {
            report.help = Some(format!(
                "`{routine}` was called with {name} a multiple of {ALIGNMENT}; the room that it makes must keep the slot aligned, or use `movups`"
            ));
            return;
        }
        let place = self.place(call.from);
        let place = place
            .location()
            .or_else(|| place.name())
            .unwrap_or_else(|| format!("{:#x}", call.from));
        report.facts.push(format!(
            "{name} was {at_call:#x} at the call of `{routine}` ({place}), which is not a multiple of {ALIGNMENT}"
        ));
        report.help = Some(format!(
            "before that call {name} must be a multiple of {ALIGNMENT}: push one register more, or `sub {name}, 8` and add it back"
        ));
    }

    /// The name of a routine, or its address.
    fn name_of(&self, address: u64) -> String {
        self.place(address).name().unwrap_or_else(|| format!("{address:#x}"))
    }
}

/// When an instruction wrote, which, and where it stands: `at #12 by mov [rsi], al, tide.s:31`.
fn described(writer: &StepReport) -> String {
    let place = writer.place.location().or_else(|| writer.place.name());
    let place = place.map(|place| format!(", {place}")).unwrap_or_default();
    format!("at #{} by `{}`{place}", writer.moment, writer.instruction)
}
