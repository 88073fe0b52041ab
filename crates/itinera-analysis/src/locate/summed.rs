//! Hops of a path over long times, from summed-up evidence: what they showed in each of several
//! spans, against what was usual over all of these.

use super::evidence::{HopEvidence, LEAST_USUAL};
use super::{got_here, micros, ppm, rate_limiting};
use crate::evidence::{HopSummary, MinuteSummary, compatible, reaches_target};
use crate::stat;
use itinera_model::finding::{HopVerdict, HopView};
use itinera_model::unit::Micros;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// A hop of a span: its address, and its counts.
type Seen = (Option<IpAddr>, HopSummary);

/// The route that most rounds of a span took, with the counts of all rounds that can have taken it.
fn main_route(span: &MinuteSummary) -> Vec<Seen> {
    // A route that ends in silence is the beginning of one that reaches the target.
    let reaches = |addresses| u8::from(reaches_target(addresses));
    let main = span.routes().max_by_key(|it| (reaches(it.addresses()), it.rounds));
    let Some(main) = main else { return Vec::new() };
    let mut addresses = main.addresses().to_vec();
    let mut sums = vec![HopSummary::default(); addresses.len()];
    for route in span.routes().filter(|it| compatible(it.addresses(), main.addresses())) {
        for (mine, theirs) in addresses.iter_mut().zip(route.addresses()) {
            *mine = mine.or(*theirs);
        }
        for (mine, theirs) in sums.iter_mut().zip(&route.hops) {
            mine.merge(theirs);
        }
    }
    addresses.into_iter().zip(sums).collect()
}

/// The hops of a path in several spans, in the order of the path; a span without rounds has none. The
/// usual delay of a hop is the median over the spans in which its address answered, and is absent
/// for fewer than three. No fault is located.
pub fn views_of_spans(spans: &[MinuteSummary]) -> Vec<Vec<HopView>> {
    let spans: Vec<Vec<Seen>> = spans.iter().map(main_route).collect();
    let mut delays: BTreeMap<(usize, Option<IpAddr>), Vec<f64>> = BTreeMap::new();
    for (index, (address, sum)) in spans.iter().flat_map(|hops| hops.iter().enumerate()) {
        let of_hop = delays.entry((index, *address)).or_default();
        of_hop.extend(sum.delay_us(50).map(|us| f64::from(us) / 1_000.0));
    }
    let usual = |index, address| {
        let of_hop = delays.get(&(index, address))?;
        (of_hop.len() >= LEAST_USUAL).then(|| stat::median(of_hop)).flatten().map(micros)
    };
    spans.iter().map(|hops| views(hops, usual)).collect()
}

fn views(hops: &[Seen], usual: impl Fn(usize, Option<IpAddr>) -> Option<Micros>) -> Vec<HopView> {
    let counts = hops.iter().enumerate();
    let counts = counts.map(|(index, (address, sum))| {
        HopEvidence::of_counts(index, *address, (sum.sent, sum.lost))
    });
    let counts: Vec<HopEvidence> = counts.collect();
    let limits = rate_limiting(&counts, None);
    let got_here = got_here(&counts, &limits);
    let views = hops.iter().zip(&counts).enumerate().map(|(index, ((_, sum), hop))| HopView {
        hop: hop.hop,
        address: hop.address,
        sent: hop.sent,
        lost: hop.lost,
        got_here_ppm: got_here[index].map(ppm),
        delay_us: sum.delay_us(50).map(Micros::new),
        delay_quartiles_us: sum
            .delay_us(25)
            .zip(sum.delay_us(75))
            .map(|(low, high)| (Micros::new(low), Micros::new(high))),
        usual_delay_us: usual(index, hop.address),
        verdict: match (got_here[index], hop.address) {
            (None, _) => HopVerdict::Unanswered,
            (Some(_), None) => HopVerdict::Silent,
            (Some(_), Some(_)) if limits[index] => HopVerdict::RateLimits,
            (Some(_), Some(_)) => HopVerdict::Clean,
        },
    });
    views.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::{Exactness, PublishedMinute, RoundCounts, Windows, publish};
    use crate::weave::{self, Cell};
    use itinera_model::id::ContentId;
    use itinera_model::round::HopCounts;
    use itinera_model::route::FlowKey;

    fn address(last: u8) -> Option<IpAddr> {
        Some(IpAddr::from([198, 18, 0, last]))
    }

    /// A minute of sixty rounds of ten probes a hop, of which some are lost from one hop on, and the
    /// delay of the last hops in milliseconds.
    fn minute(
        route: &[Option<IpAddr>],
        rounds: u8,
        lost: (usize, u8),
        delay_ms: u32,
    ) -> MinuteSummary {
        let hops = route.iter().enumerate().map(|(index, address)| {
            let heard = match address {
                None => 0,
                Some(_) if index >= lost.0 => 10 - lost.1,
                Some(_) => 10,
            };
            let delay_ms = if index >= 2 { delay_ms } else { 1 };
            HopCounts {
                sent: 10,
                answered: (1 << heard) - 1,
                rtt: vec![Micros::from_millis(delay_ms); heard.into()],
                ..HopCounts::default()
            }
        });
        let hops: Vec<HopCounts> = hops.collect();
        let mut windows = Windows::default();
        let id = ContentId::of(format!("{route:?}").as_bytes());
        let route = windows.route(id, route);
        for number in 0..rounds {
            let (flow, exactness) = (FlowKey::default(), Exactness::default());
            let round = RoundCounts { number: number.into(), flow, hops: &hops, exactness };
            windows.add(i64::from(number) / 10, &route, &round);
        }
        PublishedMinute::from_bytes(&publish(windows.range(..))).unwrap().summary()
    }

    fn steps(hops: &[HopView]) -> Vec<Option<u8>> {
        let step = |cell| match cell {
            Cell::Measured { step, .. } => step,
            Cell::Missing | Cell::Silent => None,
        };
        weave::cells(hops, None).into_iter().map(step).collect()
    }

    #[test]
    fn each_span_shows_which_part_departs_from_the_usual_of_all() {
        let route = [address(1), None, address(3), address(4)];
        let clean = minute(&route, 60, (9, 0), 20);
        let mut spans = vec![clean; 7];
        spans[2] = minute(&route, 60, (3, 3), 20);
        spans[5] = minute(&route, 60, (9, 0), 60);
        spans[6] = MinuteSummary::default();
        let views = views_of_spans(&spans);
        let steps: Vec<_> = views.iter().map(|hops| steps(hops)).collect();
        assert_eq!(steps[0], [Some(0), None, Some(0), Some(0)]);
        assert_eq!(steps[2], [Some(0), None, Some(0), Some(4)], "the last hop loses 30 %");
        assert_eq!(steps[5], [Some(0), None, Some(3), Some(0)], "40 ms more from the third on");
        assert!(views[6].is_empty(), "nothing was measured");
        assert_eq!(views[0][1].verdict, HopVerdict::Silent);
        let few = views_of_spans(&spans[..2]);
        assert_eq!(few[0][0].usual_delay_us, None, "two spans say nothing of what is usual");
    }

    #[test]
    fn rounds_that_end_early_count_for_the_route_that_most_took() {
        let (route, other) = ([1, 2, 3, 4].map(address), [1, 7, 3, 4].map(address));
        let ends = [address(1), address(2), None, None];
        let mut span = minute(&route, 60, (9, 0), 20);
        span.merge(&minute(&other, 20, (9, 0), 20));
        span.merge(&minute(&ends, 30, (9, 0), 20));
        let views = views_of_spans(&[span]);
        let addresses: Vec<_> = views[0].iter().map(|hop| hop.address).collect();
        assert_eq!(addresses, route);
        assert_eq!((views[0][3].sent, views[0][3].lost), (900, 300));
        assert_eq!(views[0][3].got_here_ppm, Some(666_667));
    }
}
