//! Exit codes. A denial is never 2 to 5, and an error is never 1.

use std::fmt;
use std::process::ExitCode;

/// An exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Code(u8);

/// Done, and the answer is yes.
pub const YES: Code = Code(0);
/// The answer is no.
pub const NO: Code = Code(1);
/// The command line was misused.
pub const MISUSED: Code = Code(2);
/// The input has errors.
pub const INPUT: Code = Code(3);
/// The service is unreachable, behind, or refusing writes.
pub const UNREACHABLE: Code = Code(4);
/// Not the caller's to do.
pub const NOT_YOURS: Code = Code(5);

impl From<Code> for ExitCode {
    fn from(code: Code) -> ExitCode {
        ExitCode::from(code.0)
    }
}

/// Why a command could not do its work.
#[derive(Debug)]
pub struct Failure {
    /// For a person.
    pub message: String,
    /// For a program.
    pub code: Code,
}

impl Failure {
    /// Misuse of the command line.
    pub fn misused(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: MISUSED }
    }
    /// Errors in the input.
    pub fn input(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: INPUT }
    }
    /// The service or its database.
    pub fn unreachable(message: impl fmt::Display) -> Failure {
        Failure { message: message.to_string(), code: UNREACHABLE }
    }
}

impl From<ostrog_client::Error> for Failure {
    fn from(error: ostrog_client::Error) -> Failure {
        use ostrog_client::Error::{Refused, Unreachable, Unreadable, Unusable};
        match error {
            Unusable(message) => Failure::misused(message),
            Unreachable(_) | Unreadable(_) => Failure::unreachable(error),
            Refused(problem) => {
                let mut message = problem.detail;
                if problem.errors.len() > 1 {
                    for part in &problem.errors {
                        message.push_str(&format!("\n  {}: {}", part.at, part.detail));
                    }
                }
                if problem.status == 401 && message.contains("sign in again") {
                    message.push_str("\n  ostrog login");
                }
                let code = match problem.status {
                    401 | 403 => NOT_YOURS,
                    400 | 404 | 413 | 414 | 422 => INPUT,
                    409 => NOT_YOURS,
                    _ => UNREACHABLE,
                };
                Failure { message, code }
            }
        }
    }
}

impl From<ostrog_store::Error> for Failure {
    fn from(error: ostrog_store::Error) -> Failure {
        Failure::unreachable(error)
    }
}
