//! Routes of pairs, each direction by itself.

use crate::numbers::numbers_by_id;
use crate::statement::sql;
use crate::times::measured_at;
use crate::{Store, StoreError, rows};
use itinera_model::codec::{decode, encode};
use itinera_model::id::{AgentId, PairId};
use itinera_model::two_way::{Direction, PairRoute};
use itinera_model::unit::WallTime;
use sea_orm::entity::prelude::*;
use sea_orm::{DatabaseTransaction, FromQueryResult};
use std::collections::BTreeMap;
use time::{Duration, OffsetDateTime};

/// A route that was received so long before may not be that of now: agents report theirs every hour.
const HOLDS: Duration = Duration::hours(2);

/// A recorded route of a pair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PairRouteAt {
    /// When it was measured, by the service's estimate.
    pub at: WallTime,
    /// The route.
    pub route: PairRoute,
}

#[derive(FromQueryResult)]
struct RouteRow {
    commit_no: i64,
    received_at: OffsetDateTime,
    body: Vec<u8>,
}

fn read(row: &RouteRow) -> Result<PairRouteAt, StoreError> {
    let route: PairRoute = decode(&row.body).map_err(|_| StoreError::corrupt("route of a pair"))?;
    let wall_us = route.clocks.wall.as_unix_micros();
    let at = measured_at(wall_us, route.clocks.offset_us, WallTime::from(row.received_at));
    Ok(PairRouteAt { at, route })
}

impl Store {
    /// The newest route of a pair in each direction at a time; none of one that was received more than
    /// two hours before.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn pair_routes(
        &self,
        pair: PairId,
        at: OffsetDateTime,
    ) -> Result<BTreeMap<Direction, PairRouteAt>, StoreError> {
        let select = "SELECT r.commit_no, r.received_at, r.body FROM pair p \
                 JOIN pair_route r ON r.pair_no = p.no \
             WHERE p.id = $1 AND r.received_at BETWEEN $2 AND $3 \
             ORDER BY r.received_at";
        let values = [pair.as_uuid().into(), (at - HOLDS).into(), at.into()];
        let mut routes: BTreeMap<Direction, PairRouteAt> = BTreeMap::new();
        for row in rows::all::<RouteRow>(&self.db, select, values).await? {
            let new = read(&row)?;
            let known = routes.get(&new.route.direction);
            if known.is_none_or(|known| known.at <= new.at) {
                routes.insert(new.route.direction, new);
            }
        }
        Ok(routes)
    }
}

/// Routes of the commits after one up to another, received between two times, in order, by commit.
pub(crate) async fn of_commits(
    db: &impl ConnectionTrait,
    (after, upto): (i64, i64),
    (low, high): (OffsetDateTime, OffsetDateTime),
) -> Result<BTreeMap<i64, Vec<PairRouteAt>>, StoreError> {
    let select = "SELECT commit_no, received_at, body FROM pair_route \
         WHERE commit_no > $1 AND commit_no <= $2 AND received_at BETWEEN $3 AND $4 \
         ORDER BY commit_no, pair_no, body";
    let values = [after.into(), upto.into(), low.into(), high.into()];
    let mut by_commit: BTreeMap<i64, Vec<PairRouteAt>> = BTreeMap::new();
    for row in rows::all::<RouteRow>(db, select, values).await? {
        by_commit.entry(row.commit_no).or_default().push(read(&row)?);
    }
    Ok(by_commit)
}

/// Writes the routes of pairs in the direction in which the agent sends; gives how many these are.
pub(crate) async fn write(
    txn: &DatabaseTransaction,
    agent: AgentId,
    routes: &[PairRoute],
    (received_at, commit_no): (OffsetDateTime, i64),
) -> Result<usize, StoreError> {
    if routes.is_empty() {
        return Ok(0);
    }
    let sends = numbers_by_id(txn, "SELECT id, no FROM pair WHERE sender_id = $1", agent).await?;
    let reflects = "SELECT id, no FROM pair WHERE reflector_id = $1";
    let reflects = numbers_by_id(txn, reflects, agent).await?;
    let (mut nos, mut bodies) = (Vec::new(), Vec::new());
    for route in routes {
        let of = match route.direction {
            Direction::Forward => &sends,
            Direction::Return => &reflects,
        };
        if let Some(no) = of.get(&route.pair.as_uuid()) {
            nos.push(*no);
            bodies.push(encode(route));
        }
    }
    let stored = nos.len();
    let insert = "INSERT INTO pair_route (received_at, commit_no, pair_no, body) \
         SELECT $1, $2, no, body FROM unnest($3::int[], $4::bytea[]) AS r(no, body)";
    let values = [received_at.into(), commit_no.into(), nos.into(), bodies.into()];
    txn.execute_raw(sql(insert, values)).await?;
    Ok(stored)
}
