//! Words of faults of the service itself.

use super::Words;
use super::text::count;
use itinera_model::self_alarm::{
    Backlog, DiskSpace, FailingDuty, FailingReceiver, LateAgents, SetAsideCommits,
};

fn words(headline: String, act: &str, detail: String) -> Words {
    Words::new(headline, Some(format!("Administrator of Itinera: {act}")), vec![detail])
}

pub(super) fn behind(backlog: &Backlog) -> Words {
    let Backlog { commits, seconds } = backlog;
    words(
        format!("Itinera: judgement is {} behind", count(*seconds, "second")),
        "check the processor and the database of the service.",
        format!(
            "{commits} reports of agents wait to be judged; the oldest came in {} ago. Alarms are raised \
             late by as much. No measurement is lost.",
            count(*seconds, "second")
        ),
    )
}

pub(super) fn set_aside(commits: &SetAsideCommits) -> Words {
    let SetAsideCommits { commits, error } = commits;
    let (verb, those) = if *commits == 1 { ("is", "it") } else { ("are", "them") };
    words(
        format!("Itinera: {} left out of judgement", count(*commits, "report")),
        "update Itinera, then run `itinera set-aside retry`.",
        format!(
            "Judgement failed on {} of agents, which {verb} kept and left out. Faults that only {those} \
             would show have no alarm. The newest error: {error}",
            count(*commits, "report")
        ),
    )
}

pub(super) fn duty(failing: &FailingDuty) -> Words {
    let FailingDuty { duty } = failing;
    words(
        format!("Itinera: duty {duty} fails"),
        "read the log of the service.",
        format!("The service cannot do its duty {duty}. Its log has the error."),
    )
}

pub(super) fn disk_low(space: DiskSpace) -> Words {
    let DiskSpace { free_mb, needed_mb } = space;
    words(
        format!("Itinera: {free_mb} MB left for the database"),
        "free some space, or keep less: [retention] in the configuration.",
        format!(
            "Rollups and opening states wait until {needed_mb} MB are free. Measurements and alarms are \
             still recorded."
        ),
    )
}

pub(super) fn disk_full(space: DiskSpace) -> Words {
    let DiskSpace { free_mb, needed_mb } = space;
    words(
        format!("Itinera: disk full, {free_mb} MB left for the database"),
        "free some space, or keep less: [retention] in the configuration.",
        format!(
            "The service refuses measurements until {needed_mb} MB are free; agents keep theirs meanwhile. \
             No fault is noticed until then."
        ),
    )
}

pub(super) fn agents_late(agents: &LateAgents) -> Words {
    let LateAgents { late, agents } = agents;
    words(
        format!("Itinera: {late} of {agents} agents report late"),
        "check the network and the load of the service, then the agents.",
        format!(
            "{late} of the {agents} agents that have reported within a day have not reported for a minute. \
             The cause is often the service itself or its network."
        ),
    )
}

pub(super) fn deliveries(failing: &FailingReceiver) -> Words {
    let FailingReceiver { receiver, deliveries, reason } = failing;
    words(
        format!("Itinera: notices to {receiver} fail"),
        "check the receiver under Notices.",
        format!(
            "{} to {receiver} failed or still wait. The last attempt: {}.",
            count(*deliveries, "notice"),
            reason.trim_end_matches('.')
        ),
    )
}
