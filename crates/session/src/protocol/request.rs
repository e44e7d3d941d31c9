//! Requests: lines of input.

use serde::Deserialize;
use serde_json::Value;

/// A request.
#[derive(Clone, PartialEq, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Request {
    /// What its answers carry; any JSON value.
    #[serde(default)]
    pub id: Value,
    /// The command in words, as in line mode.
    pub command: String,
}

/// Why a line is no request.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("this is no request: {0}; one is {{\"id\": 1, \"command\": \"step 3\"}}")]
pub struct RequestError(String);

impl Request {
    /// Reads a line: an object, or a command in words, which has no id.
    ///
    /// # Errors
    ///
    /// If it begins as an object and is none of this shape.
    pub fn parse(line: &str) -> Result<Request, RequestError> {
        if !line.trim_start().starts_with('{') {
            return Ok(Request { id: Value::Null, command: line.to_string() });
        }
        serde_json::from_str(line).map_err(|error| RequestError(error.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_request_is_an_object_or_words() {
        let words = Request::parse("step 3").unwrap();
        assert_eq!((words.id, words.command.as_str()), (Value::Null, "step 3"));
        let object = Request::parse(r#"{"id": "a7", "command": "until lamp"}"#).unwrap();
        assert_eq!((object.id, object.command.as_str()), ("a7".into(), "until lamp"));
        for wrong in ["{", r#"{"id": 1}"#, r#"{"command": 3}"#, r#"{"command": "step", "x": 1}"#] {
            let error = Request::parse(wrong).unwrap_err().to_string();
            assert!(error.starts_with("this is no request: "), "{error}");
        }
    }
}
