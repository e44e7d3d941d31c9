//! Names and what they stand for; evaluation of expressions that hold them.

use compact_str::CompactString;
use std::cell::{Cell, RefCell};
use std::collections::{HashMap, HashSet};
use std::hash::BuildHasher;

use foldhash::fast::FixedState;
use hashbrown::HashTable;
use sotto_isa::{Arch, Reg};
use sotto_object::{Binding, Datum, SymbolKind, Visibility, is_linker_defined};

use crate::text::expr::Via;
use crate::text::suggest::nearest;
use crate::text::syntax::syntax;
use crate::{Binary, Code, Diagnostic, EvalError, Expr, Span};

/// A map whose order nothing depends on.
pub(crate) type FastMap<K, V> = HashMap<K, V, FixedState>;

/// A symbol of the source being assembled.
#[derive(Copy, Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) struct SymbolId(pub u32);

/// A place in a section whose sizes may not be settled yet.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct Position {
    pub section: u32,
    pub fragment: u32,
    /// Bytes into the fragment.
    pub offset: u64,
}

/// Where an expression stands: what `.`, `.name` and `1b` mean there.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct Context {
    pub here: Position,
    /// The `name:` that dotted labels belong to.
    pub scope: Option<u32>,
    /// How many numbered labels stand before.
    pub numbered: u32,
}

#[derive(Clone, Debug)]
pub(crate) enum Definition {
    None,
    Label(Position),
    Equate(Box<(Expr, Context)>),
}

/// Parts of a labelled structure, one after the other.
#[derive(Clone, Debug, Default)]
pub(crate) struct Elements {
    /// Bytes of each part, and of one element in it.
    pub runs: Vec<(u64, u8)>,
}

#[derive(Clone, Debug)]
pub(crate) struct Symbol {
    /// The name as written; of a dotted label without the name it belongs to.
    pub name: CompactString,
    /// The `name:` that a dotted label belongs to.
    pub owner: Option<SymbolId>,
    pub definition: Definition,
    /// Where it is defined, or first mentioned.
    pub span: Span,
    pub binding: Binding,
    /// File number and line of the definition.
    pub line: (u32, u32),
    /// Declared with `.extern`, `.global` or `.weak`, so that it may be defined elsewhere.
    pub declared: bool,
    /// Declared with `.local`.
    pub local: bool,
    /// What other components of a program may do with it.
    pub visibility: Visibility,
    /// Room that the linker makes once for all files: bytes and alignment.
    pub common: Option<Box<(u64, u64)>>,
    pub kind: SymbolKind,
    pub size: Option<Box<(Expr, Context)>>,
    pub datum: Option<Datum>,
    /// The parts, where data of several widths follow the label: a structure.
    pub elements: Option<Box<Elements>>,
    /// A dotted or numbered label: it stays out of the symbol table.
    pub hidden: bool,
}

impl Symbol {
    /// Whether only a linker knows what a reference goes to: another definition may take the place of a second name
    /// that is weak, and a function may be chosen when the program starts.
    fn is_settled_later(&self) -> bool {
        let second_name = !matches!(self.definition, Definition::Label(_));
        self.kind == SymbolKind::IndirectFunction
            || (self.binding == Binding::Weak && second_name && self.declared)
    }
}

/// What a name that nothing defines is told when it looks like a register or a number.
pub(crate) fn misspelt_register(arch: Arch, name: &str, error: &Diagnostic) -> Option<Diagnostic> {
    let lower = name.to_ascii_lowercase();
    if let Some(digits) = lower.strip_suffix('h')
        && digits.starts_with(|c: char| c.is_ascii_alphabetic())
        && digits.chars().all(|c| c.is_ascii_hexdigit())
    {
        let error = error.clone().help(format!("a number begins with a digit: write `0{name}`"));
        return Some(error.replace_with(format!("0{name}")));
    }
    if let Some(registers) = &syntax(arch).numbered_registers {
        let (letter, number) = lower.split_at_checked(1)?;
        let number = number.parse::<u32>().ok();
        match (letter, number) {
            (letter, Some(number))
                if letter == registers.foreign_letter && number <= registers.last =>
            {
                let text =
                    format!("write `x{number}` for its 64 bits, `w{number}` for the lower 32");
                let note = format!("{arch} names no registers with `{letter}`");
                return Some(error.clone().note(note).help(text));
            }
            ("x" | "w", Some(number)) if number > registers.last => {
                let prefix = if letter == "x" { "" } else { "w" };
                let text = format!(
                    "number 31 is written `{letter}zr` where it is zero, and `{prefix}sp` where it is the stack pointer"
                );
                return Some(error.clone().help(text));
            }
            _ => {}
        }
    }
    // Short names are near to too much.
    if name.len() < 3 {
        return None;
    }
    let register = nearest(&lower, Reg::names(arch))?;
    Some(
        error
            .clone()
            .help(format!("did you mean the register `{register}`?"))
            .replace_with(register),
    )
}

#[derive(Default)]
pub(crate) struct SymbolTable {
    pub symbols: Vec<Symbol>,
    /// Symbols by owner and name, with the hash of these: a large source has so many symbols that looking at
    /// one costs as much as reading a line. Those that are [near](is_near) their owners are not among them.
    by_name: HashTable<(u32, SymbolId)>,
    /// Dotted labels by the name as written.
    dotted: FastMap<CompactString, Vec<SymbolId>>,
    /// Numbered labels by number: how many numbered labels stood before, and the label.
    numbered: FastMap<u32, Vec<(u32, SymbolId)>>,
    numbered_count: u32,
    /// Values of symbols set with `=` or `.set`, as of the line being read.
    variables: FastMap<CompactString, (Expr, Span)>,
    /// The machine, for the names of its registers.
    pub arch: Option<Arch>,
    /// Names that misspelt ones were compared with so far.
    looked_for_nearest: Cell<u64>,
}

/// How many symbols after a `name:` are looked through for a dotted label that belongs to it.
const NEAR: u32 = 8;

/// Whether a symbol comes so soon after its owner that it is found from there.
fn is_near(owner: Option<SymbolId>, symbol: SymbolId) -> bool {
    owner.is_some_and(|owner| symbol.0 - owner.0 <= NEAR)
}

/// A name's place in the symbol table, or why it has none.
enum Lookup {
    Found(SymbolId),
    Missing,
    Ambiguous(Vec<SymbolId>),
}

impl SymbolTable {
    /// Makes room for so many more symbols.
    pub fn make_room(&mut self, symbols: usize) {
        self.symbols.reserve(symbols);
        // Dotted labels are mostly near.
        self.by_name.reserve(symbols / 2, |(hash, _)| spread(*hash));
    }

    pub fn get(&self, id: SymbolId) -> &Symbol {
        &self.symbols[id.0 as usize]
    }

    pub fn get_mut(&mut self, id: SymbolId) -> &mut Symbol {
        &mut self.symbols[id.0 as usize]
    }

    /// The symbol of this name, made if there is none.
    pub fn intern(&mut self, name: &str, span: Span) -> SymbolId {
        self.intern_in(None, name, span)
    }

    fn intern_in(&mut self, owner: Option<SymbolId>, name: &str, span: Span) -> SymbolId {
        let next = SymbolId(self.symbols.len() as u32);
        if is_near(owner, next) {
            return self.find_near(owner, name).unwrap_or_else(|| self.push(owner, name, span));
        }
        let hash = hash(owner, name);
        let found = self.find_near(owner, name).or_else(|| self.find_hashed(hash, owner, name));
        if let Some(id) = found {
            return id;
        }
        let id = self.push(owner, name, span);
        self.by_name.insert_unique(spread(hash), (hash, id), |(hash, _)| spread(*hash));
        id
    }

    /// The symbol of this name that belongs to this owner.
    fn find(&self, owner: Option<SymbolId>, name: &str) -> Option<SymbolId> {
        self.find_near(owner, name).or_else(|| self.find_hashed(hash(owner, name), owner, name))
    }

    /// As [`SymbolTable::find`], of the symbols that are [near](is_near) their owner.
    fn find_near(&self, owner: Option<SymbolId>, name: &str) -> Option<SymbolId> {
        let first = owner?.0 + 1;
        let behind = self.symbols.get(first as usize..)?;
        let number = behind
            .iter()
            .take(NEAR as usize)
            .position(|symbol| symbol.owner == owner && *symbol.name == *name)?;
        Some(SymbolId(first + number as u32))
    }

    fn find_hashed(&self, hash: u32, owner: Option<SymbolId>, name: &str) -> Option<SymbolId> {
        let same = |(other, id): &(u32, SymbolId)| {
            let symbol = || &self.symbols[id.0 as usize];
            *other == hash && symbol().owner == owner && *symbol().name == *name
        };
        self.by_name.find(spread(hash), same).map(|(_, id)| *id)
    }

    /// The name as it can be written from anywhere in the file.
    pub fn full_name(&self, symbol: &Symbol) -> String {
        let owner = symbol.owner.map_or("", |owner| &self.get(owner).name);
        format!("{owner}{}", shown(&symbol.name))
    }

    fn push(&mut self, owner: Option<SymbolId>, name: &str, span: Span) -> SymbolId {
        let id = SymbolId(self.symbols.len() as u32);
        self.symbols.push(Symbol {
            name: name.into(),
            owner,
            definition: Definition::None,
            span,
            binding: Binding::Local,
            line: (0, 0),
            declared: false,
            local: false,
            visibility: Visibility::Default,
            common: None,
            kind: SymbolKind::None,
            size: None,
            datum: None,
            elements: None,
            hidden: false,
        });
        id
    }

    /// Defines a label or an equate.
    pub fn define(
        &mut self,
        name: &str,
        span: Span,
        definition: Definition,
        scope: Option<u32>,
    ) -> Result<SymbolId, Diagnostic> {
        let dotted = name.starts_with('.') && matches!(definition, Definition::Label(_));
        let owner = scope.filter(|_| dotted).map(SymbolId);
        let id = self.intern_in(owner, name, span);
        let first = self.get(id);
        let taken = !matches!(first.definition, Definition::None) || first.common.is_some();
        let variable = self.variables.get(name).map(|(_, span)| *span);
        if taken || variable.is_some() {
            return Err(Diagnostic::error(
                Code::DuplicateSymbol,
                span,
                format!("`{}` is defined twice", shown(name)),
            )
            .label("defined again here")
            .at(variable.unwrap_or(first.span), "first defined here"));
        }
        let symbol = self.get_mut(id);
        symbol.definition = definition;
        symbol.span = span;
        if dotted {
            symbol.hidden = true;
            match self.dotted.get_mut(name) {
                Some(labels) => labels.push(id),
                None => {
                    self.dotted.insert(name.into(), vec![id]);
                }
            }
        }
        Ok(id)
    }

    /// Defines the next label of this number.
    pub fn define_numbered(&mut self, number: u32, span: Span, position: Position) {
        let id = self.push(None, &number.to_string(), span);
        let symbol = self.get_mut(id);
        symbol.definition = Definition::Label(position);
        symbol.hidden = true;
        self.numbered.entry(number).or_default().push((self.numbered_count, id));
        self.numbered_count += 1;
    }

    pub fn numbered_count(&self) -> u32 {
        self.numbered_count
    }

    /// Gives a variable its value from here on.
    pub fn set_variable(&mut self, name: &str, value: Expr, span: Span) -> Result<(), Diagnostic> {
        let clash = self.find(None, name).map(|id| self.get(id));
        if let Some(symbol) = clash
            && !matches!(symbol.definition, Definition::None)
        {
            return Err(Diagnostic::error(
                Code::DuplicateSymbol,
                span,
                format!("`{name}` is already a label or a constant"),
            )
            .at(symbol.span, "defined here"));
        }
        self.variables.insert(name.into(), (value, span));
        Ok(())
    }

    /// Makes symbols of the variables, with the values that they have at the end: so that lines before the
    /// first of them can name them too, as compilers have it.
    pub fn settle_variables(&mut self) -> Result<(), Diagnostic> {
        let mut variables: Vec<_> = std::mem::take(&mut self.variables).into_iter().collect();
        // In the order in which they stand, for the sake of the symbol table.
        variables.sort_by_key(|(_, (_, span))| span.start);
        for (name, (value, span)) in variables {
            let definition = Definition::Equate(Box::new((value, Context::default())));
            let id = self.define(&name, span, definition, None)?;
            self.get_mut(id).hidden |= name.starts_with('.');
        }
        Ok(())
    }

    /// Puts the values that variables have now in place of their names.
    pub fn bind_variables(&self, expr: &mut Expr) {
        if self.variables.is_empty() {
            return;
        }
        expr.for_each_leaf(&mut |leaf| {
            if let Expr::Symbol(name, _) = leaf
                && let Some((value, _)) = self.variables.get(name)
                && !self.find(None, name).is_some_and(|id| self.get(id).is_settled_later())
            {
                *leaf = value.clone();
            }
        });
    }

    /// Looks names up, so that evaluating the expression again need not; what cannot be found stays
    /// for the evaluator to complain of.
    pub fn resolve(&self, expr: &mut Expr, context: Context) {
        expr.for_each_leaf(&mut |leaf| {
            let found = match leaf {
                Expr::Symbol(name, span) => match self.lookup(name, context.scope) {
                    Lookup::Found(id) => Some((id, *span)),
                    _ => None,
                },
                Expr::Numbered(number, forward, span) => {
                    self.find_numbered(*number, *forward, context.numbered).map(|id| (id, *span))
                }
                _ => None,
            };
            if let Some((id, span)) = found {
                *leaf = Expr::Known(id.0, span);
            }
        });
    }

    /// The numbered label that a reference means, `before` numbered labels standing before it.
    fn find_numbered(&self, number: u32, forward: bool, before: u32) -> Option<SymbolId> {
        let labels = self.numbered.get(&number)?;
        let split = labels.partition_point(|(order, _)| *order < before);
        let found = if forward { labels.get(split) } else { labels[..split].last() };
        found.map(|(_, id)| *id)
    }

    /// Whether the name stands for something by now.
    pub fn is_defined(&self, name: &str, scope: Option<u32>) -> bool {
        match self.lookup(name, scope) {
            Lookup::Found(id) => {
                let symbol = self.get(id);
                let defined = !matches!(symbol.definition, Definition::None);
                defined || symbol.common.is_some() || self.variables.contains_key(name)
            }
            Lookup::Missing => self.variables.contains_key(name),
            Lookup::Ambiguous(_) => true,
        }
    }

    /// Declares the symbols that the linker defines if no file does as external.
    pub fn open_to_linker(&mut self) {
        for symbol in &mut self.symbols {
            let undefined = matches!(symbol.definition, Definition::None)
                && !symbol.declared
                && symbol.common.is_none();
            if undefined && is_linkers(&symbol.name) {
                (symbol.declared, symbol.binding) = (true, Binding::Global);
            }
        }
    }

    /// Makes every name that is mentioned and stands for nothing an external one, and gives them.
    pub fn open_to_others(&mut self) -> Vec<SymbolId> {
        let mut opened = Vec::new();
        for number in 0..self.symbols.len() {
            let symbol = &self.symbols[number];
            let undefined = matches!(symbol.definition, Definition::None)
                && !symbol.declared
                && symbol.common.is_none()
                && !symbol.name.starts_with('.')
                && !self.variables.contains_key(&symbol.name);
            if !undefined {
                continue;
            }
            // `outer.name` mentions a local label and no symbol of another file.
            if self.written_out(&symbol.name).is_some() {
                continue;
            }
            let symbol = &mut self.symbols[number];
            symbol.declared = true;
            symbol.binding = Binding::Global;
            opened.push(SymbolId(number as u32));
        }
        opened
    }

    fn lookup(&self, name: &str, scope: Option<u32>) -> Lookup {
        if name.starts_with('.') {
            if let Some(scope) = scope
                && let Some(id) = self.find(Some(SymbolId(scope)), name)
            {
                return Lookup::Found(id);
            }
            match self.dotted.get(name).map(Vec::as_slice) {
                Some([one]) => return Lookup::Found(*one),
                Some(several) => {
                    let first = several.iter().take(MAX_LISTED).copied().collect();
                    return Lookup::Ambiguous(first);
                }
                None => {}
            }
        }
        let plain = self.find(None, name);
        let defined = plain.is_some_and(|id| !matches!(self.get(id).definition, Definition::None));
        let found = if defined { plain } else { self.written_out(name).or(plain) };
        found.map_or(Lookup::Missing, Lookup::Found)
    }

    /// The local label that `outer.name` names.
    fn written_out(&self, name: &str) -> Option<SymbolId> {
        name.match_indices('.').filter(|(at, _)| *at > 0).find_map(|(at, _)| {
            let owner = self.find(None, &name[..at])?;
            self.find(Some(owner), &name[at..])
        })
    }

    /// The name nearest to a misspelt one, with its place.
    pub fn nearest(&self, name: &str) -> Option<&Symbol> {
        // Looking through many names for each of many others takes for ever, and nobody reads so many errors.
        let looked = self.looked_for_nearest.get() + self.symbols.len() as u64;
        if looked > MOST_NAMES_COMPARED {
            return None;
        }
        self.looked_for_nearest.set(looked);
        let known = self
            .symbols
            .iter()
            .filter(|symbol| !matches!(symbol.definition, Definition::None) || symbol.declared)
            .filter(|symbol| !symbol.name.contains('\0'));
        let found = nearest(name, known.map(|symbol| &*symbol.name))?;
        self.symbols.iter().find(|symbol| *symbol.name == *found)
    }
}

/// Whether a name that no file defines is taken to be the linker's. `end` and kin may be labels that were forgotten, and
/// want `.extern`.
pub(crate) fn is_linkers(name: &str) -> bool {
    name.starts_with('_') && is_linker_defined(name)
}

/// The global offset table, which the linker makes.
pub(crate) const GOT: &str = "_GLOBAL_OFFSET_TABLE_";

/// Names that are compared with misspelt ones in all.
const MOST_NAMES_COMPARED: u64 = 1 << 20;
/// Of labels that several routines have this many are listed.
const MAX_LISTED: usize = 8;

fn hash(owner: Option<SymbolId>, name: &str) -> u32 {
    (FixedState::default().hash_one((owner, name)) >> 32) as u32
}

/// Half a hash as a whole one, of which the table looks at the upper bits and at the lower.
fn spread(hash: u32) -> u64 {
    u64::from(hash).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

/// The name as written: a label of a macro carries the number of its expansion.
pub(crate) fn shown(name: &str) -> &str {
    name.split('\0').next().unwrap_or(name)
}

/// A symbol or a place that a value is counted from.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Anchor {
    pub symbol: Option<SymbolId>,
    pub position: Option<Position>,
}

/// The value of an expression: a number, counted from a place and perhaps to another.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct Linear {
    pub plus: Option<Anchor>,
    pub minus: Option<Anchor>,
    pub offset: i128,
    /// How the address is to be reached or cut.
    pub via: Option<Via>,
}

impl Linear {
    const fn number(offset: i128) -> Linear {
        Linear { plus: None, minus: None, offset, via: None }
    }

    const fn anchored(anchor: Anchor) -> Linear {
        Linear { plus: Some(anchor), minus: None, offset: 0, via: None }
    }

    pub fn as_number(&self) -> Option<i128> {
        (self.plus.is_none() && self.minus.is_none()).then_some(self.offset)
    }
}

/// Bytes from the first position to the second, if that is settled. Asked only within one section.
pub(crate) type Distance<'a> = &'a dyn Fn(Position, Position) -> Option<i128>;

/// Evaluates expressions with the symbols known so far.
pub(crate) struct Evaluator<'a> {
    pub symbols: &'a SymbolTable,
    pub distance: Distance<'a>,
    /// Constants that were evaluated, for as long as distances stay what they are.
    pub memo: &'a Memo,
}

/// Values of constants by their symbols' numbers.
#[derive(Default)]
pub(crate) struct Memo(RefCell<HashMap<u32, Linear>>);

/// Variables defined by each other nest at most this deep.
const MAX_VARIABLE_DEPTH: u32 = 100;

fn defined_by_itself(span: Span) -> Diagnostic {
    Diagnostic::error(Code::Arithmetic, span, "the constant is defined by itself")
}

impl Evaluator<'_> {
    /// The value of the expression; `span` is where errors without a better place are put.
    pub fn eval(&self, expr: &Expr, context: Context, span: Span) -> Result<Linear, Diagnostic> {
        self.eval_at(expr, context, span, 0)
    }

    /// The value, which must be a number.
    pub fn number(&self, expr: &Expr, context: Context, span: Span) -> Result<i128, Diagnostic> {
        self.eval(expr, context, span)?.as_number().ok_or_else(|| {
            let place = expr.name_span().unwrap_or(span);
            Diagnostic::error(
                Code::NotConstant,
                place,
                "an address stands where a number is needed",
            )
            .label("known only when the program is laid out")
        })
    }

    fn eval_at(
        &self,
        expr: &Expr,
        context: Context,
        span: Span,
        depth: u32,
    ) -> Result<Linear, Diagnostic> {
        if depth > MAX_VARIABLE_DEPTH {
            return Err(defined_by_itself(span));
        }
        let arithmetic =
            |error: EvalError| Diagnostic::error(Code::Arithmetic, span, error.to_string());
        match expr {
            Expr::Number(value) => Ok(Linear::number(*value)),
            Expr::Here => {
                Ok(Linear::anchored(Anchor { symbol: None, position: Some(context.here) }))
            }
            Expr::Known(id, at) => self.symbol(SymbolId(*id), depth, *at),
            Expr::Numbered(number, forward, at) => {
                let id = self.numbered(*number, *forward, context.numbered, *at)?;
                self.symbol(id, depth, span)
            }
            Expr::Symbol(name, at) => match self.symbols.lookup(name, context.scope) {
                Lookup::Found(id) => self.symbol(id, depth, *at),
                Lookup::Missing => match self.symbols.variables.get(name) {
                    Some((value, _)) => self.eval_at(value, context, span, depth + 1),
                    None => Err(self.undefined(name, *at)),
                },
                Lookup::Ambiguous(ids) => Err(self.ambiguous(name, *at, &ids)),
            },
            Expr::Register(reg, at) => Err(Diagnostic::error(
                Code::Syntax,
                *at,
                format!("the register `{}` has no value at assembly time", reg.name()),
            )),
            Expr::Load(..) => {
                Err(Diagnostic::error(Code::Syntax, span, "memory has no value at assembly time"))
            }
            Expr::Unary(operator, inner) => {
                let value = self.scalar(inner, context, span, depth)?;
                operator.apply(value).map(Linear::number).map_err(arithmetic)
            }
            Expr::Binary(Binary::Add, a, b) => {
                let (a, b) = (
                    self.eval_at(a, context, span, depth)?,
                    self.eval_at(b, context, span, depth)?,
                );
                self.add(a, b, span)
            }
            Expr::Binary(Binary::Subtract, a, b) => {
                let a = self.eval_at(a, context, span, depth)?;
                let b = self.eval_at(b, context, span, depth)?;
                let negated = Linear {
                    plus: b.minus,
                    minus: b.plus,
                    offset: b.offset.checked_neg().ok_or(arithmetic(EvalError::TooLarge))?,
                    via: b.via,
                };
                self.add(a, negated, span)
            }
            Expr::Via(via, inner) => {
                let value = self.eval_at(inner, context, span, depth)?;
                Ok(Linear { via: Some(*via), ..value })
            }
            Expr::Binary(operator, a, b) => {
                let a = self.scalar(a, context, span, depth)?;
                let b = self.scalar(b, context, span, depth)?;
                operator.apply(a, b).map(Linear::number).map_err(arithmetic)
            }
        }
    }

    fn scalar(
        &self,
        expr: &Expr,
        context: Context,
        span: Span,
        depth: u32,
    ) -> Result<i128, Diagnostic> {
        self.eval_at(expr, context, span, depth)?.as_number().ok_or_else(|| {
            let place = expr.name_span().unwrap_or(span);
            Diagnostic::error(
                Code::NotConstant,
                place,
                "addresses can be added to numbers and subtracted from each other, nothing else",
            )
        })
    }

    fn symbol(&self, id: SymbolId, depth: u32, span: Span) -> Result<Linear, Diagnostic> {
        let symbol = self.symbols.get(id);
        match &symbol.definition {
            _ if symbol.is_settled_later() => {
                Ok(Linear::anchored(Anchor { symbol: Some(id), position: None }))
            }
            Definition::Equate(_) => self.equate(id, depth),
            Definition::Label(position) => {
                Ok(Linear::anchored(Anchor { symbol: Some(id), position: Some(*position) }))
            }
            Definition::None => match self.symbols.variables.get(&symbol.name) {
                Some((value, _)) => self.eval_at(value, Context::default(), span, depth + 1),
                None if symbol.declared || symbol.common.is_some() => {
                    Ok(Linear::anchored(Anchor { symbol: Some(id), position: None }))
                }
                None => Err(self.undefined(&symbol.name, span)),
            },
        }
    }

    /// The value of a constant. Those that it is made of are evaluated first, each once, so that a chain of constants
    /// takes no deeper stack than one.
    fn equate(&self, id: SymbolId, depth: u32) -> Result<Linear, Diagnostic> {
        let known = |id: u32| self.memo.0.borrow().get(&id).copied();
        let mut open = vec![id.0];
        let mut begun: HashSet<u32> = HashSet::new();
        while let Some(&number) = open.last() {
            let symbol = self.symbols.get(SymbolId(number));
            let Definition::Equate(equate) = &symbol.definition else { break };
            let (expr, context) = &**equate;
            if known(number).is_some() {
                open.pop();
                continue;
            }
            if begun.insert(number) {
                let mut wanted = Vec::new();
                self.equates_of(expr, *context, &mut wanted);
                wanted.retain(|id| known(*id).is_none());
                if let Some(again) = wanted.iter().find(|id| begun.contains(id)) {
                    // What was begun and is not known yet waits for this one.
                    return Err(defined_by_itself(self.symbols.get(SymbolId(*again)).span));
                }
                open.extend(wanted);
                continue;
            }
            open.pop();
            let value = self.eval_at(expr, *context, symbol.span, depth + 1)?;
            self.memo.0.borrow_mut().insert(number, value);
        }
        known(id.0).ok_or_else(|| defined_by_itself(self.symbols.get(id).span))
    }

    /// The constants that an expression names.
    fn equates_of(&self, expr: &Expr, context: Context, found: &mut Vec<u32>) {
        expr.visit_leaves(&mut |leaf| {
            let id = match leaf {
                Expr::Known(id, _) => Some(SymbolId(*id)),
                Expr::Symbol(name, _) => match self.symbols.lookup(name, context.scope) {
                    Lookup::Found(id) => Some(id),
                    _ => None,
                },
                _ => None,
            };
            let is_equate =
                |id: &SymbolId| matches!(self.symbols.get(*id).definition, Definition::Equate(_));
            if let Some(id) = id.filter(is_equate) {
                found.push(id.0);
            }
        });
    }

    fn add(&self, a: Linear, b: Linear, span: Span) -> Result<Linear, Diagnostic> {
        let offset = Binary::Add
            .apply(a.offset, b.offset)
            .map_err(|error| Diagnostic::error(Code::Arithmetic, span, error.to_string()))?;
        let too_many = |what: &str| {
            Diagnostic::error(Code::NotConstant, span, format!("two addresses cannot be {what}"))
        };
        let plus = match (a.plus, b.plus) {
            (Some(_), Some(_)) => return Err(too_many("added")),
            (plus, None) | (None, plus) => plus,
        };
        let minus = match (a.minus, b.minus) {
            (Some(_), Some(_)) => return Err(too_many("subtracted from nothing")),
            (minus, None) | (None, minus) => minus,
        };
        let (Some(to), Some(from)) = (plus, minus) else {
            return Ok(Linear { plus, minus, offset, via: a.via.or(b.via) });
        };
        if to == from {
            return Ok(Linear::number(offset));
        }
        match (to.position, from.position) {
            (Some(to_position), Some(from_position))
                if to_position.section == from_position.section =>
            {
                match (self.distance)(from_position, to_position) {
                    Some(distance) => Ok(Linear::number(offset + distance)),
                    None => Err(Diagnostic::error(
                        Code::ValueNeeded,
                        span,
                        "the distance is needed here, and the code between is not settled yet",
                    )
                    .note("branches in between may still grow; move this line out of the way")),
                }
            }
            _ => Ok(Linear { plus, minus, offset, via: None }),
        }
    }

    fn numbered(
        &self,
        number: u32,
        forward: bool,
        before: u32,
        span: Span,
    ) -> Result<SymbolId, Diagnostic> {
        let found = self.symbols.find_numbered(number, forward, before);
        let (letter, way) = if forward { ('f', "after") } else { ('b', "before") };
        found.ok_or_else(|| {
            Diagnostic::error(
                Code::UndefinedSymbol,
                span,
                format!("no label `{number}:` {way} this line for `{number}{letter}`"),
            )
        })
    }

    fn undefined(&self, name: &str, span: Span) -> Diagnostic {
        let name = shown(name);
        let error = Diagnostic::error(Code::UndefinedSymbol, span, format!("no symbol `{name}`"));
        // It was not taken for one here, so this is another machine.
        let register = Arch::ALL.iter().find(|&&arch| Reg::parse(arch, name).is_some());
        if let Some(arch) = register {
            return error
                .note(format!("`{name}` is a register of {arch}"))
                .help("use a register of this machine, or choose the machine with `.target`");
        }
        if let Some(arch) = self.symbols.arch
            && let Some(error) = misspelt_register(arch, name, &error)
        {
            return error;
        }
        match self.symbols.nearest(name) {
            Some(symbol) => error
                .at(symbol.span, format!("`{}` is defined here", symbol.name))
                .help(format!("did you mean `{}`?", symbol.name))
                .replace_with(&*symbol.name),
            None => error.help(format!("if it is defined in another file, add `.extern {name}`")),
        }
    }

    fn ambiguous(&self, name: &str, span: Span, ids: &[SymbolId]) -> Diagnostic {
        let mut error = Diagnostic::error(
            Code::AmbiguousLabel,
            span,
            format!("several routines have a label `{}`, and this one has none", shown(name)),
        );
        for &id in ids {
            let symbol = self.symbols.get(id);
            error = error.at(symbol.span, format!("`{}`", self.symbols.full_name(symbol)));
        }
        error.help("write out the one you mean")
    }
}
