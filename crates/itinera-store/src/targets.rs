//! Sites, targets and the schedule: what the configuration says is watched.

use crate::checks::{CheckSpec, ensure_check};
use crate::entity::{path, site, target};
use crate::statement::sql;
use crate::{Store, StoreError, diagnoses, rows, watches};
use itinera_model::check::{Ask, CheckTask};
use itinera_model::id::{AgentId, PathId, SiteId, TargetId};
use itinera_model::path::{Direction, Family, Method, PathSpec};
use itinera_model::protocol::{Denser, Pacing, Task, Turn};
use itinera_model::unit::WallTime;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, DatabaseTransaction, QueryOrder, TransactionTrait};
use std::collections::BTreeMap;
use std::net::IpAddr;
use time::OffsetDateTime;

/// A target to watch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetSpec {
    /// Name, unique.
    pub name: String,
    /// The service that users use it for.
    pub service: String,
    /// Addresses probed, at most one of each version; unspecified ones where a host name
    /// is to be resolved, which only name the version.
    pub addresses: Vec<IpAddr>,
    /// Its host name, which agents resolve themselves.
    pub host: Option<String>,
    /// Methods used.
    pub methods: Vec<Method>,
    /// The port of TCP probes, and of UDP probes if a program answers there.
    pub port: Option<u16>,
    /// What its service is asked.
    pub checks: Vec<CheckSpec>,
    /// The intended route to it.
    pub intended: Option<IntendedRoute>,
}

/// The intended route to a target; absent fields allow anything.
#[derive(Debug, Clone, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(default)]
pub struct IntendedRoute {
    /// The AS numbers of owners on the route, in order; others may not stand between the first and
    /// the last.
    pub owners: Vec<u32>,
    /// Through a tunnel of the agent's machine, or through none.
    pub tunnel: Option<bool>,
    /// Marks arrive as they were sent.
    pub dscp_kept: bool,
}

/// A site to watch from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteSpec {
    /// Name, unique.
    pub name: String,
    /// Versions of IP it has.
    pub families: Vec<Family>,
    /// Where agents elsewhere reach those of this site, at most one address of each version of IP;
    /// without, at the address that their probes leave from.
    pub reached_at: Vec<IpAddr>,
    /// Names of sites that the configuration pairs with this one, neighbouring prefixes included.
    pub paired_with: Vec<String>,
}

/// How densely everything is probed.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Schedule {
    /// From round to round, in milliseconds.
    pub interval_ms: u32,
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// An answer after this is late, in milliseconds.
    pub timeout_ms: u32,
    /// Length of the whole IP packet in bytes.
    pub size_bytes: u16,
    /// The last hop limit tried.
    pub last_hop: u8,
    /// Of so many rounds one sweeps all hops.
    #[serde(default = "every")]
    pub full_every: u8,
    /// What agents may send, before those behind one public address share it.
    #[serde(default)]
    pub pacing: Pacing,
    /// How often member routes are enumerated again, in seconds; never where 0.
    #[serde(default)]
    pub enumerate_every_s: u32,
    /// The schedule of two-way measurement.
    #[serde(default)]
    pub two_way: TwoWaySchedule,
    /// How often agents tell their host facts, in seconds; never where 0.
    #[serde(default = "usual_host_facts")]
    pub host_facts_every_s: u32,
}

const fn usual_host_facts() -> u32 {
    60
}

/// The schedule of two-way measurement.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct TwoWaySchedule {
    /// Partners of an agent at most; 0 for none.
    pub partners: u8,
    /// From packet to packet, in milliseconds.
    pub interval_ms: u32,
    /// Packets of a round.
    pub packets: u16,
    /// Code point of the packets.
    pub dscp: u8,
    /// Length of the whole IP packet in bytes.
    pub size_bytes: u16,
    /// From one while as a voice-like stream to the next, in seconds; never where 0.
    #[serde(default)]
    pub voice_every_s: u32,
    /// How long such a while is, in seconds.
    #[serde(default = "usual_voice")]
    pub voice_for_s: u32,
}

const fn usual_voice() -> u32 {
    10
}

impl Default for TwoWaySchedule {
    /// Five partners at a packet a second: some 90 MB a day in each direction.
    fn default() -> Self {
        Self {
            partners: 5,
            interval_ms: 1_000,
            packets: 20,
            dscp: 0,
            size_bytes: 200,
            voice_every_s: 0,
            voice_for_s: usual_voice(),
        }
    }
}

const fn every() -> u8 {
    1
}

/// Everything the configuration says is watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MeasurementPlan {
    /// Sites.
    pub sites: Vec<SiteSpec>,
    /// Targets.
    pub targets: Vec<TargetSpec>,
    /// The schedule.
    pub schedule: Schedule,
}

/// A site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteRecord {
    /// Its id.
    pub id: SiteId,
    /// Its name.
    pub name: String,
}

/// A target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetRecord {
    /// Its id.
    pub id: TargetId,
    /// What is watched.
    pub spec: TargetSpec,
}

fn watched_row(row: target::Model) -> Result<TargetRecord, StoreError> {
    let corrupt = |_| StoreError::corrupt("target addresses");
    let mut addresses: Vec<IpAddr> = serde_json::from_value(row.addresses).map_err(corrupt)?;
    if addresses.is_empty() {
        addresses.push(row.address.parse().map_err(|_| StoreError::corrupt("target address"))?);
    }
    let methods =
        serde_json::from_value(row.methods).map_err(|_| StoreError::corrupt("target methods"))?;
    let service = if row.service.is_empty() { row.name.clone() } else { row.service };
    let port = row.port.and_then(|port| u16::try_from(port).ok());
    let checks =
        serde_json::from_value(row.checks).map_err(|_| StoreError::corrupt("target checks"))?;
    let intended = row.intended.map(serde_json::from_value).transpose();
    let intended = intended.map_err(|_| StoreError::corrupt("intended route"))?;
    let (name, host) = (row.name, row.host);
    let spec = TargetSpec { name, service, addresses, host, methods, port, checks, intended };
    Ok(TargetRecord { id: TargetId::from_uuid(row.id), spec })
}

impl Store {
    /// Makes the database agree with the configuration: adds, changes, and sets inactive what is
    /// gone. Gives true when agents need the new version.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn reconcile(&self, watched: &MeasurementPlan) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let families_before = families_in(&txn).await?;
        site::Entity::update_many()
            .col_expr(site::Column::Active, Expr::value(false))
            .exec(&txn)
            .await?;
        for spec in &watched.sites {
            let row = site::ActiveModel {
                id: Set(Uuid::now_v7()),
                name: Set(spec.name.clone()),
                active: Set(true),
                families: Set(serde_json::json!(spec.families)),
                reached_at: Set(serde_json::json!(spec.reached_at)),
                paired_with: Set(serde_json::json!(spec.paired_with)),
            };
            let again = OnConflict::column(site::Column::Name)
                .update_columns([
                    site::Column::Active,
                    site::Column::Families,
                    site::Column::ReachedAt,
                    site::Column::PairedWith,
                ])
                .to_owned();
            site::Entity::insert(row).on_conflict(again).exec_without_returning(&txn).await?;
        }
        let before = targets_in(&txn).await?;
        target::Entity::update_many()
            .col_expr(target::Column::Active, Expr::value(false))
            .exec(&txn)
            .await?;
        for spec in &watched.targets {
            insert_target(&txn, spec).await?;
        }
        let after = targets_in(&txn).await?;
        let body = serde_json::json!(watched.schedule);
        let current = current_schedule(&txn).await?;
        let changed = families_before != families_in(&txn).await?
            || before != after
            || current.is_none_or(|(_, known)| known != watched.schedule);
        if changed {
            let insert = "INSERT INTO schedule (body, valid_from) VALUES ($1, $2)";
            let values = [body.into(), OffsetDateTime::now_utc().into()];
            txn.execute_raw(sql(insert, values)).await?;
        }
        txn.commit().await?;
        Ok(changed)
    }

    /// The sites that are watched, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn sites(&self) -> Result<Vec<SiteRecord>, StoreError> {
        let rows = site::Entity::find()
            .filter(site::Column::Active.eq(true))
            .order_by_asc(site::Column::Name)
            .all(&self.db)
            .await?;
        let record =
            |row: site::Model| SiteRecord { id: SiteId::from_uuid(row.id), name: row.name };
        Ok(rows.into_iter().map(record).collect())
    }

    /// The version of the schedule in force, from 1; 0 before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn schedule_version(&self) -> Result<u64, StoreError> {
        let select = "SELECT version FROM schedule ORDER BY version DESC LIMIT 1";
        let version: Option<i64> = rows::value(&self.db, select, []).await?;
        Ok(version.unwrap_or(0).cast_unsigned())
    }

    /// What an agent has to do now. Paths it needs and does not have yet are made.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn schedule_for(
        &self,
        agent: AgentId,
    ) -> Result<itinera_model::protocol::Schedule, StoreError> {
        let txn = self.db.begin().await?;
        let Some((version, schedule)) = current_schedule(&txn).await? else {
            return Ok(itinera_model::protocol::Schedule::default());
        };
        let denser: BTreeMap<PathId, Denser> =
            watches::denser(&txn, agent).await?.into_iter().collect();
        let mut tasks = Vec::new();
        let families = families_of(&txn, agent).await?;
        let mut checks = Vec::new();
        let rest = "UPDATE check_task SET active = false WHERE agent_id = $1";
        txn.execute_raw(sql(rest, [agent.as_uuid().into()])).await?;
        for target in targets_in(&txn).await? {
            let of_target = tasks.len();
            for address in &target.spec.addresses {
                let family = Family::of(*address);
                if !families.contains(&family) {
                    continue;
                }
                for method in &target.spec.methods {
                    let spec = PathSpec {
                        agent,
                        uplink: String::new(),
                        target: target.id,
                        family,
                        method: *method,
                        dscp: 0,
                        size_bytes: schedule.size_bytes,
                        direction: Direction::RoundTrip,
                    };
                    let path = ensure_path(&txn, &spec).await?;
                    tasks.push(Task {
                        path,
                        address: *address,
                        name: target.spec.host.clone(),
                        denser: denser.get(&path).copied(),
                        method: *method,
                        dscp: spec.dscp,
                        size_bytes: schedule.size_bytes,
                        interval_ms: schedule.interval_ms,
                        probes_per_hop: schedule.probes_per_hop,
                        timeout_ms: schedule.timeout_ms,
                        last_hop: schedule.last_hop,
                        port: target.spec.port,
                        full_every: schedule.full_every,
                    });
                }
            }
            let to_target = &tasks[of_target..];
            checks.extend(checks_of(&txn, agent, &target, &families, to_target).await?);
        }
        let mut pacing = schedule.pacing;
        pacing.hop_turn = turn_of(&txn, agent).await?;
        let suppressions = watches::suppressed(&txn, agent).await?;
        let diagnoses = diagnoses::orders(&txn, agent).await?;
        txn.commit().await?;
        let enumerate_every_s = schedule.enumerate_every_s;
        let tickets = Vec::new();
        Ok(itinera_model::protocol::Schedule {
            version,
            tasks,
            pacing,
            enumerate_every_s,
            tickets,
            suppressions,
            checks,
            host_facts_every_s: schedule.host_facts_every_s,
            diagnoses,
            throughput: Vec::new(),
        })
    }

    /// The targets that are watched, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn targets(&self) -> Result<Vec<TargetRecord>, StoreError> {
        let txn = self.db.begin().await?;
        targets_in(&txn).await
    }

    /// When the version of the schedule in force was made; absent before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn schedule_valid_from(&self) -> Result<Option<WallTime>, StoreError> {
        let select = "SELECT valid_from FROM schedule ORDER BY version DESC LIMIT 1";
        let valid_from: Option<OffsetDateTime> = rows::value(&self.db, select, []).await?;
        Ok(valid_from.map(WallTime::from))
    }

    /// The schedule of two-way measurement.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn two_way_schedule(&self) -> Result<TwoWaySchedule, StoreError> {
        let current = current_schedule(&self.db).await?;
        Ok(current.map(|(_, schedule)| schedule.two_way).unwrap_or_default())
    }
}

/// What an agent asks of a target's service, over each version of IP that both have.
async fn checks_of(
    txn: &DatabaseTransaction,
    agent: AgentId,
    target: &TargetRecord,
    families: &[Family],
    to_target: &[Task],
) -> Result<Vec<CheckTask>, StoreError> {
    let mut checks = Vec::new();
    for spec in &target.spec.checks {
        for address in &target.spec.addresses {
            let family = Family::of(*address);
            // Questions to resolvers say themselves which version of IP they ask for.
            let asks = match &spec.ask {
                Ask::Name(name) => name.ipv6 == (family == Family::Ipv6),
                _ => true,
            };
            let meant = spec.families.is_empty() || spec.families.contains(&family);
            if !families.contains(&family) || !asks || !meant {
                continue;
            }
            let name = spec.host.clone().or_else(|| target.spec.host.clone());
            let (check, wanted) = ensure_check(txn, agent, target.id, family, spec).await?;
            checks.push(CheckTask {
                check,
                address: name.is_none().then_some(*address),
                name,
                family,
                ask: spec.ask.clone(),
                interval_ms: spec.interval_ms,
                paths: to_target.iter().map(|task| task.path).collect(),
                wanted,
            });
        }
    }
    Ok(checks)
}

/// An agent's turn among those that stand behind its public address: hops see them as one, and
/// grant them together what they grant to one.
async fn turn_of(txn: &DatabaseTransaction, agent: AgentId) -> Result<Turn, StoreError> {
    let count = "SELECT count(*) AS agents, count(*) FILTER (WHERE b.id < a.id) AS before \
         FROM agent a JOIN agent b ON a.heard_from = b.heard_from \
         WHERE a.id = $1 AND (b.id = a.id OR b.last_batch_at > now() - interval '1 day')";
    let row: Option<Behind> = rows::first(txn, count, [agent.as_uuid().into()]).await?;
    let Some(row) = row else { return Ok(Turn::default()) };
    let number = |count| u16::try_from(count).unwrap_or(u16::MAX);
    Ok(Turn { index: number(row.before), of: number(row.agents).max(1) })
}

/// Agents behind one public address, and those of them before an agent.
#[derive(FromQueryResult)]
struct Behind {
    agents: i64,
    before: i64,
}

#[derive(FromQueryResult)]
struct ScheduleRow {
    version: i64,
    body: Json,
}

async fn insert_target(txn: &DatabaseTransaction, spec: &TargetSpec) -> Result<(), StoreError> {
    let row = target::ActiveModel {
        id: Set(Uuid::now_v7()),
        name: Set(spec.name.clone()),
        address: Set(spec.addresses.first().map(ToString::to_string).unwrap_or_default()),
        addresses: Set(serde_json::json!(spec.addresses)),
        service: Set(spec.service.clone()),
        methods: Set(serde_json::json!(spec.methods)),
        port: Set(spec.port.map(i32::from)),
        host: Set(spec.host.clone()),
        checks: Set(serde_json::json!(spec.checks)),
        intended: Set(spec.intended.as_ref().map(|route| serde_json::json!(route))),
        active: Set(true),
    };
    let again = OnConflict::column(target::Column::Name)
        .update_columns([
            target::Column::Address,
            target::Column::Addresses,
            target::Column::Service,
            target::Column::Methods,
            target::Column::Port,
            target::Column::Host,
            target::Column::Checks,
            target::Column::Intended,
            target::Column::Active,
        ])
        .to_owned();
    target::Entity::insert(row).on_conflict(again).exec_without_returning(txn).await?;
    Ok(())
}

async fn targets_in(txn: &DatabaseTransaction) -> Result<Vec<TargetRecord>, StoreError> {
    let rows = target::Entity::find()
        .filter(target::Column::Active.eq(true))
        .order_by_asc(target::Column::Name)
        .all(txn)
        .await?;
    rows.into_iter().map(watched_row).collect()
}

/// The versions of IP of each watched site.
async fn families_in(txn: &DatabaseTransaction) -> Result<Vec<(String, Json)>, StoreError> {
    let rows = site::Entity::find()
        .filter(site::Column::Active.eq(true))
        .order_by_asc(site::Column::Name)
        .all(txn)
        .await?;
    Ok(rows.into_iter().map(|row| (row.name, row.families)).collect())
}

/// The versions of IP of an agent's site.
async fn families_of(txn: &DatabaseTransaction, agent: AgentId) -> Result<Vec<Family>, StoreError> {
    let select = "SELECT s.families FROM site s JOIN agent a ON a.site_id = s.id WHERE a.id = $1";
    let families: Option<Json> = rows::value(txn, select, [agent.as_uuid().into()]).await?;
    let Some(body) = families else { return Ok(Vec::new()) };
    serde_json::from_value(body).map_err(|_| StoreError::corrupt("site families"))
}

async fn current_schedule<C: ConnectionTrait>(
    db: &C,
) -> Result<Option<(u64, Schedule)>, StoreError> {
    let select = "SELECT version, body FROM schedule ORDER BY version DESC LIMIT 1";
    let row: Option<ScheduleRow> = rows::first(db, select, []).await?;
    let Some(row) = row else { return Ok(None) };
    let schedule = serde_json::from_value(row.body).map_err(|_| StoreError::corrupt("schedule"))?;
    Ok(Some((row.version.cast_unsigned(), schedule)))
}

/// The name of an intent, given when it is first needed.
async fn ensure_path(txn: &DatabaseTransaction, spec: &PathSpec) -> Result<PathId, StoreError> {
    let text = |value: Json| value.as_str().unwrap_or_default().to_owned();
    let family = text(serde_json::json!(spec.family));
    let direction = text(serde_json::json!(spec.direction));
    let known = path::Entity::find()
        .filter(path::Column::AgentId.eq(spec.agent.as_uuid()))
        .filter(path::Column::Uplink.eq(&spec.uplink))
        .filter(path::Column::TargetId.eq(spec.target.as_uuid()))
        .filter(path::Column::Family.eq(&family))
        .filter(path::Column::Method.eq(spec.method.to_string()))
        .filter(path::Column::Dscp.eq(i16::from(spec.dscp)))
        .filter(path::Column::SizeBytes.eq(i32::from(spec.size_bytes)))
        .filter(path::Column::Direction.eq(&direction))
        .one(txn)
        .await?;
    if let Some(known) = known {
        return Ok(PathId::from_uuid(known.id));
    }
    let row = path::ActiveModel {
        id: Set(Uuid::now_v7()),
        agent_id: Set(spec.agent.as_uuid()),
        uplink: Set(spec.uplink.clone()),
        target_id: Set(spec.target.as_uuid()),
        family: Set(family),
        method: Set(spec.method.to_string()),
        dscp: Set(i16::from(spec.dscp)),
        size_bytes: Set(i32::from(spec.size_bytes)),
        direction: Set(direction),
    };
    let id = *row.id.as_ref();
    path::Entity::insert(row).exec_without_returning(txn).await?;
    Ok(PathId::from_uuid(id))
}
