//! Probes in flight one by one, for engines that send one at a time.

use crate::packet::{Answer, ProbeSpec, Witness, read_packet, read_payload, read_report};
use crate::{Input, Token};
use itinera_model::unit::{Micros, Tick};
use std::collections::BTreeMap;

/// A probe in flight and its purpose.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Flying<Q> {
    pub(crate) port: u16,
    pub(crate) sent_at: Tick,
    pub(crate) question: Q,
}

/// What became of a probe.
#[derive(Debug)]
pub(crate) enum Landed<Q> {
    /// It was answered.
    Answered(Q, Box<Answer>),
    /// It could not leave.
    NotSent(Q),
}

/// The probes in flight of one engine, by identity.
#[derive(Debug)]
pub(crate) struct Flight<Q> {
    probes: BTreeMap<u16, Flying<Q>>,
    next_seq: u16,
    wait: Micros,
}

impl<Q: Copy> Flight<Q> {
    pub(crate) const fn new(first_seq: u16, wait: Micros) -> Self {
        Self { probes: BTreeMap::new(), next_seq: first_seq, wait }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.probes.is_empty()
    }

    /// True when a probe with this source port is in flight: another one would have to share its
    /// flow, and some answers do not say which one they mean.
    pub(crate) fn holds(&self, port: u16) -> bool {
        self.probes.values().any(|flying| flying.port == port)
    }

    /// Enters a probe that leaves now; gives its identity.
    pub(crate) fn launch(&mut self, now: Tick, port: u16, question: Q) -> u16 {
        let seq = self.next_seq;
        self.next_seq = if seq >= 0xfffe { 1 } else { seq + 1 };
        self.probes.insert(seq, Flying { port, sent_at: now, question });
        seq
    }

    /// When the next probe is given up.
    pub(crate) fn deadline(&self) -> Option<Tick> {
        self.probes.values().map(|flying| flying.sent_at + self.wait).min()
    }

    /// Gives up what has been waited for long enough.
    pub(crate) fn give_up(&mut self, now: Tick) -> Vec<Flying<Q>> {
        let wait = self.wait;
        let over = self.probes.extract_if(.., |_, flying| flying.sent_at + wait <= now);
        over.map(|(_, flying)| flying).collect()
    }

    pub(crate) fn clear(&mut self) {
        self.probes.clear();
    }

    /// Regards a fact. Gives what landed, and whether it was a packet of ours.
    pub(crate) fn regard(
        &mut self,
        spec: &ProbeSpec,
        input: Input<'_>,
    ) -> (Option<Landed<Q>>, bool) {
        let answer = match input {
            Input::Datagram { packet, .. } => read_packet(spec, packet),
            Input::Payload { protocol, from, hop_limit, payload, .. } => {
                read_payload(spec, protocol, from, hop_limit, payload)
            }
            Input::Report { .. } => read_report(spec, &input),
            Input::Sent { token, stamp } => {
                if let Some(flying) = self.probes.get_mut(&token.0) {
                    flying.sent_at = stamp;
                }
                return (None, false);
            }
            Input::NotSent { token } => {
                let gone = self.probes.remove(&token.0);
                return (gone.map(|flying| Landed::NotSent(flying.question)), false);
            }
            Input::Deadline | Input::Stop => return (None, false),
        };
        let Some(answer) = answer else {
            return (None, false);
        };
        let landed = self.owner_of(&answer).and_then(|seq| self.probes.remove(&seq));
        let is_ours = landed.is_some();
        (landed.map(|flying| Landed::Answered(flying.question, Box::new(answer))), is_ours)
    }

    /// The only probe in flight that an answer can mean.
    fn owner_of(&self, answer: &Answer) -> Option<u16> {
        let on_flow = |seq: &u16| self.probes.get(seq).is_some_and(|f| f.port == answer.port);
        let mut candidates = match answer.witness {
            Witness::One(seq) => vec![seq],
            Witness::Either(a, b) => vec![a, b],
            Witness::Arrival => self.probes.keys().copied().collect(),
        };
        candidates.retain(on_flow);
        match candidates.as_slice() {
            [one] => Some(*one),
            _ => None,
        }
    }
}

/// The token of a probe.
pub(crate) const fn token(seq: u16) -> Token {
    Token(seq)
}
