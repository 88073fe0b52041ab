//! What two agents exchanged: counts and delays of both directions, by window of time.

use super::minute::{EvidenceError, WINDOWS, read_version};
use itinera_model::two_way::{Direction, OneWay, TwoWayRound};
use itinera_model::varint::{Reader, VarintError, put, put_signed};
use std::collections::BTreeMap;

const VERSION: u8 = 1;
const MINUTES: u64 = 60;
const MOST: u64 = 1 << 20;

/// What the rounds of a pair in a window, or a minute, gave. Sums merge in any order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PairCounts {
    /// Rounds.
    pub rounds: u32,
    /// Rounds in which the sender's own program may have left answers unread.
    pub inexact: u32,
    /// Packets sent.
    pub sent: u32,
    /// Packets without an answer and with unknown direction of loss.
    pub undetermined: u32,
    /// Runs of packets without an answer.
    pub bursts: u32,
    /// The longest of them.
    pub longest_burst: u32,
    /// From the sender to the reflector.
    pub forward: DirectionCounts,
    /// From the reflector to the sender.
    pub return_: DirectionCounts,
}

/// One direction of a pair.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DirectionCounts {
    /// Packets that arrived.
    pub arrived: u32,
    /// Packets that were lost.
    pub lost: u32,
    /// Copies beyond the first.
    pub duplicated: u32,
    /// Packets that came after one sent later.
    pub reordered: u32,
    /// Packets marked as having met congestion.
    pub congested: u32,
    /// Delays of each round, sorted.
    delays: Vec<RoundDelays>,
}

/// The delays of a round in one direction, in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct RoundDelays {
    /// Bounds of the smallest; absent where nothing is known of the clocks.
    bounds_us: Option<(i64, i64)>,
    /// Median, 95th percentile and largest above the smallest.
    over_us: [u32; 3],
}

impl DirectionCounts {
    fn of(one: &OneWay, bounds_us: Option<(i64, i64)>) -> Self {
        let delays = one.delay.map(|delay| RoundDelays {
            bounds_us,
            over_us: [delay.p50_us, delay.p95_us, delay.max_us],
        });
        Self {
            arrived: one.arrived.into(),
            lost: one.lost.into(),
            duplicated: one.duplicated.into(),
            reordered: one.reordered.into(),
            congested: one.congested.into(),
            delays: delays.into_iter().collect(),
        }
    }

    const fn all(&self) -> [u32; 5] {
        [self.arrived, self.lost, self.duplicated, self.reordered, self.congested]
    }

    fn merge(&mut self, other: &Self) {
        let (mine, theirs) = (self.all(), other.all());
        let sum = |index: usize| mine[index].saturating_add(theirs[index]);
        let [arrived, lost, duplicated, reordered, congested] = std::array::from_fn(sum);
        let mut delays = std::mem::take(&mut self.delays);
        delays.extend(&other.delays);
        delays.sort_unstable();
        *self = Self { arrived, lost, duplicated, reordered, congested, delays };
    }

    /// The smallest delay of all rounds as bounds in microseconds: that with the lowest upper one.
    pub fn floor_us(&self) -> Option<(i64, i64)> {
        self.delays.iter().filter_map(|delays| delays.bounds_us).min_by_key(|bounds| bounds.1)
    }

    /// Median over the rounds of the delay variation: the 95th percentile above the smallest, in
    /// microseconds (RFC 5481).
    pub fn variation_us(&self) -> Option<u32> {
        itinera_model::quantile::median(self.delays.iter().map(|delays| delays.over_us[1]))
    }

    fn put(&self, out: &mut Vec<u8>) {
        for count in self.all() {
            put(out, count.into());
        }
        put(out, self.delays.len() as u64);
        for delays in &self.delays {
            out.push(u8::from(delays.bounds_us.is_some()));
            if let Some((low, high)) = delays.bounds_us {
                put_signed(out, low);
                put_signed(out, high.saturating_sub(low));
            }
            for over in delays.over_us {
                put(out, over.into());
            }
        }
    }

    fn read(reader: &mut Reader<'_>) -> Result<Self, VarintError> {
        let mut all = [0; 5];
        for count in &mut all {
            *count = reader.typed("count of a direction")?;
        }
        let [arrived, lost, duplicated, reordered, congested] = all;
        let mut delays = Vec::new();
        for _ in 0..reader.number("rounds with delays", MOST)? {
            let bounds_us = match reader.byte()? {
                0 => None,
                1 => {
                    let low = reader.signed("delay")?;
                    Some((low, low.saturating_add(reader.signed("bound of a delay")?)))
                }
                _ => return Err(reader.range("delay")),
            };
            let mut over_us = [0; 3];
            for over in &mut over_us {
                *over = reader.typed("delay")?;
            }
            delays.push(RoundDelays { bounds_us, over_us });
        }
        Ok(Self { arrived, lost, duplicated, reordered, congested, delays })
    }
}

impl PairCounts {
    /// Those of one round.
    pub(crate) fn of(round: &TwoWayRound) -> Self {
        let hides = round.lateness.is_some_and(|lateness| lateness.hides_answers(round.stamps));
        let bounds = |direction| round.delay_bounds_us(direction);
        Self {
            rounds: 1,
            inexact: hides.into(),
            sent: round.sent.into(),
            undetermined: round.undetermined.into(),
            bursts: round.bursts.into(),
            longest_burst: round.longest_burst.into(),
            forward: DirectionCounts::of(&round.forward, bounds(Direction::Forward)),
            return_: DirectionCounts::of(&round.return_, bounds(Direction::Return)),
        }
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.inexact = self.inexact.saturating_add(other.inexact);
        self.sent = self.sent.saturating_add(other.sent);
        self.undetermined = self.undetermined.saturating_add(other.undetermined);
        self.bursts = self.bursts.saturating_add(other.bursts);
        self.longest_burst = self.longest_burst.max(other.longest_burst);
        self.forward.merge(&other.forward);
        self.return_.merge(&other.return_);
    }

    fn put(&self, out: &mut Vec<u8>) {
        for count in [
            self.rounds,
            self.inexact,
            self.sent,
            self.undetermined,
            self.bursts,
            self.longest_burst,
        ] {
            put(out, count.into());
        }
        self.forward.put(out);
        self.return_.put(out);
    }

    fn read(reader: &mut Reader<'_>) -> Result<Self, VarintError> {
        let mut all = [0; 6];
        for count in &mut all {
            *count = reader.typed("count of a pair")?;
        }
        let [rounds, inexact, sent, undetermined, bursts, longest_burst] = all;
        let (forward, return_) = (DirectionCounts::read(reader)?, DirectionCounts::read(reader)?);
        Ok(Self { rounds, inexact, sent, undetermined, bursts, longest_burst, forward, return_ })
    }
}

/// Counts of a pair at places in time: the windows of a minute, or the minutes of an hour.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PairEvidence(BTreeMap<u8, PairCounts>);

impl PairEvidence {
    /// Adds counts at a place in time.
    pub fn add(&mut self, place: u8, counts: &PairCounts) {
        self.0.entry(place).or_default().merge(counts);
    }

    /// Puts counts in the place of what was known of a place in time.
    pub fn replace(&mut self, place: u8, counts: PairCounts) {
        self.0.insert(place, counts);
    }

    /// By place in time.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &PairCounts)> {
        self.0.iter().map(|(place, counts)| (*place, counts))
    }

    /// All of it together.
    pub fn sum(&self) -> PairCounts {
        let mut sum = PairCounts::default();
        self.0.values().for_each(|counts| sum.merge(counts));
        sum
    }

    /// As it is stored.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = vec![VERSION];
        put(&mut out, self.0.len() as u64);
        for (place, counts) in &self.0 {
            out.push(*place);
            counts.put(&mut out);
        }
        out
    }

    /// Reads what [`Self::to_bytes`] wrote.
    ///
    /// # Errors
    /// [`EvidenceError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, EvidenceError> {
        let mut reader = Reader::new(bytes);
        read_version(&mut reader, VERSION)?;
        let mut evidence = Self::default();
        for _ in 0..reader.number("places in time", MINUTES)? {
            let place = reader.byte()?;
            evidence.0.insert(place, PairCounts::read(&mut reader)?);
        }
        reader.end()?;
        Ok(evidence)
    }
}

/// The evidence of a minute of a pair from its windows, which are given by their index.
pub(crate) fn publish_pair<'a>(windows: impl Iterator<Item = (i64, &'a PairCounts)>) -> Vec<u8> {
    let mut evidence = PairEvidence::default();
    for (window, counts) in windows {
        evidence.add(u8::try_from(window.rem_euclid(WINDOWS)).unwrap_or(u8::MAX), counts);
    }
    evidence.to_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn direction() -> impl Strategy<Value = DirectionCounts> {
        let bounds = prop::option::of((0i64..90_000_000, 0i64..1_000_000));
        let delays = prop::collection::vec((bounds, any::<[u32; 3]>()), 0..4);
        (any::<[u16; 5]>(), delays).prop_map(|(counts, delays)| {
            let [arrived, lost, duplicated, reordered, congested] = counts.map(u32::from);
            let mut delays: Vec<RoundDelays> = delays
                .into_iter()
                .map(|(bounds, over_us)| RoundDelays {
                    bounds_us: bounds.map(|(low, width)| (low, low + width)),
                    over_us,
                })
                .collect();
            delays.sort_unstable();
            DirectionCounts { arrived, lost, duplicated, reordered, congested, delays }
        })
    }

    fn counts() -> impl Strategy<Value = PairCounts> {
        (any::<[u16; 6]>(), direction(), direction()).prop_map(|(counts, forward, return_)| {
            let [rounds, inexact, sent, undetermined, bursts, longest_burst] =
                counts.map(u32::from);
            PairCounts {
                rounds,
                inexact,
                sent,
                undetermined,
                bursts,
                longest_burst,
                forward,
                return_,
            }
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_and_order_does_not_matter(
            of in prop::collection::vec((0u8..60, counts()), 0..12),
            byte in any::<u8>(),
            at in any::<prop::sample::Index>(),
        ) {
            let add = |evidence: &mut PairEvidence, (place, counts): &(u8, PairCounts)| {
                evidence.add(*place, counts);
            };
            let (mut forward, mut backward) = (PairEvidence::default(), PairEvidence::default());
            of.iter().for_each(|it| add(&mut forward, it));
            of.iter().rev().for_each(|it| add(&mut backward, it));
            prop_assert_eq!(&forward, &backward);
            let mut bytes = forward.to_bytes();
            prop_assert_eq!(PairEvidence::from_bytes(&bytes), Ok(forward));
            prop_assert!(PairEvidence::from_bytes(&bytes[..bytes.len() - 1]).is_err());
            let index = at.index(bytes.len());
            bytes[index] = byte;
            let _read = PairEvidence::from_bytes(&bytes).map(|it| it.sum());
        }
    }
}
