//! The overall state as the API shows it.

use super::alarm::AlarmItem;
use super::message::MessageView;
use itinera_store::StateCounts;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// Incidents that are not closed.
#[derive(Debug, Default)]
pub(crate) struct Unclosed {
    /// Headlines of the open ones, newest first.
    pub(crate) open: Vec<String>,
    /// How many have cleared and are not closed.
    pub(crate) cleared: usize,
}

/// The owner map in force.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct OwnerMapView {
    pub(crate) source: String,
    pub(crate) entries: i32,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) imported_at: OffsetDateTime,
}

/// State of all paths together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum OverallState {
    /// No agent has joined.
    NoAgents,
    /// Agents have joined, and nothing is measured yet.
    NoRounds,
    /// No incident is open and no path has a finding.
    NoFindings,
    /// Paths have findings that are no alarms yet.
    Suspected,
    /// Incidents are open.
    Incidents,
}

/// A finding that is no alarm yet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SuspectedView {
    pub(crate) path: Uuid,
    pub(crate) site: String,
    pub(crate) target: String,
    pub(crate) message: MessageView,
}

/// The status of the installation.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StatusView {
    pub(crate) state: OverallState,
    /// The state in one line.
    pub(crate) sentence: String,
    /// When this was so.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) agents: i64,
    /// Agents without a batch in the last minute.
    pub(crate) agents_late: i64,
    pub(crate) paths: i64,
    /// Paths without a judgement in the last two minutes.
    pub(crate) paths_without_rounds: i64,
    pub(crate) rounds: i64,
    pub(crate) commits: i64,
    /// Commits that judgement has not reached.
    pub(crate) unjudged_commits: i64,
    /// Commits that could not be judged and are left out.
    pub(crate) set_aside_commits: i64,
    pub(crate) open_alarms: i64,
    pub(crate) open_incidents: usize,
    /// Incidents that are not closed although all their alarms have cleared.
    pub(crate) cleared_incidents: usize,
    /// Paths with a finding in the last two minutes that no open alarm has.
    pub(crate) suspected_paths: i64,
    /// The surest of these findings; absent without one.
    pub(crate) surest_suspected: Option<SuspectedView>,
    /// The newest open alarms.
    pub(crate) alarms: Vec<AlarmItem>,
    /// Absent before the first import.
    pub(crate) owner_map: Option<OwnerMapView>,
}

pub(crate) fn plural(count: i64, one: &str) -> String {
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

pub(crate) fn state(counts: &StateCounts, incidents: &Unclosed) -> OverallState {
    match (counts, incidents.open.as_slice()) {
        (StateCounts { agents: 0, .. }, _) => OverallState::NoAgents,
        (StateCounts { rounds: 0, .. }, _) => OverallState::NoRounds,
        (_, [_, ..]) => OverallState::Incidents,
        (StateCounts { suspected_paths: 1.., .. }, []) => OverallState::Suspected,
        (_, []) => OverallState::NoFindings,
    }
}

pub(crate) fn sentence(
    counts: &StateCounts,
    incidents: &Unclosed,
    suspected: Option<&str>,
) -> String {
    let paths = plural(counts.paths, "path");
    let mut line = match state(counts, incidents) {
        OverallState::NoAgents => "No agent has joined yet.".to_owned(),
        OverallState::NoRounds => {
            let verb = if counts.agents == 1 { "has" } else { "have" };
            let agents = plural(counts.agents, "agent");
            format!("{agents} {verb} joined; no measurement has arrived yet.")
        }
        OverallState::NoFindings => format!("No faults on {paths}."),
        OverallState::Suspected => {
            let surest = suspected.map_or_else(String::new, |it| format!("; the surest: {it}"));
            let verb = if counts.suspected_paths == 1 { "shows" } else { "show" };
            format!(
                "No open incident. {} of {paths} {verb} a suspected fault{surest}.",
                counts.suspected_paths
            )
        }
        OverallState::Incidents => {
            let open = i64::try_from(incidents.open.len()).unwrap_or(i64::MAX);
            let newest = incidents.open.first().map_or("", String::as_str);
            let which = if open == 1 { "" } else { "newest: " };
            format!("{}, {which}{newest}.", plural(open, "open incident"))
        }
    };
    if incidents.cleared > 0 {
        let cleared = i64::try_from(incidents.cleared).unwrap_or(i64::MAX);
        line.push_str(&format!(" {} to close.", plural(cleared, "cleared incident")));
    }
    if counts.agents_late > 0 && counts.rounds > 0 {
        let verb = if counts.agents_late == 1 { "has" } else { "have" };
        let agents = plural(counts.agents_late, "agent");
        line.push_str(&format!(" {agents} {verb} sent nothing for a minute."));
    }
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counts() -> StateCounts {
        StateCounts {
            agents: 6,
            agents_late: 0,
            paths: 62,
            paths_without_rounds: 0,
            open_alarms: 0,
            suspected_paths: 0,
            rounds: 900,
            commits: 30,
            unjudged_commits: 0,
            set_aside_commits: 0,
        }
    }

    #[test]
    fn no_findings_suspected_faults_and_open_incidents_are_different_states() {
        let none = Unclosed::default();
        let cleared = Unclosed { cleared: 2, ..Unclosed::default() };
        let open =
            Unclosed { open: vec!["13 % loss inside Northmere Carriage".to_owned()], cleared: 1 };
        let suspected = StateCounts { suspected_paths: 3, ..counts() };
        for (counts, incidents, state_of_all, line) in [
            (StateCounts { agents: 0, ..counts() }, &none, OverallState::NoAgents, None),
            (StateCounts { rounds: 0, ..counts() }, &none, OverallState::NoRounds, None),
            (counts(), &none, OverallState::NoFindings, Some("No faults on 62 paths.")),
            (
                counts(),
                &cleared,
                OverallState::NoFindings,
                Some("No faults on 62 paths. 2 cleared incidents to close."),
            ),
            (
                suspected,
                &none,
                OverallState::Suspected,
                Some("No open incident. 3 of 62 paths show a suspected fault; the surest: x."),
            ),
            (
                suspected,
                &open,
                OverallState::Incidents,
                Some(
                    "1 open incident, 13 % loss inside Northmere Carriage. 1 cleared incident to close.",
                ),
            ),
        ] {
            assert_eq!(state(&counts, incidents), state_of_all);
            let sentence = sentence(&counts, incidents, Some("x"));
            assert!(line.is_none_or(|line| line == sentence), "{sentence}");
        }
        let late = StateCounts { agents_late: 1, ..counts() };
        let line = sentence(&late, &none, None);
        assert_eq!(line, "No faults on 62 paths. 1 agent has sent nothing for a minute.");
    }
}
