//! Exit codes and failures.

use std::error::Error;
use std::fmt;
use std::io::{self, Write};
use std::process::ExitCode;

/// Documented exit codes; 2 is the command line's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Code {
    Failed = 1,
    Unreachable = 3,
    Refused = 4,
    BadFile = 5,
    Differs = 6,
}

/// Why the program ends without success.
#[derive(Debug)]
pub(crate) struct Failure {
    code: u8,
    /// Absent where what was printed says it all.
    error: Option<anyhow::Error>,
}

impl Failure {
    pub(crate) fn new(code: Code, error: impl Error + Send + Sync + 'static) -> Self {
        Self { code: code as u8, error: Some(error.into()) }
    }

    pub(crate) fn say(
        code: Code,
        text: impl fmt::Display + fmt::Debug + Send + Sync + 'static,
    ) -> Self {
        Self { code: code as u8, error: Some(anyhow::Error::msg(text)) }
    }

    /// The work is done and printed; this code gives the result.
    pub(crate) const fn found(code: u8) -> Self {
        Self { code, error: None }
    }

    /// True when the service could not be asked at all.
    pub(crate) const fn is_unreachable(&self) -> bool {
        self.code == Code::Unreachable as u8
    }

    pub(crate) fn context(mut self, text: impl fmt::Display + Send + Sync + 'static) -> Self {
        self.error = self.error.map(|error| error.context(text));
        self
    }

    /// Says it on standard error with its causes. A closed pipe on our output is no failure.
    pub(crate) fn report(self) -> ExitCode {
        let Some(error) = self.error else {
            return ExitCode::from(self.code);
        };
        let closed_pipe = error.chain().any(|cause| {
            cause.downcast_ref::<io::Error>().is_some_and(|e| e.kind() == io::ErrorKind::BrokenPipe)
        });
        if closed_pipe {
            return ExitCode::SUCCESS;
        }
        let mut text = String::new();
        for (index, cause) in error.chain().enumerate() {
            let cause = itinera_model::text::plain(&cause.to_string());
            // Some causes are said by what they caused already.
            if index == 0 {
                text.push_str(&format!("itinera: {cause}\n"));
            } else if !text.contains(&cause) {
                text.push_str(&format!("  because: {cause}\n"));
            }
        }
        let _nowhere_to_say_it = io::stderr().write_all(text.as_bytes());
        ExitCode::from(self.code)
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::new(Code::Failed, error)
    }
}
