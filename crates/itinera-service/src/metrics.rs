//! The service's own health in OpenMetrics.

use itinera_store::{Committed, StateCounts};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Outcome {
    outcome: &'static str,
}

/// All metrics, registered once.
pub(crate) struct Metrics {
    registry: Registry,
    batches: Family<Outcome, Counter>,
    rounds: Family<Outcome, Counter>,
    judged_commits: Counter,
    gauges: Gauges,
}

#[derive(Default)]
struct Gauges {
    agents: Gauge,
    agents_late: Gauge,
    paths: Gauge,
    open_alarms: Gauge,
    unjudged_commits: Gauge,
}

impl std::fmt::Debug for Metrics {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Metrics(…)")
    }
}

impl Metrics {
    pub(crate) fn new() -> Self {
        let mut registry = Registry::with_prefix("itinera");
        let batches = Family::<Outcome, Counter>::default();
        registry.register("batches", "Batches uploaded by agents", batches.clone());
        let rounds = Family::<Outcome, Counter>::default();
        registry.register("rounds", "Rounds in uploaded batches", rounds.clone());
        let judged_commits = Counter::default();
        registry.register(
            "judged_commits",
            "Commits judged by this process",
            judged_commits.clone(),
        );
        let gauges = Gauges::default();
        registry.register("agents", "Agents that have joined", gauges.agents.clone());
        registry.register(
            "agents_late",
            "Agents without a batch in the last minute",
            gauges.agents_late.clone(),
        );
        registry.register("paths", "Paths", gauges.paths.clone());
        registry.register("open_alarms", "Alarms that are open", gauges.open_alarms.clone());
        registry.register(
            "unjudged_commits",
            "Commits that judgement has not reached",
            gauges.unjudged_commits.clone(),
        );
        Self { registry, batches, rounds, judged_commits, gauges }
    }

    pub(crate) fn committed(&self, committed: &Committed) {
        let outcome = if committed.duplicate { "duplicate" } else { "stored" };
        self.batches.get_or_create(&Outcome { outcome }).inc();
        let stored = u64::from(committed.stored);
        self.rounds.get_or_create(&Outcome { outcome: "stored" }).inc_by(stored);
        let refused = u64::from(committed.refused);
        self.rounds.get_or_create(&Outcome { outcome: "refused" }).inc_by(refused);
    }

    pub(crate) fn damaged(&self) {
        self.batches.get_or_create(&Outcome { outcome: "damaged" }).inc();
    }

    pub(crate) fn judged(&self, commits: u64) {
        self.judged_commits.inc_by(commits);
    }

    /// Everything as OpenMetrics text, with the record's counts of now.
    pub(crate) fn text(&self, counts: &StateCounts) -> Result<String, std::fmt::Error> {
        self.gauges.agents.set(counts.agents);
        self.gauges.agents_late.set(counts.agents_late);
        self.gauges.paths.set(counts.paths);
        self.gauges.open_alarms.set(counts.open_alarms);
        self.gauges.unjudged_commits.set(counts.unjudged_commits);
        let mut text = String::new();
        encode(&mut text, &self.registry)?;
        Ok(text)
    }
}
