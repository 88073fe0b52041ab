//! Windows in their compact form, published minutes and blocks of hours.

use super::encoding::{put_routes, put_window, read_routes, read_window};
use super::*;
use itinera_model::id::ContentId;
use itinera_model::round::{HopCounts, Lateness, StampSource};
use itinera_model::route::FlowKey;
use itinera_model::unit::Micros;
use itinera_model::varint::Reader;
use proptest::prelude::*;
use std::net::IpAddr;
use std::sync::Arc;

/// A round: route, flow, what each hop gave, how late the program was.
#[derive(Debug, Clone)]
struct Drawn {
    route: u8,
    flow: u16,
    hops: Vec<HopCounts>,
    late_us: u32,
}

fn hop() -> impl Strategy<Value = HopCounts> {
    let rare = (any::<[bool; 5]>(), any::<[u8; 5]>());
    let delays = prop::collection::vec(1u32..3_000_000, 0..16);
    (delays, 0u8..4, rare, any::<u8>(), any::<bool>()).prop_map(
        |(delays, lost, (are, counts), code, refuses)| {
            let heard = u8::try_from(delays.len()).unwrap();
            let [late, duplicate, elsewhere, reordered, ambiguous] =
                std::array::from_fn(|index| if are[index] { counts[index] % 3 } else { 0 });
            HopCounts {
                sent: heard + lost,
                answered: (1 << heard) - 1,
                rtt: delays.into_iter().map(Micros::new).collect(),
                late: late.min(lost),
                duplicate,
                elsewhere,
                reordered,
                ambiguous,
                unreachable: if refuses { vec![(code, 1)] } else { Vec::new() },
            }
        },
    )
}

fn drawn() -> impl Strategy<Value = Drawn> {
    let hops = prop::collection::vec(hop(), 1..6);
    let late_us = prop_oneof![4 => Just(0u32), 1 => Just(5_000), 1 => Just(250_000)];
    (0u8..3, 0u16..3, hops, late_us).prop_map(|(route, flow, hops, late_us)| Drawn {
        route,
        flow,
        hops,
        late_us,
    })
}

fn address(last: u8) -> IpAddr {
    if last.is_multiple_of(2) {
        IpAddr::from([198, 18, 0, last])
    } else {
        IpAddr::from([0x2001, 0xdb8, 0, 0, 0, 0, 0, last.into()])
    }
}

fn seen(route: u8) -> Arc<SeenRoute> {
    let addresses = [Some(address(1)), None, Some(address(route)), Some(address(9))];
    Arc::new(SeenRoute { id: ContentId::of(&[route]), addresses: addresses.to_vec() })
}

fn add(windows: &mut Windows, window: i64, number: u64, drawn: &Drawn) {
    let route = seen(drawn.route);
    let route = windows.route(route.id, &route.addresses);
    let lateness = Lateness { timer_us: drawn.late_us, ..Lateness::default() };
    let round = RoundCounts {
        number,
        flow: FlowKey { source_port: 40_000 + drawn.flow, destination_port: 33_434 },
        hops: &drawn.hops,
        exactness: Exactness::of(StampSource::Program, Some(lateness)),
    };
    windows.add(window, &route, &round);
}

/// Rounds of ten windows, each with its window.
fn filled(rounds: &[(i64, Drawn)]) -> Windows {
    let mut windows = Windows::default();
    for (number, (window, drawn)) in (0..).zip(rounds) {
        add(&mut windows, *window, number, drawn);
    }
    windows
}

fn contents(windows: &Windows) -> Vec<(i64, Window)> {
    windows.range(..).map(|(index, kept)| (index, kept.window().into_owned())).collect()
}

/// Probes, and answers by kind, of everything.
fn totals<'a>(summaries: impl Iterator<Item = &'a MinuteSummary>) -> [u64; 6] {
    let mut totals = [0; 6];
    for route in summaries.flat_map(MinuteSummary::routes) {
        totals[0] += u64::from(route.rounds);
        for hop in &route.hops {
            let delays: u32 = hop.delays.values().sum();
            let refused: u32 = hop.unreachable().values().sum();
            let sent = hop.sent + hop.rare.hidden;
            for (total, count) in
                totals[1..].iter_mut().zip([sent, hop.lost, hop.late(), refused, delays])
            {
                *total += u64::from(count);
            }
        }
    }
    totals
}

proptest! {
    #[test]
    fn compact_windows_are_the_same_windows(
        rounds in prop::collection::vec((0i64..10, drawn()), 1..40),
        from in 0i64..12,
        more in prop::collection::vec((0i64..10, drawn()), 0..10),
        damage in any::<prop::sample::Index>(),
    ) {
        let mut open = filled(&rounds);
        let mut compact = open.clone();
        compact.compact_before(from);
        prop_assert_eq!(contents(&compact), contents(&open));
        let routes = |all: &Windows| -> Vec<Vec<ContentId>> {
            all.range(..).map(|(_, it)| it.newest_first().iter().map(|it| it.id).collect()).collect()
        };
        prop_assert_eq!(routes(&compact), routes(&open));
        for (number, (window, drawn)) in (1_000..).zip(&more) {
            add(&mut open, *window, number, drawn);
            add(&mut compact, *window, number, drawn);
        }
        prop_assert_eq!(contents(&compact), contents(&open));
        let mut restored = Windows::default();
        for minute in 0..3 {
            if let Some(stored) = compact.minute_bytes(minute) {
                restored.restore(minute, &stored).unwrap();
                prop_assert_eq!(restored.minute_bytes(minute), Some(stored.clone()));
                let mut damaged = stored.clone();
                let at = damage.index(stored.len());
                damaged[at] ^= 0x10;
                prop_assert!(Windows::default().restore(minute, &damaged).is_err());
                prop_assert!(Windows::default().restore(minute, &stored[..at]).is_err());
            }
        }
        prop_assert_eq!(contents(&restored), contents(&open));
    }

    #[test]
    fn a_published_minute_and_an_hour_hold_every_count(
        rounds in prop::collection::vec((0i64..12, drawn()), 1..60),
    ) {
        let windows = filled(&rounds);
        let mut hour = HourBlock::default();
        let mut summaries = Vec::new();
        for minute in 0..2 {
            let range = minute * WINDOWS_A_MINUTE..(minute + 1) * WINDOWS_A_MINUTE;
            let published = PublishedMinute::from_bytes(&publish(windows.range(range.clone()))).unwrap();
            let there: Vec<Window> = published.windows.iter().map(|(_, it)| it.clone()).collect();
            let kept: Vec<Window> =
                windows.range(range).map(|(_, kept)| kept.window().into_owned()).collect();
            prop_assert_eq!(there, kept);
            // In two parts, as late minutes come to an hour that is there.
            hour.add(u8::try_from(minute).unwrap(), &published.summary());
            hour = HourBlock::from_bytes(&hour.to_bytes()).unwrap();
            summaries.push(published.summary());
        }
        prop_assert_eq!(totals(hour.minutes().map(|(_, it)| it)), totals(summaries.iter()));
        let sent: u64 = rounds.iter().flat_map(|(_, it)| &it.hops).map(|hop| u64::from(hop.sent)).sum();
        let [of_rounds, of_sent, ..] = totals(summaries.iter());
        prop_assert_eq!((of_rounds, of_sent), (rounds.len() as u64, sent));
        for (minute, summary) in hour.minutes() {
            prop_assert_eq!(summary, &summaries[usize::from(minute)]);
        }
    }

    #[test]
    fn any_bytes_are_read_calmly(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        let versioned = |mut rest: Vec<u8>| { rest.insert(0, 1); rest };
        let stored = [&[2], bytes.as_slice()].concat();
        let bytes = versioned(bytes);
        let _read = (PublishedMinute::from_bytes(&bytes), HourBlock::from_bytes(&bytes));
        let _restored = Windows::default().restore(0, &stored);
    }

    #[test]
    fn damaged_bytes_are_refused_or_read_but_never_end_the_program(
        rounds in prop::collection::vec((0i64..6, drawn()), 1..10),
        at in any::<prop::sample::Index>(),
        byte in any::<u8>(),
    ) {
        let windows = filled(&rounds);
        let mut published = publish(windows.range(..));
        let mut hour = HourBlock::default();
        hour.add(7, &PublishedMinute::from_bytes(&published).unwrap().summary());
        let mut block = hour.to_bytes();
        prop_assert!(HourBlock::from_bytes(&block[..block.len() - 1]).is_err());
        prop_assert!(PublishedMinute::from_bytes(&published[..published.len() - 1]).is_err());
        let (first, second) = (at.index(published.len()), at.index(block.len()));
        (published[first], block[second]) = (byte, byte);
        if let Ok(read) = PublishedMinute::from_bytes(&published) {
            let _summary = read.summary();
        }
        let _block = HourBlock::from_bytes(&block).map(|it| it.to_bytes());
    }
}

#[test]
fn a_window_of_one_round_takes_a_few_bytes_a_hop() {
    let hops = (1..=20u32).map(|hop| HopCounts {
        sent: 3,
        answered: 0b111,
        rtt: [0, 90, 310].map(|us| Micros::new(hop * 2_000 + us)).to_vec(),
        ..HopCounts::default()
    });
    let round = Drawn { route: 2, flow: 0, hops: hops.collect(), late_us: 0 };
    let windows = filled(&[(0, round)]);
    let window = windows.get(0).unwrap().window();
    let mut bytes = Vec::new();
    put_window(&mut bytes, &window, |_| 0);
    assert!(bytes.len() <= 20 * 9, "{} bytes", bytes.len());
    let mut routes = Vec::new();
    put_routes(&mut routes, &[seen(2)]);
    let routes = read_routes(&mut Reader::new(&routes)).unwrap();
    assert_eq!(read_window(&mut Reader::new(&bytes), &routes).as_ref(), Ok(&*window));
}

#[test]
fn delays_of_a_summary_are_near_the_measured_ones() {
    let delays = (0..100u32).map(|n| Micros::new(9_000 + n * 100));
    let hops: Vec<HopCounts> = delays
        .map(|rtt| HopCounts { sent: 1, answered: 1, rtt: vec![rtt], ..HopCounts::default() })
        .collect();
    let rounds: Vec<(i64, Drawn)> = hops
        .into_iter()
        .map(|hop| (0, Drawn { route: 2, flow: 0, hops: vec![hop], late_us: 0 }))
        .collect();
    let published = PublishedMinute::from_bytes(&publish(filled(&rounds).range(..))).unwrap();
    let summary = published.summary();
    let hop = &summary.routes().next().unwrap().hops[0];
    for (percent, measured) in [(0, 9_000), (50, 13_900), (95, 18_400)] {
        let about = hop.delay_us(percent).unwrap();
        assert!(about.abs_diff(measured) <= 200, "{percent}: {about}");
    }
}
