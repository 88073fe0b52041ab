//! The states that an alarm has had.

use itinera_model::alarm::{AlarmState, Severity};
use itinera_store::StateChange;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A state of an alarm, until the next.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct AlarmStateChange {
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) state: AlarmState,
    /// Absent while it was an event to be known only.
    pub(crate) perceived_severity: Option<Severity>,
}

/// How much a severity weighs: less is worse.
fn rank(severity: Option<Severity>) -> (bool, Option<Severity>) {
    (severity.is_none(), severity)
}

/// The history of an alarm that several rows make up: it is open while one of them is, and as bad as
/// the worst of these.
pub(crate) fn merged(members: &[&[StateChange]]) -> Vec<AlarmStateChange> {
    let mut changes: Vec<(usize, StateChange)> = Vec::new();
    for (member, states) in members.iter().enumerate() {
        changes.extend(states.iter().map(|change| (member, *change)));
    }
    changes.sort_by_key(|(member, change)| (change.at, *member));
    let mut now: Vec<Option<StateChange>> = vec![None; members.len()];
    let mut history: Vec<AlarmStateChange> = Vec::new();
    for (member, change) in changes {
        if let Some(state) = now.get_mut(member) {
            *state = Some(change);
        }
        let open = now.iter().flatten().filter(|it| !it.state.is_over());
        let worst = open.min_by_key(|it| (it.state == AlarmState::NoData, rank(it.severity)));
        let StateChange { state, severity, .. } = *worst.unwrap_or(&change);
        let is_new = history
            .last()
            .is_none_or(|last| (last.state, last.perceived_severity) != (state, severity));
        if is_new {
            let at = change.at;
            history.push(AlarmStateChange { at, state, perceived_severity: severity });
        }
    }
    history
}

/// When an alarm with this history was raised the last time; absent where nothing is known of it.
pub(crate) fn raised_last(history: &[AlarmStateChange]) -> Option<OffsetDateTime> {
    let over = history.iter().rposition(|change| change.state.is_over());
    history.get(over.map_or(0, |last| last + 1)).map(|change| change.at)
}

/// How often an alarm with this history has been raised: once, and again whenever it was over before.
pub(crate) fn times_raised(history: &[AlarmStateChange]) -> usize {
    let again = history.windows(2).filter(|it| it[0].state.is_over() && !it[1].state.is_over());
    again.count() + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(at: i64, state: AlarmState, severity: Option<Severity>) -> StateChange {
        StateChange { at: OffsetDateTime::from_unix_timestamp(at).unwrap(), state, severity }
    }

    #[test]
    fn what_was_over_before_is_raised_again() {
        use AlarmState::{Cleared, NoData, Open, RecordedLate};
        let minor = Some(Severity::Minor);
        let times = |states: &[AlarmState]| {
            let states = (0..).zip(states).map(|(at, state)| change(at, *state, minor));
            times_raised(&merged(&[&states.collect::<Vec<_>>()]))
        };
        assert_eq!(times(&[]), 1, "from before states were recorded");
        assert_eq!(times(&[RecordedLate]), 1);
        assert_eq!(times(&[Open, NoData, Open, Cleared]), 1);
        assert_eq!(times(&[Open, Cleared, Open, NoData, Cleared, Open]), 3);
    }

    #[test]
    fn several_rows_are_open_while_one_is_and_as_bad_as_the_worst() {
        use AlarmState::{Cleared, NoData, Open};
        let (minor, major) = (Some(Severity::Minor), Some(Severity::Major));
        let first = [change(10, Open, None), change(20, Open, minor), change(60, Cleared, minor)];
        let second =
            [change(30, Open, major), change(40, NoData, major), change(80, Cleared, major)];
        let seconds = |members: &[&[StateChange]]| {
            let history = merged(members).into_iter();
            let states =
                history.map(|it| (it.at.unix_timestamp(), it.state, it.perceived_severity));
            states.collect::<Vec<_>>()
        };
        assert_eq!(seconds(&[&first]), [(10, Open, None), (20, Open, minor), (60, Cleared, minor)]);
        assert_eq!(
            seconds(&[&first, &second]),
            [
                (10, Open, None),
                (20, Open, minor),
                (30, Open, major),
                (40, Open, minor),
                (60, NoData, major),
                (80, Cleared, major),
            ]
        );
    }
}
