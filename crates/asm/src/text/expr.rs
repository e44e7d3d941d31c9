//! Expressions: the tree, its parser, and its evaluation on exact integers.
//!
//! C's operators and precedence. Arithmetic is on 128 bits and leaving that range is an error, so
//! nothing wraps silently.

use compact_str::CompactString;
use sotto_isa::{Arch, OperandOrder, Reg, Width};

use crate::text::hints;
use crate::text::lexer::{Cursor, Tok};
use crate::text::syntax::syntax;
use crate::{Code, Diagnostic, Span};

/// A unary operator.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "C's operators")]
pub enum Unary {
    Negate,
    Complement,
    Not,
}

/// A binary operator.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "C's operators")]
pub enum Binary {
    Multiply,
    Divide,
    Remainder,
    Add,
    Subtract,
    ShiftLeft,
    ShiftRight,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    Equal,
    NotEqual,
    And,
    Xor,
    Or,
    LogicalAnd,
    LogicalOr,
}

/// An expression.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Expr {
    /// A number.
    Number(i128),
    /// A symbol by name, and the place where it stands.
    Symbol(CompactString, Span),
    /// A symbol that was looked up already, by its number in the assembly; the parser makes none.
    Known(u32, Span),
    /// A numbered label: its number, and whether it is ahead.
    Numbered(u32, bool, Span),
    /// The current address.
    Here,
    /// A register; only in addresses and in the stepper.
    Register(Reg, Span),
    /// Memory at an address, of a width if one is given; only in the stepper.
    Load(Option<Width>, Box<Expr>),
    /// A unary operator applied.
    Unary(Unary, Box<Expr>),
    /// A binary operator applied.
    Binary(Binary, Box<Expr>, Box<Expr>),
    /// A symbol's address, reached or cut as said; only in operands.
    Via(Via, Box<Expr>),
}

/// A way to a symbol other than its plain address.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Via {
    /// `x@plt`: an entry of the procedure linkage table that goes to the symbol.
    Plt,
    /// `x@gotpcrel`: the entry of the global offset table that holds the address, from here.
    GotPcRel,
    /// `x@got`: the offset of that entry in the table, in 32-bit code.
    Got,
    /// `x@gotoff`: the distance from the table to the symbol, in 32-bit code.
    GotOff,
    /// `:lo12:x`: the low twelve bits of the address.
    Low12,
    /// `:got:x`: the page of the entry of the global offset table, in A64 code.
    GotPage,
    /// `:got_lo12:x`: the low twelve bits of that entry's address.
    GotLow12,
    /// `:abs_g1:x`, `:abs_g1_nc:x`: 16 bits of the address from a multiple of 16 on, in A64 code.
    MovePart {
        /// The multiple: 0 to 3.
        part: u8,
        /// The bits above may be lost.
        unchecked: bool,
    },
    /// A way to thread-local data, by the operator's name.
    Tls(TlsOperator),
}

/// The operators that lead to thread-local data; each machine's supplement says what their fields hold.
///
/// Sources: ELF Handling for Thread-Local Storage; AAELF64, 5.7.11.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum TlsOperator {
    /// `@tlsgd`
    General,
    /// `@tlsld`, `@tlsldm`
    Module,
    /// `@gottpoff`, `@gotntpoff`
    OffsetEntry,
    /// `@indntpoff`
    OffsetEntryAddress,
    /// `@tpoff`, `@ntpoff`
    ThreadOffset,
    /// `@dtpoff`
    BlockOffset,
    /// `:tprel_hi12:`
    High12,
    /// `:tprel_lo12:`
    Low12,
    /// `:tprel_lo12_nc:`
    Low12Unchecked,
    /// `:gottprel:`
    EntryPage,
    /// `:gottprel_lo12:`
    EntryLow12,
    /// `:tlsdesc:`
    DescriptorPage,
    /// `:tlsdesc_lo12:`
    DescriptorLow12,
    /// `.tlsdesccall`
    DescriptorCall,
}

/// The operators after `@`, as x86 sources write them.
const SUFFIXES: &[(&str, Via)] = &[
    ("plt", Via::Plt),
    ("gotpcrel", Via::GotPcRel),
    ("got", Via::Got),
    ("gotoff", Via::GotOff),
    ("tlsgd", Via::Tls(TlsOperator::General)),
    ("tlsld", Via::Tls(TlsOperator::Module)),
    ("tlsldm", Via::Tls(TlsOperator::Module)),
    ("gottpoff", Via::Tls(TlsOperator::OffsetEntry)),
    ("gotntpoff", Via::Tls(TlsOperator::OffsetEntry)),
    ("indntpoff", Via::Tls(TlsOperator::OffsetEntryAddress)),
    ("tpoff", Via::Tls(TlsOperator::ThreadOffset)),
    ("ntpoff", Via::Tls(TlsOperator::ThreadOffset)),
    ("dtpoff", Via::Tls(TlsOperator::BlockOffset)),
];

/// The operators between colons, as A64 sources write them.
const PREFIXES: &[(&str, Via)] = &[
    ("lo12", Via::Low12),
    ("got", Via::GotPage),
    ("got_lo12", Via::GotLow12),
    ("tprel_hi12", Via::Tls(TlsOperator::High12)),
    ("tprel_lo12", Via::Tls(TlsOperator::Low12)),
    ("tprel_lo12_nc", Via::Tls(TlsOperator::Low12Unchecked)),
    ("gottprel", Via::Tls(TlsOperator::EntryPage)),
    ("gottprel_lo12", Via::Tls(TlsOperator::EntryLow12)),
    ("tlsdesc", Via::Tls(TlsOperator::DescriptorPage)),
    ("tlsdesc_lo12", Via::Tls(TlsOperator::DescriptorLow12)),
    ("abs_g0", Via::MovePart { part: 0, unchecked: false }),
    ("abs_g0_nc", Via::MovePart { part: 0, unchecked: true }),
    ("abs_g1", Via::MovePart { part: 1, unchecked: false }),
    ("abs_g1_nc", Via::MovePart { part: 1, unchecked: true }),
    ("abs_g2", Via::MovePart { part: 2, unchecked: false }),
    ("abs_g2_nc", Via::MovePart { part: 2, unchecked: true }),
    ("abs_g3", Via::MovePart { part: 3, unchecked: false }),
];

/// The names of such operators, for a message.
fn listed(operators: &[(&str, Via)]) -> String {
    let names: Vec<String> = operators.iter().map(|(name, _)| format!("`{name}`")).collect();
    let (last, others) = names.split_last().expect("there are some");
    format!("{} or {last}", others.join(", "))
}

impl Via {
    /// The way that a word after `@` names.
    fn by_suffix(word: &str) -> Option<Via> {
        let found = SUFFIXES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word));
        found.map(|(_, via)| *via)
    }

    /// Takes the name of a way between colons, the first of which is taken already.
    pub(crate) fn prefix(cursor: &mut Cursor) -> Result<Via, Diagnostic> {
        let (token, span) = cursor.next()?;
        let found = match token {
            Tok::Word(word) => PREFIXES.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)),
            _ => None,
        };
        let Some((name, via)) = found else {
            let wanted = format!("{} between colons", listed(PREFIXES));
            return Err(cursor.unexpected(token, span, &wanted));
        };
        cursor.expect(':', &format!("after `{name}`"))?;
        Ok(*via)
    }
}

/// Why an expression on numbers has no value.
#[derive(Copy, Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum EvalError {
    /// Division or remainder by zero.
    #[error("division by zero")]
    DivisionByZero,
    /// The result needs more than 128 bits.
    #[error("the result is outside -2^127 to 2^127 - 1")]
    TooLarge,
    /// A shift by a negative number, or by more than 127.
    #[error("a shift is by 0 to 127 bits")]
    BadShift,
}

impl Unary {
    /// The operator applied to a number.
    ///
    /// # Errors
    ///
    /// [`EvalError::TooLarge`] for the negation of the least number.
    pub fn apply(self, value: i128) -> Result<i128, EvalError> {
        match self {
            Unary::Negate => value.checked_neg().ok_or(EvalError::TooLarge),
            Unary::Complement => Ok(!value),
            Unary::Not => Ok(i128::from(value == 0)),
        }
    }
}

impl Binary {
    /// The operator applied to two numbers. Comparisons give 1 or 0.
    ///
    /// # Errors
    ///
    /// See [`EvalError`].
    pub fn apply(self, a: i128, b: i128) -> Result<i128, EvalError> {
        let large = EvalError::TooLarge;
        let shift = || u32::try_from(b).ok().filter(|n| *n < 128).ok_or(EvalError::BadShift);
        match self {
            Binary::Multiply => a.checked_mul(b).ok_or(large),
            Binary::Divide | Binary::Remainder if b == 0 => Err(EvalError::DivisionByZero),
            Binary::Divide => a.checked_div(b).ok_or(large),
            Binary::Remainder => a.checked_rem(b).ok_or(large),
            Binary::Add => a.checked_add(b).ok_or(large),
            Binary::Subtract => a.checked_sub(b).ok_or(large),
            Binary::ShiftLeft => {
                let n = shift()?;
                let shifted = a.wrapping_shl(n);
                if shifted >> n == a { Ok(shifted) } else { Err(large) }
            }
            Binary::ShiftRight => Ok(a >> shift()?),
            Binary::Less => Ok(i128::from(a < b)),
            Binary::LessEqual => Ok(i128::from(a <= b)),
            Binary::Greater => Ok(i128::from(a > b)),
            Binary::GreaterEqual => Ok(i128::from(a >= b)),
            Binary::Equal => Ok(i128::from(a == b)),
            Binary::NotEqual => Ok(i128::from(a != b)),
            Binary::And => Ok(a & b),
            Binary::Xor => Ok(a ^ b),
            Binary::Or => Ok(a | b),
            Binary::LogicalAnd => Ok(i128::from(a != 0 && b != 0)),
            Binary::LogicalOr => Ok(i128::from(a != 0 || b != 0)),
        }
    }
}

/// The binary operator that a token is, and how tightly it binds: C's levels, 1 the weakest.
fn binary_operator(token: Tok) -> Option<(Binary, u8)> {
    Some(match token {
        Tok::Op2("||") => (Binary::LogicalOr, 1),
        Tok::Op2("&&") => (Binary::LogicalAnd, 2),
        Tok::Op('|') => (Binary::Or, 3),
        Tok::Op('^') => (Binary::Xor, 4),
        Tok::Op('&') => (Binary::And, 5),
        Tok::Op2("==") => (Binary::Equal, 6),
        Tok::Op2("!=") => (Binary::NotEqual, 6),
        Tok::Op2("<=") => (Binary::LessEqual, 7),
        Tok::Op2(">=") => (Binary::GreaterEqual, 7),
        Tok::Op('<') => (Binary::Less, 7),
        Tok::Op('>') => (Binary::Greater, 7),
        Tok::Op2("<<") => (Binary::ShiftLeft, 8),
        Tok::Op2(">>") => (Binary::ShiftRight, 8),
        Tok::Op('+') => (Binary::Add, 9),
        Tok::Op('-') => (Binary::Subtract, 9),
        Tok::Op('*') => (Binary::Multiply, 10),
        Tok::Op('/') => (Binary::Divide, 10),
        Tok::Op('%') => (Binary::Remainder, 10),
        _ => return None,
    })
}

/// Expressions nest at most this deep, so that hostile input cannot exhaust the host's stack.
const MAX_DEPTH: u32 = 200;

/// What an expression may hold beyond numbers and symbols.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Atoms {
    /// Nothing else.
    Plain,
    /// Registers.
    Registers,
    /// Registers, and memory in brackets.
    Memory,
}

/// Parses an expression as far as it goes.
pub(crate) fn parse(cursor: &mut Cursor, atoms: Atoms) -> Result<Expr, Diagnostic> {
    Parser { cursor, atoms, depth: 0 }.level(1)
}

/// Parses a whole text as an expression that may name registers and, in brackets, memory.
///
/// # Errors
///
/// A diagnostic whose span is within `text`.
pub fn parse_expression(arch: Arch, text: &str) -> Result<Expr, Diagnostic> {
    let mut cursor = Cursor::new(text, 0, arch);
    let expr = parse(&mut cursor, Atoms::Memory)?;
    cursor.expect_end("after the expression")?;
    Ok(expr)
}

struct Parser<'c, 'a> {
    cursor: &'c mut Cursor<'a>,
    atoms: Atoms,
    depth: u32,
}

impl Parser<'_, '_> {
    /// An expression whose operators bind at least as tightly as `least`.
    fn level(&mut self, least: u8) -> Result<Expr, Diagnostic> {
        let mut left = self.unary()?;
        let mut length = 0;
        while let Some((operator, tightness)) = binary_operator(self.cursor.peek()?) {
            if tightness < least {
                break;
            }
            let (_, at) = self.cursor.next()?;
            if operator == Binary::Subtract {
                self.check_dashes(at)?;
            }
            // Operators of one level group from the left.
            let right = self.level(tightness + 1)?;
            left = Expr::Binary(operator, Box::new(left), Box::new(right));
            length += 1;
            if length > 1000 {
                return Err(self.too_deep());
            }
        }
        Ok(left)
    }

    /// Refuses ` -- `, which starts a comment elsewhere.
    fn check_dashes(&mut self, first: Span) -> Result<(), Diagnostic> {
        let Ok((Tok::Op('-'), second)) = self.cursor.peek_spanned() else { return Ok(()) };
        let alone = self.cursor.text_before(first).ends_with([' ', '\t'])
            && self.cursor.text_after(second).starts_with([' ', '\t']);
        if second.start != first.end || !alone {
            return Ok(());
        }
        let error = Diagnostic::error(Code::Syntax, first.to(second), "`--` starts no comment");
        Err(error.help(hints::comment_help(self.cursor)))
    }

    /// A text where a number is needed.
    fn several_characters(&self, text: &str, span: Span) -> Diagnostic {
        let message =
            "a text stands where a number is needed; a character constant has one character";
        let error = Diagnostic::error(Code::Syntax, span, message);
        match crate::text::lexer::unescape(text, span) {
            Ok(bytes) if bytes.len() <= 8 => {
                let number =
                    bytes.iter().rev().fold(0u64, |number, byte| number << 8 | u64::from(*byte));
                error.help(format!("the number whose bytes are these in memory is {number:#x}"))
            }
            _ => error.help("put the text into memory with `.ascii`, and use its address"),
        }
    }

    fn too_deep(&mut self) -> Diagnostic {
        let span = self.cursor.peek_spanned().map_or(Span::default(), |token| token.1);
        Diagnostic::error(Code::Syntax, span, "the expression nests too deeply")
    }

    fn unary(&mut self) -> Result<Expr, Diagnostic> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.too_deep());
        }
        let expr = self.unary_inner();
        self.depth -= 1;
        expr
    }

    fn unary_inner(&mut self) -> Result<Expr, Diagnostic> {
        let (token, span) = self.cursor.next()?;
        let unary = |operator, parser: &mut Self| {
            let inner = parser.unary()?;
            Ok(match (operator, inner) {
                (Unary::Negate, Expr::Number(n)) => Expr::Number(-n),
                (operator, inner) => Expr::Unary(operator, Box::new(inner)),
            })
        };
        match token {
            Tok::Num(value) => Ok(Expr::Number(value)),
            Tok::LabelRef(number, forward) => Ok(Expr::Numbered(number, forward, span)),
            Tok::Op('-') => unary(Unary::Negate, self),
            Tok::Op('~') => unary(Unary::Complement, self),
            Tok::Op('!') => unary(Unary::Not, self),
            Tok::Op('+') => self.unary(),
            Tok::Op('(') => {
                let inner = self.level(1)?;
                self.cursor.expect(')', "to close the parenthesis")?;
                Ok(inner)
            }
            Tok::Op('$')
                if syntax(self.cursor.arch()).dollar_is_here
                    && self.cursor.order() == OperandOrder::DestinationFirst =>
            {
                Ok(Expr::Here)
            }
            Tok::Word(".") => Ok(Expr::Here),
            Tok::Op('[') if self.atoms == Atoms::Memory => self.load(None),
            Tok::Word(word) => self.word(word, span),
            Tok::Str(text) if !text.is_empty() => Err(self.several_characters(text, span)),
            _ => Err(self.cursor.unexpected(token, span, "a value")),
        }
    }

    fn load(&mut self, width: Option<Width>) -> Result<Expr, Diagnostic> {
        let address = self.level(1)?;
        self.cursor.expect(']', "to close the bracket")?;
        Ok(Expr::Load(width, Box::new(address)))
    }

    fn word(&mut self, word: &str, span: Span) -> Result<Expr, Diagnostic> {
        // Before `@` stands a symbol, whatever it is called.
        if self.atoms != Atoms::Plain
            && self.cursor.peek()? != Tok::Op('@')
            && let Some(reg) = Reg::parse(self.cursor.arch(), word)
        {
            return Ok(Expr::Register(reg, span));
        }
        if self.atoms == Atoms::Memory
            && let Some(width) = self.cursor.arch().width_by_word(word)
        {
            if let (Tok::Word(ptr), _) = self.cursor.peek_spanned()?
                && ptr.eq_ignore_ascii_case("ptr")
            {
                self.cursor.next()?;
            }
            self.cursor.expect('[', "after the width")?;
            return self.load(Some(width));
        }
        let symbol = Expr::Symbol(word.into(), span);
        if self.cursor.peek()? == Tok::Op('@') {
            return self.via(symbol);
        }
        Ok(symbol)
    }

    /// `symbol@way`
    fn via(&mut self, symbol: Expr) -> Result<Expr, Diagnostic> {
        self.cursor.next()?;
        let (token, span) = self.cursor.next()?;
        let way = match token {
            Tok::Word(word) => Via::by_suffix(word),
            _ => None,
        };
        match way {
            Some(way) => Ok(Expr::Via(way, Box::new(symbol))),
            None => {
                Err(self.cursor.unexpected(token, span, &format!("{} after `@`", listed(SUFFIXES))))
            }
        }
    }
}

impl Expr {
    /// The value, if the expression holds numbers only.
    pub fn constant(&self) -> Option<Result<i128, EvalError>> {
        match self {
            Expr::Number(value) => Some(Ok(*value)),
            Expr::Unary(operator, inner) => {
                Some(inner.constant()?.and_then(|value| operator.apply(value)))
            }
            Expr::Binary(operator, a, b) => {
                let (a, b) = (a.constant()?, b.constant()?);
                Some(a.and_then(|a| operator.apply(a, b?)))
            }
            _ => None,
        }
    }

    /// Calls with every part that has no parts of its own: names, numbers, registers.
    pub(crate) fn for_each_leaf(&mut self, change: &mut impl FnMut(&mut Expr)) {
        match self {
            Expr::Load(_, inner) | Expr::Unary(_, inner) | Expr::Via(_, inner) => {
                inner.for_each_leaf(change);
            }
            Expr::Binary(_, a, b) => {
                a.for_each_leaf(change);
                b.for_each_leaf(change);
            }
            leaf => change(leaf),
        }
    }

    /// Calls `look` for each part that has no parts.
    pub(crate) fn visit_leaves(&self, look: &mut impl FnMut(&Expr)) {
        match self {
            Expr::Load(_, inner) | Expr::Unary(_, inner) | Expr::Via(_, inner) => {
                inner.visit_leaves(look);
            }
            Expr::Binary(_, a, b) => {
                a.visit_leaves(look);
                b.visit_leaves(look);
            }
            leaf => look(leaf),
        }
    }

    /// The operator that says how its symbol is reached, if it has one.
    pub(crate) fn via(&self) -> Option<Via> {
        match self {
            Expr::Via(via, _) => Some(*via),
            Expr::Load(_, inner) | Expr::Unary(_, inner) => inner.via(),
            Expr::Binary(_, a, b) => a.via().or_else(|| b.via()),
            _ => None,
        }
    }

    /// Place of the first name in the expression.
    pub(crate) fn name_span(&self) -> Option<Span> {
        match self {
            Expr::Symbol(_, span)
            | Expr::Known(_, span)
            | Expr::Numbered(_, _, span)
            | Expr::Register(_, span) => Some(*span),
            Expr::Number(_) | Expr::Here => None,
            Expr::Load(_, inner) | Expr::Unary(_, inner) | Expr::Via(_, inner) => inner.name_span(),
            Expr::Binary(_, a, b) => a.name_span().or_else(|| b.name_span()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn value(text: &str) -> Result<i128, EvalError> {
        parse_expression(Arch::X86_64, text).unwrap().constant().unwrap()
    }

    #[test]
    fn precedence_is_that_of_c() {
        let cases = [
            ("2 + 3 * 4", 14),
            ("(2 + 3) * 4", 20),
            ("1 << 2 + 1", 8),
            ("7 & 3 == 3", 1),
            ("1 | 6 ^ 4 & 12", 3),
            ("-7 / 2", -3),
            ("-7 % 2", -1),
            ("~0 - -1", 0),
            ("!3 || 2 && 1", 1),
            ("10 - 3 - 2", 5),
            ("0xffffffffffffffff + 1", 1 << 64),
        ];
        for (text, wanted) in cases {
            assert_eq!(value(text), Ok(wanted), "{text}");
        }
    }

    #[test]
    fn arithmetic_that_has_no_result_says_why() {
        assert_eq!(value("1 / 0"), Err(EvalError::DivisionByZero));
        assert_eq!(value("5 % (2 - 2)"), Err(EvalError::DivisionByZero));
        assert_eq!(value("1 << 128"), Err(EvalError::BadShift));
        assert_eq!(value("1 << 127"), Err(EvalError::TooLarge));
        let most = "0x7fffffffffffffffffffffffffffffff";
        assert_eq!(value(&format!("{most} + 1")), Err(EvalError::TooLarge));
    }

    #[test]
    fn deep_nesting_is_refused() {
        for text in ["(".repeat(10_000), "-".repeat(10_000), "1+".repeat(10_000)] {
            assert!(parse_expression(Arch::X86_64, &text).is_err());
        }
    }

    proptest! {
        #[test]
        fn sums_and_products_agree_with_the_host(a in -1_000_000i64..1_000_000, b in -1_000_000i64..1_000_000, c in 1i64..1000) {
            let text = format!("({a}) * ({b}) + ({a}) / ({c}) - ({b}) % ({c})");
            prop_assert_eq!(value(&text), Ok(i128::from(a * b + a / c - b % c)));
        }

        #[test]
        fn any_text_parses_or_is_refused(text in "[ -~]{0,40}") {
            let _ = parse_expression(Arch::X86_64, &text);
            let _ = parse_expression(Arch::Arm64, &text);
        }
    }
}
