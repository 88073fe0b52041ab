//! The beginner's reading of a path: the first hop that looks bad is to blame.

use crate::{Candidate, Claim, Topology, WindowInput, owner_name};
use itinera_model::finding::{Cause, Place};
use itinera_model::id::PathId;
use itinera_model::quantile::median;
use itinera_model::round::HopCounts;
use std::collections::{BTreeMap, VecDeque};
use std::net::IpAddr;
use std::sync::Arc;

/// Rounds that make the recent minute.
const RECENT: usize = 6;
/// Rounds before these that say what is usual.
const USUAL: usize = 60;
/// A hop that loses more than this share of its probes looks bad.
const LOSSY: f64 = 0.02;
/// A median delay of a hop that is this much above usual looks bad, in microseconds.
const LATE_US: u32 = 10_000;

/// What one hop gave in one round.
#[derive(Debug, Clone, Copy)]
struct Glance {
    sent: u32,
    answered: u32,
    median_us: Option<u32>,
}

type Round = Vec<(Option<IpAddr>, Glance)>;

/// Blames, on each path by itself, the first hop with loss, else the first with added delay;
/// whether it persists behind that hop is not asked. It is always sure.
#[derive(Debug, Clone)]
pub struct Naive {
    topology: Arc<Topology>,
    paths: BTreeMap<PathId, VecDeque<Round>>,
}

impl Naive {
    /// Without memory.
    pub const fn new(topology: Arc<Topology>) -> Self {
        Self { topology, paths: BTreeMap::new() }
    }

    fn blame(&self, path: PathId, source: IpAddr) -> Option<Blame> {
        let rounds = self.paths.get(&path)?;
        let recent = rounds.len().saturating_sub(RECENT);
        let (usual, now) = (rounds.range(..recent), rounds.range(recent..));
        let hops = rounds.back()?;
        let mut before = (source, 0);
        let mut late = None;
        for (hop, (address, _)) in hops.iter().enumerate() {
            let glances = now.clone().filter_map(|round| round.get(hop)).map(|(_, glance)| glance);
            let sums = glances.fold((0, 0), |(sent, answered), glance| {
                (sent + glance.sent, answered + glance.answered)
            });
            let Some(to) = *address else { continue };
            let silent_between = u8::try_from(hop - before.1).unwrap_or(u8::MAX);
            let place = Place::Link { from: before.0, to, silent_between };
            before = (to, hop + 1);
            let lost = f64::from(sums.0 - sums.1);
            if lost > LOSSY * f64::from(sums.0) {
                return Some(Blame { cause: Cause::Loss, place, size: lost / f64::from(sums.0) });
            }
            if late.is_none() {
                let added_ms = lateness_ms(usual.clone(), now.clone(), hop);
                late = added_ms.map(|size| Blame { cause: Cause::Delay, place, size });
            }
        }
        late
    }
}

/// What looks bad on a path.
struct Blame {
    cause: Cause,
    place: Place,
    /// Share lost, or milliseconds added.
    size: f64,
}

/// By how much a hop's median delay of now is above the usual one, where it lies clearly above that of most
/// rounds before.
fn lateness_ms<'r>(
    usual: impl Iterator<Item = &'r Round>,
    now: impl Iterator<Item = &'r Round>,
    hop: usize,
) -> Option<f64> {
    let of_hop = |round: &Round| round.get(hop)?.1.median_us;
    let now = median(now.filter_map(of_hop))?;
    let usual: Vec<u32> = usual.filter_map(of_hop).collect();
    let earlier = usual.iter().filter(|delay| delay.saturating_add(LATE_US) < now).count();
    let is_late = earlier * 2 > usual.len();
    let added_us = now.saturating_sub(median(usual)?);
    is_late.then(|| f64::from(added_us) / 1e3)
}

fn glance(counts: &HopCounts) -> Glance {
    Glance {
        sent: u32::from(counts.sent),
        answered: u32::from(counts.answers()),
        median_us: median(counts.rtt.iter().map(|rtt| rtt.as_micros())),
    }
}

impl Candidate for Naive {
    fn name(&self) -> &'static str {
        "naive"
    }

    fn version(&self) -> u32 {
        1
    }

    fn is_baseline(&self) -> bool {
        true
    }

    fn regard(&mut self, shown: &WindowInput<'_>) -> Vec<Claim> {
        for round in shown.rounds {
            let hops = round.addresses.iter().copied().zip(round.hops.iter().map(glance));
            let kept = self.paths.entry(round.path).or_default();
            kept.push_back(hops.collect());
            if kept.len() > RECENT + USUAL {
                kept.pop_front();
            }
        }
        let mut blamed: BTreeMap<(Cause, Place), Vec<f64>> = BTreeMap::new();
        for path in &self.topology.paths {
            if let Some(Blame { cause, place, size }) = self.blame(path.id, path.source) {
                blamed.entry((cause, place)).or_default().push(size);
            }
        }
        let mut blamed: Vec<_> = blamed.into_iter().collect();
        blamed.sort_by_key(|(_, sizes)| std::cmp::Reverse(sizes.len()));
        let claim = |((cause, place), sizes): ((Cause, Place), Vec<f64>)| {
            let owner = |to| (owner_name(&self.topology.owners, to), 1.0);
            Claim {
                cause,
                places: vec![(place.into(), 1.0)],
                direction: None,
                owner: place.first_with_fault().map(owner),
                size: Some(sizes.iter().sum::<f64>() / sizes.len() as f64),
            }
        };
        blamed.into_iter().map(claim).collect()
    }

    fn fork(&self) -> Box<dyn Candidate> {
        Box::new(self.clone())
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::{PathFacts, Region};
    use itinera_analysis::Observation;
    use itinera_model::id::ContentId;
    use itinera_model::owner::OwnerMap;
    use itinera_model::round::StampSource;
    use itinera_model::route::FlowKey;
    use itinera_model::unit::{Micros, WallTime};
    use std::net::Ipv4Addr;
    use uuid::Uuid;

    const SOURCE: IpAddr = IpAddr::V4(Ipv4Addr::new(10, 0, 0, 2));
    pub(crate) const FROM: IpAddr = IpAddr::V4(Ipv4Addr::new(198, 18, 0, 2));
    pub(crate) const TO: IpAddr = IpAddr::V4(Ipv4Addr::new(198, 18, 0, 3));
    const PATH: PathId = PathId::from_uuid(Uuid::nil());

    pub(crate) fn topology() -> Arc<Topology> {
        let path = PathFacts { id: PATH, source: SOURCE, target: TO };
        Arc::new(Topology { paths: vec![path], pairs: Vec::new(), owners: OwnerMap::default() })
    }

    /// One window of one path of four hops, ten probes each, answered by these bits.
    pub(crate) fn window<T>(
        number: i64,
        answered: [u16; 4],
        regard: impl FnOnce(&WindowInput<'_>) -> T,
    ) -> T {
        let addresses: Vec<Option<IpAddr>> =
            (1..=4).map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).collect();
        let hops: Vec<HopCounts> = answered
            .into_iter()
            .map(|answered| HopCounts {
                sent: 10,
                answered,
                rtt: vec![Micros::new(900); answered.count_ones() as usize],
                ..HopCounts::default()
            })
            .collect();
        let at = WallTime::from_unix_seconds(1_700_000_000 + number * 10);
        let round = Observation {
            path: PATH,
            measured_at: at,
            number: number.cast_unsigned(),
            source: SOURCE,
            flow: FlowKey::default(),
            route: ContentId::of(b"route"),
            addresses: &addresses,
            hops: &hops,
            stamps: StampSource::Virtual,
            lateness: None,
            arrived_dscp: None,
        };
        regard(&WindowInput {
            until: at.plus_micros(10_000_000),
            rounds: &[round],
            hop_limits: &[vec![Some(64); 4]],
            pairs: &[],
            pair_hops: &[],
        })
    }

    #[test]
    fn policing_is_taken_for_loss() {
        let mut naive = Naive::new(topology());
        let claims = window(0, [1023, 7, 1023, 1023], |shown| naive.regard(shown));
        let Region::Place(place) = claims[0].places[0].0 else { panic!("{claims:?}") };
        assert_eq!((place.first_with_fault(), claims[0].cause), (Some(FROM), Cause::Loss));
        let mut other = naive.fork();
        let nothing = WindowInput {
            until: WallTime::from_unix_seconds(0),
            rounds: &[],
            hop_limits: &[],
            pairs: &[],
            pair_hops: &[],
        };
        assert_eq!(other.regard(&nothing), claims);
    }

    #[test]
    fn a_clean_path_is_not_blamed() {
        let mut naive = Naive::new(topology());
        assert_eq!(window(0, [1023; 4], |shown| naive.regard(shown)), []);
    }
}
