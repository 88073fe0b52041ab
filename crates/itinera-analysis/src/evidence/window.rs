//! What a path showed in ten seconds: counts by route, hop and kind of answer, and delays.
//!
//! The content does not depend on the order in which rounds arrive: rounds are added to the
//! window of their own time, and everything judged is computed from windows alone. So late
//! rounds correct history, and a shuffled log ends in the same findings.

use super::delays::Delays;
use itinera_model::id::ContentId;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::route::FlowKey;
use itinera_model::unit::WallTime;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Length of a window in microseconds.
pub const WINDOW_US: i64 = 10_000_000;
/// Late delays kept for a hop in a window, chosen without regard to their size.
const MAX_LATE: usize = 32;

/// A delay that may be wrong by more than this is kept with its error, and says nothing of what is
/// usual. A busy but healthy program stays well below it.
const EXACT_US: u32 = 2_000;

/// How exact a round is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Exactness {
    /// How much shorter a delay may have been than measured, in microseconds.
    delay_error_us: u32,
    /// An unanswered probe may have been answered.
    hides_answers: bool,
}

impl Exactness {
    pub(crate) fn of(stamps: StampSource, lateness: Option<Lateness>) -> Self {
        lateness.map_or_else(Self::default, |lateness| Self {
            delay_error_us: lateness.delay_error_us(stamps),
            hides_answers: lateness.hides_answers(stamps),
        })
    }
}

/// A delay of a round in which the agent's own program was late.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct LateDelay {
    /// As measured.
    pub(crate) at_most_us: u32,
    /// As it may have been.
    pub(crate) at_least_us: u32,
}

impl LateDelay {
    /// The delay within its bounds that departs least from what is usual.
    pub(crate) fn toward(self, usual_us: u32) -> u32 {
        usual_us.clamp(self.at_least_us, self.at_most_us)
    }

    /// A number that decides which delays are kept: the same for equal ones, and as good as random.
    /// (The finaliser of SplitMix64.)
    fn draw(self) -> (u64, Self) {
        let mut mixed = (u64::from(self.at_most_us) << 32) | u64::from(self.at_least_us);
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (mixed ^ (mixed >> 31), self)
    }
}

/// Index of the window that holds an instant.
pub(crate) const fn window_of(at: WallTime) -> i64 {
    at.as_unix_micros().div_euclid(WINDOW_US)
}

/// Beginning of a window.
pub(crate) const fn beginning_of(window: i64) -> WallTime {
    WallTime::from_unix_micros(window.saturating_mul(WINDOW_US))
}

/// End of a window.
pub(crate) const fn end_of(window: i64) -> WallTime {
    WallTime::from_unix_micros((window + 1).saturating_mul(WINDOW_US))
}

/// A route as rounds saw it.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct SeenRoute {
    pub(crate) id: ContentId,
    pub(crate) addresses: Vec<Option<IpAddr>>,
}

/// One window of a path.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Window {
    pub(crate) routes: BTreeMap<ContentId, RouteCounts>,
}

/// Counts of the rounds in a window that saw one route.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RouteCounts {
    pub(crate) route: Arc<SeenRoute>,
    pub(crate) rounds: u32,
    /// Newest round counted, to tell which route is the present one.
    pub(crate) newest: u64,
    pub(crate) flows: BTreeMap<FlowKey, FlowCounts>,
    pub(crate) hops: Vec<HopWindow>,
}

/// Counts of one flow at the last hop of its rounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct FlowCounts {
    pub(crate) rounds: u32,
    pub(crate) sent: u32,
    pub(crate) lost: u32,
}

impl FlowCounts {
    pub(crate) const fn add(&mut self, other: Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.sent = self.sent.saturating_add(other.sent);
        self.lost = self.lost.saturating_add(other.lost);
    }
}

/// Counts of one hop in a window.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct HopWindow {
    pub(crate) sent: u32,
    pub(crate) lost: u32,
    pub(crate) delays: Delays,
    /// Delays that may be wrong, in the order of [`LateDelay::draw`]; the first ones when there are
    /// too many.
    pub(crate) late_delays: Vec<LateDelay>,
    pub(crate) rare: RareCounts,
}

/// What is counted at a hop beside probes sent and lost, and mostly zero.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct RareCounts {
    /// Probes that count as neither sent nor lost: their answers may have come unread.
    pub(crate) hidden: u32,
    /// Probes that the hop got fewer than another of the same round: budgets left them out.
    pub(crate) left_out: u32,
    /// Answers after the timeout.
    pub(crate) late: u32,
    /// Further answers to one probe.
    pub(crate) duplicate: u32,
    /// Answers from another address than the route's.
    pub(crate) elsewhere: u32,
    /// Answers in another order than their probes.
    pub(crate) reordered: u32,
    /// Answers that could belong to more than one probe.
    pub(crate) ambiguous: u32,
    /// "Unreachable" answers by ICMP code.
    pub(crate) unreachable: BTreeMap<u8, u32>,
}

impl RareCounts {
    /// The counts by one name each, without those by code.
    pub(crate) const fn all(&self) -> [u32; 7] {
        [
            self.hidden,
            self.left_out,
            self.late,
            self.duplicate,
            self.elsewhere,
            self.reordered,
            self.ambiguous,
        ]
    }

    pub(crate) const fn of(all: [u32; 7], unreachable: BTreeMap<u8, u32>) -> Self {
        let [hidden, left_out, late, duplicate, elsewhere, reordered, ambiguous] = all;
        Self { hidden, left_out, late, duplicate, elsewhere, reordered, ambiguous, unreachable }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.all() == [0; 7] && self.unreachable.is_empty()
    }

    pub(crate) fn add(&mut self, other: &Self) {
        if other.is_empty() {
            return;
        }
        let (mine, theirs) = (self.all(), other.all());
        let mut unreachable = std::mem::take(&mut self.unreachable);
        for (code, count) in &other.unreachable {
            let known: &mut u32 = unreachable.entry(*code).or_default();
            *known = known.saturating_add(*count);
        }
        let sum = |index: usize| mine[index].saturating_add(theirs[index]);
        *self = Self::of(std::array::from_fn(sum), unreachable);
    }

    /// What a round counts at a hop; `most` is what each hop of the round was to be sent.
    fn of_round(counts: &HopCounts, most: u8, hidden: u32) -> Self {
        let mut unreachable = BTreeMap::new();
        for (code, count) in &counts.unreachable {
            *unreachable.entry(*code).or_default() += u32::from(*count);
        }
        Self {
            hidden,
            left_out: u32::from(most.saturating_sub(counts.sent)),
            late: counts.late.into(),
            duplicate: counts.duplicate.into(),
            elsewhere: counts.elsewhere.into(),
            reordered: counts.reordered.into(),
            ambiguous: counts.ambiguous.into(),
            unreachable,
        }
    }
}

impl HopWindow {
    fn add(&mut self, counts: &HopCounts, most: u8, exactness: Exactness) {
        // A late answer shows that the packet was carried: not lost.
        let heard = u32::from(counts.answers()) + u32::from(counts.late);
        let unheard = u32::from(counts.sent).saturating_sub(heard);
        let (lost, hidden) = if exactness.hides_answers { (0, unheard) } else { (unheard, 0) };
        self.sent += u32::from(counts.sent) - hidden;
        self.lost += lost;
        self.rare.add(&RareCounts::of_round(counts, most, hidden));
        for rtt in &counts.rtt {
            let us = rtt.as_micros();
            if exactness.delay_error_us > EXACT_US {
                let at_least_us = us.saturating_sub(exactness.delay_error_us);
                let late = LateDelay { at_most_us: us, at_least_us };
                let at = self.late_delays.partition_point(|known| known.draw() <= late.draw());
                self.late_delays.insert(at, late);
            } else {
                self.delays.add(us);
            }
        }
        self.late_delays.truncate(MAX_LATE);
    }

    /// Adds the counts and delays of others.
    pub(crate) fn merge<'a>(&mut self, others: impl Iterator<Item = &'a Self> + Clone) {
        for other in others.clone() {
            self.sent += other.sent;
            self.lost += other.lost;
            self.rare.add(&other.rare);
            self.late_delays.extend(&other.late_delays);
        }
        let own = std::mem::take(&mut self.delays);
        let all = others.map(|other| &other.delays).chain([&own]);
        self.delays = Delays::merged(all, []);
    }
}

/// One round, as a window counts it.
pub(crate) struct RoundCounts<'a> {
    pub(crate) number: u64,
    pub(crate) flow: FlowKey,
    pub(crate) hops: &'a [HopCounts],
    pub(crate) exactness: Exactness,
}

impl RouteCounts {
    pub(crate) const fn new(route: Arc<SeenRoute>) -> Self {
        Self { route, rounds: 0, newest: 0, flows: BTreeMap::new(), hops: Vec::new() }
    }

    fn add(&mut self, round: &RoundCounts<'_>) {
        self.rounds += 1;
        self.newest = self.newest.max(round.number);
        if self.hops.len() < round.hops.len() {
            self.hops.resize_with(round.hops.len(), HopWindow::default);
        }
        // Where the schedule has the target probed alone, nothing is left out.
        let routers = &round.hops[..round.hops.len().saturating_sub(1)];
        let target_alone = routers.iter().all(|hop| hop.sent == 0);
        let sent = round.hops.iter().map(|hop| hop.sent);
        let most = if target_alone { 0 } else { sent.max().unwrap_or(0) };
        for (mine, counts) in self.hops.iter_mut().zip(round.hops) {
            mine.add(counts, most, round.exactness);
        }
        let flow = self.flows.entry(round.flow).or_default();
        flow.rounds += 1;
        if let Some(last) = round.hops.last() {
            let mut end = HopWindow::default();
            end.add(last, last.sent, round.exactness);
            flow.sent += end.sent;
            flow.lost += end.lost;
        }
    }
}

impl Window {
    pub(crate) fn add(&mut self, route: &Arc<SeenRoute>, round: &RoundCounts<'_>) {
        let new = || RouteCounts::new(Arc::clone(route));
        self.routes.entry(route.id).or_insert_with(new).add(round);
    }
}

/// True when two routes can be the same route: no contradicting address, and equal length or
/// nothing but silence behind the end of the shorter one. So a round that gets no further than some
/// hop counts for the known route. Where routes part behind that hop it counts for each of them:
/// the packets were lost before they part.
pub(crate) fn compatible(a: &[Option<IpAddr>], b: &[Option<IpAddr>]) -> bool {
    let (short, long) = if a.len() <= b.len() { (a, b) } else { (b, a) };
    let (common, behind) = long.split_at(short.len());
    let ends_there =
        behind.is_empty() || (reaches_target(short) && !behind.iter().any(Option::is_some));
    ends_there
        && short.iter().zip(common).all(|(a, b)| !matches!((a, b), (Some(a), Some(b)) if a != b))
}

/// True when a route ends with an answer. Where the target does not answer, agents probe beyond the
/// last router that does, so such routes end in silence.
pub(crate) fn reaches_target(route: &[Option<IpAddr>]) -> bool {
    route.last().is_some_and(Option::is_some)
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::unit::Micros;

    #[test]
    fn late_answers_are_not_lost_and_delays_stay_sorted() {
        let counts = HopCounts {
            sent: 4,
            answered: 0b11,
            rtt: vec![Micros::new(30), Micros::new(10)],
            late: 1,
            ..HopCounts::default()
        };
        let mut hop = HopWindow::default();
        hop.add(&counts, 5, Exactness::default());
        assert_eq!((hop.sent, hop.lost), (4, 1));
        assert_eq!((hop.rare.late, hop.rare.left_out), (1, 1));
        assert_eq!(hop.delays, [10, 30].into_iter().collect());
    }

    #[test]
    fn windows_before_1970_are_numbered_downward() {
        assert_eq!(window_of(WallTime::from_unix_micros(-1)), -1);
        assert_eq!(end_of(-1), WallTime::from_unix_micros(0));
    }
}
