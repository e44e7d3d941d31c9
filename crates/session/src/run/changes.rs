//! Changing registers, flags, memory and the instruction pointer of a program that is being examined.

use sotto_asm::Expr;
use sotto_isa::{FlagSet, Reg, RegKind, RegisterValue, Width};
use sotto_machine::Signal;

use crate::run::evaluate;
use crate::run::evaluate::EvaluateError;
use crate::run::history::Edit;
use crate::{Session, SessionError};

/// What a change made of what.
#[derive(Clone, PartialEq, Eq, Debug, serde::Serialize)]
pub struct Change {
    /// What was changed, as it was named.
    pub target: String,
    /// The value before.
    #[serde(serialize_with = "crate::views::places::hex")]
    pub old: u64,
    /// The value now.
    #[serde(serialize_with = "crate::views::places::hex")]
    pub new: u64,
    /// Bits of it.
    pub bits: u32,
    /// Instructions completed when it was changed.
    pub moment: u64,
    /// Instructions that were executed after this moment already and are forgotten now.
    pub forgotten: bool,
}

impl Session {
    /// Sends the program a signal now. History goes on from here; what was after this moment is forgotten.
    ///
    /// # Errors
    ///
    /// If the program has ended.
    pub fn send_signal(&mut self, signal: Signal) -> Result<(), SessionError> {
        if self.ending().is_some() {
            return Err(SessionError::Change("the program has ended".to_string()));
        }
        self.select_running();
        let in_wait = self.system.is_waiting();
        self.edit(Edit::Signal(signal, in_wait));
        Ok(())
    }

    /// Changes a register, a flag, or memory in brackets or behind a symbol, to the value of an
    /// expression. History goes on from here; what was after this moment is forgotten.
    ///
    /// # Errors
    ///
    /// If there is no such target, the value does not fit it, or the program has ended.
    pub fn change(&mut self, target: &str, value: &str) -> Result<Change, SessionError> {
        let refused = |text: String| Err(SessionError::Change(text));
        if self.ending().is_some() {
            return refused("the program has ended; `back` goes to where it can be changed".into());
        }
        let evaluated = self.evaluate(value)?.value;
        let moment = self.moment();
        let forgotten = self.history.after(moment).is_some();
        let done = |old, new, bits| Change {
            target: target.to_string(),
            old,
            new,
            bits,
            moment,
            forgotten,
        };
        if let Some(info) = self.flag_named(target) {
            let flags = self.system.machine.flags();
            let (old, new) = (u64::from(flags.contains(info.flag)), fitting(evaluated, 1)?);
            let changed = if new == 1 { flags.with(info.flag) } else { flags.without(info.flag) };
            self.edit(Edit::Flags(changed));
            return Ok(done(old, new, 1));
        }
        let expr = sotto_asm::parse_expression(self.arch(), target)
            .map_err(|diagnostic| EvaluateError::Syntax(diagnostic.message.clone()))?;
        match &expr {
            Expr::Register(reg, _) => self.change_register(*reg, evaluated, done),
            Expr::Symbol(name, _) if evaluate::is_flags_register(&self.image, name) => {
                let shift = self.arch().flags_register().1;
                let all = self.arch().flags().iter().fold(0, |all, info| all | info.flag.0);
                let old = u64::from(self.system.machine.flags().0) << shift;
                let new = fitting(evaluated, 32)?;
                let others = new & !(u64::from(all) << shift);
                if others != 0 {
                    let text = format!("the bits {others:#x} of `{name}` are no status flags");
                    return refused(text);
                }
                self.edit(Edit::Flags(FlagSet((new >> shift) as _)));
                Ok(done(old, new, 32))
            }
            counter if self.is_counter(counter) => {
                let (storage, bits) = (self.arch().pc(), self.arch().address_width().bits());
                let (old, new) = (self.system.machine.pc(), fitting(evaluated, bits)?);
                self.edit(Edit::Register(storage, new));
                Ok(done(old, new, bits))
            }
            Expr::Symbol(name, _)
                if self.image.symbol(name).is_none()
                    && evaluate::storage_named(self.arch(), name).is_some() =>
            {
                let storage = evaluate::storage_named(self.arch(), name).expect("a register");
                let bits = self.arch().address_width().bits();
                let (old, new) = (self.system.machine.register(storage), fitting(evaluated, bits)?);
                self.edit(Edit::Register(storage, new));
                Ok(done(old, new, bits))
            }
            Expr::Load(width, address) => self.change_memory(*width, address, evaluated, done),
            symbol @ Expr::Symbol(..) => self.change_memory(None, symbol, evaluated, done),
            _ => refused(format!(
                "`{target}` is nothing that can be changed: name a register, a flag, or `[address]`"
            )),
        }
    }

    fn change_register(
        &mut self,
        reg: Reg,
        value: i128,
        done: impl Fn(u64, u64, u32) -> Change,
    ) -> Result<Change, SessionError> {
        if let Some(id) = reg.id() {
            let old = self.system.machine.bank_register(id);
            let value = match reg.width() {
                Width::W128 => value as u128,
                width => u128::from(fitting(value, width.bits())?),
            };
            let new = RegisterValue::from(value);
            self.edit(Edit::BankRegister(id, new));
            return Ok(done(old.word(0), new.word(0), 64));
        }
        let (Some(storage), true) = (reg.storage(), reg.kind != RegKind::Segment) else {
            let text = format!("`{}` cannot be changed", reg.name());
            return Err(SessionError::Change(text));
        };
        let bits = reg.width().bits();
        let new = fitting(value, bits)?;
        let whole = self.system.machine.register(storage);
        let old = reg.part_of(whole);
        // The parts of a register that are not named keep their values.
        let mask = reg.width().mask() << reg.shift();
        self.edit(Edit::Register(storage, whole & !mask | new << reg.shift()));
        Ok(done(old, new, bits))
    }

    fn change_memory(
        &mut self,
        width: Option<Width>,
        address: &Expr,
        value: i128,
        done: impl Fn(u64, u64, u32) -> Change,
    ) -> Result<Change, SessionError> {
        let declared = width.or(evaluate::declared_width(&self.image, address));
        let width = declared.unwrap_or(self.arch().address_width());
        let new = fitting(value, width.bits())?;
        let at = self.evaluate_expr(address)?.value as u64;
        let mut bytes = [0; 8];
        let bytes = &mut bytes[..width.bytes() as usize];
        self.system
            .machine
            .memory_mut()
            .read_bytes(at, bytes)
            .map_err(|fault| EvaluateError::Unreadable(fault.address))?;
        let mut old = [0; 8];
        old[..bytes.len()].copy_from_slice(bytes);
        let new_bytes = new.to_le_bytes()[..bytes.len()].to_vec();
        self.edit(Edit::Memory(at, new_bytes));
        Ok(done(u64::from_le_bytes(old), new, width.bits()))
    }
}

/// A value as so many bits, signed or unsigned.
fn fitting(value: i128, bits: u32) -> Result<u64, SessionError> {
    let (low, high) = match bits {
        1 => (0, 1),
        bits => (-(1i128 << (bits - 1)), (1i128 << bits) - 1),
    };
    if !(low..=high).contains(&value) {
        let text = format!("{value} does not fit; it holds {low} to {high}");
        return Err(SessionError::Change(text));
    }
    Ok(value as u64 & if bits == 64 { u64::MAX } else { (1 << bits) - 1 })
}
