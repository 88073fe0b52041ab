//! The return route: from an agent at the other end, and to each address of this machine.

use super::{Evidence, ReturnCounts, step};
use itinera_model::diagnosis::{FromSource, Step, StepKind, StepResult};
use itinera_model::diagnosis_message::{EchoCounts, StepMessage};

/// Loss on the return route from which it is at fault, in per cent.
const LOSSY_PER_CENT: u32 = 3;

pub(super) fn steps(seen: &Evidence<'_>) -> Option<Step> {
    let sources = &seen.observed.sources;
    let silent = sources.iter().find(|one: &&FromSource| one.sent > 0 && one.answered == 0);
    let heard = sources.iter().find(|one| one.answered > 0);
    if let (Some(heard), Some(silent)) = (heard, silent) {
        let echoes = EchoCounts { sent: heard.sent, answered: heard.answered, median_us: None };
        let (with, without) = (heard.source, silent.source);
        let message = StepMessage::ReturnToOneSource { with, without, echoes };
        return Some(step(StepKind::ReturnRoute, StepResult::Broken, message));
    }
    let ReturnCounts { arrived, lost } = seen.back?;
    let all = arrived + lost;
    if all == 0 {
        let message = StepMessage::ReturnNotMeasured;
        return Some(step(StepKind::ReturnRoute, StepResult::Unknown, message));
    }
    let lossy = lost * 100 >= all * LOSSY_PER_CENT && lost > 2;
    let found = if lossy { StepResult::Broken } else { StepResult::Clean };
    Some(step(StepKind::ReturnRoute, found, StepMessage::ReturnCounted { sent: all, lost }))
}
