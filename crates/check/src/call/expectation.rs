//! What a result is expected to be.

use serde::Serialize;

use crate::call::result::CallResult;

/// An expectation, compared with what came.
#[derive(Clone, PartialEq, Eq, Debug, Serialize)]
pub struct Expectation {
    /// What was expected, as it was typed.
    pub expected: String,
    /// What came.
    pub got: String,
    /// Whether they are the same.
    pub met: bool,
}

/// An expectation that no result of the routine's type can meet.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("`{value}` is no value that a result of type {kind} has")]
pub struct ExpectationError {
    /// What was expected.
    pub value: String,
    /// The type of the result.
    pub kind: &'static str,
}

impl Expectation {
    /// Compares the results with `value`, or the result of a name or a register with `name=value`.
    ///
    /// # Errors
    ///
    /// A value that the result's type does not have.
    pub fn of(text: &str, results: &[CallResult]) -> Result<Expectation, ExpectationError> {
        let named = text.split_once('=').and_then(|(name, value)| {
            let found = results.iter().find(|r| r.name == name || r.location == name);
            found.map(|found| (found, value))
        });
        let Some((result, value)) = named.or(results.first().map(|first| (first, text))) else {
            // The routine did not return.
            let (expected, got) = (text.to_string(), "nothing".to_string());
            return Ok(Expectation { expected, got, met: false });
        };
        let met = result.is(value).ok_or_else(|| ExpectationError {
            value: value.to_string(),
            kind: result.kind.name(),
        })?;
        Ok(Expectation { expected: text.to_string(), got: result.value.clone(), met })
    }

    /// What is wrong, in words; `None` if the expectation is met.
    pub fn words(&self) -> Option<String> {
        let (expected, got) = (&self.expected, &self.got);
        (!self.met).then(|| format!("expected {expected}, and it is {got}"))
    }
}
