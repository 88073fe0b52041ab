//! What can go wrong with the record.

/// Errors of the record.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The database is away or refuses.
    #[error("the database refused or is away")]
    Database(#[from] sea_orm::DbErr),
    /// The record was written by a program that this one is too old to follow.
    #[error(
        "the record needs reader version {needed}, this program is {}: use a newer one",
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
    /// A change to people is refused.
    #[error(transparent)]
    Person(#[from] crate::PersonRefused),
    /// A change to an incident is refused.
    #[error(transparent)]
    Incident(#[from] crate::IncidentRefused),
    /// A change to a watch or a suppression is refused.
    #[error(transparent)]
    Watch(#[from] crate::WatchRefused),
    /// Something in the record cannot be read.
    #[error("the record holds an unreadable {what}")]
    Corrupt {
        /// What.
        what: &'static str,
    },
}

impl StoreError {
    pub(crate) const fn corrupt(what: &'static str) -> Self {
        Self::Corrupt { what }
    }
}
