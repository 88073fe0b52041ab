//! The service's own health, and what was measured, in OpenMetrics 1.0.

use crate::disk::Room;
use crate::duty::Duties;
use crate::storage::StorageState;
use itinera_model::unit::WallTime;
use itinera_store::{Committed, PathRecord, StateCounts};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use std::sync::atomic::AtomicU64;
use std::time::Instant;

/// Paths shown at most: three series each.
pub(crate) const SHOWN_PATHS: usize = 5_000;
/// A judgement older than this is no longer shown, as a scraper would take it for the present.
const STALE_US: i64 = 120_000_000;

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct PathLabels {
    path: String,
    site: String,
    target: String,
    method: String,
    family: String,
}

type PathGauge = Family<PathLabels, Gauge<f64, AtomicU64>>;

/// What the latest minute of each path gave, as OpenMetrics text. `paths` may hold one more
/// than are shown, to tell that there are more.
pub(crate) fn measurements(paths: &[PathRecord], now: WallTime) -> Result<String, std::fmt::Error> {
    let mut registry = Registry::with_prefix("itinera_path");
    let (loss, delay, reachable) =
        (PathGauge::default(), PathGauge::default(), PathGauge::default());
    registry.register("loss_ratio", "Round-trip loss to the far end, last minute", loss.clone());
    registry.register_with_unit(
        "delay",
        "Median round-trip delay to the far end, last minute",
        Unit::Seconds,
        delay.clone(),
    );
    registry.register(
        "reachable",
        "1 when the far end answered in the last minute",
        reachable.clone(),
    );
    let omitted: Gauge = Gauge::default();
    registry.register(
        "series_omitted",
        "1 when there are more paths than are shown",
        omitted.clone(),
    );
    omitted.set(i64::from(paths.len() > SHOWN_PATHS));
    for record in paths.iter().take(SHOWN_PATHS) {
        let Some(latest) = record.latest.as_ref() else { continue };
        if now.micros_since(latest.until) > STALE_US || latest.end_sent == 0 {
            continue;
        }
        let labels = PathLabels {
            path: record.id.to_string(),
            site: record.site.clone(),
            target: record.target.clone(),
            method: record.method.to_string(),
            family: record.family.to_string(),
        };
        let lost = f64::from(latest.end_lost) / f64::from(latest.end_sent);
        loss.get_or_create(&labels).set(lost);
        let answers = latest.end_lost < latest.end_sent;
        reachable.get_or_create(&labels).set(if answers { 1.0 } else { 0.0 });
        if let Some(us) = latest.hops.last().and_then(|hop| hop.delay_us) {
            delay.get_or_create(&labels).set(f64::from(us.as_micros()) / 1e6);
        }
    }
    let mut text = String::new();
    encode(&mut text, &registry)?;
    Ok(text)
}

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
    set_aside_commits: Gauge,
    late_deliveries: Gauge,
    database_size: Gauge,
    disk_free: Gauge,
    disk_full_in: Gauge<f64, AtomicU64>,
    disk_room: Gauge,
    restarts: Family<DutyLabel, Gauge>,
    not_done: Family<DutyLabel, Gauge>,
    leads: Family<DutyLabel, Gauge>,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct DutyLabel {
    duty: &'static str,
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
        registry.register(
            "set_aside_commits",
            "Commits that could not be judged and are left out",
            gauges.set_aside_commits.clone(),
        );
        registry.register(
            "late_deliveries",
            "Deliveries of notices that failed within a day, or wait after three attempts",
            gauges.late_deliveries.clone(),
        );
        registry.register_with_unit(
            "database_size",
            "Size of the database",
            Unit::Bytes,
            gauges.database_size.clone(),
        );
        registry.register_with_unit(
            "disk_free",
            "Free room on the disk of a private cluster; 0 for a database of your own",
            Unit::Bytes,
            gauges.disk_free.clone(),
        );
        registry.register(
            "disk_full_in_days",
            "Days until the disk is full at the growth of the last week; NaN while unknown",
            gauges.disk_full_in.clone(),
        );
        registry.register(
            "disk_room",
            "0 with room enough, 1 while rollups wait, 2 while measurements are refused",
            gauges.disk_room.clone(),
        );
        registry.register(
            "duty_restarts",
            "How often the task of a duty was started again by this process",
            gauges.restarts.clone(),
        );
        registry.register(
            "duty_not_done",
            "1 while a duty of this process is not done",
            gauges.not_done.clone(),
        );
        registry.register(
            "duty_leads",
            "1 while this process does a duty for all processes, 0 while another one does",
            gauges.leads.clone(),
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

    /// Everything as OpenMetrics text, with the present counts of the database.
    pub(crate) fn text(
        &self,
        counts: &StateCounts,
        storage: &StorageState,
        room: Room,
        duties: &Duties,
    ) -> Result<String, std::fmt::Error> {
        let not_done = duties.not_done(Instant::now());
        for (duty, restarts) in duties.restarts() {
            let label = DutyLabel { duty: duty.word() };
            let restarts = i64::try_from(restarts).unwrap_or(i64::MAX);
            self.gauges.restarts.get_or_create(&label).set(restarts);
            let value = i64::from(not_done.contains(&duty));
            self.gauges.not_done.get_or_create(&label).set(value);
        }
        for (duty, leads) in duties.leading() {
            let label = DutyLabel { duty: duty.word() };
            self.gauges.leads.get_or_create(&label).set(i64::from(leads));
        }
        self.gauges.database_size.set(storage.size.bytes);
        let free = storage.free_bytes.unwrap_or(0);
        self.gauges.disk_free.set(i64::try_from(free).unwrap_or(i64::MAX));
        self.gauges.disk_full_in.set(storage.full_in_days().unwrap_or(f64::NAN));
        self.gauges.disk_room.set(room as i64);
        self.gauges.set_aside_commits.set(counts.set_aside_commits);
        self.gauges.late_deliveries.set(counts.late_deliveries);
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
