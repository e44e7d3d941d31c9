//! Why a command cannot be carried out.

use sotto_session::protocol::RequestError;
use sotto_session::{EvaluateError, SessionError};

use crate::output::Failure;

/// Why a command of the stepper cannot be carried out.
#[derive(Debug, thiserror::Error)]
pub enum CommandError {
    /// The session refuses it.
    #[error(transparent)]
    Session(#[from] SessionError),
    /// An expression has no value.
    #[error(transparent)]
    Evaluate(#[from] EvaluateError),
    /// The line is no request.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// Something else, in words.
    #[error("{0}")]
    Other(String),
}

impl From<String> for CommandError {
    fn from(message: String) -> CommandError {
        CommandError::Other(message)
    }
}

impl From<&str> for CommandError {
    fn from(message: &str) -> CommandError {
        CommandError::Other(message.to_string())
    }
}

impl From<CommandError> for Failure {
    fn from(error: CommandError) -> Failure {
        Failure::plain(error.to_string())
    }
}
