//! The state of an installation in one line.

use super::text::count;
use itinera_model::overall::{Overall, OverallState};

/// Renders the state: `newest` is the headline of the newest open incident, `surest` that of the
/// surest suspected fault.
pub fn overall(counts: &Overall, newest: Option<&str>, surest: Option<&str>) -> String {
    let has = |count| if count == 1 { "has" } else { "have" };
    let paths = count(counts.paths, "path");
    let mut line = match counts.state() {
        OverallState::NoAgents => "No agent has joined yet.".to_owned(),
        OverallState::NoRounds => format!(
            "{} {} joined; no measurement has arrived yet.",
            count(counts.agents, "agent"),
            has(counts.agents)
        ),
        OverallState::NoFindings => format!("No faults on {paths}."),
        OverallState::Suspected => {
            let surest = surest.map_or_else(String::new, |it| format!("; the surest: {it}"));
            let verb = if counts.suspected_paths == 1 { "shows" } else { "show" };
            format!(
                "No open incident. {} of {paths} {verb} a suspected fault{surest}.",
                counts.suspected_paths
            )
        }
        OverallState::Incidents => {
            let which = if counts.open_incidents == 1 { "" } else { "newest: " };
            let open = count(counts.open_incidents, "open incident");
            format!("{open}, {which}{}.", newest.unwrap_or_default())
        }
    };
    if counts.cleared_incidents > 0 {
        let cleared = count(counts.cleared_incidents, "cleared incident");
        line.push_str(&format!(" {cleared} to close."));
    }
    if counts.agents_late > 0 && counts.rounds > 0 {
        let agents = count(counts.agents_late, "agent");
        let verb = has(counts.agents_late);
        line.push_str(&format!(" {agents} {verb} sent nothing for a minute."));
    }
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_findings_suspected_faults_and_open_incidents_are_different_states() {
        let calm = Overall { agents: 6, paths: 62, rounds: 900, ..Overall::default() };
        let suspected = Overall { suspected_paths: 3, ..calm };
        let cases = [
            (Overall::default(), OverallState::NoAgents),
            (Overall { rounds: 0, ..calm }, OverallState::NoRounds),
            (Overall { rounds: 0, agents: 1, ..calm }, OverallState::NoRounds),
            (calm, OverallState::NoFindings),
            (Overall { cleared_incidents: 2, ..calm }, OverallState::NoFindings),
            (Overall { agents_late: 1, ..calm }, OverallState::NoFindings),
            (suspected, OverallState::Suspected),
            (Overall { suspected_paths: 1, ..calm }, OverallState::Suspected),
            (
                Overall { open_incidents: 1, cleared_incidents: 1, ..suspected },
                OverallState::Incidents,
            ),
            (Overall { open_incidents: 2, agents_late: 2, ..calm }, OverallState::Incidents),
        ];
        let mut text = String::new();
        for (counts, state) in cases {
            assert_eq!(counts.state(), state, "{counts:?}");
            let line = overall(&counts, Some("13 % loss inside Northmere Carriage"), Some("Slow"));
            text.push_str(&format!("{line}\n"));
        }
        insta::assert_snapshot!(text);
    }
}
