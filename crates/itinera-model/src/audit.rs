//! What the audit records.

use serde::{Deserialize, Serialize};

/// A change made by a user. `EnumString` and `IntoStaticStr` read and write its name in the database.
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
pub enum Action {
    /// A user signed in.
    SignedIn,
    /// A user signed out.
    SignedOut,
    /// A user was added.
    UserAdded,
    /// A user's name, role, password or activity changed.
    UserChanged,
    /// An access token was made.
    TokenMade,
    /// An access token was revoked.
    TokenRevoked,
    /// A join code for an agent was made.
    JoinCodeMade,
    /// An owner map was imported.
    OwnerMapImported,
    /// A problem was reported, which opened an incident.
    IncidentOpened,
    /// An incident got a note.
    IncidentNoted,
    /// An incident was closed.
    IncidentClosed,
    /// A closed incident was opened again.
    IncidentReopened,
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
    /// An alarm was attached to another incident.
    AlarmAttached,
    /// A diagnosis was started.
    DiagnosisStarted,
    /// A check was asked for outside its schedule.
    CheckAsked,
    /// A throughput measurement was asked for.
    ThroughputAsked,
    /// A stream of voice packets was asked for between a pair of agents.
    VoiceBegun,
    /// A watch was begun.
    WatchBegun,
    /// A watch was paused.
    WatchPaused,
    /// A paused watch was resumed.
    WatchResumed,
    /// A watch was ended before its time.
    WatchEnded,
    /// A watch was attached to an incident.
    WatchAttached,
    /// A planned pause of measurement was made.
    SuppressionMade,
    /// A planned pause of measurement was lifted.
    SuppressionLifted,
    /// A commit that could not be judged was submitted to judgement again.
    CommitRetried,
    /// A receiver of notices was added.
    ReceiverAdded,
    /// A receiver of notices was changed.
    ReceiverChanged,
    /// A receiver of notices was removed.
    ReceiverRemoved,
    /// A receiver of notices was tested.
    ReceiverTested,
    /// A notice about an incident was asked for.
    NoticeRequested,
    /// Notices that were not delivered were sent again.
    DeliveriesRetried,
    /// A calendar of planned work was saved.
    CalendarSaved,
    /// A calendar of planned work was removed.
    CalendarRemoved,
    /// The rules of alarms were saved.
    RulesSaved,
    /// An action that this version of the service does not know.
    Unknown,
}

impl Action {
    /// The action of a name in the database.
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
    fn an_action_has_one_name_in_the_database_and_in_the_api() {
        for action in Action::VARIANTS {
            assert_eq!(serde_json::json!(action), action.name());
            assert_eq!(Action::of(action.name()), *action);
        }
        assert_eq!(Action::of("agent-painted"), Action::Unknown);
    }
}
