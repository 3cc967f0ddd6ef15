//! How a command fails: a line for people, an exit code for programs.

use crate::plain::note;
use std::fmt::Display;
use std::process::ExitCode;

/// A failure with its exit code: 1 what was asked for failed, 2 the words were wrong, 3 the service could not be reached.
#[derive(Debug)]
pub struct Failure {
    code: u8,
    message: String,
}

impl Failure {
    /// What was asked for failed.
    pub fn failed(message: impl Display) -> Failure {
        Failure {
            code: 1,
            message: message.to_string(),
        }
    }

    /// The words were wrong.
    pub fn usage(message: impl Display) -> Failure {
        Failure {
            code: 2,
            message: message.to_string(),
        }
    }

    /// The service could not be reached.
    pub fn unreachable(message: impl Display) -> Failure {
        Failure {
            code: 3,
            message: message.to_string(),
        }
    }

    /// Says it on standard error and returns the exit code.
    pub fn report(&self) -> ExitCode {
        note(format!("error: {}", self.message));
        ExitCode::from(self.code)
    }
}

impl Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)
    }
}
