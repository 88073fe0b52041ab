//! A round that is still taking answers.

use crate::packet::{Answer, AnswerKind};
use itinera_model::reading::HopReading;
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
    /// It may get as far as the target, where another one might be mistaken for it.
    pub(super) may_arrive: bool,
}

/// Counts in the making.
#[derive(Debug, Clone)]
pub(super) struct OpenRound {
    pub(super) number: u64,
    pub(super) started: Tick,
    pub(super) reached_at: Option<u8>,
    pub(super) all_sent: bool,
    pub(super) settle_at: Tick,
    /// Source port of its flow.
    pub(super) flow: u16,
    /// All hops are probed, not the target alone.
    pub(super) whole: bool,
    /// An answer after this is late.
    pub(super) patience: Micros,
    /// The slowest answer so far, late or not.
    pub(super) slowest: Option<Micros>,
    hops: Vec<OpenHop>,
}

#[derive(Debug, Clone, Default)]
struct OpenHop {
    counts: HopCounts,
    responder: Option<IpAddr>,
    reading: Option<HopReading>,
    /// Index of the latest probe answered so far.
    latest: u8,
    /// Delay by probe index, packed in order when the round is closed.
    delays: [Option<Micros>; 16],
}

impl OpenRound {
    pub(super) const fn new(
        number: u64,
        started: Tick,
        flow: u16,
        whole: bool,
        patience: Micros,
    ) -> Self {
        Self {
            number,
            started,
            reached_at: None,
            all_sent: false,
            settle_at: started,
            flow,
            whole,
            patience,
            slowest: None,
            hops: Vec::new(),
        }
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

    pub(super) fn on_ambiguous(&mut self, ttl: u8) {
        let counts = &mut self.hop(ttl).counts;
        counts.ambiguous = counts.ambiguous.saturating_add(1);
    }

    /// True when something that was sent has not been answered in time.
    pub(super) fn has_loss(&self) -> bool {
        self.hops.iter().any(|hop| hop.counts.answers() < hop.counts.sent)
    }

    /// Enters the first answer to a probe.
    pub(super) fn on_answer(&mut self, slot: Slot, answer: Answer, rtt: Micros) {
        let Answer { responder, kind, reading, .. } = answer;
        let patience = self.patience;
        self.slowest = Some(self.slowest.map_or(rtt, |slowest| slowest.max(rtt)));
        if kind == AnswerKind::Arrived {
            self.reached_at = Some(self.reached_at.map_or(slot.ttl, |ttl| ttl.min(slot.ttl)));
        }
        let hop = self.hop(slot.ttl);
        hop.reading = Some(reading);
        if slot.index < hop.latest {
            hop.counts.reordered = hop.counts.reordered.saturating_add(1);
        }
        hop.latest = hop.latest.max(slot.index);
        if let AnswerKind::Refused { code } = kind {
            match hop.counts.unreachable.iter_mut().find(|(known, _)| *known == code) {
                Some((_, count)) => *count = count.saturating_add(1),
                None => hop.counts.unreachable.push((code, 1)),
            }
            return;
        }
        if rtt > patience {
            hop.counts.late = hop.counts.late.saturating_add(1);
            return;
        }
        if *hop.responder.get_or_insert(responder) != responder {
            hop.counts.elsewhere = hop.counts.elsewhere.saturating_add(1);
        }
        hop.counts.answered |= 1 << slot.index;
        hop.delays[usize::from(slot.index)] = Some(rtt);
    }

    /// The final counts, responders and readings, without hop limits beyond the target.
    pub(super) fn close(
        mut self,
    ) -> (Vec<HopCounts>, Vec<Option<IpAddr>>, Vec<Option<HopReading>>) {
        if let Some(reached) = self.reached_at {
            self.hops.truncate(usize::from(reached));
        }
        let hops = self.hops.into_iter().map(|mut hop| {
            hop.counts.rtt = hop.delays.iter().flatten().copied().collect();
            (hop.counts, hop.responder, hop.reading)
        });
        hops.collect()
    }
}
