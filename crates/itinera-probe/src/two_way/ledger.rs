//! The direction in which packets without an answer were lost: the reflector numbers what it sends, so its gaps
//! tell.

use itinera_model::unit::Tick;
use itinera_wire::stamp::{ClassOfService, ErrorEstimate, Timestamp};
use std::collections::BTreeSet;

/// A packet's first answer.
#[derive(Debug, Clone, Copy)]
pub(super) struct Answer {
    /// The reflector's number.
    pub(super) number: u32,
    /// Its place among all answers as they came.
    pub(super) place: u64,
    /// When the packet came there and the answer left there, by the peer's clock, and when it came
    /// here by ours, in nanoseconds since 1970.
    pub(super) there: i64,
    pub(super) left: i64,
    pub(super) here: i64,
    pub(super) class: Option<ClassOfService>,
    pub(super) traffic_class: Option<u8>,
    pub(super) hop_limit_there: u8,
    pub(super) hop_limit: Option<u8>,
    pub(super) error: ErrorEstimate,
}

#[derive(Debug)]
pub(super) struct Packet {
    pub(super) sequence: u32,
    /// The stamp it bears, which its answers repeat.
    pub(super) stamp: Timestamp,
    /// When it left, by our clock.
    pub(super) left: i64,
    pub(super) answer: Option<Answer>,
    /// The reflector's numbers of further answers.
    pub(super) copies: Vec<u32>,
}

#[derive(Debug)]
pub(super) struct Round {
    pub(super) number: u64,
    pub(super) started: Tick,
    pub(super) last_sent: Tick,
    pub(super) packets: Vec<Packet>,
    pub(super) closed: bool,
}

impl Round {
    pub(super) fn unanswered(&self) -> usize {
        self.packets.iter().filter(|packet| packet.answer.is_none()).count()
    }
}

/// What is known of the reflector's numbers.
#[derive(Debug, Default)]
pub(super) struct Ledger {
    /// Every answer of the reflector up to this number is accounted for.
    accounted: Option<i64>,
    /// Packets of settled rounds of which nothing is known yet.
    before: usize,
}

impl Ledger {
    /// Where the unanswered packets of the oldest round were lost: forward, return, unknown.
    /// `next` is the number of the first answer after that round, and how many packets before it
    /// are unanswered.
    pub(super) fn attribute(
        &mut self,
        round: &Round,
        next: Option<(i64, usize)>,
    ) -> (usize, usize, usize) {
        let numbers: BTreeSet<i64> = round
            .packets
            .iter()
            .filter_map(|packet| packet.answer.map(|answer| (packet, answer)))
            .flat_map(|(packet, answer)| packet.copies.iter().copied().chain([answer.number]))
            .map(i64::from)
            .collect();
        let (mut forward, mut back, mut unknown) = (0, 0, 0);
        let mut trailing = round.unanswered();
        if let (Some(least), Some(most)) = (numbers.first(), numbers.last()) {
            let answered = |packet: &Packet| packet.answer.is_some();
            let first = round.packets.iter().position(answered).unwrap_or(0);
            let last = round.packets.iter().rposition(answered).unwrap_or(0);
            let mut inner = last + 1 - round.packets.iter().filter(|p| answered(p)).count();
            let accounted = match self.accounted {
                Some(accounted) if accounted < *most => accounted,
                // The first that is heard, or a reflector that has begun to count from the start.
                _ => {
                    unknown += first;
                    inner -= first;
                    trailing -= first;
                    self.before = 0;
                    least - 1
                }
            };
            let heard = i64::try_from(numbers.len()).unwrap_or(i64::MAX);
            let share = self.on_gap(most - accounted - heard, inner, 0);
            (forward, back) = (forward + inner - share.0, back + share.0);
            trailing -= inner;
            self.accounted = Some(*most);
        }
        match (next, self.accounted) {
            (Some((number, leading)), Some(accounted)) if number > accounted => {
                let (mine, taken) = self.on_gap(number - accounted - 1, trailing, leading);
                (forward, back) = (forward + trailing - mine, back + mine);
                self.accounted = Some(accounted + taken);
            }
            _ => {
                unknown += trailing;
                self.before += trailing;
            }
        }
        (forward, back, unknown)
    }

    /// Of a gap in which the reflector has sent `unseen` answers that did not come: how many are
    /// of the `mine` packets, and how many of those and all before them. The gap also holds
    /// packets of rounds settled before and `behind` more; shares are by their number, since
    /// which were which is unknown.
    fn on_gap(&mut self, unseen: i64, mine: usize, behind: usize) -> (usize, i64) {
        let before = std::mem::take(&mut self.before);
        let all = before + mine + behind;
        let unseen = usize::try_from(unseen.max(0)).unwrap_or(usize::MAX).min(all);
        let share = |of: usize| (unseen * of + all / 2).checked_div(all).unwrap_or(0);
        let taken = i64::try_from(share(before + mine)).unwrap_or(i64::MAX);
        (share(mine).min(mine), taken)
    }
}
