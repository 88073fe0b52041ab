//! What became of an attempt to send a notice.

use super::address::AddressError;
use std::io;
use std::time::Duration;

/// Characters of an answer or reason that are kept.
const KEPT: usize = 1_000;

/// What a receiver that accepted a notice answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Answer {
    /// Nothing that is recorded.
    None,
    /// Words.
    Words(String),
}

/// Why an attempt failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SendError {
    pub(crate) reason: String,
    /// Another attempt would fail too.
    pub(crate) permanent: bool,
    /// The pause that the receiver asks for.
    pub(crate) asked: Option<Duration>,
}

/// Text of a receiver, cut and without controls.
pub(crate) fn kept(text: &str) -> String {
    text.chars().take(KEPT).map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// An error with its causes.
pub(crate) fn causes(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        let words = inner.to_string();
        if !text.contains(&words) {
            text.push_str(&format!(": {words}"));
        }
        cause = inner.source();
    }
    kept(&text)
}

impl SendError {
    /// One after which another attempt is made.
    pub(crate) const fn passing(reason: String) -> Self {
        Self { reason, permanent: false, asked: None }
    }

    /// One after which no other attempt is made.
    pub(crate) const fn permanent(reason: String) -> Self {
        Self { reason, permanent: true, asked: None }
    }
}

impl From<AddressError> for SendError {
    fn from(error: AddressError) -> Self {
        let permanent = matches!(error, AddressError::Refused(_));
        Self { reason: kept(&error.to_string()), permanent, asked: None }
    }
}

impl From<io::Error> for SendError {
    fn from(error: io::Error) -> Self {
        Self::passing(causes(&error))
    }
}
