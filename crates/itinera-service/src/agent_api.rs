//! What agents call: join, schedule, batches. CBOR both ways, problems when refused.

use crate::problem::{ApiError, name_requests};
use crate::server::{Shared, said};
use crate::tls_listener::Peer;
use crate::{throughput, two_way};
use axum::Router;
use axum::body::Bytes;
use axum::extract::{ConnectInfo, DefaultBodyLimit, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use itinera_model::batch::{Batch, decode, encode};
use itinera_model::id::AgentId;
use itinera_model::join::JoinCode;
use itinera_model::protocol::{BatchReceipt, JoinAnswer, JoinRequest};
use itinera_store::{Arrival, NewAgent, StoreError};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::Read;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use time::OffsetDateTime;
use tokio::sync::Semaphore;
use uuid::Uuid;

/// Bytes of a compressed batch, and of what it may unpack to.
const MAX_BODY: usize = 4 << 20;
const MAX_UNPACKED: u64 = 32 << 20;
/// How long a request for a newer schedule is held.
const HELD: Duration = Duration::from_secs(25);

pub(crate) fn router(shared: Arc<Shared>) -> Router {
    Router::new()
        .route("/agent/v1/join", post(join))
        .route("/agent/v1/schedule", get(schedule))
        .route("/agent/v1/batches", post(batches))
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(axum::middleware::from_fn(name_requests))
        .with_state(shared)
}

fn cbor<T: serde::Serialize>(message: &T) -> Response {
    ([("content-type", "application/cbor")], encode(message)).into_response()
}

async fn known_agent(shared: &Shared, peer: Peer) -> Result<AgentId, ApiError> {
    let digest = peer.certificate_sha256.ok_or(ApiError::NoCertificate)?;
    shared.store.agent_by_certificate(digest).await?.ok_or(ApiError::NoCertificate)
}

async fn join(State(shared): State<Arc<Shared>>, body: Bytes) -> Result<Response, ApiError> {
    let bad = |error: &dyn std::fmt::Display| ApiError::BadInput(format!("join request: {error}"));
    let request: JoinRequest = decode(&body).map_err(|error| bad(&error))?;
    let id = AgentId::from_uuid(Uuid::now_v7());
    let (certificate_pem, certificate_sha256) =
        shared.authority.certify(id, &request.signing_request_pem).map_err(|error| bad(&error))?;
    let new = NewAgent {
        id,
        certificate_sha256,
        version: request.version.chars().filter(|c| !c.is_control()).take(40).collect(),
    };
    let digest = JoinCode::digest_of(&request.secret);
    let site = shared.store.redeem_join_code(digest, &new, OffsetDateTime::now_utc()).await?;
    tracing::info!(agent = %id, site = site.name, "an agent has joined");
    Ok(cbor(&JoinAnswer { agent: id, site: site.id, site_name: site.name, certificate_pem }))
}

#[derive(Deserialize)]
struct After {
    after: u64,
    /// Where other agents could reach it, by its own word.
    #[serde(default)]
    addresses: String,
}

/// Addresses that an agent may have said of itself: one of each version of IP at most, and none
/// that is nobody's own.
fn own_addresses(said: &str) -> Vec<IpAddr> {
    let mut own: Vec<IpAddr> = Vec::new();
    for address in said.split(',').filter_map(|text| text.parse::<IpAddr>().ok()) {
        let is_own = !(address.is_unspecified() || address.is_multicast() || address.is_loopback());
        if is_own && own.iter().all(|known| known.is_ipv4() != address.is_ipv4()) {
            own.push(address);
        }
    }
    own
}

/// Holds the request until there is a schedule newer than the agent's, or answers "nothing".
async fn schedule(
    State(shared): State<Arc<Shared>>,
    ConnectInfo(peer): ConnectInfo<Peer>,
    Query(After { after, addresses }): Query<After>,
) -> Result<Response, ApiError> {
    let agent = known_agent(&shared, peer).await?;
    if let Some(renewed) = shared.store.heard_from(agent, peer.address.ip()).await? {
        tracing::info!(%agent, "shares a public address with others: they share its budgets");
        shared.tell_agents(Some(renewed));
    }
    if shared.store.note_addresses(agent, &own_addresses(&addresses)).await? {
        two_way::renew(Arc::clone(&shared)).await?;
    }
    let mut version = shared.schedule_version.subscribe();
    let newer = version.wait_for(|version| *version > after);
    let changed = tokio::select! {
        changed = newer => changed.is_ok(),
        () = tokio::time::sleep(HELD) => false,
        () = said(shared.stop.subscribe()) => false,
    };
    if !changed {
        return Ok(StatusCode::NO_CONTENT.into_response());
    }
    let mut schedule = shared.store.schedule_for(agent).await?;
    schedule.tickets = two_way::tickets(&shared, agent).await?;
    schedule.throughput = throughput::leave(&shared, agent).await?;
    Ok(cbor(&schedule))
}

/// Batches unpacked at one time, by all agents and by one: an agent that has much to catch up on
/// leaves turns to the others.
const UNPACKING: usize = 4;
const UNPACKING_BY_ONE: usize = 1;
/// The longest window of zstd (RFC 8878 section 3.1.1.1.2) that is allocated for a batch: 8 MiB.
const WINDOW_LOG: u32 = 23;

/// Turns to unpack and decode batches, off the async threads.
#[derive(Debug)]
pub(crate) struct Unpacking {
    all: Semaphore,
    by_agent: Mutex<BTreeMap<AgentId, Arc<Semaphore>>>,
}

impl Default for Unpacking {
    fn default() -> Self {
        Self { all: Semaphore::new(UNPACKING), by_agent: Mutex::default() }
    }
}

impl Unpacking {
    /// Decodes a batch in the agent's turn.
    async fn unpack(&self, agent: AgentId, body: Bytes) -> Result<(Batch, u64), ApiError> {
        let own = {
            let mut by_agent = self.by_agent.lock().unwrap_or_else(PoisonError::into_inner);
            by_agent.retain(|_, turns| Arc::strong_count(turns) > 1);
            let new = || Arc::new(Semaphore::new(UNPACKING_BY_ONE));
            Arc::clone(by_agent.entry(agent).or_insert_with(new))
        };
        let internal = |error: Box<dyn std::error::Error + Send + Sync>| ApiError::Internal(error);
        let _own = own.acquire().await.map_err(|error| internal(error.into()))?;
        let _turn = self.all.acquire().await.map_err(|error| internal(error.into()))?;
        let work = tokio::task::spawn_blocking(move || unpack(&body));
        work.await.map_err(|error| internal(error.into()))?
    }
}

/// The batch, and its size unpacked in bytes.
fn unpack(body: &[u8]) -> Result<(Batch, u64), ApiError> {
    let damaged = |what: &dyn std::fmt::Display| ApiError::DamagedBatch(format!("batch: {what}"));
    let mut decoder = zstd::Decoder::new(body).map_err(|error| damaged(&error))?;
    decoder.window_log_max(WINDOW_LOG).map_err(|error| damaged(&error))?;
    let mut octets = Vec::new();
    let read = decoder.take(MAX_UNPACKED + 1).read_to_end(&mut octets);
    read.map_err(|error| damaged(&error))?;
    if octets.len() as u64 > MAX_UNPACKED {
        return Err(damaged(&format!("unpacks to more than {MAX_UNPACKED} bytes")));
    }
    let batch: Batch = decode(&octets).map_err(|error| damaged(&error))?;
    batch.check().map_err(|error| damaged(&error))?;
    Ok((batch, octets.len() as u64))
}

async fn batches(
    State(shared): State<Arc<Shared>>,
    ConnectInfo(peer): ConnectInfo<Peer>,
    body: Bytes,
) -> Result<Response, ApiError> {
    let received_at = shared.clock.wall_now();
    let agent = known_agent(&shared, peer).await?;
    let batch = shared.unpacking.unpack(agent, body).await;
    let (batch, bytes) = batch.inspect_err(|_| shared.metrics.damaged())?;
    if batch.agent != agent {
        shared.metrics.damaged();
        return Err(ApiError::OtherAgent);
    }
    let arrival = Arrival { at: shared.clock.now(), bytes };
    let committed = shared.store.commit_batch(agent, &batch, arrival).await;
    let committed = committed.inspect_err(|error| {
        if matches!(error, StoreError::Unrecordable(_)) {
            shared.metrics.damaged();
        }
    })?;
    shared.metrics.committed(&committed);
    shared.committed.notify_one();
    if !batch.throughput.is_empty() {
        shared.tell_agents(Some(shared.store.schedule_version().await?));
    }
    Ok(cbor(&BatchReceipt {
        received_at,
        duplicate: committed.duplicate,
        refused_rounds: committed.refused,
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn a_batch_that_would_take_too_much_memory_is_refused() {
        let code = |error: ApiError| matches!(error, ApiError::DamagedBatch(_));
        let packed = |octets: &[u8], log| {
            let mut encoder = zstd::Encoder::new(Vec::new(), 1).unwrap();
            encoder.window_log(log).unwrap();
            encoder.write_all(octets).unwrap();
            encoder.finish().unwrap()
        };
        assert!(code(unpack(&packed(&[0; 100], 27)).unwrap_err()), "a window of 128 MiB");
        let much = vec![0; usize::try_from(MAX_UNPACKED).unwrap() + 1];
        assert!(code(unpack(&packed(&much, 20)).unwrap_err()), "more than it may be");
        assert!(code(unpack(&packed(b"x", 20)).unwrap_err()), "no batch");
    }
}
