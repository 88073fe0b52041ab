//! The state of everything in a few numbers.

use crate::paths::WITHOUT_ALARM;
use crate::{Store, StoreError, rows};
use itinera_model::self_alarm::FailingReceiver;
use sea_orm::FromQueryResult;

/// Counts that the first page and the metrics show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, FromQueryResult)]
pub struct StateCounts {
    /// Agents that have joined.
    pub agents: i64,
    /// Agents with a last batch older than a minute, or without any.
    pub agents_late: i64,
    /// Paths.
    pub paths: i64,
    /// Paths with a newest judgement older than two minutes, or without any, except those
    /// that are suppressed now.
    pub paths_without_rounds: i64,
    /// Alarms that are open, those of events included: one for each cause, as the list shows them.
    pub open_alarms: i64,
    /// Paths with a finding in the last two minutes that no open alarm has.
    pub suspected_paths: i64,
    /// Rounds recorded.
    pub rounds: i64,
    /// Commits recorded.
    pub commits: i64,
    /// Commits not judged yet.
    pub unjudged_commits: i64,
    /// Commits that could not be judged and are left out.
    pub set_aside_commits: i64,
    /// Deliveries of notices that failed within a day, or wait after three attempts.
    pub late_deliveries: i64,
}

impl Store {
    /// Counts everything.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn status_counts(&self) -> Result<StateCounts, StoreError> {
        let query = format!(
            "SELECT \
             (SELECT count(*) FROM agent) AS agents, \
             (SELECT count(*) FROM agent WHERE last_batch_at IS NULL \
                 OR last_batch_at < now() - interval '1 minute') AS agents_late, \
             (SELECT count(*) FROM path) AS paths, \
             (SELECT count(*) FROM path p JOIN target t ON t.id = p.target_id \
                     JOIN agent a ON a.id = p.agent_id JOIN site s ON s.id = a.site_id \
                 WHERE NOT EXISTS (SELECT FROM path_latest l WHERE l.path_id = p.id \
                         AND l.window_no >= extract(epoch FROM now()) / 10 - 12) \
                     AND NOT EXISTS (SELECT FROM suppression x \
                         WHERE now() BETWEEN x.from_at AND x.until_at \
                             AND coalesce(x.site, s.name) = s.name \
                             AND coalesce(x.target, t.name) = t.name)) AS paths_without_rounds, \
             (SELECT count(DISTINCT root_id) FROM alarm \
                 WHERE cleared_at IS NULL AND severity IS NOT NULL) AS open_alarms, \
             (SELECT count(*) FROM path_latest l \
                 WHERE l.window_no >= extract(epoch FROM now()) / 10 - 12 \
                     AND l.confidence_ppm IS NOT NULL AND {WITHOUT_ALARM}) AS suspected_paths, \
             (SELECT rounds FROM meta) AS rounds, \
             (SELECT log_head FROM meta) AS commits, \
             (SELECT log_head FROM meta) - (SELECT cursor FROM judge) AS unjudged_commits, \
             (SELECT count(*) FROM set_aside) AS set_aside_commits, \
             (SELECT count(*) FROM delivery d JOIN receiver r ON r.id = d.receiver_id \
                 WHERE r.removed_at IS NULL AND ((d.state = 'waiting' AND d.attempts >= 3) \
                     OR (d.state = 'failed' AND d.ended_at > now() - interval '1 day'))) \
                 AS late_deliveries"
        );
        rows::first(&self.db, &query, []).await?.ok_or_else(|| StoreError::corrupt("count"))
    }

    /// How the service stands, as far as the database knows.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn health(&self) -> Result<HealthCounts, StoreError> {
        // Entries of the log are in order of their numbers, and of the times at which they came in.
        let select = "SELECT (SELECT log_head FROM meta) - (SELECT cursor FROM judge) AS unjudged_commits, \
             coalesce(extract(epoch FROM now() - least( \
                 (SELECT received_at FROM batch WHERE commit_no > (SELECT cursor FROM judge) \
                     ORDER BY commit_no LIMIT 1), \
                 (SELECT received_at FROM log_clock WHERE commit_no > (SELECT cursor FROM judge) \
                     ORDER BY commit_no LIMIT 1))), 0)::float8 AS oldest_unjudged_s, \
             (SELECT count(*) FROM set_aside) AS set_aside_commits, \
             (SELECT error FROM set_aside ORDER BY at DESC LIMIT 1) AS set_aside_error, \
             (SELECT count(*) FROM agent WHERE last_batch_at > now() - interval '1 day') AS agents, \
             (SELECT count(*) FROM agent WHERE last_batch_at > now() - interval '1 day' \
                 AND last_batch_at < now() - interval '1 minute') AS agents_late";
        let counts = rows::first(&self.db, select, []).await?;
        counts.ok_or_else(|| StoreError::corrupt("count"))
    }

    /// Receivers with deliveries that wait after three attempts, or failed within an hour; tests do not count.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn failing_receivers(&self) -> Result<Vec<FailingReceiver>, StoreError> {
        let select = "SELECT r.name, count(*) AS deliveries, \
                 (array_agg(d.reason ORDER BY d.next_at DESC))[1] AS reason \
             FROM delivery d JOIN receiver r ON r.id = d.receiver_id \
                 JOIN notice n ON n.id = d.notice_id \
             WHERE r.removed_at IS NULL AND n.incident_id IS NOT NULL AND ((d.state = 'waiting' AND d.attempts >= 3) \
                 OR (d.state = 'failed' AND d.ended_at > now() - interval '1 hour')) \
             GROUP BY r.id, r.name ORDER BY r.name";
        let found: Vec<FailingRow> = rows::all(&self.db, select, []).await?;
        let failing = |row: FailingRow| FailingReceiver {
            receiver: row.name,
            deliveries: u32::try_from(row.deliveries).unwrap_or(u32::MAX),
            reason: row.reason.unwrap_or_default(),
        };
        Ok(found.into_iter().map(failing).collect())
    }
}

/// How the service stands.
#[derive(Debug, Clone, PartialEq, FromQueryResult)]
pub struct HealthCounts {
    /// Commits not judged yet.
    pub unjudged_commits: i64,
    /// Seconds since the oldest of them came in; 0 without one.
    pub oldest_unjudged_s: f64,
    /// Commits that could not be judged and are left out.
    pub set_aside_commits: i64,
    /// The error of the newest of them.
    pub set_aside_error: Option<String>,
    /// Agents that have reported within a day.
    pub agents: i64,
    /// Of those, with a last report older than a minute.
    pub agents_late: i64,
}

#[derive(FromQueryResult)]
struct FailingRow {
    name: String,
    deliveries: i64,
    reason: Option<String>,
}
