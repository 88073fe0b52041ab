//! The state of everything in a few numbers.

use crate::{Store, StoreError, rows};
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
        let query = "SELECT \
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
                     AND l.confidence_ppm IS NOT NULL \
                     AND NOT EXISTS (SELECT FROM alarm x WHERE x.cleared_at IS NULL AND x.class = 'path' \
                         AND x.body->'showing' ? l.path_id::text)) AS suspected_paths, \
             (SELECT rounds FROM meta) AS rounds, \
             (SELECT log_head FROM meta) AS commits, \
             (SELECT log_head FROM meta) - (SELECT cursor FROM judge) AS unjudged_commits, \
             (SELECT count(*) FROM set_aside) AS set_aside_commits, \
             (SELECT count(*) FROM delivery d JOIN receiver r ON r.id = d.receiver_id \
                 WHERE r.removed_at IS NULL AND ((d.state = 'waiting' AND d.attempts >= 3) \
                     OR (d.state = 'failed' AND d.ended_at > now() - interval '1 day'))) \
                 AS late_deliveries";
        rows::first(&self.db, query, []).await?.ok_or_else(|| StoreError::corrupt("count"))
    }
}
