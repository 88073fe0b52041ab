//! What operators do with alarms: operator states (RFC 8632, section 3.5.3), assignment and attachment to
//! incidents.

use crate::audit::Action;
use crate::incident::TimelineKind;
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use strum::VariantArray;

/// Operator state of an alarm. `IntoStaticStr` gives its name in the database.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum OperatorState {
    /// No operator has acted on it.
    None,
    /// An operator has acknowledged it.
    Ack,
    /// It is set aside until a time.
    Shelved,
    /// An operator has closed it. It is open again when it is raised again or its severity rises.
    Closed,
}

impl OperatorState {
    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// One action on an alarm. `EnumString` and `IntoStaticStr` read and write its name in the database.
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
pub enum OperatorAction {
    /// It was acknowledged.
    Acknowledged,
    /// Its acknowledgement was withdrawn.
    Unacknowledged,
    /// It was assigned to a user, or the assignment was taken back.
    Assigned,
    /// It was shelved until a time.
    Shelved,
    /// It was unshelved before that time.
    Unshelved,
    /// It was closed.
    Closed,
    /// It was reopened: by a user, or because it was raised again or its severity rose.
    Reopened,
    /// It was attached to another incident.
    Attached,
    /// An action that this version of the service does not know.
    Unknown,
}

impl OperatorAction {
    /// The action of a name in the database.
    pub fn of(name: &str) -> Self {
        name.parse().unwrap_or(Self::Unknown)
    }

    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }

    /// As the audit records it.
    pub const fn audited(self) -> Action {
        match self {
            Self::Acknowledged => Action::AlarmAcknowledged,
            Self::Unacknowledged => Action::AlarmUnacknowledged,
            Self::Assigned => Action::AlarmAssigned,
            Self::Shelved => Action::AlarmShelved,
            Self::Unshelved => Action::AlarmUnshelved,
            Self::Closed => Action::AlarmClosed,
            Self::Reopened => Action::AlarmReopened,
            Self::Attached => Action::AlarmAttached,
            Self::Unknown => Action::Unknown,
        }
    }

    /// As the timeline of the alarm's incident records it.
    pub const fn in_timeline(self) -> TimelineKind {
        match self {
            Self::Acknowledged => TimelineKind::AlarmAcknowledged,
            Self::Unacknowledged => TimelineKind::AlarmUnacknowledged,
            Self::Assigned => TimelineKind::AlarmAssigned,
            Self::Shelved => TimelineKind::AlarmShelved,
            Self::Unshelved => TimelineKind::AlarmUnshelved,
            Self::Closed => TimelineKind::AlarmClosed,
            Self::Reopened => TimelineKind::AlarmReopened,
            Self::Attached => TimelineKind::AlarmAttached,
            Self::Unknown => TimelineKind::Unknown,
        }
    }

    /// The action that the timeline of an incident records by a kind; absent for other kinds.
    pub fn of_timeline(kind: TimelineKind) -> Option<Self> {
        let mut known = Self::VARIANTS.iter().filter(|action| **action != Self::Unknown);
        known.find(|action| action.in_timeline() == kind).copied()
    }
}

/// By which user, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Act {
    /// The user.
    pub by: String,
    /// When.
    pub at: WallTime,
}

/// An alarm is set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shelf {
    /// By this user.
    pub by: String,
    /// Until this time.
    pub until: WallTime,
    /// Why.
    pub reason: String,
}

/// How operators handle an alarm.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Handling {
    /// Absent while it is not acknowledged.
    pub acknowledged: Option<Act>,
    /// The user that it is assigned to.
    pub assignee: Option<String>,
    /// Absent where it was not shelved; the time may have passed.
    pub shelved: Option<Shelf>,
    /// Absent while it is not closed.
    pub closed: Option<Act>,
}

/// A change of how operators handle an alarm.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HandlingChange {
    /// Acknowledge it.
    Acknowledge,
    /// Withdraw the acknowledgement.
    Unacknowledge,
    /// Assign it to a user, or take the assignment back.
    Assign(Option<String>),
    /// Set it aside until a time.
    Shelve {
        /// The time.
        until: WallTime,
        /// Why.
        reason: String,
    },
    /// End that before its time.
    Unshelve,
    /// Close it.
    Close,
    /// Reopen it, without an acknowledgement.
    Reopen,
}

/// An alarm that is closed is not changed otherwise.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IsClosed;

impl HandlingChange {
    /// The action that makes it.
    pub const fn action(&self) -> OperatorAction {
        match self {
            Self::Acknowledge => OperatorAction::Acknowledged,
            Self::Unacknowledge => OperatorAction::Unacknowledged,
            Self::Assign(_) => OperatorAction::Assigned,
            Self::Shelve { .. } => OperatorAction::Shelved,
            Self::Unshelve => OperatorAction::Unshelved,
            Self::Close => OperatorAction::Closed,
            Self::Reopen => OperatorAction::Reopened,
        }
    }
}

impl Handling {
    /// The operator state at a time.
    pub fn state(&self, now: WallTime) -> OperatorState {
        let is_shelved = self.shelved.as_ref().is_some_and(|shelf| shelf.until > now);
        match (&self.closed, is_shelved, &self.acknowledged) {
            (Some(_), ..) => OperatorState::Closed,
            (None, true, _) => OperatorState::Shelved,
            (None, false, Some(_)) => OperatorState::Ack,
            (None, false, None) => OperatorState::None,
        }
    }

    /// How it is handled after a change by a user; absent where nothing changes.
    ///
    /// # Errors
    /// [`IsClosed`] for a change that a closed alarm does not take.
    pub fn after(&self, change: &HandlingChange, act: Act) -> Result<Option<Self>, IsClosed> {
        let state = self.state(act.at);
        let mut next = self.clone();
        match change {
            HandlingChange::Acknowledge | HandlingChange::Shelve { .. }
                if state == OperatorState::Closed =>
            {
                return Err(IsClosed);
            }
            HandlingChange::Acknowledge => {
                next.acknowledged.get_or_insert(act);
            }
            HandlingChange::Unacknowledge => next.acknowledged = None,
            HandlingChange::Assign(to) => next.assignee.clone_from(to),
            HandlingChange::Shelve { until, reason } => {
                next.shelved = Some(Shelf { by: act.by, until: *until, reason: reason.clone() });
            }
            HandlingChange::Unshelve => {
                next.shelved.take_if(|_| state == OperatorState::Shelved);
            }
            HandlingChange::Close => {
                next.closed.get_or_insert(act);
            }
            HandlingChange::Reopen if state == OperatorState::Closed => {
                (next.closed, next.acknowledged) = (None, None);
            }
            HandlingChange::Reopen => {}
        }
        Ok((next != *self).then_some(next))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_the_same_in_the_database_in_the_api_and_in_timeline_and_audit() {
        for action in OperatorAction::VARIANTS {
            assert_eq!(serde_json::json!(action), action.name());
            assert_eq!(OperatorAction::of(action.name()), *action);
            let recorded = [action.audited().name(), action.in_timeline().name()];
            let expected = match action {
                OperatorAction::Unknown => "unknown".to_owned(),
                known => format!("alarm-{}", known.name()),
            };
            assert_eq!(recorded, [expected.as_str(); 2]);
            let of_timeline = OperatorAction::of_timeline(action.in_timeline());
            assert_eq!(of_timeline, Some(*action).filter(|it| *it != OperatorAction::Unknown));
        }
        assert_eq!(OperatorAction::of("painted"), OperatorAction::Unknown);
        for state in OperatorState::VARIANTS {
            assert_eq!(serde_json::json!(state), state.name());
            assert_eq!(state.name().parse(), Ok(*state));
        }
    }

    fn at(seconds: i64) -> WallTime {
        WallTime::from_unix_seconds(seconds)
    }

    fn act(seconds: i64) -> Act {
        Act { by: "ailsa".to_owned(), at: at(seconds) }
    }

    fn after(handling: &Handling, change: &HandlingChange, seconds: i64) -> Handling {
        handling.after(change, act(seconds)).unwrap().unwrap()
    }

    fn shelve(until: i64) -> HandlingChange {
        HandlingChange::Shelve { until: at(until), reason: "known".to_owned() }
    }

    #[test]
    fn an_alarm_is_shelved_until_its_time_and_then_as_before() {
        let acknowledged = after(&Handling::default(), &HandlingChange::Acknowledge, 1);
        let shelved = after(&acknowledged, &shelve(100), 2);
        let states = [2, 99, 100].map(|now| shelved.state(at(now)));
        use OperatorState::{Ack, Shelved};
        assert_eq!(states, [Shelved, Shelved, Ack]);
        let longer = after(&shelved, &shelve(200), 50);
        assert_eq!(longer.state(at(150)), Shelved);
        let unshelved = after(&longer, &HandlingChange::Unshelve, 60);
        assert_eq!(unshelved, acknowledged);
        assert_eq!(shelved.after(&HandlingChange::Unshelve, act(100)), Ok(None), "it is over");
    }

    #[test]
    fn an_acknowledgement_is_of_the_first_user_until_it_is_withdrawn() {
        let acknowledged = after(&Handling::default(), &HandlingChange::Acknowledge, 1);
        assert_eq!(acknowledged.state(at(1)), OperatorState::Ack);
        let bran = Act { by: "bran".to_owned(), at: at(2) };
        assert_eq!(acknowledged.after(&HandlingChange::Acknowledge, bran), Ok(None));
        let withdrawn = after(&acknowledged, &HandlingChange::Unacknowledge, 3);
        assert_eq!(withdrawn, Handling::default());
    }

    #[test]
    fn a_closed_alarm_is_reopened_without_acknowledgement_and_keeps_its_assignee() {
        let assign = HandlingChange::Assign(Some("bran".to_owned()));
        let assigned = after(&Handling::default(), &assign, 1);
        assert_eq!(assigned.after(&assign, act(2)), Ok(None));
        let acknowledged = after(&assigned, &HandlingChange::Acknowledge, 3);
        let closed = after(&acknowledged, &HandlingChange::Close, 4);
        assert_eq!(closed.state(at(4)), OperatorState::Closed);
        assert_eq!(closed.after(&HandlingChange::Close, act(5)), Ok(None));
        assert_eq!(closed.after(&HandlingChange::Acknowledge, act(5)), Err(IsClosed));
        assert_eq!(closed.after(&shelve(100), act(5)), Err(IsClosed));
        assert_eq!(after(&closed, &HandlingChange::Reopen, 6), assigned);
        assert_eq!(assigned.after(&HandlingChange::Reopen, act(7)), Ok(None));
        let unassigned = after(&assigned, &HandlingChange::Assign(None), 8);
        assert_eq!(unassigned, Handling::default());
    }
}
