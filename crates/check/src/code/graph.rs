//! The instructions of a program's own code and where control goes from each, read without running it.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet, HashMap};

use sotto_asm::{fills_up, lays_down_data};
use sotto_isa::{Access, Arch, Control, IndexMode, Instruction, Mem, Operand, Storage, Traits};
use sotto_kernel::SyscallAbi;
use sotto_kernel::table::by_number;
use sotto_object::{Binding, Image, SymbolKind};
use sotto_session::{Session, SourceText};

/// Instructions that are read at most.
const MOST: usize = 1 << 18;
/// Instructions that are visited at most, over all searches.
const MOST_VISITED: u64 = 1 << 22;

/// An instruction and where control goes from it.
#[derive(Clone, Debug)]
pub(crate) struct Node {
    pub instruction: Instruction,
    /// Where control may go within the code: the next instruction first, then the target of a jump.
    pub successors: Vec<u64>,
    /// Where the routine that it calls begins, if that is known.
    pub callee: Option<u64>,
    /// Control may also go where the code does not say: a return, a jump through a register.
    pub leaves: bool,
}

/// What a number of general registers hold, as a set: one bit for each storage register.
#[derive(Copy, Clone, PartialEq, Eq, Default, Debug)]
pub(crate) struct StorageSet(u64);

impl StorageSet {
    fn add(&mut self, storage: Option<Storage>) {
        if let Some(storage) = storage {
            self.0 |= 1 << storage.0;
        }
    }

    pub fn contains(self, storage: Storage) -> bool {
        self.0 & 1 << storage.0 != 0
    }
}

/// The code of a program that has source lines in assembly language.
pub(crate) struct CodeGraph<'a> {
    pub image: &'a Image,
    sources: HashMap<&'a str, &'a SourceText>,
    pub nodes: BTreeMap<u64, Node>,
    /// Where routines begin: at global symbols, at contracts, and where calls go.
    pub routines: BTreeSet<u64>,
    /// Addresses that control goes to by a jump or a call, with the instruction that sends it there.
    pub targets: Vec<(u64, u64)>,
    /// Where calls go.
    pub callees: BTreeSet<u64>,
    /// How many instructions control comes to an address from.
    arrivals: HashMap<u64, u32>,
    /// Instructions that may still be visited.
    budget: Cell<u64>,
}

impl<'a> CodeGraph<'a> {
    /// Reads the code of a session's program along its jumps and calls.
    pub fn read(session: &'a Session) -> CodeGraph<'a> {
        let image = session.image();
        let sources = session.sources().iter().map(|source| (source.name.as_str(), source));
        let mut graph = CodeGraph {
            image,
            sources: sources.collect(),
            nodes: BTreeMap::new(),
            routines: BTreeSet::new(),
            targets: Vec::new(),
            callees: BTreeSet::new(),
            arrivals: HashMap::new(),
            budget: Cell::new(MOST_VISITED),
        };
        let mut roots = Vec::new();
        for symbol in &image.symbols {
            if symbol.absolute || symbol.datum.is_some() || !graph.is_own_code(symbol.address) {
                continue;
            }
            roots.push(symbol.address);
            if symbol.binding != Binding::Local || symbol.kind == SymbolKind::Function {
                graph.routines.insert(symbol.address);
            }
        }
        if graph.is_own_code(image.entry) {
            roots.push(image.entry);
        }
        graph.routines.extend(image.contracts.iter().map(|contract| contract.address));
        graph.walk(roots);
        graph.cut_calls_that_never_return();
        for node in graph.nodes.values() {
            for successor in &node.successors {
                *graph.arrivals.entry(*successor).or_default() += 1;
            }
        }
        graph
    }

    /// The source line that laid the byte down, if it is one in assembly language.
    pub fn line_text(&self, address: u64) -> Option<&'a str> {
        let line = self.image.lines.at(address)?;
        let file = self.image.lines.files.get(line.file as usize)?;
        let source = self.sources.get(file.as_str())?;
        source.line(line.line)
    }

    /// Whether instructions of an assembly source stand at an address.
    fn is_own_code(&self, address: u64) -> bool {
        let in_code = self.image.segment_at(address).is_some_and(|segment| segment.exec);
        in_code
            && self
                .line_text(address)
                .is_some_and(|text| !is_directive(self.image.arch, text, lays_down_data))
    }

    /// Whether the bytes at an address are data that a directive laid down.
    pub fn is_data(&self, address: u64) -> bool {
        self.line_text(address)
            .is_some_and(|text| is_directive(self.image.arch, text, lays_down_data))
    }

    /// The address behind what a directive filled up from here on.
    pub fn behind_padding(&self, mut address: u64) -> u64 {
        while let Some(text) = self.line_text(address)
            && is_directive(self.image.arch, text, fills_up)
        {
            address += 1;
        }
        address
    }

    fn walk(&mut self, mut roots: Vec<u64>) {
        let arch = self.image.arch;
        let number = arch.convention().syscall_number.storage();
        while let Some(mut at) = roots.pop() {
            // What the register for the number of a system call holds, on the path that is read.
            let mut call_number = None;
            while !self.nodes.contains_key(&at) && self.nodes.len() < MOST && self.is_own_code(at) {
                let Some(instruction) = self.decode(at) else { break };
                let target = instruction.operands.iter().find_map(|operand| match operand {
                    Operand::Target(target) => target.known().map(|target| target as u64),
                    _ => None,
                });
                let control = instruction.control();
                let goes_on = match control {
                    Control::Next | Control::Branch | Control::Call => true,
                    Control::Syscall => !ends_program(&instruction, call_number),
                    Control::Jump | Control::Return | Control::Trap => false,
                };
                let mut node = Node {
                    successors: Vec::new(),
                    callee: None,
                    leaves: control == Control::Return || instruction.is_indirect(),
                    instruction,
                };
                let end = node.instruction.end();
                if goes_on {
                    // A call that is not known may be the last one.
                    let unknown = control == Control::Syscall && call_number.is_none();
                    match unknown && !self.is_own_code(self.behind_padding(end)) {
                        true => node.leaves = true,
                        false => node.successors.push(end),
                    }
                }
                if let Some(target) = target {
                    self.targets.push((at, target));
                    roots.push(target);
                    match control {
                        Control::Call => {
                            node.callee = Some(target);
                            self.routines.insert(target);
                        }
                        _ => node.successors.push(target),
                    }
                }
                if written(&node.instruction).0 & bit(number) != 0 {
                    call_number = constant_move(&node.instruction);
                }
                self.nodes.insert(at, node);
                if !goes_on {
                    break;
                }
                at = end;
            }
        }
    }

    fn decode(&self, address: u64) -> Option<Instruction> {
        let segment = self.image.segment_at(address)?;
        let bytes = segment.data.get((address - segment.address) as usize..)?;
        sotto_isa::decode(self.image.arch, bytes, address).ok()
    }

    /// Takes away what follows calls of routines that end the program on every path.
    fn cut_calls_that_never_return(&mut self) {
        self.callees = self.nodes.values().filter_map(|node| node.callee).collect();
        let mut never: BTreeSet<u64> = BTreeSet::new();
        loop {
            let before = never.len();
            for &routine in &self.callees {
                if !never.contains(&routine) && self.nodes.contains_key(&routine) {
                    let reached = self.reached(routine, |node| {
                        node.callee.is_none_or(|callee| !never.contains(&callee))
                    });
                    let ends = |at: &u64| self.nodes.get(at).is_none_or(|node| node.leaves);
                    if reached.is_some_and(|reached| !reached.iter().any(ends)) {
                        never.insert(routine);
                    }
                }
            }
            if never.len() == before {
                break;
            }
        }
        for node in self.nodes.values_mut() {
            if node.callee.is_some_and(|callee| never.contains(&callee)) {
                node.successors.clear();
            }
        }
    }

    /// The addresses that control can reach from one, within a routine. Where `passes` is false it does not go on. `None`
    /// once too many have been visited.
    pub fn reached(&self, from: u64, passes: impl Fn(&Node) -> bool) -> Option<BTreeSet<u64>> {
        let mut reached = BTreeSet::new();
        let mut paths = vec![from];
        while let Some(at) = paths.pop() {
            if !reached.insert(at) {
                continue;
            }
            self.budget.set(self.budget.get().checked_sub(1)?);
            if let Some(node) = self.nodes.get(&at).filter(|node| passes(node)) {
                paths.extend(&node.successors);
            }
        }
        Some(reached)
    }

    /// The only instruction from which control comes to an address, if it is the one before it.
    pub fn only_before(&self, address: u64) -> Option<&Node> {
        let (_, node) = self.nodes.range(..address).next_back()?;
        let alone = self.arrivals.get(&address) == Some(&1) && !self.has_symbol(address);
        (alone && node.instruction.end() == address).then_some(node)
    }

    fn has_symbol(&self, address: u64) -> bool {
        // Symbols of dotted labels are jumped to by instructions that are in the graph.
        self.routines.contains(&address)
    }
}

/// Whether a line's statement is a directive of some kind, behind a label with or without a colon.
fn is_directive(arch: Arch, text: &str, kind: fn(&str) -> bool) -> bool {
    let mut rest = text.trim_start();
    while let Some((label, behind)) = rest.split_once(':')
        && !label.contains(char::is_whitespace)
    {
        rest = behind.trim_start();
    }
    let mut words = rest.split_whitespace();
    let first = words.next().unwrap_or_default();
    // A label without a colon may stand before it, but no mnemonic: `jnz .fill`.
    let second = words.next().filter(|_| sotto_isa::find_mnemonic(arch, first).is_none());
    kind(first) || second.is_some_and(kind)
}

/// Whether a system call with this number ends the program, or goes back to where a signal came.
fn ends_program(instruction: &Instruction, number: Option<u64>) -> bool {
    let abi = match instruction.arch {
        // An interrupt enters by the 32-bit table from 64-bit code too.
        _ if instruction.traits().contains(Traits::INTERRUPT) => SyscallAbi::X86_32,
        Arch::X86_64 => SyscallAbi::X86_64,
        Arch::X86_32 => SyscallAbi::X86_32,
        Arch::Arm64 => SyscallAbi::Arm64,
    };
    let row = number.and_then(|number| by_number(abi, number));
    row.is_some_and(|row| ["exit", "exit_group", "rt_sigreturn", "sigreturn"].contains(&row.name))
}

/// The constant that an instruction moves into its first operand, if it does nothing else.
pub(crate) fn constant_move(instruction: &Instruction) -> Option<u64> {
    match instruction.operands[..] {
        [Operand::Reg(_), Operand::Imm(value)]
            if instruction.access(0) == Access::Write
                && instruction.flags().written().is_empty() =>
        {
            value.known().map(|value| value as u64)
        }
        _ if instruction.is_zeroing() => Some(0),
        _ => None,
    }
}

fn bit(storage: Option<Storage>) -> u64 {
    storage.map_or(0, |storage| 1 << storage.0)
}

/// Registers of which an instruction reads something.
pub(crate) fn read(instruction: &Instruction) -> StorageSet {
    let mut set = StorageSet::default();
    if instruction.is_zeroing() {
        return set;
    }
    for (index, operand) in instruction.operands.iter().enumerate() {
        match operand {
            Operand::Reg(reg) => {
                let merges = instruction.access(index).writes() && !is_whole(instruction, *reg);
                if instruction.access(index).reads() || merges {
                    set.add(reg.storage());
                }
            }
            Operand::Shifted(reg, ..) | Operand::Extended(reg, ..) => set.add(reg.storage()),
            Operand::Mem(mem) => {
                set.add(mem.base.and_then(|base| base.storage()));
                set.add(mem.index.and_then(|index| index.storage()));
            }
            _ => {}
        }
    }
    for implicit in instruction.implicit() {
        if implicit.access.reads() || !is_whole(instruction, implicit.reg) {
            set.add(implicit.reg.storage());
        }
    }
    set
}

/// Registers that an instruction writes, in part or whole.
pub(crate) fn written(instruction: &Instruction) -> StorageSet {
    let mut set = StorageSet::default();
    for (index, operand) in instruction.operands.iter().enumerate() {
        match operand {
            Operand::Reg(reg) if instruction.access(index).writes() => set.add(reg.storage()),
            Operand::Mem(Mem { base: Some(base), mode, .. }) if *mode != IndexMode::Offset => {
                set.add(base.storage());
            }
            _ => {}
        }
    }
    for implicit in instruction.implicit() {
        if implicit.access.writes() {
            set.add(implicit.reg.storage());
        }
    }
    set
}

/// Whether a write of a register leaves nothing of what was in it. Source: SDM Vol. 1, 3.4.1.1; ARM ARM, B1.2.1.
fn is_whole(instruction: &Instruction, reg: sotto_isa::Reg) -> bool {
    let bits = reg.width().bits();
    bits >= 32 || instruction.arch == Arch::Arm64
}
