//! Operands as parsed, before addresses are known.

use sotto_isa::{Extend, Mem, Operand, Reg, RegKind, Shift, Value};

use crate::symbols::{Context, Evaluator, Linear};
use crate::text::lexer::{Cursor, Tok};
use crate::{Binary, Code, Diagnostic, Expr, Span};

/// An operand whose numbers may still be expressions.
#[derive(Clone, Debug)]
pub(crate) enum Parsed {
    /// Nothing is left open.
    Fixed(Operand),
    Imm(Expr),
    /// An address that is marked as one: `offset x`.
    Offset(Expr),
    ShiftedImm(Expr, u8),
    Target(Expr),
    /// A place of which only the page counts.
    Page(Expr),
    /// A value that is loaded from a literal pool.
    Literal(Expr),
    /// Memory whose displacement is an expression; behind a pointer, so that other operands stay small.
    Mem(Box<UnresolvedMem>),
}

/// Memory whose displacement is the expression.
#[derive(Clone, Debug)]
pub(crate) struct UnresolvedMem {
    pub mem: Mem,
    pub disp: Expr,
    /// On x86: an address without registers.
    pub x86_plain: bool,
    /// It counts from the instruction pointer.
    pub relative: bool,
}

/// A parsed operand and its place.
#[derive(Clone, Debug)]
pub(crate) struct Spanned {
    pub parsed: Parsed,
    pub span: Span,
}

/// A number as an operand's value.
pub(crate) fn value_of(number: i128, span: Span) -> Result<Value, Diagnostic> {
    if let Ok(value) = i64::try_from(number) {
        return Ok(Value::Known(value));
    }
    u64::try_from(number).map(Value::Above).map_err(|_| {
        Diagnostic::error(Code::OutOfRange, span, format!("{number} does not fit in 64 bits"))
    })
}

/// An operand with its values filled in, and what stands behind one that stays open.
pub(crate) struct Lowered {
    pub operand: Operand,
    pub late: Option<Linear>,
}

impl Spanned {
    /// Whether the operand holds no expression.
    pub fn is_fixed(&self) -> bool {
        matches!(self.parsed, Parsed::Fixed(_))
    }

    /// The operand's expression, if it holds one.
    pub fn expr_mut(&mut self) -> Option<&mut Expr> {
        match &mut self.parsed {
            Parsed::Fixed(_) => None,
            Parsed::Imm(expr)
            | Parsed::Offset(expr)
            | Parsed::ShiftedImm(expr, _)
            | Parsed::Target(expr)
            | Parsed::Page(expr)
            | Parsed::Literal(expr) => Some(expr),
            Parsed::Mem(open) => Some(&mut open.disp),
        }
    }

    /// Evaluates the operand's expressions. `local` gives the address of a place in the section that
    /// the instruction is in, which a branch can reach without a relocation.
    pub fn lower(
        &self,
        evaluator: &Evaluator,
        context: Context,
        local: &dyn Fn(&Linear) -> Option<i64>,
    ) -> Result<Lowered, Diagnostic> {
        let done = |operand| Ok(Lowered { operand, late: None });
        let eval = |expr: &Expr| evaluator.eval(expr, context, self.span);
        match &self.parsed {
            Parsed::Fixed(operand) => done(*operand),
            Parsed::Imm(expr) | Parsed::Offset(expr) => {
                let linear = eval(expr)?;
                match linear.as_number() {
                    Some(number) => done(Operand::Imm(value_of(number, self.span)?)),
                    None => {
                        Ok(Lowered { operand: Operand::Imm(Value::Unresolved), late: Some(linear) })
                    }
                }
            }
            Parsed::ShiftedImm(expr, shift) => {
                if let Expr::Via(..) = expr {
                    let operand = Operand::ShiftedImm(Value::Unresolved, *shift);
                    return Ok(Lowered { operand, late: Some(eval(expr)?) });
                }
                let number = evaluator.number(expr, context, self.span)?;
                done(Operand::ShiftedImm(value_of(number, self.span)?, *shift))
            }
            Parsed::Target(expr) => {
                let linear = eval(expr)?;
                if let Some(address) = local(&linear) {
                    return done(Operand::Target(Value::Known(address)));
                }
                Ok(Lowered { operand: Operand::Target(Value::Unresolved), late: Some(linear) })
            }
            Parsed::Page(expr) => {
                let linear = eval(expr)?;
                match linear.as_number() {
                    Some(number) => done(Operand::Target(value_of(number, self.span)?)),
                    None => Ok(Lowered {
                        operand: Operand::Target(Value::Unresolved),
                        late: Some(linear),
                    }),
                }
            }
            Parsed::Literal(_) => Err(Diagnostic::error(
                Code::Syntax,
                self.span,
                "a literal pool needs a section to be in",
            )),
            Parsed::Mem(open) => {
                let linear = eval(&open.disp)?;
                let mut mem = open.mem;
                if let Some(number) = linear.as_number() {
                    mem.disp = value_of(number, self.span)?;
                    return done(Operand::Mem(mem));
                }
                mem.disp = Value::Unresolved;
                if open.relative {
                    mem.base = Some(sotto_isa::x86::RIP);
                }
                Ok(Lowered { operand: Operand::Mem(mem), late: Some(linear) })
            }
        }
    }
}

/// A sum of scaled registers and an expression without registers.
#[derive(Default)]
pub(crate) struct Address {
    /// Registers with their factors, in order.
    pub terms: Vec<(Reg, i64, Span)>,
    pub rest: Option<Expr>,
}

impl Address {
    /// Splits an expression into its registers and the rest.
    pub fn split(expr: Expr, span: Span) -> Result<Address, Diagnostic> {
        let mut address = Address::default();
        address.collect(expr, 1, span)?;
        Ok(address)
    }

    fn collect(&mut self, expr: Expr, factor: i64, span: Span) -> Result<(), Diagnostic> {
        match expr {
            Expr::Register(reg, at) => {
                match self.terms.iter_mut().find(|(r, ..)| *r == reg) {
                    Some(term) if reg.kind != RegKind::Ip => term.1 += factor,
                    _ => self.terms.push((reg, factor, at)),
                }
                Ok(())
            }
            Expr::Binary(Binary::Add, a, b) => {
                self.collect(*a, factor, span)?;
                self.collect(*b, factor, span)
            }
            Expr::Binary(Binary::Subtract, a, b) if !has_register(&b) => {
                self.collect(*a, factor, span)?;
                self.add_rest(*b, factor, Binary::Subtract);
                Ok(())
            }
            Expr::Binary(Binary::Multiply, a, b) if has_register(&a) || has_register(&b) => {
                let (registers, number) = if has_register(&a) { (a, b) } else { (b, a) };
                let scale =
                    number.constant().and_then(Result::ok).and_then(|n| i64::try_from(n).ok());
                let Some(scale) = scale.and_then(|scale| scale.checked_mul(factor)) else {
                    return Err(Diagnostic::error(
                        Code::BadAddress,
                        span,
                        "a register in an address is multiplied by a plain number only",
                    ));
                };
                self.collect(*registers, scale, span)
            }
            other if has_register(&other) => Err(Diagnostic::error(
                Code::BadAddress,
                other.name_span().unwrap_or(span),
                "registers in an address can be added and scaled, nothing else",
            )),
            other => {
                self.add_rest(other, factor, Binary::Add);
                Ok(())
            }
        }
    }

    fn add_rest(&mut self, expr: Expr, factor: i64, how: Binary) {
        let scaled = match factor {
            1 => expr,
            _ => Expr::Binary(
                Binary::Multiply,
                Box::new(expr),
                Box::new(Expr::Number(i128::from(factor))),
            ),
        };
        self.rest = Some(match (self.rest.take(), how) {
            (None, Binary::Add) => scaled,
            (rest, how) => {
                Expr::Binary(how, Box::new(rest.unwrap_or(Expr::Number(0))), Box::new(scaled))
            }
        });
    }
}

fn has_register(expr: &Expr) -> bool {
    match expr {
        Expr::Register(..) => true,
        Expr::Number(_) | Expr::Symbol(..) | Expr::Known(..) | Expr::Numbered(..) | Expr::Here => {
            false
        }
        Expr::Load(_, inner) | Expr::Unary(_, inner) | Expr::Via(_, inner) => has_register(inner),
        Expr::Binary(_, a, b) => has_register(a) || has_register(b),
    }
}

/// A shift or extension name.
pub(crate) enum Modifier {
    Shift(Shift),
    Extend(Extend),
}

/// The modifier that the next word names, if it does.
pub(crate) fn peek_modifier(cursor: &mut Cursor) -> Option<Modifier> {
    let Ok(Tok::Word(word)) = cursor.peek() else { return None };
    let lower = word.to_ascii_lowercase();
    let shift = Shift::ALL.into_iter().find(|shift| shift.name() == lower).map(Modifier::Shift);
    shift.or_else(|| {
        Extend::ALL.into_iter().find(|extend| extend.name() == lower).map(Modifier::Extend)
    })
}
