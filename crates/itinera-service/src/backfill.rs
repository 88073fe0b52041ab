//! Fills an installation with measurements of the past: by the ingest, the judgement and the duties of
//! the service itself, with a clock that is moved from step to step.

use crate::clock::ServiceClock;
use crate::config::Config;
use crate::context::Shared;
use crate::disk::Room;
use crate::runner::{Follower, Stopped};
use crate::server::{self, ServiceError};
use crate::{evidence, storage};
use itinera_model::batch::Batch;
use itinera_model::id::AgentId;
use itinera_model::protocol::Task;
use itinera_store::StoreError;
use itinera_store::cluster::{Cluster, ClusterError};
use std::fmt;
use std::sync::Arc;
use std::time::Duration;
use time::OffsetDateTime;

/// How often measurements are summed up and old ones replaced, by the clock.
const DUTIES_S: i64 = 3_600;

/// Why an installation cannot be filled.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BackfillError {
    /// The service cannot be put together.
    #[error(transparent)]
    Service(#[from] ServiceError),
    /// About the database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// About the private cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// What is received later comes later in the log: a past can only be filled first.
    #[error("the installation has measurements already; only a new one can be filled")]
    NotNew,
    /// Another process judges.
    #[error("a service runs on this database; stop it first")]
    ServiceRuns,
    /// Judgement failed.
    #[error("commit {commit_no} cannot be judged: {error}")]
    Unjudgeable {
        /// The commit.
        commit_no: i64,
        /// Why.
        error: String,
    },
    /// The watermark for measurements is reached.
    #[error("the disk is nearly full: nothing more is filled in")]
    DiskFull,
}

impl From<Stopped> for BackfillError {
    fn from(stopped: Stopped) -> Self {
        match stopped {
            Stopped::Store(StoreError::Fenced) => Self::ServiceRuns,
            Stopped::Store(error) => Self::Store(error),
            Stopped::Unjudgeable(cursor, error) => {
                Self::Unjudgeable { commit_no: cursor + 1, error }
            }
        }
    }
}

/// An agent and the paths that it is to measure.
#[derive(Debug, Clone)]
pub struct BackfillAgent {
    /// The agent.
    pub agent: AgentId,
    /// Name of its site.
    pub site: String,
    /// Its paths.
    pub tasks: Vec<Task>,
}

/// An installation that is being filled.
pub struct Backfill {
    shared: Arc<Shared>,
    cluster: Option<Cluster>,
    judgement: Follower,
    duties_at: OffsetDateTime,
}

impl fmt::Debug for Backfill {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Backfill").field("at", &self.shared.clock.now()).finish_non_exhaustive()
    }
}

impl Backfill {
    /// Opens an installation that has no measurements yet, with its clock at a time. Each long step is
    /// announced by `say`.
    ///
    /// # Errors
    /// [`BackfillError`].
    pub async fn open(
        config: &Config,
        at: OffsetDateTime,
        say: impl Fn(&str),
    ) -> Result<Self, BackfillError> {
        let (cluster, shared) = server::open(config, ServiceClock::standing(at), say).await?;
        let shared = Arc::new(shared);
        shared.store.make_partitions(at).await?;
        let token = shared.store.lead_judgement(shared.process).await?;
        let token = token.ok_or(BackfillError::ServiceRuns)?;
        // The service has run before: agents have joined.
        if !shared.store.forget_empty_log(token).await? {
            return Err(BackfillError::NotNew);
        }
        let judgement = Follower::alone(&shared, config.limits, token).await?;
        Ok(Self { shared, cluster, judgement, duties_at: at })
    }

    #[cfg(test)]
    pub(crate) fn store(&self) -> &itinera_store::Store {
        &self.shared.store
    }

    /// The agents that have joined, with what they are to measure.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn agents(&self) -> Result<Vec<BackfillAgent>, StoreError> {
        let mut agents = Vec::new();
        for record in self.shared.store.agents().await? {
            let (agent, site) = (record.id, record.site);
            let tasks = self.shared.store.schedule_for(agent).await?.tasks;
            agents.push(BackfillAgent { agent, site, tasks });
        }
        Ok(agents)
    }

    /// Moves the clock to a time, takes in the batches that arrive then, and does what the service
    /// would have done by then.
    ///
    /// # Errors
    /// [`BackfillError`]; what was filled in before stays.
    pub async fn step(
        &mut self,
        at: OffsetDateTime,
        batches: &[Batch],
    ) -> Result<(), BackfillError> {
        let shared = &self.shared;
        shared.clock.set(at);
        for batch in batches {
            shared.store.commit_batch(batch.agent, batch, at).await?;
        }
        self.judgement.catch_up().await?;
        if at >= self.duties_at + time::Duration::seconds(DUTIES_S) {
            self.duties_at = at;
            self.duties(at).await?;
        }
        Ok(())
    }

    async fn duties(&self, at: OffsetDateTime) -> Result<(), BackfillError> {
        let shared = &self.shared;
        shared.look_at_disk().await?;
        if shared.disk.borrow().room == Room::Full {
            return Err(BackfillError::DiskFull);
        }
        shared.store.make_partitions(at).await?;
        while shared.store.roll_up().await? {}
        evidence::sum_up_days(&shared.store, at, Duration::MAX).await?;
        storage::compact(&shared.store, at).await?;
        storage::apply_retention(&shared.store, shared.retention, at).await?;
        shared.store.close_settled_incidents(at).await?;
        shared.store.forget_old_changes().await?;
        Ok(())
    }

    /// Ends at the time of the last step. A private cluster is stopped even where an error is given.
    ///
    /// # Errors
    /// [`BackfillError`].
    pub async fn close(mut self) -> Result<(), BackfillError> {
        let judged = self.judgement.close().await.map_err(BackfillError::from);
        let done = judged.and(self.duties(self.shared.clock.now()).await);
        let released = self.shared.store.release_leases(Some(self.shared.process)).await;
        if let Some(cluster) = self.cluster {
            cluster.stop().await?;
        }
        done?;
        Ok(released?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing;
    use itinera_model::evidence::EvidenceSubject;
    use itinera_model::id::PathId;
    use itinera_model::rollup::RollupSpan;
    use itinera_model::unit::WallTime;
    use itinera_store::NewEntry;
    use std::collections::BTreeMap;
    use uuid::Uuid;

    const DAYS: i64 = 14;
    /// From one round of a path to the next.
    const EVERY_S: i64 = 600;

    /// Probes sent and lost by path, hour and hop.
    type Counts = BTreeMap<(PathId, i64, usize), [u64; 2]>;

    fn count(counts: &mut Counts, key: (PathId, i64, usize), more: [u64; 2]) {
        let sum = counts.entry(key).or_default();
        *sum = [sum[0] + more[0], sum[1] + more[1]];
    }

    /// The first counts that differ.
    fn difference(one: &Counts, other: &Counts) -> Option<String> {
        let keys = one.keys().chain(other.keys());
        let differing = keys.into_iter().find(|key| one.get(key) != other.get(key))?;
        Some(format!("{differing:?}: {:?} {:?}", one.get(differing), other.get(differing)))
    }

    fn hour(at: WallTime) -> i64 {
        at.as_unix_micros().div_euclid(3_600_000_000)
    }

    /// Counts of recorded rounds, live or in blocks.
    async fn of_rounds(
        store: &itinera_store::Store,
        paths: &[PathId],
        span: (OffsetDateTime, OffsetDateTime),
    ) -> Counts {
        let mut counts = Counts::new();
        for round in store.rounds_between(paths, span.0, span.1).await.unwrap() {
            for (nth, hop) in round.hops.iter().enumerate() {
                let heard = u64::from(hop.answers()) + u64::from(hop.late);
                let more = [hop.sent.into(), u64::from(hop.sent) - heard];
                count(&mut counts, (round.path, hour(round.measured_at), nth), more);
            }
        }
        counts
    }

    /// Counts of evidence, by ten seconds or summed up.
    async fn of_evidence(
        store: &itinera_store::Store,
        paths: &[PathId],
        span: (OffsetDateTime, OffsetDateTime),
    ) -> Counts {
        let mut counts = Counts::new();
        for path in paths {
            for (at, summary) in evidence::minutes(store, *path, span).await.unwrap() {
                for route in summary.routes() {
                    for (nth, hop) in route.hops.iter().enumerate() {
                        let more = [hop.sent.into(), hop.lost.into()];
                        count(&mut counts, (*path, hour(at.into()), nth), more);
                    }
                }
            }
        }
        counts
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_fortnight_is_compacted_summed_up_and_counted_alike_everywhere() {
        let data = tempfile::tempdir().unwrap();
        let config = testing::config(data.path());
        let begin =
            OffsetDateTime::now_utc().date().midnight().assume_utc() - time::Duration::days(DAYS);
        let mut backfill = Backfill::open(&config, begin, |_| ()).await.unwrap();
        let store = backfill.store().clone();
        let (agent, paths) = testing::join(&store, begin).await;
        let mut issued = Counts::new();
        let rounds = DAYS * 86_400 / EVERY_S;
        let mut at = begin;
        for seq in 0..rounds {
            at = begin + time::Duration::seconds(seq * EVERY_S + 5);
            for (nth, path) in paths.iter().enumerate() {
                let measured = WallTime::from(at - time::Duration::seconds(2));
                for (hop, of) in testing::hops(nth, at.unix_timestamp()).iter().enumerate() {
                    let heard = u64::from(of.answers()) + u64::from(of.late);
                    let more = [of.sent.into(), u64::from(of.sent) - heard];
                    count(&mut issued, (*path, hour(measured), hop), more);
                }
            }
            let batch = testing::batch(agent, &paths, seq.cast_unsigned(), at);
            backfill.step(at, &[batch]).await.unwrap();
        }
        // What is open is sealed, and the last days are old enough.
        for hours in [1, 24, 48] {
            backfill.step(at + time::Duration::hours(hours), &[]).await.unwrap();
        }
        let span = (begin - time::Duration::days(1), begin + time::Duration::days(DAYS + 1));
        assert_eq!(issued.len(), 2 * 6 * 24 * usize::try_from(DAYS).unwrap());
        assert_eq!(difference(&of_rounds(&store, &paths, span).await, &issued), None);
        assert_eq!(difference(&of_evidence(&store, &paths, span).await, &issued), None);
        let summed = store.evidence(EvidenceSubject::Path(paths[0]), span).await.unwrap();
        assert_eq!((summed.minutes.len(), summed.hours.len()), (0, 24 * 14));
        let size = store.database_size(at).await.unwrap();
        let blocks = size.tables.iter().find(|table| table.name == "round_block").unwrap();
        assert!(blocks.bytes > 14 * 8_192, "{blocks:?}");
        for span_of in [RollupSpan::FiveMinutes, RollupSpan::Hour, RollupSpan::Day] {
            let rollups = store.rollups(paths[1], span_of, span.0, span.1).await.unwrap();
            let summed: u64 = rollups.iter().map(|it| u64::from(it.rollup.rounds)).sum();
            assert_eq!(summed, rounds.cast_unsigned(), "{span_of:?}");
        }
        backfill.close().await.unwrap();
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn only_an_installation_without_measurements_is_filled() {
        let data = tempfile::tempdir().unwrap();
        let config = testing::config(data.path());
        let now = OffsetDateTime::now_utc().truncate_to_second();
        // A service has run: the time is in the log, and an agent has joined.
        let (cluster, shared) = server::open(&config, ServiceClock::new(), |_| ()).await.unwrap();
        let (agent, paths) = testing::join(&shared.store, now).await;
        let token = shared.store.lead_judgement(Uuid::from_u128(9)).await.unwrap().unwrap();
        shared.store.log(token, NewEntry::Clock, now).await.unwrap();
        cluster.unwrap().stop().await.unwrap();
        let begin = now - time::Duration::days(3);
        let mut backfill = Backfill::open(&config, begin, |_| ()).await.unwrap();
        assert_eq!(backfill.agents().await.unwrap()[0].tasks.len(), 2);
        let at = begin + time::Duration::seconds(10);
        backfill.step(at, &[testing::batch(agent, &paths, 0, at)]).await.unwrap();
        let store = backfill.store().clone();
        let recorded = store.rounds_of(paths[0]).await.unwrap();
        assert_eq!(recorded[0].received_at, at, "by the clock that was set");
        backfill.close().await.unwrap();
        let again = Backfill::open(&config, begin, |_| ()).await.unwrap_err();
        assert!(matches!(again, BackfillError::NotNew), "{again:?}");
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_full_disk_ends_it_with_its_cluster_stopped() {
        let data = tempfile::tempdir().unwrap();
        let mut config = testing::config(data.path());
        config.watermarks.full_mb = u32::MAX;
        let begin = OffsetDateTime::now_utc() - time::Duration::days(3);
        let backfill = Backfill::open(&config, begin, |_| ()).await.unwrap();
        let server = data.path().join("cluster/postmaster.pid");
        assert!(server.exists());
        let full = backfill.close().await.unwrap_err();
        assert!(matches!(full, BackfillError::DiskFull), "{full:?}");
        assert!(!server.exists());
    }
}
