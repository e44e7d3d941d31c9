//! Numbers of as many bytes as they need: `.uleb128` and `.sleb128`.
//!
//! Source: DWARF 5, 7.6 "Variable Length Data".

use crate::symbols::{Context, Evaluator};
use crate::{Code, Diagnostic, Expr, Span};

/// A number whose value depends on addresses.
pub(crate) struct Leb128 {
    pub signed: bool,
    pub expr: Expr,
    pub context: Context,
    pub span: Span,
    /// The number as the sizes are now. It never gets shorter, so that settling ends.
    pub bytes: Vec<u8>,
    /// It has no value, which was reported.
    pub failed: bool,
}

impl Leb128 {
    /// Takes the value for the sizes as they are now.
    pub fn settle(&mut self, evaluator: &Evaluator) -> Result<(), Diagnostic> {
        if self.failed {
            return Ok(());
        }
        match evaluator.number(&self.expr, self.context, self.span) {
            // While sizes are unsettled, a distance may be too small by as much as code still grows.
            Ok(value) => {
                let value = if self.signed { value } else { value.max(0) };
                self.bytes = encode(value, self.signed, self.bytes.len(), self.span)?;
            }
            Err(diagnostic) => {
                self.failed = true;
                return Err(diagnostic);
            }
        }
        Ok(())
    }

    /// Refuses a value that the number cannot be, once sizes are settled.
    pub fn check(&self, evaluator: &Evaluator) -> Result<(), Diagnostic> {
        if self.failed {
            return Ok(());
        }
        let value = evaluator.number(&self.expr, self.context, self.span)?;
        encode(value, self.signed, 1, self.span).map(|_| ())
    }
}

/// The number in LEB128, in at least so many bytes.
///
/// # Errors
///
/// If an unsigned number is negative.
pub(crate) fn encode(
    value: i128,
    signed: bool,
    least: usize,
    span: Span,
) -> Result<Vec<u8>, Diagnostic> {
    if !signed && value < 0 {
        let message = format!("{value} is negative, and the number is unsigned");
        return Err(Diagnostic::error(Code::OutOfRange, span, message)
            .help("`.sleb128` takes negative numbers"));
    }
    let mut bytes = Vec::new();
    let mut rest = value;
    loop {
        let low = (rest & 0x7f) as u8;
        rest >>= 7;
        // Of a signed number, the last byte's bit 6 is the sign.
        let whole = match signed {
            true => rest == -i128::from(low >> 6),
            false => rest == 0,
        };
        if whole && bytes.len() + 1 >= least {
            bytes.push(low);
            return Ok(bytes);
        }
        bytes.push(low | 0x80);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_by_the_examples_of_the_standard() {
        // DWARF 5, tables 7.7 and 7.8 of 7.6.
        let unsigned: [(i128, &[u8]); 6] = [
            (2, &[2]),
            (127, &[127]),
            (128, &[0x80, 1]),
            (129, &[0x81, 1]),
            (130, &[0x82, 1]),
            (12857, &[0xb9, 0x64]),
        ];
        let signed: [(i128, &[u8]); 8] = [
            (2, &[2]),
            (-2, &[0x7e]),
            (127, &[0xff, 0]),
            (-127, &[0x81, 0x7f]),
            (128, &[0x80, 1]),
            (-128, &[0x80, 0x7f]),
            (129, &[0x81, 1]),
            (-129, &[0xff, 0x7e]),
        ];
        let span = Span::default();
        for (value, bytes) in unsigned {
            assert_eq!(encode(value, false, 1, span).unwrap(), bytes, "{value}");
        }
        for (value, bytes) in signed {
            assert_eq!(encode(value, true, 1, span).unwrap(), bytes, "{value}");
        }
        assert_eq!(encode(2, false, 3, span).unwrap(), [0x82, 0x80, 0]);
        assert_eq!(encode(-2, true, 2, span).unwrap(), [0xfe, 0x7f]);
        assert!(encode(-1, false, 1, span).is_err());
    }
}
