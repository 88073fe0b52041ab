//! A round that is still taking answers.

use crate::packet::AnswerKind;
use itinera_model::round::HopCounts;
use itinera_model::unit::{Micros, Tick};
use std::net::IpAddr;

/// Where in its round a probe belongs.
#[derive(Debug, Clone, Copy)]
pub(super) struct Slot {
    pub(super) round: u64,
    /// Hop limit as sent.
    pub(super) ttl: u8,
    /// Which of the hop's probes.
    pub(super) index: u8,
    pub(super) sent_at: Tick,
    pub(super) heard: bool,
}

/// Counts in the making.
#[derive(Debug, Clone)]
pub(super) struct OpenRound {
    pub(super) number: u64,
    pub(super) started: Tick,
    pub(super) reached_at: Option<u8>,
    pub(super) all_sent: bool,
    pub(super) settle_at: Tick,
    hops: Vec<OpenHop>,
}

#[derive(Debug, Clone, Default)]
struct OpenHop {
    counts: HopCounts,
    responder: Option<IpAddr>,
    /// Delay by probe index, packed in order when the round is closed.
    delays: [Option<Micros>; 16],
}

impl OpenRound {
    pub(super) const fn new(number: u64, started: Tick, settle_at: Tick) -> Self {
        Self { number, started, reached_at: None, all_sent: false, settle_at, hops: Vec::new() }
    }

    fn hop(&mut self, ttl: u8) -> &mut OpenHop {
        let index = usize::from(ttl.max(1)) - 1;
        if self.hops.len() <= index {
            self.hops.resize_with(index + 1, OpenHop::default);
        }
        &mut self.hops[index]
    }

    pub(super) fn on_sent(&mut self, ttl: u8) {
        self.hop(ttl).counts.sent += 1;
    }

    pub(super) fn on_not_sent(&mut self, ttl: u8) {
        let sent = &mut self.hop(ttl).counts.sent;
        *sent = sent.saturating_sub(1);
    }

    pub(super) fn on_duplicate(&mut self, ttl: u8) {
        let counts = &mut self.hop(ttl).counts;
        counts.duplicate = counts.duplicate.saturating_add(1);
    }

    /// Enters the first answer to a probe.
    pub(super) fn on_answer(
        &mut self,
        slot: Slot,
        responder: IpAddr,
        kind: AnswerKind,
        rtt: Micros,
        timeout: Micros,
    ) {
        if kind == AnswerKind::Arrived {
            self.reached_at = Some(self.reached_at.map_or(slot.ttl, |ttl| ttl.min(slot.ttl)));
        }
        let hop = self.hop(slot.ttl);
        if let AnswerKind::Refused { code } = kind {
            match hop.counts.unreachable.iter_mut().find(|(known, _)| *known == code) {
                Some((_, count)) => *count = count.saturating_add(1),
                None => hop.counts.unreachable.push((code, 1)),
            }
            return;
        }
        if rtt > timeout {
            hop.counts.late = hop.counts.late.saturating_add(1);
            return;
        }
        if *hop.responder.get_or_insert(responder) != responder {
            hop.counts.elsewhere = hop.counts.elsewhere.saturating_add(1);
        }
        hop.counts.answered |= 1 << slot.index;
        hop.delays[usize::from(slot.index)] = Some(rtt);
    }

    /// The final counts and responders, without hop limits beyond the target.
    pub(super) fn close(mut self) -> (Vec<HopCounts>, Vec<Option<IpAddr>>) {
        if let Some(reached) = self.reached_at {
            self.hops.truncate(usize::from(reached));
        }
        let hops = self.hops.into_iter().map(|mut hop| {
            hop.counts.rtt = hop.delays.iter().flatten().copied().collect();
            (hop.counts, hop.responder)
        });
        hops.unzip()
    }
}
