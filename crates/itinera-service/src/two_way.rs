//! Pairs for two-way measurement, and their tickets.

use crate::context::Shared;
use crate::problem::ApiError;
use itinera_analysis::partners::{self, Candidate, Partners};
use itinera_model::codec::encode;
use itinera_model::id::AgentId;
use itinera_model::path::Family;
use itinera_model::two_way::{PORT, Role, SignedTicket, Ticket, VoiceSlots};
use itinera_model::unit::WallTime;
use itinera_store::{PairRecord, PairSpec, PartnerRecord, StoreError};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::OffsetDateTime;

/// Keys are changed this often, in seconds: a week, and hold for one more, so that agents that the
/// service cannot reach go on.
const EPOCH_S: i64 = 7 * 86_400;

/// A user waits for a limited measurement: rounds of five seconds.
const SOON_MS: u32 = 100;
const SOON_PACKETS: u16 = 50;

/// The number of a time's week.
const fn epoch_of(at: WallTime) -> i64 {
    at.as_unix_micros().div_euclid(1_000_000 * EPOCH_S)
}

/// Chooses partners again, and informs agents with changed partners or keys.
pub(crate) async fn renew(shared: Arc<Shared>) -> Result<(), StoreError> {
    let schedule = shared.store.two_way_schedule().await?;
    let records = shared.store.partner_candidates().await?;
    let candidates: Vec<Candidate> = records.into_iter().map(candidate).collect();
    let stand: BTreeSet<(AgentId, AgentId)> = shared
        .store
        .pairs()
        .await?
        .into_iter()
        .filter(|pair| pair.active)
        .map(|pair| (pair.spec.sender, pair.spec.reflector))
        .collect();
    let chosen = partners::choose(&candidates, usize::from(schedule.partners), &stand);
    let specs: Vec<PairSpec> = chosen.into_iter().map(spec).collect();
    let valid_from = shared.store.schedule_valid_from().await?;
    let keys_change =
        valid_from.is_some_and(|at| epoch_of(at) != epoch_of(shared.clock.wall_now()));
    let version = shared.store.set_pairs(&specs, keys_change).await?;
    if version.is_some() {
        tracing::info!(pairs = specs.len(), "partners for two-way measurement have changed");
    }
    shared.tell_agents(version);
    Ok(())
}

/// The pair of two agents, over IPv4 where both have that: absent where one of them is not heard of
/// or has no address.
pub(crate) async fn between(
    shared: &Shared,
    from: AgentId,
    to: AgentId,
) -> Result<Option<PairSpec>, StoreError> {
    let records = shared.store.partner_candidates().await?;
    let all: Vec<Candidate> = records.into_iter().map(candidate).collect();
    let of = |agent| all.iter().find(|candidate| candidate.agent == agent);
    let Some((from, to)) = of(from).zip(of(to)) else { return Ok(None) };
    let families = [Family::Ipv4, Family::Ipv6].into_iter();
    Ok(families.filter_map(|family| partners::pair(from, to, family)).next().map(spec))
}

fn candidate(record: PartnerRecord) -> Candidate {
    Candidate {
        agent: record.agent,
        site: record.site,
        addresses: record.addresses,
        reached_at: record.reached_at,
        paired_with: record.paired_with,
        heard_from: record.heard_from,
        routers: record.routers,
    }
}

fn spec(pair: Partners) -> PairSpec {
    PairSpec {
        sender: pair.sender,
        reflector: pair.reflector,
        family: pair.family,
        sender_address: pair.sender_address,
        reflector_address: pair.reflector_address,
        is_hidden: pair.is_hidden,
    }
}

/// The tickets of an agent, one for each pair it takes part in.
pub(crate) async fn tickets(
    shared: &Shared,
    agent: AgentId,
) -> Result<Vec<SignedTicket>, ApiError> {
    let schedule = shared.store.two_way_schedule().await?;
    let epoch = epoch_of(shared.clock.wall_now());
    let mut signed = Vec::new();
    for pair in shared.store.pairs_of(agent).await? {
        let PairRecord { id, no, spec, voice_until, active, wanted_until, .. } = pair;
        let always = WallTime::from_unix_seconds((epoch + 2) * EPOCH_S);
        let (interval_ms, packets, not_after) = match wanted_until.filter(|_| !active) {
            Some(until) => (schedule.interval_ms.min(SOON_MS), SOON_PACKETS, WallTime::from(until)),
            None => (schedule.interval_ms, schedule.packets, always),
        };
        let until =
            voice_until.filter(|until| *until > OffsetDateTime::now_utc()).map(WallTime::from);
        let voice =
            VoiceSlots { every_s: schedule.voice_every_s, for_s: schedule.voice_for_s, until };
        let sends = spec.sender == agent;
        let ticket = Ticket {
            pair: id,
            holder: agent,
            role: if sends { Role::Sender } else { Role::Reflector },
            peer: if sends { spec.reflector } else { spec.sender },
            peer_address: if sends { spec.reflector_address } else { spec.sender_address },
            peer_port: PORT,
            is_hidden: spec.is_hidden && !sends,
            session: session(no),
            key: shared.authority.pair_key(id, epoch),
            dscp: schedule.dscp,
            size_bytes: schedule.size_bytes,
            interval_ms,
            packets,
            not_after,
            voice: (voice.every_s > 0 || until.is_some()).then_some(voice),
        };
        let ticket = encode(&ticket);
        let signature = shared.authority.sign(&ticket);
        let signature = signature.map_err(|error| ApiError::Internal(Box::new(error)))?;
        signed.push(SignedTicket { ticket, signature });
    }
    Ok(signed)
}

/// Sessions are told apart within one agent, which has a few: 0 is not used.
fn session(no: i32) -> u16 {
    u16::try_from(no.rem_euclid(0xffff)).unwrap_or(0) + 1
}
