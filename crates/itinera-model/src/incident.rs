//! What an incident records.

use serde::{Deserialize, Serialize};

/// Kind of an entry in the timeline of an incident. `EnumString` and `IntoStaticStr` read and write
/// its name in the database.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum TimelineKind {
    /// The incident was opened.
    Opened,
    /// An alarm was raised.
    AlarmRaised,
    /// An alarm cleared.
    AlarmCleared,
    /// An event began.
    EventBegan,
    /// An event ended.
    EventEnded,
    /// A diagnosis was started.
    DiagnosisStarted,
    /// A user wrote a note.
    Note,
    /// A user closed it.
    Closed,
    /// It was opened again.
    Reopened,
    /// An alarm was acknowledged.
    AlarmAcknowledged,
    /// The acknowledgement of an alarm was withdrawn.
    AlarmUnacknowledged,
    /// An alarm was assigned to a user, or the assignment was taken back.
    AlarmAssigned,
    /// An alarm was shelved until a time.
    AlarmShelved,
    /// An alarm was unshelved before that time.
    AlarmUnshelved,
    /// An alarm was closed.
    AlarmClosed,
    /// An alarm was reopened.
    AlarmReopened,
    /// An alarm was attached to this incident, or to another one.
    AlarmAttached,
    /// A notice was delivered to a receiver.
    NoticeSent,
    /// A notice could not be delivered to a receiver.
    NoticeFailed,
    /// An entry of a kind that this version of the service does not know.
    Unknown,
}

impl TimelineKind {
    /// The kind of a name in the database.
    pub fn of(name: &str) -> Self {
        name.parse().unwrap_or(Self::Unknown)
    }

    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use strum::VariantArray;

    #[test]
    fn a_kind_of_entry_has_one_name_in_the_database_and_in_the_api() {
        for kind in TimelineKind::VARIANTS {
            assert_eq!(serde_json::json!(kind), kind.name());
            assert_eq!(TimelineKind::of(kind.name()), *kind);
        }
        assert_eq!(TimelineKind::of("painted"), TimelineKind::Unknown);
    }
}
