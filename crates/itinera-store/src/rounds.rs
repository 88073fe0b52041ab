//! Rounds with what they refer to, and the rounds of paths in a span of time.

use crate::statement::sql;
use crate::times::measured_at;
use crate::{Store, StoreError, rows};
use itinera_model::id::{ContentId, PathId};
use itinera_model::packed;
use itinera_model::reading::Reading;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::route::{Flow, FlowKey, Route};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::QueryResult;
use sea_orm::entity::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};

/// A round as judgement needs it.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedRound {
    /// The path.
    pub path: PathId,
    /// Its number.
    pub number: u64,
    /// When it was measured: the agent's clock corrected by its offset, or the time of receipt
    /// where the agent does not know its offset, or claims to be later than that.
    pub measured_at: WallTime,
    /// The agent's address.
    pub source: IpAddr,
    /// What tells its flow from the others of the path.
    pub flow: FlowKey,
    /// The route with its identity.
    pub route: Arc<KnownRoute>,
    /// What each hop gave.
    pub hops: Vec<HopCounts>,
    /// Where the delays' stamps came from.
    pub stamps: StampSource,
    /// How late the agent's own program was, where it reports that.
    pub lateness: Option<Lateness>,
    /// DSCP of the probe as the last hop that quoted it received it; absent where none did.
    pub arrived_dscp: Option<u8>,
}

/// A route with its identity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownRoute {
    /// Its identity.
    pub id: ContentId,
    /// The route.
    pub route: Route,
}

pub(crate) const fn stamps_of(code: i16) -> StampSource {
    match code {
        1 => StampSource::Virtual,
        2 => StampSource::Kernel,
        _ => StampSource::Program,
    }
}

/// What a query of rounds selects, from `round r` and `path p`.
pub(crate) const COLUMNS: &str = "p.id AS path, r.number, r.wall_us, r.offset_us, r.flow_no, \
     r.route_no, r.reading_no, r.hops, r.stamps, r.timer_late_us, r.read_late_us, r.link_late_us";

/// Contents kept of each kind at most; beyond that all of them are read again.
const MOST_CONTENTS: usize = 100_000;

/// What rounds refer to, by number. Nearly all rounds refer to what earlier ones did.
#[derive(Debug, Default)]
pub(crate) struct Contents {
    /// The agent's address, and what tells the flow from others.
    flows: BTreeMap<i64, (IpAddr, FlowKey)>,
    routes: BTreeMap<i64, Arc<KnownRoute>>,
    /// The DSCP that the last quoting hop received.
    readings: BTreeMap<i64, Option<u8>>,
}

#[derive(FromQueryResult)]
struct BodyRow {
    no: i64,
    body: Json,
}

#[derive(FromQueryResult)]
struct RouteRow {
    no: i64,
    content: Vec<u8>,
    body: Json,
}

/// Numbers in a column of some rows that are not known.
fn unknown<'a, T>(
    rows: impl Iterator<Item = &'a QueryResult>,
    column: &str,
    known: &mut BTreeMap<i64, T>,
) -> Result<Vec<i64>, StoreError> {
    if known.len() > MOST_CONTENTS {
        known.clear();
    }
    let mut unknown = BTreeSet::new();
    for row in rows {
        let no: Option<i64> = row.try_get("", column)?;
        unknown.extend(no.filter(|no| !known.contains_key(no)));
    }
    Ok(unknown.into_iter().collect())
}

impl Contents {
    /// Reads what some rounds refer to and is not known.
    pub(crate) async fn read<'a>(
        &mut self,
        db: &DatabaseConnection,
        rows: impl Iterator<Item = &'a QueryResult> + Clone,
    ) -> Result<(), StoreError> {
        let flows = unknown(rows.clone(), "flow_no", &mut self.flows)?;
        if !flows.is_empty() {
            let select = "SELECT no, body FROM flow WHERE no = ANY($1)";
            for row in rows::all::<BodyRow>(db, select, [flows.into()]).await? {
                let flow: Flow =
                    serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("flow"))?;
                self.flows.insert(row.no, (flow.source, flow.key()));
            }
        }
        let routes = unknown(rows.clone(), "route_no", &mut self.routes)?;
        if !routes.is_empty() {
            let select = "SELECT no, content, body FROM route WHERE no = ANY($1)";
            for row in rows::all::<RouteRow>(db, select, [routes.into()]).await? {
                let id = ContentId::from_slice(&row.content);
                let id = id.ok_or_else(|| StoreError::corrupt("route identity"))?;
                let route =
                    serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("route"))?;
                self.routes.insert(row.no, Arc::new(KnownRoute { id, route }));
            }
        }
        let readings = unknown(rows, "reading_no", &mut self.readings)?;
        if !readings.is_empty() {
            let select = "SELECT no, body FROM reading WHERE no = ANY($1)";
            for row in rows::all::<BodyRow>(db, select, [readings.into()]).await? {
                let reading: Reading =
                    serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("reading"))?;
                let dscp = reading.hops.iter().rev().find_map(|hop| hop.quoted_dscp);
                self.readings.insert(row.no, dscp);
            }
        }
        Ok(())
    }

    /// A round from its row, received at this time by the service's clock.
    pub(crate) fn round(
        &self,
        row: &QueryResult,
        received_at: WallTime,
    ) -> Result<LoggedRound, StoreError> {
        let (flow_no, route_no): (i64, i64) =
            (row.try_get("", "flow_no")?, row.try_get("", "route_no")?);
        let reading_no: Option<i64> = row.try_get("", "reading_no")?;
        let hops: Vec<u8> = row.try_get("", "hops")?;
        let number: i64 = row.try_get("", "number")?;
        let path: Uuid = row.try_get("", "path")?;
        let flow = self.flows.get(&flow_no).copied();
        let (source, flow) = flow.ok_or_else(|| StoreError::corrupt("flow number"))?;
        let route = self.routes.get(&route_no).map(Arc::clone);
        Ok(LoggedRound {
            path: PathId::from_uuid(path),
            number: number.cast_unsigned(),
            measured_at: measured_at(
                row.try_get("", "wall_us")?,
                row.try_get("", "offset_us")?,
                received_at,
            ),
            source,
            flow,
            route: route.ok_or_else(|| StoreError::corrupt("route number"))?,
            hops: packed::unpack(&hops).map_err(|_| StoreError::corrupt("packed hops"))?,
            stamps: stamps_of(row.try_get("", "stamps")?),
            lateness: lateness_of(row)?,
            arrived_dscp: reading_no.and_then(|no| self.readings.get(&no).copied().flatten()),
        })
    }
}

/// How far behind its measurement a round is looked for in the order of receipt.
const LATE: Duration = Duration::minutes(15);

impl Store {
    /// The rounds of some paths that were measured between two times, by path and time. Rounds
    /// that came in over a quarter of an hour late are not looked for.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rounds_between(
        &self,
        paths: &[PathId],
        from: OffsetDateTime,
        to: OffsetDateTime,
    ) -> Result<Vec<LoggedRound>, StoreError> {
        let select = format!(
            "SELECT {COLUMNS}, r.received_at FROM round r JOIN path p ON p.no = r.path_no \
             WHERE p.id = ANY($1) AND r.received_at BETWEEN $2 AND $3 ORDER BY p.no, r.received_at"
        );
        let ids: Vec<Uuid> = paths.iter().map(|path| path.as_uuid()).collect();
        let values = [ids.into(), from.into(), (to + LATE).into()];
        let rows = self.db.query_all_raw(sql(&select, values)).await?;
        let mut contents = Contents::default();
        contents.read(&self.db, rows.iter()).await?;
        let mut rounds = Vec::with_capacity(rows.len());
        let (first, last) = (WallTime::from(from), WallTime::from(to));
        for row in &rows {
            let received_at: OffsetDateTime = row.try_get("", "received_at")?;
            let round = contents.round(row, received_at.into())?;
            if (first..=last).contains(&round.measured_at) {
                rounds.push(round);
            }
        }
        Ok(rounds)
    }
}

/// Where a page of rounds ends: time of receipt, commit, number.
pub type RoundsEnd = (OffsetDateTime, i64, i64);

/// Some rounds of a path in the order of receipt.
#[derive(Debug, Clone, PartialEq)]
pub struct RoundsPage {
    /// The rounds.
    pub rounds: Vec<LoggedRound>,
    /// Where the next page begins; absent after the last.
    pub next: Option<RoundsEnd>,
}

impl Store {
    /// A page of a path's rounds that were measured between two times, at most `limit`. As with
    /// [`Self::rounds_between`], those that came in very late are not looked for.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rounds_page(
        &self,
        path: PathId,
        (from, to): (OffsetDateTime, OffsetDateTime),
        after: Option<RoundsEnd>,
        limit: i64,
    ) -> Result<RoundsPage, StoreError> {
        let select = format!(
            "SELECT {COLUMNS}, r.received_at, r.commit_no \
             FROM round r JOIN path p ON p.no = r.path_no \
             WHERE p.id = $1 AND r.received_at BETWEEN $2 AND $3 \
                 AND (r.received_at, r.commit_no, r.number) > ($2, $4, $5) \
             ORDER BY r.received_at, r.commit_no, r.number LIMIT $6"
        );
        let (begin, commit_no, number) = after.unwrap_or((from, 0, -1));
        let values = [
            path.as_uuid().into(),
            begin.into(),
            (to + LATE).into(),
            commit_no.into(),
            number.into(),
            limit.into(),
        ];
        let rows = self.db.query_all_raw(sql(&select, values)).await?;
        let mut contents = Contents::default();
        contents.read(&self.db, rows.iter()).await?;
        let end = |row: &QueryResult| -> Result<RoundsEnd, StoreError> {
            let commit_no = row.try_get("", "commit_no")?;
            Ok((row.try_get("", "received_at")?, commit_no, row.try_get("", "number")?))
        };
        let is_full = i64::try_from(rows.len()).is_ok_and(|read| read >= limit);
        let next = rows.last().filter(|_| is_full).map(end).transpose()?;
        let (first, last) = (WallTime::from(from), WallTime::from(to));
        let mut rounds = Vec::with_capacity(rows.len());
        for row in &rows {
            let received_at: OffsetDateTime = row.try_get("", "received_at")?;
            let round = contents.round(row, received_at.into())?;
            if (first..=last).contains(&round.measured_at) {
                rounds.push(round);
            }
        }
        Ok(RoundsPage { rounds, next })
    }
}

/// How late an agent was in a round: all three columns, or none from agents that do not report it.
pub(crate) fn lateness_of(row: &QueryResult) -> Result<Option<Lateness>, StoreError> {
    let us = |column| -> Result<Option<u32>, StoreError> {
        let us: Option<i32> = row.try_get("", column)?;
        Ok(us.map(i32::cast_unsigned))
    };
    let all = us("timer_late_us")?.zip(us("read_late_us")?).zip(us("link_late_us")?);
    Ok(all.map(|((timer_us, read_us), link_us)| Lateness { timer_us, read_us, link_us }))
}
