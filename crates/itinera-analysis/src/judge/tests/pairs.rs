//! Evidence of pairs.

use super::*;
use crate::event::PairEnds;
use itinera_model::id::{BootId, PairId};
use itinera_model::round::Clocks;
use itinera_model::two_way::{Direction, OneWay, PairRoute, TwoWayRound};
use itinera_model::unit::Tick;

/// A two-way round of twenty packets of which some are lost on the return route.
fn two_way(pair: PairId, window: i64, lost: u16) -> TwoWayRound {
    let wall = WallTime::from_unix_seconds(START_S + window * 10);
    let boot = BootId::from_uuid(Uuid::nil());
    let clocks =
        Clocks { boot, tick: Tick::default(), wall, offset_us: Some(0), offset_error_us: None };
    TwoWayRound {
        pair,
        number: window.cast_unsigned(),
        clocks,
        source: [10, 0, 0, 2].into(),
        destination: [10, 0, 1, 2].into(),
        stamps: StampSource::Kernel,
        lateness: None,
        dscp: 0,
        sent: 20,
        interval_ms: 1_000,
        bursts: lost.min(1),
        longest_burst: lost,
        undetermined: 0,
        forward: OneWay { arrived: 20, ..OneWay::default() },
        return_: OneWay { arrived: 20 - lost, lost, ..OneWay::default() },
        round_trip_us: None,
        clock: None,
        synchronised_us: None,
    }
}

/// A route of a pair with two hops, measured in the first window.
fn pair_route(pair: PairId, direction: Direction, last: u8) -> PairRoute {
    let hops = vec![Some([198, 18, 0, last].into()), None, Some([198, 18, 1, last].into())];
    PairRoute { pair, direction, clocks: two_way(pair, 0, 0).clocks, hops }
}

/// A round of a pair, with the route of its return direction in the first window.
fn exchange(judge: &mut Judge, window: i64, lost: u16, now_s: i64) -> Vec<Effect> {
    let pair = PairId::from_uuid(Uuid::from_u128(9));
    let round = two_way(pair, window, lost);
    let pairs = [PairObservation { measured_at: round.clocks.wall, round: &round }];
    let routes =
        if window == 0 { vec![pair_route(pair, Direction::Return, 7)] } else { Vec::new() };
    let routes: Vec<_> = routes.iter().map(|route| (route.clocks.wall, route)).collect();
    let report = AgentReport { pairs: &pairs, pair_routes: &routes, ..AgentReport::default() };
    judge.step(JudgeInput::Report(report), WallTime::from_unix_seconds(START_S + now_s))
}

/// The evidence of pairs that a store holds after these effects, summed up: minute, sent, lost on
/// the return route.
fn pair_evidence(effects: &[Effect]) -> Vec<(i64, u32, u32)> {
    let mut parts = BTreeMap::new();
    for effect in effects {
        if let Effect::Evidence { subject: EvidenceSubject::Pair(_), minute, part, content } =
            effect
        {
            parts.insert((*minute, *part), content.clone());
        }
    }
    let mut minutes: BTreeMap<i64, (u32, u32)> = BTreeMap::new();
    for ((minute, _), content) in parts {
        let Some(content) = content else { continue };
        let counts = crate::PairEvidence::from_bytes(&content).unwrap().sum();
        let sum = minutes.entry(minute - START_S / 60).or_default();
        *sum = (sum.0 + counts.sent, sum.1 + counts.return_.lost);
    }
    minutes.into_iter().map(|(minute, (sent, lost))| (minute, sent, lost)).collect()
}

#[test]
fn evidence_of_pairs_is_published_once_sealed_in_whatever_order_rounds_come() {
    let of = |order: &[i64], late: bool| {
        let mut judge = Judge::default();
        let mut effects = exchange(&mut judge, 0, 0, 2);
        for window in order {
            let now_s = if late { 2_000 } else { window * 10 + 2 };
            let lost = u16::try_from(window % 3).unwrap();
            effects.extend(exchange(&mut judge, *window, lost, now_s));
        }
        effects.extend(wait(&mut judge, 2_005..2_200));
        let mut restored = restored(&judge.checkpoint());
        let after: Vec<_> =
            [&mut judge, &mut restored].map(|it| exchange(it, 219, 1, 2_200)).to_vec();
        assert_eq!(after[0], after[1], "it continues from its checkpoint");
        pair_evidence(&effects)
    };
    let in_order: Vec<i64> = (2..200).step_by(2).collect();
    let backward: Vec<i64> = in_order.iter().rev().copied().collect();
    let expected = of(&in_order, false);
    assert_eq!(expected.iter().map(|(_, sent, _)| sent).sum::<u32>(), 20 * 100);
    assert_eq!(expected[1], (1, 60, 3));
    assert_eq!(of(&in_order, true), expected);
    assert_eq!(of(&backward, true), expected, "most of it is too late for its window");
}

#[test]
fn a_damaged_window_of_a_pair_is_an_error() {
    let mut judge = Judge::default();
    exchange(&mut judge, 0, 0, 2);
    let mut stored = judge.pairs.to_stored();
    stored[0].windows[0].1.pop();
    assert!(Pairs::from_stored(stored).is_err());
}

#[test]
fn loss_of_a_pair_is_an_event_before_and_after_a_restart() {
    let agent = |number| AgentId::from_uuid(Uuid::from_u128(number));
    let pair = PairId::from_uuid(Uuid::from_u128(9));
    let ends = PairEnds { sender: agent(1), reflector: agent(2) };
    let inventory = Inventory {
        sites: [(agent(1), "Eskerry".to_owned()), (agent(2), "Dunverra".to_owned())].into(),
        pairs: [(pair, ends)].into(),
        ..Inventory::default()
    };
    let told = |judge: &mut Judge, inventory: Inventory, now_s| {
        let input = JudgeInput::Inventory(Box::new(inventory), Arc::default());
        judge.step(input, WallTime::from_unix_seconds(START_S + now_s))
    };
    let events = |effects: &[Effect]| -> Vec<(&str, WallTime)> {
        let kinds = effects.iter().filter_map(|effect| match effect {
            Effect::Event(EventEffect::Began(event)) => Some(("began", event.since)),
            Effect::Event(EventEffect::Ended { at, .. }) => Some(("ended", *at)),
            _ => None,
        });
        kinds.collect()
    };
    let at = |second| WallTime::from_unix_seconds(START_S + second);
    let mut judge = Judge::default();
    told(&mut judge, inventory, 0);
    for window in (0..20).step_by(2) {
        assert_eq!(events(&exchange(&mut judge, window, 0, window * 10 + 25)), []);
    }
    assert_eq!(events(&exchange(&mut judge, 20, 5, 225)), []);
    let mut judge = restored(&stored(&[judge.checkpoint()]));
    // The next window seals the one before.
    assert_eq!(events(&exchange(&mut judge, 22, 5, 245)), []);
    let effects = exchange(&mut judge, 24, 5, 265);
    assert_eq!(events(&effects), [("began", at(200))]);
    let routes = effects.iter().find_map(|effect| match effect {
        Effect::Event(EventEffect::Began(event)) => Some(&event.route),
        _ => None,
    });
    let measured = [[198, 18, 0, 7], [198, 18, 1, 7]].map(IpAddr::from);
    assert_eq!(routes, Some(&measured.to_vec()), "on the route that was measured in its direction");
    let mut judge = restored(&stored(&[judge.checkpoint()]));
    assert_eq!(events(&told(&mut judge, Inventory::default(), 280)), [("ended", at(280))]);
}
