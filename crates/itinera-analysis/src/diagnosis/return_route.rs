//! The way back: from an agent at the other end, and to each address of this machine.

use super::{Evidence, WayBack, step};
use itinera_model::diagnosis::{FromSource, Rung, Step, StepResult};

/// Loss on the way back from which on it is bad enough to complain of, in per cent.
const LOSSY_PER_CENT: u32 = 3;

pub(super) fn steps(seen: &Evidence<'_>) -> Option<Step> {
    let sources = &seen.observed.sources;
    let silent = sources.iter().find(|one: &&FromSource| one.sent > 0 && one.answered == 0);
    let heard = sources.iter().find(|one| one.answered > 0);
    if let (Some(heard), Some(silent)) = (heard, silent) {
        let words = format!(
            "Answers come back to {} ({} of {}) and not to {} (0 of {}), both of this machine: no \
             way back to that prefix, or none out from it.",
            heard.source, heard.answered, heard.sent, silent.source, silent.sent
        );
        return Some(step(Rung::WayBack, StepResult::Broken, words));
    }
    let WayBack { arrived, lost } = seen.back?;
    let all = arrived + lost;
    if all == 0 {
        let words = "An agent is at the other end, and no packets of it were heard of in time.";
        return Some(step(Rung::WayBack, StepResult::Unknown, words));
    }
    let words =
        format!("Of {all} packets that the agent at the other end sent back, {lost} were lost.");
    let lossy = lost * 100 >= all * LOSSY_PER_CENT && lost > 2;
    Some(step(Rung::WayBack, if lossy { StepResult::Broken } else { StepResult::Clean }, words))
}
