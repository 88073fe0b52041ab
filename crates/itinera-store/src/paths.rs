//! Paths as users see them.

use crate::packing::Unpacking;
use crate::rounds::{RoundRow, live_of_paths, of_paths, stamps_of, view};
use crate::{Store, StoreError, rows};
use itinera_model::finding::Assessment;
use itinera_model::id::{AgentId, PathId};
use itinera_model::packed;
use itinera_model::path::{Family, Method};
use itinera_model::reading::Reading;
use itinera_model::round::{HopCounts, StampSource};
use itinera_model::round_block::StoredRound;
use itinera_model::route::{Resolution, Route};
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use time::{Date, Duration, OffsetDateTime};

/// What the newest round of a path read.
#[derive(Debug, Clone, PartialEq)]
pub struct ReadRecord {
    /// What the answers said.
    pub reading: Reading,
    /// Its route.
    pub route: Route,
    /// Where its stamps came from.
    pub stamps: StampSource,
    /// What the target's name stood for.
    pub resolution: Resolution,
    /// Flows taken in turn in the two minutes before.
    pub flows: usize,
}

/// A path with its latest judgement.
#[derive(Debug, Clone, PartialEq)]
pub struct PathRecord {
    /// Its name.
    pub id: PathId,
    /// Its agent.
    pub agent: AgentId,
    /// Site of its agent.
    pub site: String,
    /// Name of its target.
    pub target: String,
    /// The service that the target is part of.
    pub service: String,
    /// Address of its target, of its family; the host name where it is resolved by agents.
    pub address: String,
    /// Family, method and the rest of the intent.
    pub family: Family,
    /// Probe method.
    pub method: Method,
    /// Differentiated services code point.
    pub dscp: i16,
    /// Length of the IP packet in bytes.
    pub size_bytes: i32,
    /// Latest judgement; absent before the first round.
    pub latest: Option<Assessment>,
}

/// Where a path begins and what it serves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathEnds {
    /// The path.
    pub path: PathId,
    /// Site of its agent.
    pub site: String,
    /// The service that its target is part of.
    pub service: String,
}

/// A stored round of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoundRecord {
    /// Its number.
    pub number: i64,
    /// The agent's run.
    pub boot: Uuid,
    /// Its commit.
    pub commit_no: i64,
    /// When it was received.
    pub received_at: OffsetDateTime,
    /// What each hop gave.
    pub hops: Vec<HopCounts>,
}

const SELECT: &str = "SELECT p.id, p.agent_id, s.name AS site, t.name AS target, \
         COALESCE(NULLIF(t.service, ''), t.name) AS service, p.family, p.method, \
         COALESCE(t.host, (SELECT e FROM jsonb_array_elements_text(t.addresses) e \
             WHERE (e LIKE '%:%') = (p.family = 'ipv6') LIMIT 1), t.address) AS address, p.dscp, p.size_bytes, l.content \
     FROM path p JOIN agent a ON a.id = p.agent_id JOIN site s ON s.id = a.site_id \
         JOIN target t ON t.id = p.target_id LEFT JOIN path_latest l ON l.path_id = p.id";

#[derive(FromQueryResult)]
struct PathRow {
    id: Uuid,
    agent_id: Uuid,
    site: String,
    target: String,
    service: String,
    address: String,
    family: String,
    method: String,
    dscp: i16,
    size_bytes: i32,
    content: Option<Vec<u8>>,
}

fn record(row: PathRow) -> Result<PathRecord, StoreError> {
    let latest = row.content.map(|content| Unpacking::new()?.value(&content)).transpose()?;
    Ok(PathRecord {
        id: PathId::from_uuid(row.id),
        agent: AgentId::from_uuid(row.agent_id),
        site: row.site,
        target: row.target,
        service: row.service,
        address: row.address,
        family: row.family.parse().map_err(|_| StoreError::corrupt("path"))?,
        method: row.method.parse().map_err(|_| StoreError::corrupt("path"))?,
        dscp: row.dscp,
        size_bytes: row.size_bytes,
        latest,
    })
}

#[derive(FromQueryResult)]
struct EndsRow {
    id: Uuid,
    site: String,
    service: String,
}

#[derive(FromQueryResult)]
struct ReadRow {
    reading: Json,
    route: Json,
    resolution: Json,
}

#[derive(FromQueryResult)]
struct BootRow {
    commit_no: i64,
    boot: Uuid,
}

/// True for a newest judgement `l` of a path that no open alarm has. All these paths are read once: an alarm
/// may have thousands.
pub(crate) const WITHOUT_ALARM: &str = "l.path_id NOT IN \
    (SELECT jsonb_array_elements_text(x.body->'showing')::uuid FROM alarm x \
     WHERE x.cleared_at IS NULL AND x.class = 'path')";

impl Store {
    /// The path with the surest finding of the last two minutes that no open alarm has; absent
    /// where there is none.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn surest_suspected(&self) -> Result<Option<PathRecord>, StoreError> {
        let select = format!(
            "{SELECT} WHERE l.window_no >= extract(epoch FROM now()) / 10 - 12 \
                 AND l.confidence_ppm IS NOT NULL AND {WITHOUT_ALARM} \
             ORDER BY l.confidence_ppm DESC, p.id LIMIT 1"
        );
        rows::first(&self.db, &select, []).await?.map(record).transpose()
    }

    /// Paths by id, which is by time of making, after `after`, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn paths(
        &self,
        after: Option<PathId>,
        limit: i64,
    ) -> Result<Vec<PathRecord>, StoreError> {
        let after = after.map_or(Uuid::nil(), PathId::as_uuid);
        let query = format!("{SELECT} WHERE p.id > $1 ORDER BY p.id LIMIT $2");
        let rows = rows::all(&self.db, &query, [after.into(), limit.into()]).await?;
        rows.into_iter().map(record).collect()
    }

    /// One path; absent when nothing has this name.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn path(&self, id: PathId) -> Result<Option<PathRecord>, StoreError> {
        let query = format!("{SELECT} WHERE p.id = $1");
        rows::first(&self.db, &query, [id.as_uuid().into()]).await?.map(record).transpose()
    }

    /// Site and service of these paths, in the order of their ids.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn path_ends(&self, ids: &[PathId]) -> Result<Vec<PathEnds>, StoreError> {
        let query = "SELECT p.id, s.name AS site, COALESCE(NULLIF(t.service, ''), t.name) AS service \
             FROM path p JOIN agent a ON a.id = p.agent_id JOIN site s ON s.id = a.site_id \
                 JOIN target t ON t.id = p.target_id WHERE p.id = ANY($1) ORDER BY p.id";
        let ids: Vec<Uuid> = ids.iter().map(|id| id.as_uuid()).collect();
        let rows: Vec<EndsRow> = rows::all(&self.db, query, [ids.into()]).await?;
        let ends =
            |EndsRow { id, site, service }| PathEnds { path: PathId::from_uuid(id), site, service };
        Ok(rows.into_iter().map(ends).collect())
    }

    /// What the newest round of a path read in its answers, and its route; absent without one
    /// in the hour before `now`, or from agents that do not report it.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn latest_read(
        &self,
        path: PathId,
        now: OffsetDateTime,
    ) -> Result<Option<ReadRecord>, StoreError> {
        // The clock of the log may be ahead.
        let until = now + Duration::days(1);
        // Most paths report every few seconds: the hour is seldom read.
        let recent = self.newest_read(path, (now - Duration::minutes(5), until)).await?;
        let found = match recent {
            Some(recent) => Some(recent),
            None => self.newest_read(path, (now - Duration::minutes(62), until)).await?,
        };
        let Some((newest, reading_no, flows)) = found else { return Ok(None) };
        let select = "SELECT d.body AS reading, t.body AS route, e.body AS resolution \
             FROM reading d, route t, resolution e WHERE d.no = $1 AND t.no = $2 AND e.no = $3";
        let StoredRound { route_no, resolution_no, stamps, .. } = newest.round;
        let values = [reading_no.into(), route_no.into(), resolution_no.into()];
        let row: Option<ReadRow> = rows::first(&self.db, select, values).await?;
        let Some(row) = row else { return Ok(None) };
        let corrupt = |what| move |_| StoreError::corrupt(what);
        Ok(Some(ReadRecord {
            reading: serde_json::from_value(row.reading).map_err(corrupt("reading"))?,
            route: serde_json::from_value(row.route).map_err(corrupt("route"))?,
            resolution: serde_json::from_value(row.resolution).map_err(corrupt("resolution"))?,
            stamps: stamps_of(stamps),
            flows,
        }))
    }

    /// The newest of a path's live rounds of a time with a reading, its number, and the number of flows
    /// of the two minutes before; absent where these two minutes are not all within the time.
    async fn newest_read(
        &self,
        path: PathId,
        times: (OffsetDateTime, OffsetDateTime),
    ) -> Result<Option<(RoundRow, i64, usize)>, StoreError> {
        let rounds = live_of_paths(&self.db, &[path.as_uuid()], times).await?;
        let read = rounds.iter().rev().find_map(|row| Some((row, row.round.reading_no?)));
        let Some((newest, reading_no)) = read else { return Ok(None) };
        let since = newest.received_at() - Duration::minutes(2);
        let recent = rounds.iter().filter(|row| row.received_at() > since);
        let flows: BTreeSet<i64> = recent.map(|row| row.round.flow_no).collect();
        Ok((since >= times.0).then(|| (newest.clone(), reading_no, flows.len())))
    }

    /// All stored rounds of a path in the order of boot and number.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rounds_of(&self, path: PathId) -> Result<Vec<RoundRecord>, StoreError> {
        let ever = (OffsetDateTime::UNIX_EPOCH, Date::MAX.midnight().assume_utc());
        let txn = view(&self.db).await?;
        let rows = of_paths(&txn, &[path.as_uuid()], ever).await?;
        let commits: Vec<i64> = rows.iter().map(|row| row.round.commit_no).collect();
        let select = "SELECT commit_no, boot FROM batch WHERE commit_no = ANY($1)";
        let boots: Vec<BootRow> = rows::all(&txn, select, [commits.into()]).await?;
        txn.commit().await?;
        let boots: BTreeMap<i64, Uuid> =
            boots.into_iter().map(|row| (row.commit_no, row.boot)).collect();
        let round = |row: RoundRow| -> Result<RoundRecord, StoreError> {
            let StoredRound { number, commit_no, ref hops, .. } = row.round;
            let boot = boots.get(&commit_no).copied();
            Ok(RoundRecord {
                number,
                boot: boot.ok_or_else(|| StoreError::corrupt("batch of a round"))?,
                commit_no,
                received_at: row.received_at(),
                hops: packed::unpack(hops).map_err(|_| StoreError::corrupt("packed hops"))?,
            })
        };
        let mut rounds = rows.into_iter().map(round).collect::<Result<Vec<_>, _>>()?;
        rounds.sort_by_key(|round| (round.boot, round.number, round.commit_no));
        Ok(rounds)
    }
}
