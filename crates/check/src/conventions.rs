//! Calls and returns, held to the convention or to the routine's contract.
//!
//! A routine is held to its contract if it has one, and to the machine's convention if it is a global symbol. What a call
//! found in the registers is kept until the routine returns, and compared then.

use sotto_isa::{Arch, Control, FlagRole, Instruction, Operand, Reg, RegisterRole, Storage, Width};
use sotto_machine::{CpuState, Machine, StepEffects};
use sotto_object::contract::{Contract, Location, RoutineContract};
use sotto_object::{Binding, Image, SymbolKind};

use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// What a routine is held to.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Held {
    /// The contract of this number.
    Contract(usize),
    /// The machine's convention.
    Convention,
    /// Nothing: a part of a routine, or one of a file's own.
    Nothing,
}

/// A call that has not returned.
pub(crate) struct Active {
    /// The instruction that called.
    pub from: u64,
    return_address: u64,
    /// At the routine's first instruction.
    pub stack_pointer: u64,
    moment: u64,
    /// At the routine's first instruction.
    pub before: CpuState,
    /// The instruction that wrote over the return address last, if one did.
    slot_writer: Option<u64>,
    pub held: Held,
}

/// The routines that a program has, and the calls that are open.
pub(crate) struct Conventions {
    arch: Arch,
    contracts: Vec<RoutineContract>,
    /// Addresses of global symbols in code, and whether each is declared as a function or has no source.
    globals: Vec<(u64, bool)>,
    calls: Vec<Active>,
    /// The instruction that wrote each storage register last, and when.
    writers: Vec<(u64, u64)>,
    /// The same for each vector register.
    vector_writers: Vec<(u64, u64)>,
}

/// Calls that are followed; of deeper recursion the inner ones are not looked at.
const MOST_CALLS: usize = 4096;

impl Conventions {
    pub fn new(image: &Image) -> Conventions {
        let in_code = |address: u64| image.segment_at(address).is_some_and(|s| s.exec);
        let mut globals: Vec<(u64, bool)> = image
            .symbols
            .iter()
            .filter(|symbol| symbol.binding != Binding::Local && in_code(symbol.address))
            .map(|symbol| {
                let declared = symbol.kind == SymbolKind::Function;
                (symbol.address, declared || image.lines.at(symbol.address).is_none())
            })
            .collect();
        globals.sort_unstable();
        globals.dedup_by_key(|global| global.0);
        let arch = image.arch;
        Conventions {
            arch,
            contracts: image.contracts.clone(),
            globals,
            calls: Vec::new(),
            writers: vec![(0, 0); arch.storage_names().len()],
            vector_writers: vec![(0, 0); arch.bank_registers().count()],
        }
    }

    pub fn contract(&self, held: Held) -> Option<&RoutineContract> {
        match held {
            Held::Contract(number) => self.contracts.get(number),
            Held::Convention | Held::Nothing => None,
        }
    }

    /// What the routine at an address is held to, and whether it may use instructions that need an aligned stack.
    fn held(&self, address: u64) -> (Held, bool) {
        if let Ok(at) = self.contracts.binary_search_by_key(&address, |c| c.address) {
            return (Held::Contract(at), false);
        }
        match self.globals.binary_search_by_key(&address, |global| global.0) {
            Ok(at) => (Held::Convention, self.globals[at].1),
            Err(_) => (Held::Nothing, false),
        }
    }

    /// Holds the routine that begins to the convention, if nothing else is known of it.
    pub fn hold_to_convention(&mut self) {
        if let Some(call) = self.calls.last_mut()
            && call.held == Held::Nothing
        {
            call.held = Held::Convention;
        }
    }

    /// Notes that a routine begins, whose call is at `from`. The machine is at its first instruction.
    pub fn enter(
        &mut self,
        machine: &mut Machine,
        from: u64,
        return_address: u64,
        moment: u64,
    ) -> Held {
        let stack_pointer = machine.register(self.arch.stack_pointer());
        let (held, _) = self.held(machine.pc());
        if self.calls.len() < MOST_CALLS {
            self.calls.push(Active {
                from,
                return_address,
                stack_pointer,
                moment,
                before: machine.cpu_state(),
                slot_writer: None,
                held,
            });
        }
        held
    }

    /// What is wrong with the stack at a call that was just made.
    pub fn misaligned(&self, machine: &Machine) -> Option<RawFinding> {
        let call = self.calls.last()?;
        let alignment = self.arch.convention().stack_alignment;
        let at_call = call.stack_pointer.wrapping_add(self.arch.return_address_slot());
        let off = at_call % alignment;
        if off == 0 || !self.held(machine.pc()).1 {
            return None;
        }
        let pointer = self.arch.storage_name(self.arch.stack_pointer());
        Some(RawFinding::new(
            Kind::Misaligned,
            call.from,
            format!(
                "{pointer} is {at_call:#x} at the call, {off} bytes above a multiple of {alignment}"
            ),
        ))
    }

    /// Looks at a return that is about to be made.
    pub fn before_return(
        &mut self,
        machine: &mut Machine,
        instruction: &Instruction,
    ) -> Vec<RawFinding> {
        let sp = machine.register(self.arch.stack_pointer());
        let left = |calls: &[Active]| calls.last().is_some_and(|call| call.stack_pointer < sp);
        let mut too_high = None;
        while left(&self.calls) {
            too_high = self.calls.pop();
        }
        let target = self.return_target(machine, instruction, sp);
        let goes_to_code =
            machine.memory().region_at(target).is_some_and(|region| region.permissions.execute);
        let pointer = self.arch.storage_name(self.arch.stack_pointer());
        let unbalanced = |call: &Active, direction: &str| {
            let bytes = call.stack_pointer.abs_diff(sp);
            let found = RawFinding::new(
                Kind::Unbalanced,
                instruction.address,
                format!(
                    "{pointer} is {bytes} bytes {direction} than at the routine's start, so that the return goes to {target:#x}"
                ),
            );
            vec![found.at(call.from, "the routine was called here")]
        };
        let Some(call) = self.calls.last() else {
            return match too_high {
                Some(call) if !goes_to_code => unbalanced(&call, "higher"),
                _ => Vec::new(),
            };
        };
        if call.stack_pointer != sp {
            return match (too_high, goes_to_code) {
                (Some(call), false) => unbalanced(&call, "higher"),
                (None, false) => unbalanced(call, "lower"),
                _ => Vec::new(),
            };
        }
        if target != call.return_address {
            if goes_to_code && self.calls.iter().any(|call| call.return_address == target) {
                return Vec::new();
            }
            let mut found = RawFinding::new(
                Kind::ReturnAddress,
                instruction.address,
                format!(
                    "the return goes to {target:#x}, and the call left {:#x}",
                    call.return_address
                ),
            );
            let writer = match self.arch.link_register() {
                Some(link) => Some(self.writers[usize::from(link.0)].0),
                None => call.slot_writer,
            };
            if let Some(writer) = writer.filter(|address| *address != 0) {
                found = found.at(writer, "the return address was overwritten here");
            }
            if self.arch.link_register().is_some() {
                found = found.help("save the link register before the call and restore it before the return: `stp x29, x30, [sp, #-16]!`, `ldp x29, x30, [sp], #16`");
            }
            return vec![found];
        }
        self.broken(machine, call, instruction.address)
    }

    fn return_target(&self, machine: &mut Machine, instruction: &Instruction, sp: u64) -> u64 {
        match self.arch.link_register() {
            None => {
                let mut bytes = [0; 8];
                let width = self.arch.address_bytes() as usize;
                let _ = machine.memory_mut().read_bytes(sp, &mut bytes[..width]);
                u64::from_le_bytes(bytes)
            }
            Some(link) => {
                let named = instruction.operands.iter().find_map(|operand| match operand {
                    Operand::Reg(reg) => reg.storage(),
                    _ => None,
                });
                machine.register(named.unwrap_or(link))
            }
        }
    }

    /// What the routine that is about to return has broken.
    fn broken(&self, machine: &Machine, call: &Active, at: u64) -> Vec<RawFinding> {
        if call.held == Held::Nothing {
            return Vec::new();
        }
        let after = machine.cpu_state();
        let contract = self.contract(call.held).map(|routine| &routine.contract);
        let mut found = self.changed_general(call, &after, contract, at);
        found.extend(self.changed_vectors(call, &after, contract, at));
        if let Some(contract) = contract {
            found.extend(self.returns_not_set(call, contract, at));
            found.extend(self.flags_not_kept(call, &after, contract, at));
        }
        let direction = self.arch.flag(FlagRole::Direction);
        let newly_set = after.flags.without(call.before.flags);
        if !direction.is_empty() && newly_set.contains(direction) {
            let fact = format!("{} is set at the return", self.arch.flag_names(direction)[0]);
            found.push(RawFinding::new(Kind::DirectionFlag, at, fact));
        }
        found
    }

    /// General registers that differ from those at the routine's start and must not.
    fn changed_general(
        &self,
        call: &Active,
        after: &CpuState,
        contract: Option<&Contract>,
        at: u64,
    ) -> Vec<RawFinding> {
        let convention = self.arch.convention();
        let mut found = Vec::new();
        for storage in self.arch.general_storages() {
            let number = usize::from(storage.0);
            let (old, new) = (call.before.registers[number], after.registers[number]);
            let role = convention.role(storage);
            let by_call = matches!(role, Some(RegisterRole::Stack | RegisterRole::Next))
                || Some(storage) == self.arch.link_register();
            // The call itself changes those, and the return was looked at already.
            if old == new || by_call {
                continue;
            }
            let reg = self.arch.whole_register(storage);
            let Some((kind, reason)) = must_keep(contract, reg, convention.is_preserved(storage))
            else {
                continue;
            };
            let name = reg.name();
            let fact = format!(
                "{name} was {old:#x} at the routine's start and is {new:#x} at its end{reason}"
            );
            let raw = RawFinding::new(kind, at, fact).about(number);
            found.push(changed_by(raw, name, self.writers[number], call));
        }
        found
    }

    /// The same of vector registers. The convention preserves the lowest 64 bits of some.
    fn changed_vectors(
        &self,
        call: &Active,
        after: &CpuState,
        contract: Option<&Contract>,
        at: u64,
    ) -> Vec<RawFinding> {
        let preserved = &self.arch.convention().vectors.preserved;
        let mut found = Vec::new();
        for (number, (id, reg)) in self.arch.bank_registers().enumerate() {
            let (old, new) = (&call.before.banks[number], &after.banks[number]);
            let differs = match contract {
                Some(_) => old != new,
                None => old.word(0) != new.word(0),
            };
            let kept = must_keep(contract, reg, preserved.contains(&id.index));
            let Some((kind, reason)) = kept.filter(|_| differs) else { continue };
            let name = reg.name();
            let fact = match old.word(0) == new.word(0) {
                true => format!("the upper bits of {name} are changed{reason}"),
                false => format!(
                    "the lowest 64 bits of {name} were {:#x} at the routine's start and are {:#x} at its end{reason}",
                    old.word(0),
                    new.word(0)
                ),
            };
            let raw = RawFinding::new(kind, at, fact).about(FIRST_VECTOR + number);
            found.push(changed_by(raw, name, self.vector_writers[number], call));
        }
        found
    }

    /// Registers that the contract returns and no instruction wrote since the routine's start.
    fn returns_not_set(&self, call: &Active, contract: &Contract, at: u64) -> Vec<RawFinding> {
        let mut found = Vec::new();
        for value in &contract.returns {
            let Location::Register(reg) = value.location else { continue };
            let (_, written) = match (reg.storage(), reg.id()) {
                (Some(storage), _) => self.writers[usize::from(storage.0)],
                (None, Some(id)) => self.vector_writers[usize::from(id.index)],
                (None, None) => continue,
            };
            if written > call.moment {
                continue;
            }
            let name = reg.name();
            let promise = match value.name.as_str() {
                "" => name.to_string(),
                value => format!("{name} = {value}"),
            };
            let fact = format!(
                "the contract returns `{promise}`, and no instruction of the routine wrote {name}"
            );
            found.push(RawFinding::new(Kind::ReturnsNotSet, at, fact));
        }
        found
    }

    fn flags_not_kept(
        &self,
        call: &Active,
        after: &CpuState,
        contract: &Contract,
        at: u64,
    ) -> Option<RawFinding> {
        let differs = |flag| call.before.flags.contains(flag) != after.flags.contains(flag);
        let flags = self.arch.flags().iter().filter(|info| differs(info.flag));
        let names: Vec<&str> = flags.map(|info| info.name).collect();
        if !contract.keeps_flags || names.is_empty() {
            return None;
        }
        let fact = format!("{} changed in the routine", names.join(", "));
        Some(RawFinding::new(Kind::FlagsNotKept, at, fact))
    }

    /// Notes a return that was made. The call that it ended, if it is one that was followed.
    pub fn after_return(&mut self, machine: &Machine) -> Option<Active> {
        let sp = machine.register(self.arch.stack_pointer());
        let pc = machine.pc();
        let slot = self.arch.return_address_slot();
        let ends = |call: &Active| {
            call.return_address == pc && call.stack_pointer.wrapping_add(slot) <= sp
        };
        let at = self.calls.iter().rposition(ends)?;
        let above = self.calls.len() - at;
        // A return to an outer call ends the inner ones too.
        if above > 1 && self.arch.stacks_return_address() {
            let inner = self.calls[at + 1..].iter().all(|call| call.stack_pointer < sp);
            if !inner {
                return None;
            }
        }
        self.calls.truncate(at + 1);
        self.calls.pop()
    }

    /// The registers whose values the call has changed and the convention, or the contract, lets it change, without those
    /// that hold results.
    pub fn lost(&self, call: &Active, machine: &Machine) -> Vec<Storage> {
        let convention = self.arch.convention();
        let contract = self.contract(call.held).map(|routine| &routine.contract);
        if call.held == Held::Nothing {
            return Vec::new();
        }
        let changed = |storage: &Storage| {
            machine.register(*storage) != call.before.registers[usize::from(storage.0)]
        };
        self.arch
            .general_storages()
            .filter(changed)
            .filter(|storage| match contract {
                Some(contract) => {
                    contract.changes.iter().any(|known| known.0.storage() == Some(*storage))
                }
                None => {
                    let role = convention.role(*storage);
                    let free =
                        matches!(role, Some(RegisterRole::Arguments | RegisterRole::Scratch));
                    free && !convention.results.contains(storage)
                }
            })
            .collect()
    }

    /// Notes what an instruction wrote.
    pub fn note(&mut self, instruction: &Instruction, effects: &StepEffects, moment: u64) {
        let now = (instruction.address, moment + 1);
        for change in &effects.registers {
            if let Some(storage) = change.reg.storage() {
                self.writers[usize::from(storage.0)] = now;
            }
        }
        for change in &effects.banks {
            if let Some(id) = change.reg.id() {
                self.vector_writers[usize::from(id.index)] = now;
            }
        }
        if instruction.control() == Control::Call || !self.arch.stacks_return_address() {
            return;
        }
        let slot = Width::from_bytes(self.arch.return_address_slot()).map_or(0, Width::bytes);
        if let Some(call) = self.calls.last_mut() {
            let start = call.stack_pointer;
            let hits = effects.memory.iter().any(|change| {
                let end = change.address.wrapping_add(change.bytes * change.elements);
                change.address < start + slot && end > start
            });
            if hits {
                call.slot_writer = Some(instruction.address);
            }
        }
    }
}

/// Vector registers are told from general ones by numbers from here on.
const FIRST_VECTOR: usize = 1 << 8;

/// The finding if a register is changed that must come back as it was, and the end of its fact; `None` if the register
/// may be changed.
fn must_keep(
    contract: Option<&Contract>,
    reg: Reg,
    preserved: bool,
) -> Option<(Kind, &'static str)> {
    match contract {
        Some(contract) => (!contract.may_change(reg))
            .then_some((Kind::ContractChange, ", and the contract does not list it")),
        None => preserved.then_some((Kind::Preserved, "")),
    }
}

/// Adds the instruction that wrote a register last, if that was since the routine's start.
fn changed_by(
    raw: RawFinding,
    name: &str,
    (writer, written): (u64, u64),
    call: &Active,
) -> RawFinding {
    match written > call.moment {
        true => raw.at(writer, format!("{name} was changed here")),
        false => raw,
    }
}
