//! Errors of the database.

use sea_orm::{DbErr, RuntimeErr};

/// Errors of the database.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The database is unavailable or refused the request.
    #[error("the database is unavailable or refused the request")]
    Database(#[from] DbErr),
    /// The database will never take these data: repeating it is of no use.
    #[error("the database refuses these data")]
    Unrecordable(#[source] DbErr),
    /// A newer program wrote this database.
    #[error(
        "the database needs reader version {needed}, this program has {}: install a newer version",
        crate::READER
    )]
    TooOld {
        /// The version needed.
        needed: i32,
    },
    /// Another process leads judgement now: what this one computed is not recorded.
    #[error("another process has taken over judgement")]
    Fenced,
    /// A join code opens nothing.
    #[error(transparent)]
    Code(#[from] crate::CodeRefused),
    /// A change to users is refused.
    #[error(transparent)]
    User(#[from] crate::UserRefused),
    /// A change to an incident is refused.
    #[error(transparent)]
    Incident(#[from] crate::IncidentRefused),
    /// A change of alarms is refused.
    #[error(transparent)]
    Alarm(#[from] crate::AlarmRefused),
    /// A change of receivers is refused.
    #[error(transparent)]
    Receiver(#[from] crate::ReceiverRefused),
    /// Rules are not saved.
    #[error(transparent)]
    Rules(#[from] crate::RulesChanged),
    /// A change to a watch or a suppression is refused.
    #[error(transparent)]
    Watch(#[from] crate::WatchRefused),
    /// A row cannot be read.
    #[error("the database holds an unreadable {what}")]
    Corrupt {
        /// What.
        what: &'static str,
    },
}

impl StoreError {
    /// True for what may be otherwise the next time: the database is away, or another process was
    /// in conflict. What is about the data themselves stays.
    pub fn may_pass(&self) -> bool {
        match self {
            Self::Database(error) => {
                is_from_database(error) && !is_about_data(error) && !took_too_long(error)
            }
            Self::Fenced => true,
            _ => false,
        }
    }

    /// Its words and those of all its causes.
    pub fn with_causes(&self) -> String {
        let mut words = self.to_string();
        let mut cause = std::error::Error::source(self);
        while let Some(inner) = cause {
            words.push_str(&format!(": {inner}"));
            cause = inner.source();
        }
        words
    }

    pub(crate) const fn corrupt(what: &'static str) -> Self {
        Self::Corrupt { what }
    }
}

/// The code of a refusal by the database (PostgreSQL manual, appendix A).
fn sqlstate(error: &DbErr) -> Option<String> {
    let (DbErr::Exec(cause) | DbErr::Query(cause) | DbErr::Conn(cause)) = error else {
        return None;
    };
    let RuntimeErr::SqlxError(cause) = cause else { return None };
    cause.as_database_error()?.code().map(|code| code.into_owned())
}

/// An error of the database or of the connection, not of reading its rows.
const fn is_from_database(error: &DbErr) -> bool {
    matches!(error, DbErr::Conn(_) | DbErr::ConnectionAcquire(_) | DbErr::Exec(_) | DbErr::Query(_))
}

/// A statement took longer than any should.
fn took_too_long(error: &DbErr) -> bool {
    sqlstate(error).as_deref() == Some("57014")
}

/// Data exceptions (class 22) and rows that contradict constraints (class 23) stay what they are
/// however often they are tried.
pub(crate) fn is_about_data(error: &DbErr) -> bool {
    sqlstate(error).is_some_and(|code| code.starts_with("22") || code.starts_with("23"))
        && !lacks_partition(error)
}

/// No partition takes a row: PostgreSQL calls that a check violation.
pub(crate) fn lacks_partition(error: &DbErr) -> bool {
    sqlstate(error).as_deref() == Some("23514")
}

/// A lock was not had in time.
pub(crate) fn is_lock_timeout(error: &DbErr) -> bool {
    sqlstate(error).as_deref() == Some("55P03")
}
