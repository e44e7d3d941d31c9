//! A routine of a program: running it with arguments, and reading what it left.

use sotto_isa::{Arch, ArgumentLocations, Reg, Width};
use sotto_kernel::{Startup, Termination};
use sotto_machine::RegionKind;
use sotto_object::contract::{Contract, Location, ValueType};
use sotto_object::{Image, ImageSymbol};
use sotto_session::{Session, SessionError, SourceText, StopReason};

use crate::call::argument::{Argument, fits};
use crate::call::result::{
    BufferAfter, CallReport, CallResult, Ending, RegisterAfter, TouchedMemory, words,
};
use crate::call::setup::{Block, build_stack, place_blocks, set_register, unset_registers};
use crate::checker::{Checker, Options, offset};
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// A routine of a program.
pub struct Routine<'a> {
    image: &'a Image,
    sources: &'a [SourceText],
    /// Address of its first instruction.
    pub address: u64,
    /// Its name.
    pub name: String,
    /// What it promises.
    pub contract: Option<Contract>,
}

/// Why a routine cannot be called.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum CallError {
    /// The program has no such routine.
    #[error("no routine `{name}`")]
    NoRoutine {
        /// The name.
        name: String,
        /// The names of the routines that there are.
        known: Vec<String>,
    },
    /// The symbol is no code.
    #[error("`{0}` is no code")]
    NotCode(String),
    /// More or fewer arguments than the contract takes.
    #[error("`{name}` takes {wanted} and was given {given}")]
    Count {
        /// The routine.
        name: String,
        /// How many arguments it takes, in words.
        wanted: String,
        /// How many it was given.
        given: usize,
        /// What it takes, as its contract says.
        takes: String,
    },
    /// An argument that does not fit its place.
    #[error("argument {number} does not fit: {message}")]
    DoesNotFit {
        /// Which, from 1.
        number: usize,
        /// Why.
        message: String,
    },
    /// The program cannot be loaded.
    #[error(transparent)]
    Start(#[from] SessionError),
    /// There is no memory for the arguments.
    #[error("the arguments do not fit into the memory that the program may have")]
    NoMemory,
}

impl<'a> Routine<'a> {
    /// The routine of this name.
    ///
    /// # Errors
    ///
    /// If there is none.
    pub fn find(
        image: &'a Image,
        sources: &'a [SourceText],
        name: &str,
    ) -> Result<Routine<'a>, CallError> {
        let in_code = |symbol: &&ImageSymbol| {
            !symbol.absolute && image.segment_at(symbol.address).is_some_and(|s| s.exec)
        };
        let Some(symbol) = image.symbol(name) else {
            let known = image.symbols.iter().filter(in_code);
            let known = known.filter(|symbol| !symbol.name.starts_with('.'));
            let known = known.map(|symbol| symbol.name.clone()).collect();
            return Err(CallError::NoRoutine { name: name.to_string(), known });
        };
        if !in_code(&symbol) {
            return Err(CallError::NotCode(name.to_string()));
        }
        let contract = image.contract_at(symbol.address).map(|routine| routine.contract.clone());
        Ok(Routine { image, sources, address: symbol.address, name: name.to_string(), contract })
    }

    fn arch(&self) -> Arch {
        self.image.arch
    }

    /// Calls the routine.
    ///
    /// # Errors
    ///
    /// If the arguments do not go with it, or the program cannot be loaded.
    pub fn call(
        &self,
        arguments: &[Argument],
        startup: &Startup,
        limit: u64,
    ) -> Result<CallReport, CallError> {
        let image = Image { entry: self.address, ..self.image.clone() };
        let mut session = Session::start(image, self.sources.to_vec(), startup)?;
        session.system_mut().close_input();
        let call = self.prepare(&mut session, arguments)?;
        session.begin_here();
        let options = Options { memory: true, libraries: true, ..Options::default() };
        let mut checker = Checker::new(&session, options);
        for (location, bytes) in &call.given {
            match location {
                Location::Register(reg) => {
                    if let Some(storage) = reg.storage() {
                        checker.shadow().set(storage, *bytes as usize);
                    }
                }
                Location::Stack(offset) => {
                    checker.shadow().set_memory(call.stack_pointer + offset, *bytes);
                }
            }
        }
        let slot = self.arch().return_address_slot();
        checker.shadow().set_memory(call.stack_pointer, slot);
        if let Some(link) = self.arch().link_register() {
            checker.shadow().set(link, 8);
        }
        checker.enter(&mut session, call.return_address);
        let ending = run(&mut session, &mut checker, call.return_address, limit);
        self.check_guards(&mut session, &mut checker, &call);
        checker.finish(&mut session);
        Ok(self.report(&mut session, checker, &call, ending))
    }

    /// Places the arguments and sets the registers.
    fn prepare(
        &self,
        session: &mut Session,
        arguments: &[Argument],
    ) -> Result<Prepared, CallError> {
        let arch = self.arch();
        let convention = arch.convention();
        let positional: Vec<(usize, &Argument)> = arguments
            .iter()
            .filter(|argument| !matches!(argument, Argument::Register(..)))
            .enumerate()
            .collect();
        self.check_count(positional.len(), arguments.len())?;
        let machine = &mut session.system_mut().machine;
        unset_registers(machine);
        let (blocks, return_address) = place_blocks(machine, &positional)?;
        let block_of = |number: usize| blocks.iter().find(|block| block.argument == number);
        let mut given: Vec<(Location, u64)> = Vec::new();
        let mut stack: Vec<(u64, u64)> = Vec::new();
        let mut locations = ArgumentLocations::new(arch);
        let width = arch.address_bytes();
        for &(number, argument) in &positional {
            let taken = self.contract.as_ref().and_then(|contract| contract.takes.get(number));
            let bits = match (argument, block_of(number)) {
                (_, Some(block)) => i128::from(block.address),
                (Argument::Number(value), _) => *value,
                (Argument::Float(value), _) => i128::from(value.to_bits()),
                _ => 0,
            };
            let is_float = matches!(argument, Argument::Float(_));
            let location = match taken {
                Some(value) => value.location,
                None => locations.next(is_float, if is_float { 8 } else { width }),
            };
            let kind = taken.map(|value| value.kind);
            let (bits, bytes) = self.bits(number, argument, bits, location, kind)?;
            match location {
                Location::Register(reg) => set_register(machine, reg, bits),
                Location::Stack(offset) => {
                    stack.push((offset, bits));
                    if bytes == 8 && width == 4 {
                        stack.push((offset + 4, bits >> 32));
                    }
                }
            }
            given.push((location, bytes));
        }
        if let Some(count) = convention.vector_count {
            machine.set_register(count, u64::from(locations.vectors()));
            if self.contract.is_none() {
                given.push((Location::Register(arch.whole_register(count)), 1));
            }
        }
        for argument in arguments {
            if let Argument::Register(reg, value) = argument {
                set_register(machine, *reg, *value as u64);
                given.push((Location::Register(*reg), reg.width().bytes()));
            }
        }
        let stack_pointer =
            build_stack(machine, &stack, return_address).ok_or(CallError::NoMemory)?;
        let before = machine.cpu_state().registers;
        Ok(Prepared { blocks, given, return_address, stack_pointer, before })
    }

    fn check_count(&self, positional: usize, all: usize) -> Result<(), CallError> {
        let Some(contract) = &self.contract else { return Ok(()) };
        let wanted = contract.takes.len();
        // Registers that are set by hand stand for arguments.
        let enough = positional == wanted || (all > positional && positional <= wanted);
        if enough {
            return Ok(());
        }
        let takes: Vec<String> = contract
            .takes
            .iter()
            .map(|value| {
                let name = if value.name.is_empty() { "a value" } else { &value.name };
                format!("{name} ({}) in {}", value.kind.name(), value.location)
            })
            .collect();
        let words = match wanted {
            0 => "no argument".to_string(),
            1 => "1 argument".to_string(),
            count => format!("{count} arguments"),
        };
        let (name, takes) = (self.name.clone(), takes.join(", "));
        Err(CallError::Count { name, wanted: words, given: positional, takes })
    }

    /// The bits of an argument in its place, and how many bytes of the place it sets.
    fn bits(
        &self,
        number: usize,
        argument: &Argument,
        bits: i128,
        location: Location,
        kind: Option<ValueType>,
    ) -> Result<(u64, u64), CallError> {
        let fail = |message: String| CallError::DoesNotFit { number: number + 1, message };
        let arch = self.arch();
        let place = match location {
            Location::Register(reg) => reg.width().bytes().min(8),
            Location::Stack(_) => arch.address_bytes(),
        };
        match (kind, argument) {
            (Some(ValueType::Float(width)), Argument::Float(_) | Argument::Number(_)) => {
                let value = match argument {
                    Argument::Float(value) => *value,
                    _ => bits as f64,
                };
                Ok(match width {
                    Width::W32 => (u64::from((value as f32).to_bits()), 4),
                    _ => (value.to_bits(), 8),
                })
            }
            (Some(kind), Argument::Float(value)) => {
                Err(fail(format!("{value} is no {}", kind.name())))
            }
            (Some(kind), Argument::Number(value)) => {
                let width = kind.width(arch);
                let in_range = match kind {
                    ValueType::Signed(width) => {
                        let limit = 1i128 << (width.bits() - 1);
                        (-limit..limit).contains(value)
                    }
                    _ => fits(*value, width),
                };
                if !in_range {
                    return Err(fail(format!("{value} is no {}", kind.name())));
                }
                Ok((*value as u64 & width_mask(place), width.bytes().max(place.min(4))))
            }
            (None, Argument::Float(_)) => Ok((bits as u64, 8)),
            (None, Argument::Number(value)) => {
                if place == 4 && !fits(*value, Width::W32) {
                    return Err(fail(format!("{value} has more than 32 bits")));
                }
                Ok((*value as u64 & width_mask(place), place))
            }
            _ => Ok((bits as u64, place)),
        }
    }

    /// Looks whether something was written behind a block.
    fn check_guards(&self, session: &mut Session, checker: &mut Checker, call: &Prepared) {
        for block in &call.blocks {
            let memory = session.system().machine.memory();
            let Some((distance, value)) = block.overrun(memory) else { continue };
            let fact = format!(
                "the routine wrote behind argument {}, which has {} bytes: byte {} is {value:#x} now",
                block.argument + 1,
                block.size(),
                block.size() + distance
            );
            checker.add(session, RawFinding::new(Kind::PastBuffer, self.address, fact));
        }
    }

    fn report(
        &self,
        session: &mut Session,
        checker: Checker,
        call: &Prepared,
        ending: Ending,
    ) -> CallReport {
        let arch = self.arch();
        let returned = matches!(ending, Ending::Returned);
        let results = if returned { self.results(session) } else { Vec::new() };
        let system = session.system();
        let machine = &system.machine;
        let contract = self.contract.as_ref();
        let buffers = call
            .blocks
            .iter()
            .filter_map(|block| {
                let mut bytes = vec![0; block.before.len()];
                machine.memory().read_bytes(block.address, &mut bytes).ok()?;
                let changed = bytes != block.before;
                let taken = contract.and_then(|contract| contract.takes.get(block.argument));
                (changed || block.is_room).then(|| BufferAfter {
                    argument: block.argument + 1,
                    name: taken.map(|value| value.name.clone()).unwrap_or_default(),
                    bytes,
                    element_bytes: block.element_bytes,
                    is_text: block.is_text,
                    changed,
                })
            })
            .collect();
        let changed = arch
            .general_storages()
            .filter(|storage| *storage != arch.stack_pointer() && *storage != arch.pc())
            .filter(|storage| machine.register(*storage) != call.before[usize::from(storage.0)])
            .map(|storage| RegisterAfter {
                name: arch.storage_name(storage),
                value: machine.register(storage),
            })
            .collect();
        let (touched, stack_bytes) = self.touched(session, &checker, call);
        let output = session.system().output().into_iter();
        CallReport {
            ending,
            results,
            buffers,
            instructions: session.moment(),
            touched,
            stack_bytes,
            changed,
            output: output.flat_map(|part| part.bytes.clone()).collect(),
            findings: checker.into_findings(),
        }
    }

    fn results(&self, session: &mut Session) -> Vec<CallResult> {
        let arch = self.arch();
        let machine = &session.system().machine;
        let value_of = |reg: Reg| match (reg.storage(), reg.id()) {
            (Some(storage), _) => reg.part_of(machine.register(storage)),
            (None, Some(id)) => machine.bank_register(id).word(0),
            (None, None) => 0,
        };
        let text_at = |address: u64| {
            let mut bytes = Vec::new();
            while bytes.len() < 200 {
                let mut byte = [0];
                let at = address.wrapping_add(bytes.len() as u64);
                machine.memory().read_bytes(at, &mut byte).ok()?;
                if byte[0] == 0 {
                    break;
                }
                bytes.push(byte[0]);
            }
            Some(bytes.escape_ascii().to_string())
        };
        let contracted = self.contract.iter().flat_map(|contract| &contract.returns);
        let mut results: Vec<CallResult> = contracted
            .filter_map(|value| {
                let Location::Register(reg) = value.location else { return None };
                let bits = value_of(reg);
                Some(CallResult {
                    location: value.location.to_string(),
                    name: value.name.clone(),
                    kind: value.kind,
                    bits,
                    value: words(value.kind, bits, text_at),
                })
            })
            .collect();
        if self.contract.is_none() {
            let result = arch.whole_register(arch.convention().result);
            let kind = ValueType::Unsigned(result.width());
            let bits = value_of(result);
            results.push(CallResult {
                location: result.name().to_string(),
                name: String::new(),
                kind,
                bits,
                value: words(kind, bits, text_at),
            });
        }
        results
    }

    /// The memory that was accessed, in words, and how deep the stack went.
    fn touched(
        &self,
        session: &Session,
        checker: &Checker,
        call: &Prepared,
    ) -> (Vec<TouchedMemory>, u64) {
        let mut stack_bytes = 0;
        let mut touched: Vec<TouchedMemory> = Vec::new();
        let memory = session.system().machine.memory();
        for range in checker.touched() {
            let on_stack =
                memory.region_at(range.start).is_some_and(|r| r.kind == RegionKind::Stack);
            if on_stack && range.start < call.stack_pointer {
                stack_bytes = stack_bytes.max(call.stack_pointer - range.start);
                continue;
            }
            if on_stack {
                continue;
            }
            let block = call.blocks.iter().find(|block| {
                (block.address..block.end().max(block.address + 1)).contains(&range.start)
            });
            let what = match block {
                Some(block) => {
                    format!(
                        "argument {}{}",
                        block.argument + 1,
                        offset(range.start - block.address)
                    )
                }
                None => match self.image.symbol_before(range.start) {
                    Some((symbol, distance)) => format!("{}{}", symbol.name, offset(distance)),
                    None => format!("{:#x}", range.start),
                },
            };
            touched.push(TouchedMemory {
                what,
                bytes: range.end - range.start,
                read: range.read,
                written: range.written,
            });
        }
        (touched, stack_bytes)
    }
}

/// A call that is set up.
struct Prepared {
    blocks: Vec<Block>,
    /// The places that arguments set, and how many bytes of each.
    given: Vec<(Location, u64)>,
    return_address: u64,
    /// At the routine's first instruction.
    stack_pointer: u64,
    /// Registers at the routine's first instruction.
    before: Vec<u64>,
}

fn run(session: &mut Session, checker: &mut Checker, return_address: u64, limit: u64) -> Ending {
    while session.moment() < limit {
        match checker.step(session) {
            StopReason::NeedsInput => return Ending::NeedsInput,
            StopReason::Stuck => return Ending::Stuck,
            StopReason::MemoryLimit => return Ending::MemoryLimit,
            StopReason::Terminated => {
                return match (session.ending(), session.fault_report()) {
                    (Some(Termination::Exited(status)), _) => Ending::Exited { status },
                    (_, Some(report)) => Ending::Fault { report: Box::new(report) },
                    _ => Ending::Returned,
                };
            }
            _ if session.here_address() == return_address => return Ending::Returned,
            _ => {}
        }
    }
    Ending::Limit { limit }
}

fn width_mask(bytes: u64) -> u64 {
    Width::from_bytes(bytes).map_or(u64::MAX, Width::mask)
}
