//! How much gets through between agents: ordered one at a time, by users or rarely by rule.

use crate::context::Shared;
use crate::problem::ApiError;
use itinera_model::codec::encode;
use itinera_model::id::{AgentId, PairId, ThroughputId};
use itinera_model::throughput::{PORT, Side, ThroughputOrder};
use itinera_model::two_way::SignedTicket;
use itinera_store::{AgentRecord, ThroughputSpec};
use std::net::IpAddr;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};

/// An order that waits longer than this for its turn is too late.
const PATIENCE: Duration = Duration::minutes(5);
/// Measurements considered when the next one is chosen.
const RECENT: i64 = 1_000;

fn agent_at<'a>(
    agents: &'a [AgentRecord],
    field: &str,
    site: &str,
) -> Result<&'a AgentRecord, ApiError> {
    let here = agents.iter().filter(|agent| agent.site == site && !agent.addresses.is_empty());
    here.max_by_key(|agent| agent.last_batch_at).ok_or_else(|| {
        ApiError::BadInput(format!("{field}: no agent with a known address at {site:?}"))
    })
}

/// Orders a measurement between two sites.
pub(crate) async fn order(
    shared: &Shared,
    (from, to): (&str, &str),
    spec: &ThroughputSpec,
    user: Option<&str>,
) -> Result<ThroughputId, ApiError> {
    if from == to {
        return Err(ApiError::BadInput("to: another site than from is needed".to_owned()));
    }
    let agents = shared.store.agents().await?;
    let (sender, receiver) = (agent_at(&agents, "from", from)?, agent_at(&agents, "to", to)?);
    let not_after = OffsetDateTime::now_utc() + PATIENCE;
    let ends = (sender.id, receiver.id);
    let (id, version) = shared.store.order_throughput(ends, spec, user, not_after).await?;
    shared.tell_agents(version);
    Ok(id)
}

/// The permission of an agent for the current measurement, if it takes part.
pub(crate) async fn leave(shared: &Shared, agent: AgentId) -> Result<Vec<SignedTicket>, ApiError> {
    let Some(run) = shared.store.throughput_turn().await? else { return Ok(Vec::new()) };
    let (side, peer) = match agent {
        agent if agent == run.sender => (Side::Sends, run.receiver),
        agent if agent == run.receiver => (Side::Receives, run.sender),
        _ => return Ok(Vec::new()),
    };
    let agents = shared.store.agents().await?;
    let address = |of: AgentId| -> Option<IpAddr> {
        let record = agents.iter().find(|record| record.id == of)?;
        let all = record.reached_at.iter().chain(&record.addresses).copied();
        all.clone().find(IpAddr::is_ipv4).or_else(|| all.clone().next())
    };
    let Some(peer_address) = address(peer) else { return Ok(Vec::new()) };
    let spec = &run.spec;
    let order = ThroughputOrder {
        id: run.id,
        holder: agent,
        side,
        peer_address,
        port: PORT,
        key: shared.authority.pair_key(PairId::from_uuid(run.id.as_uuid()), 0),
        by: spec.by,
        seconds: spec.seconds,
        most_bytes: spec.most_bytes,
        rate_bit_s: spec.rate_bit_s,
        not_after: run.not_after_wall(),
    };
    let ticket = encode(&order);
    let signature = shared.authority.sign(&ticket);
    let signature = signature.map_err(|error| ApiError::Internal(Box::new(error)))?;
    Ok(vec![SignedTicket { ticket, signature }])
}

/// Orders what rules want measured now.
pub(crate) async fn follow_rules(shared: Arc<Shared>) -> Result<(), ApiError> {
    if shared.throughput_rules.is_empty() {
        return Ok(());
    }
    let recent = shared.store.throughput(RECENT).await?;
    let now = OffsetDateTime::now_utc();
    for rule in &shared.throughput_rules {
        let same = |it: &&itinera_store::ThroughputRecord| {
            it.user.is_none()
                && it.from == rule.from
                && it.to == rule.to
                && it.spec.by == rule.spec.by
        };
        let last = recent.iter().filter(same).map(|it| it.asked_at).max();
        let every = Duration::seconds(rule.every_s.into());
        if last.is_none_or(|last| last + every <= now)
            && let Err(error) = order(&shared, (&rule.from, &rule.to), &rule.spec, None).await
        {
            tracing::info!(%error, from = rule.from, to = rule.to, "throughput is not measured yet");
        }
    }
    Ok(())
}
