//! What agents call: join, schedule, batches. CBOR in both directions, problems when refused.

use crate::context::Shared;
use crate::disk::Room;
use crate::problem::{ApiError, name_requests};
use crate::tls_listener::Peer;
use crate::{throughput, two_way};
use axum::Router;
use axum::body::Bytes;
use axum::extract::{ConnectInfo, DefaultBodyLimit, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use itinera_model::codec::{decode, encode};
use itinera_model::id::AgentId;
use itinera_model::join::JoinCode;
use itinera_model::protocol::{BatchReceipt, JoinAnswer, JoinRequest};
use itinera_store::{Arrival, NewAgent, StoreError};
use serde::Deserialize;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use time::OffsetDateTime;
use uuid::Uuid;

/// Bytes of a compressed batch.
const MAX_BODY: usize = 4 << 20;
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
/// that no other agent has.
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
        () = shared.stopped() => false,
    };
    if !changed {
        return Ok(StatusCode::NO_CONTENT.into_response());
    }
    let mut schedule = shared.store.schedule_for(agent).await?;
    schedule.tickets = two_way::tickets(&shared, agent).await?;
    schedule.throughput = throughput::leave(&shared, agent).await?;
    Ok(cbor(&schedule))
}

async fn batches(
    State(shared): State<Arc<Shared>>,
    ConnectInfo(peer): ConnectInfo<Peer>,
    body: Bytes,
) -> Result<Response, ApiError> {
    let received_at = shared.clock.wall_now();
    let agent = known_agent(&shared, peer).await?;
    if shared.disk.borrow().room == Room::Full {
        return Err(ApiError::DiskFull);
    }
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
