//! Expressions at a moment of the run: registers, symbols, numbers, memory.

use sotto_asm::{Binary, EvalError, Expr};
use sotto_isa::{Arch, FlagInfo, RegKind, Storage, Width};
use sotto_kernel::System;
use sotto_machine::Watched;
use sotto_object::{Image, ImageLabel, Variable, VariableType};

use crate::run::variables::{VariableNow, place_now, variable_named, width_of};

/// Why an expression has no value now.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum EvaluateError {
    /// The text is no expression.
    #[error("{0}")]
    Syntax(String),
    /// The program has no such symbol.
    #[error("no symbol `{name}`{}", .near.as_ref().map(|n| format!("; did you mean `{n}`?")).unwrap_or_default())]
    NoSymbol {
        /// The name.
        name: String,
        /// The nearest symbol.
        near: Option<String>,
    },
    /// More than one routine has a dotted label of this name.
    #[error("several routines have `{name}`: write which, `{owner}{name}`")]
    SeveralLabels {
        /// The label.
        name: String,
        /// The first of the routines.
        owner: String,
    },
    /// No numbered label lies that way.
    #[error("no label `{number}` comes {} this place", if *.forward { "after" } else { "before" })]
    NoNumbered {
        /// The label.
        number: u32,
        /// It was looked for behind the place.
        forward: bool,
    },
    /// A variable without a location at this place, or with one that is not understood. Source: DWARF 5, 2.6.
    #[error("the debugging information has no simple location for `{0}` here")]
    NoLocation(String),
    /// Arithmetic without a result.
    #[error(transparent)]
    Arithmetic(#[from] EvalError),
    /// Memory that cannot be read.
    #[error("{0:#x} cannot be read")]
    Unreadable(u64),
    /// A vector register has no one value.
    #[error("`{0}` holds several values at once; `registers {0}` shows them")]
    Vector(&'static str),
    /// Nothing that an instruction could write.
    #[error(
        "`{0}` is not a target: name a register, a flag, memory as `[address]`, or a symbol for what it labels"
    )]
    NoTarget(String),
    /// What means something in a source alone, as the current address.
    #[error("`{0}` means nothing here")]
    Meaningless(&'static str),
    /// Nobody can tell who wrote a register that instructions change without naming it.
    #[error("instructions change `{0}` without naming it; `watch {0}` stops after its next change")]
    Unnamed(&'static str),
}

/// A value, and how wide what it came from is.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Evaluated {
    /// The value; of registers and memory zero-extended.
    pub value: i128,
    /// Width of the register or memory, if the expression is just one.
    pub width: Option<Width>,
}

pub(crate) fn evaluate(
    image: &Image,
    system: &mut System,
    text: &str,
) -> Result<Evaluated, EvaluateError> {
    let expr = sotto_asm::parse_expression(image.arch, text)
        .map_err(|diagnostic| EvaluateError::Syntax(diagnostic.message.clone()))?;
    value(image, system, &expr)
}

pub(crate) fn value(
    image: &Image,
    system: &mut System,
    expr: &Expr,
) -> Result<Evaluated, EvaluateError> {
    let plain = |value| Ok(Evaluated { value, width: None });
    match expr {
        Expr::Number(number) => plain(*number),
        Expr::Register(reg, _) if reg.is_a64_vector() && reg.width() <= Width::W64 => {
            let id = reg.id().expect("a vector register");
            let bits = system.machine.bank_register(id).element(0, reg.width());
            Ok(Evaluated { value: i128::from(bits), width: Some(reg.width()) })
        }
        Expr::Register(reg, _) if let Some(id) = reg.id() => {
            let whole = system.machine.bank_register(id);
            if reg.width() > Width::W128 {
                return Err(EvaluateError::Vector(reg.name()));
            }
            let bits = whole.low_128() & u128::MAX >> (128 - reg.width().bits());
            Ok(Evaluated { value: bits as i128, width: Some(reg.width()) })
        }
        Expr::Register(reg, _) if reg.kind == RegKind::Segment => {
            Err(EvaluateError::Meaningless("a segment register"))
        }
        Expr::Load(Some(Width::W128), _) => Err(EvaluateError::Meaningless("so wide a value")),
        Expr::Register(reg, _) => {
            let register = reg.storage().map_or(0, |storage| system.machine.register(storage));
            let value = i128::from(reg.part_of(register));
            Ok(Evaluated { value, width: Some(reg.width()) })
        }
        Expr::Symbol(name, _)
            if let Some(variable) = variable_named(image, system.machine.pc(), name) =>
        {
            of_variable(image, system, variable)
        }
        Expr::Symbol(name, _) => match image.symbol(name) {
            Some(symbol) => plain(i128::from(symbol.address)),
            None if let Some(address) = label_named(image, system.machine.pc(), name)? => {
                plain(i128::from(address))
            }
            None if storage_named(system.arch(), name).is_some() => {
                let storage = storage_named(system.arch(), name).expect("a register");
                let value = i128::from(system.machine.register(storage));
                Ok(Evaluated { value, width: Some(system.arch().address_width()) })
            }
            None if is_flags_register(image, name) => {
                let shift = system.arch().flags_register().1;
                plain(i128::from(system.machine.flags().0) << shift)
            }
            None if flag_named(image, name).is_some() => {
                let flags = system.machine.flags();
                let set = flag_named(image, name).is_some_and(|info| flags.contains(info.flag));
                plain(i128::from(set))
            }
            None => {
                let known = image.symbols.iter().map(|symbol| symbol.name.as_str());
                let near = sotto_asm::nearest(name, known).map(str::to_string);
                Err(EvaluateError::NoSymbol { name: name.to_string(), near })
            }
        },
        Expr::Load(width, address) => {
            let declared = width.or(declared_width(image, address));
            let width = declared.unwrap_or(system.arch().address_width());
            let at = value(image, system, address)?.value as u64;
            let mut bytes = [0; 8];
            system
                .machine
                .memory_mut()
                .read_bytes(at, &mut bytes[..width.bytes() as usize])
                .map_err(|fault| EvaluateError::Unreadable(fault.address))?;
            Ok(Evaluated { value: i128::from(u64::from_le_bytes(bytes)), width: Some(width) })
        }
        Expr::Unary(operator, inner) => plain(operator.apply(value(image, system, inner)?.value)?),
        Expr::Binary(operator, a, b) => {
            let a = value(image, system, a)?.value;
            // As in C, the second operand is not looked at if the first decides.
            match operator {
                Binary::LogicalAnd if a == 0 => return plain(0),
                Binary::LogicalOr if a != 0 => return plain(1),
                _ => {}
            }
            let b = value(image, system, b)?.value;
            plain(operator.apply(a, b)?)
        }
        Expr::Numbered(number, forward, _) => {
            let pc = system.machine.pc();
            let address = numbered_label(image, pc, *number, *forward);
            let (number, forward) = (*number, *forward);
            let address = address.ok_or(EvaluateError::NoNumbered { number, forward })?;
            plain(i128::from(address))
        }
        Expr::Via(..) | Expr::Known(..) => Err(EvaluateError::Meaningless("a way to a symbol")),
        Expr::Here => Err(EvaluateError::Meaningless("the current address")),
    }
}

/// The value of a variable of the routine that is running; of an array or a structure its address.
fn of_variable(
    image: &Image,
    system: &mut System,
    variable: &Variable,
) -> Result<Evaluated, EvaluateError> {
    let nowhere = || EvaluateError::NoLocation(variable.name.clone());
    let now = place_now(image, system, variable).ok_or_else(nowhere)?;
    let width = width_of(variable.kind);
    let bits = match (now, width) {
        (VariableNow::Memory(address), Some(width)) => {
            let mut bytes = [0; 8];
            let part = &mut bytes[..width.bytes() as usize];
            let read = system.machine.memory().read_bytes(address, part);
            read.map_err(|fault| EvaluateError::Unreadable(fault.address))?;
            u64::from_le_bytes(bytes)
        }
        (VariableNow::Memory(address), None) => address,
        (VariableNow::Register(storage), _) => system.machine.register(storage),
        (VariableNow::BankRegister(id), _) => system.machine.bank_register(id).word(0),
    };
    let value = match (variable.kind, width) {
        // As C has it: a number with a sign keeps it in arithmetic.
        (VariableType::Signed(_), Some(width)) => i128::from(width.sign_extend(bits)),
        (_, width) => i128::from(bits & width.map_or(u64::MAX, Width::mask)),
    };
    Ok(Evaluated { value, width })
}

/// The address of a dotted label: `.next` of the routine that is running, or the only one; `copy.next` of that routine.
fn label_named(image: &Image, pc: u64, name: &str) -> Result<Option<u64>, EvaluateError> {
    if !name.starts_with('.') {
        let found = name.match_indices('.').find_map(|(at, _)| {
            let is = |label: &&ImageLabel| {
                label.owner.as_deref() == Some(&name[..at]) && label.name == name[at..]
            };
            image.labels.iter().find(is)
        });
        return Ok(found.map(|label| label.address));
    }
    let here = image.symbol_before(pc).map(|(symbol, _)| symbol.name.as_str());
    let named = || image.labels.iter().filter(|label| label.name == name);
    if let Some(own) = named().find(|label| label.owner.as_deref() == here) {
        return Ok(Some(own.address));
    }
    let mut all = named();
    match (all.next(), all.next()) {
        (Some(one), Some(_)) => Err(EvaluateError::SeveralLabels {
            name: name.to_string(),
            owner: one.owner.clone().unwrap_or_default(),
        }),
        (one, _) => Ok(one.map(|label| label.address)),
    }
}

/// The numbered label behind an address, or the last one that is not.
fn numbered_label(image: &Image, pc: u64, number: u32, forward: bool) -> Option<u64> {
    let name = number.to_string();
    let mut named = image.labels.iter().filter(|label| label.name == name);
    let found = match forward {
        true => named.find(|label| label.address > pc),
        false => named.take_while(|label| label.address <= pc).last(),
    };
    found.map(|label| label.address)
}

/// The register that no instruction has as an operand and that has this name: the instruction pointer, and those for the
/// system's use, `fpcr` or `mxcsr`.
pub(crate) fn storage_named(arch: Arch, name: &str) -> Option<Storage> {
    let names = arch.storage_names().iter().zip(0..).skip(usize::from(arch.pc().0));
    let mut named = names.filter(|(known, _)| known.eq_ignore_ascii_case(name));
    named.next().map(|(_, number)| Storage(number))
}

/// Whether a name is that of the register that holds the flags, `rflags` or `nzcv`, and of no symbol.
pub(crate) fn is_flags_register(image: &Image, name: &str) -> bool {
    image.symbol(name).is_none() && image.arch.flags_register().0.eq_ignore_ascii_case(name)
}

/// Whether a name is that of the machine's instruction pointer, which is no operand of instructions on every
/// machine: `rip`, `eip`, `pc`.
pub(crate) fn is_counter(arch: Arch, name: &str) -> bool {
    name.eq_ignore_ascii_case(arch.storage_name(arch.pc()))
}

/// The flag of a name or a word, `ZF` or `zero`, if the program has no symbol of that name.
pub(crate) fn flag_named(image: &Image, name: &str) -> Option<&'static FlagInfo> {
    if image.symbol(name).is_some() {
        return None;
    }
    let is = |word: &str| word.eq_ignore_ascii_case(name);
    image.arch.flags().iter().find(|info| is(info.name) || is(info.word))
}

/// Adds the registers, flags and memory that a value depends on now.
pub(crate) fn depends_on(image: &Image, system: &mut System, expr: &Expr, watched: &mut Watched) {
    match expr {
        Expr::Register(reg, _) => {
            if let Some(storage) = reg.storage() {
                watched.add_register(storage);
            }
            if let Some(id) = reg.id() {
                watched.add_bank_register(id);
            }
        }
        Expr::Symbol(name, _)
            if let Some(variable) = variable_named(image, system.machine.pc(), name) =>
        {
            match place_now(image, system, variable) {
                Some(VariableNow::Memory(address)) => {
                    watched.add_memory(address, width_of(variable.kind).map_or(1, Width::bytes));
                }
                Some(VariableNow::Register(storage)) => watched.add_register(storage),
                Some(VariableNow::BankRegister(id)) => watched.add_bank_register(id),
                None => {}
            }
        }
        Expr::Symbol(name, _) => {
            if let Some(info) = flag_named(image, name) {
                watched.add_flags(info.flag);
            } else if is_flags_register(image, name) {
                image.arch.flags().iter().for_each(|info| watched.add_flags(info.flag));
            } else if image.symbol(name).is_none()
                && let Some(storage) = storage_named(image.arch, name)
            {
                watched.add_register(storage);
            }
        }
        Expr::Load(width, address) => {
            depends_on(image, system, address, watched);
            let declared = width.or(declared_width(image, address));
            let bytes = declared.unwrap_or(system.arch().address_width()).bytes();
            if let Ok(evaluated) = value(image, system, address) {
                watched.add_memory(evaluated.value as u64, bytes);
            }
        }
        Expr::Unary(_, inner) => depends_on(image, system, inner, watched),
        Expr::Binary(_, a, b) => {
            depends_on(image, system, a, watched);
            depends_on(image, system, b, watched);
        }
        _ => {}
    }
}

/// The width that the first symbol of an address was declared with: `[tide + 3]` is as wide as `tide`.
pub(crate) fn declared_width(image: &Image, address: &Expr) -> Option<Width> {
    match address {
        Expr::Symbol(name, _) => {
            Width::from_bytes(u64::from(image.symbol(name)?.datum?.element_bytes))
        }
        Expr::Unary(_, inner) => declared_width(image, inner),
        Expr::Binary(_, a, b) => declared_width(image, a).or_else(|| declared_width(image, b)),
        _ => None,
    }
}
