//! Rounds with what they refer to, and the rounds of paths in a span of time.

mod block;
mod compaction;
mod reader;

pub use compaction::Compacted;
pub(crate) use reader::{
    CommitReader, RoundRow, live_of_commits, live_of_paths, newest_live, of_paths, snapshot, view,
};

use crate::times::measured_at;
use crate::{Store, StoreError, rows};
use itinera_model::id::{ContentId, PathId};
use itinera_model::packed;
use itinera_model::reading::Reading;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::round_block::StoredRound;
use itinera_model::route::{Flow, FlowKey, Route};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
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

pub(crate) const fn stamps_of(code: i64) -> StampSource {
    match code {
        1 => StampSource::Virtual,
        2 => StampSource::Kernel,
        _ => StampSource::Program,
    }
}

/// A route from its row.
pub(crate) fn route_of(content: &[u8], body: Json) -> Result<KnownRoute, StoreError> {
    let id = ContentId::from_slice(content).ok_or_else(|| StoreError::corrupt("route identity"))?;
    let route = serde_json::from_value(body).map_err(|_| StoreError::corrupt("route"))?;
    Ok(KnownRoute { id, route })
}

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

/// Numbers that are not known.
fn unknown<T>(numbers: impl Iterator<Item = i64>, known: &mut BTreeMap<i64, T>) -> Vec<i64> {
    if known.len() > MOST_CONTENTS {
        known.clear();
    }
    let unknown: BTreeSet<i64> = numbers.filter(|no| !known.contains_key(no)).collect();
    unknown.into_iter().collect()
}

impl Contents {
    /// Reads what some rounds refer to and is not known.
    pub(crate) async fn read(
        &mut self,
        db: &impl ConnectionTrait,
        rounds: &[RoundRow],
    ) -> Result<(), StoreError> {
        let rounds = || rounds.iter().map(|row| &row.round);
        let flows = unknown(rounds().map(|round| round.flow_no), &mut self.flows);
        if !flows.is_empty() {
            let select = "SELECT no, body FROM flow WHERE no = ANY($1)";
            for row in rows::all::<BodyRow>(db, select, [flows.into()]).await? {
                let flow: Flow =
                    serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("flow"))?;
                self.flows.insert(row.no, (flow.source, flow.key()));
            }
        }
        let routes = unknown(rounds().map(|round| round.route_no), &mut self.routes);
        if !routes.is_empty() {
            let select = "SELECT no, content, body FROM route WHERE no = ANY($1)";
            for row in rows::all::<RouteRow>(db, select, [routes.into()]).await? {
                let route = route_of(&row.content, row.body)?;
                self.routes.insert(row.no, Arc::new(route));
            }
        }
        let readings = unknown(rounds().filter_map(|round| round.reading_no), &mut self.readings);
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

    /// A round as judgement needs it, received at this time by the service's clock.
    pub(crate) fn round(
        &self,
        RoundRow { path, round, .. }: &RoundRow,
        received_at: WallTime,
    ) -> Result<LoggedRound, StoreError> {
        let flow = self.flows.get(&round.flow_no).copied();
        let (source, flow) = flow.ok_or_else(|| StoreError::corrupt("flow number"))?;
        let route = self.routes.get(&round.route_no).map(Arc::clone);
        let hops = packed::unpack(&round.hops).map_err(|_| StoreError::corrupt("packed hops"))?;
        let reading = round.reading_no.and_then(|no| self.readings.get(&no));
        Ok(LoggedRound {
            path: PathId::from_uuid(*path),
            number: round.number.cast_unsigned(),
            measured_at: measured_at(round.wall_us, round.offset_us, received_at),
            source,
            flow,
            route: route.ok_or_else(|| StoreError::corrupt("route number"))?,
            hops,
            stamps: stamps_of(round.stamps),
            lateness: lateness_of(round),
            arrived_dscp: reading.copied().flatten(),
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
        let ids: Vec<Uuid> = paths.iter().map(|path| path.as_uuid()).collect();
        let txn = view(&self.db).await?;
        let rows = of_paths(&txn, &ids, (from, to + LATE)).await?;
        let rounds = measured_between(&txn, &rows, (from, to)).await?;
        txn.commit().await?;
        Ok(rounds)
    }
}

/// Those of some rounds that were measured between two times.
async fn measured_between(
    db: &impl ConnectionTrait,
    rows: &[RoundRow],
    (from, to): (OffsetDateTime, OffsetDateTime),
) -> Result<Vec<LoggedRound>, StoreError> {
    let mut contents = Contents::default();
    contents.read(db, rows).await?;
    let measured = WallTime::from(from)..=WallTime::from(to);
    let mut rounds = Vec::with_capacity(rows.len());
    for row in rows {
        let round = contents.round(row, row.received_at().into())?;
        if measured.contains(&round.measured_at) {
            rounds.push(round);
        }
    }
    Ok(rounds)
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
        let limit = usize::try_from(limit).unwrap_or(0);
        let txn = view(&self.db).await?;
        let after = after.unwrap_or((from, 0, -1));
        let rows = reader::page(&txn, path.as_uuid(), after, to + LATE, limit).await?;
        let is_full = rows.len() >= limit;
        let next = rows.last().filter(|_| is_full).map(RoundRow::place);
        let rounds = measured_between(&txn, &rows, (from, to)).await?;
        txn.commit().await?;
        Ok(RoundsPage { rounds, next })
    }
}

/// How late an agent was in a round: all three numbers, or none from agents that do not report it.
pub(crate) fn lateness_of(round: &StoredRound) -> Option<Lateness> {
    let us = |us: Option<i64>| us.map(|us| u32::try_from(us).unwrap_or(u32::MAX));
    let [timer, read, link] = round.late_us.map(us);
    Some(Lateness { timer_us: timer?, read_us: read?, link_us: link? })
}
