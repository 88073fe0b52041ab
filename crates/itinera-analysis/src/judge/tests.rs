//! Judgement, window by window.

use super::*;
use itinera_model::alarm::{Alarm, AlarmEffect, AlarmKey};
use itinera_model::checkpoint::Checkpoint;
use itinera_model::finding::{Cause, Finding};
use itinera_model::id::{BootId, PairId};
use itinera_model::round::Clocks;
use itinera_model::two_way::{OneWay, TwoWayRound};
use itinera_model::unit::{Micros, Tick};
use uuid::Uuid;

const START_S: i64 = 1_700_000_000;

/// The hops of a round of a five-hop path; its last three hops lose some of ten probes.
fn five_hops(lost: u8) -> Vec<HopCounts> {
    let hop = |hop: u8| {
        let heard = if hop >= 2 { 10 - lost } else { 10 };
        HopCounts {
            sent: 10,
            answered: (1 << heard) - 1,
            rtt: vec![Micros::new(u32::from(hop) * 4_000 + 900); heard.into()],
            ..HopCounts::default()
        }
    };
    (0..5).map(hop).collect()
}

const fn address(hop: u8) -> Option<IpAddr> {
    Some(IpAddr::V4(std::net::Ipv4Addr::new(198, 18, 0, hop)))
}

const ADDRESSES: [Option<IpAddr>; 5] = [address(1), address(2), address(3), address(4), address(5)];

/// One window's round of that path.
fn observation(window: i64, hops: &[HopCounts]) -> Observation<'_> {
    Observation {
        path: PathId::from_uuid(Uuid::nil()),
        measured_at: WallTime::from_unix_seconds(START_S + window * 10),
        number: window.cast_unsigned(),
        source: IpAddr::from([10, 0, 0, 2]),
        flow: FlowKey::default(),
        route: ContentId::of(b"route"),
        addresses: &ADDRESSES,
        hops,
        stamps: StampSource::Kernel,
        lateness: None,
        arrived_dscp: None,
    }
}

fn observe(judge: &mut Judge, window: i64, lost: u8, now_s: i64) -> Vec<Effect> {
    let hops = five_hops(lost);
    let rounds = [observation(window, &hops)];
    let report = AgentReport::of_rounds(&rounds);
    judge.step(JudgeInput::Report(report), WallTime::from_unix_seconds(now_s))
}

/// Gives windows from..to with this loss, each when it is measured.
fn live(judge: &mut Judge, windows: std::ops::Range<i64>, lost: u8) -> Vec<Effect> {
    windows.flat_map(|w| observe(judge, w, lost, START_S + w * 10 + 2)).collect()
}

fn alarms(effects: &[Effect]) -> String {
    let letters = effects.iter().filter_map(|effect| match effect {
        Effect::Alarm(AlarmEffect::Raised(_)) => Some('r'),
        Effect::Alarm(AlarmEffect::Cleared { .. }) => Some('x'),
        _ => None,
    });
    letters.collect()
}

fn found(effects: &[Effect]) -> bool {
    effects.iter().any(
        |effect| matches!(effect, Effect::Assessed { assessment, .. } if assessment.finding.is_some()),
    )
}

/// Lets the clock of the log go on, from one second to another, by five.
fn wait(judge: &mut Judge, seconds: std::ops::Range<i64>) -> Vec<Effect> {
    let ticks = seconds.step_by(5).map(|s| WallTime::from_unix_seconds(START_S + s));
    ticks.flat_map(|now| judge.step(JudgeInput::Clock, now)).collect()
}

/// First and last windows of the alarms recorded late, as corrected last.
fn recorded(effects: &[Effect]) -> Vec<(i64, i64)> {
    let windows = |at: WallTime| window_of(at) - START_S / 10;
    let mut recorded = BTreeMap::new();
    for effect in effects {
        if let Effect::Alarm(
            AlarmEffect::Recorded { alarm, cleared_at }
            | AlarmEffect::Corrected { alarm, cleared_at },
        ) = effect
        {
            recorded.insert(alarm.raised_at, (windows(alarm.since), windows(*cleared_at)));
        }
    }
    recorded.into_values().collect()
}

#[test]
fn a_fault_seen_only_in_late_rounds_is_recorded_in_the_past_and_never_raised() {
    let mut judge = Judge::default();
    assert_eq!(alarms(&live(&mut judge, 0..30, 0)), "");
    // Cut off for two minutes, of which less than one has a fault; then the newest comes first.
    assert_eq!(alarms(&wait(&mut judge, 302..422)), "");
    let mut effects = live(&mut judge, 42..43, 0);
    for window in (30..42).rev() {
        let lost = if (31..35).contains(&window) { 4 } else { 0 };
        effects.extend(observe(&mut judge, window, lost, START_S + 423));
    }
    assert!(!found(&effects), "it is judged once no more of them come");
    for window in 43..60 {
        effects.extend(live(&mut judge, window..window + 1, 0));
        effects.extend(wait(&mut judge, window * 10 + 3..window * 10 + 10));
    }
    assert!(found(&effects));
    assert_eq!(alarms(&effects), "");
    let [(since, cleared)] = recorded(&effects)[..] else { panic!("{:?}", recorded(&effects)) };
    // A finding regards a minute: it shows a fault for some windows after its end.
    assert!((31..34).contains(&since) && (38..48).contains(&cleared), "{since} {cleared}");
}

#[test]
fn faults_of_an_outage_of_hours_are_recorded_although_its_end_comes_first() {
    let mut judge = Judge::default();
    live(&mut judge, 0..120, 0);
    assert_eq!(alarms(&wait(&mut judge, 1_202..11_200)), "");
    let lost = |window: i64| match window {
        300..320 => 4,
        // Beyond what is remembered, up to what is.
        1_040..1_080 => 3,
        _ => 0,
    };
    // Nearly three hours in the time of two windows, with the next live rounds among them.
    let mut effects = live(&mut judge, 1_120..1_121, 0);
    for window in (120..1_120).rev() {
        let now_s = START_S + 11_202 + (1_120 - window) / 60;
        effects.extend(observe(&mut judge, window, lost(window), now_s));
    }
    assert_eq!((alarms(&effects).as_str(), recorded(&effects)), ("", vec![]));
    let mut restarted = restored(&stored(&[judge.checkpoint()]));
    let on = |judge: &mut Judge| {
        let turn = |window: i64| {
            let mut effects = live(judge, window..window + 1, 0);
            effects.extend(wait(judge, window * 10 + 3..window * 10 + 10));
            effects
        };
        (1_122..1_136).flat_map(turn).collect::<Vec<_>>()
    };
    let effects = on(&mut judge);
    assert!(effects == on(&mut restarted), "what is held outlasts a restart");
    assert_eq!(alarms(&effects), "");
    let recorded = recorded(&effects);
    let [(first, first_end), (second, second_end)] = recorded[..] else { panic!("{recorded:?}") };
    assert!((300..303).contains(&first) && (323..333).contains(&first_end), "{recorded:?}");
    assert!((1_040..1_043).contains(&second) && (1_083..1_093).contains(&second_end));
    let judged: BTreeSet<i64> = effects
        .iter()
        .filter_map(|effect| match effect {
            Effect::Assessed { window, newest: false, .. } => Some(window - START_S / 10),
            _ => None,
        })
        .collect();
    assert!((120..1_120).all(|window| judged.contains(&window)));
    assert!(judge.paths.values().all(|path| path.windows.len() <= KEPT_WINDOWS));
}

#[test]
fn too_many_held_windows_are_judged_at_once_and_none_outlast_a_clock_that_is_set_back() {
    let mut judge = Judge::default();
    judge.held.most = 50;
    live(&mut judge, 0..2, 0);
    let mut effects = live(&mut judge, 500..501, 0);
    for window in (300..400).rev() {
        effects.extend(observe(&mut judge, window, 0, START_S + 5_003));
    }
    let judged = last_words(&effects);
    assert_eq!(judged.range(300..400).count(), 51, "and the others when no more come");
    let set_back = START_S + 500 * 10 - 3_600;
    judge.step(JudgeInput::Clock, WallTime::from_unix_seconds(set_back));
    assert!(judge.held.to_stored().is_empty());
}

#[test]
fn a_window_is_sealed_by_a_later_report_or_by_the_clock() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    let mut effects = live(&mut judge, 40..43, 4);
    effects.extend(wait(&mut judge, 432..440));
    assert_eq!(alarms(&effects), "", "two windows over the limit are sealed");
    assert_eq!(alarms(&wait(&mut judge, 440..450)), "r", "nothing else came");
    assert_eq!(alarms(&wait(&mut judge, 450..2_225)), "");
    assert!(judge.book().open()[0].no_data_since.is_some());
    assert_eq!(alarms(&wait(&mut judge, 2_225..2_240)), "x", "expired after half an hour");
}

#[test]
fn the_first_commit_of_a_path_seals_nothing_before_it_is_read() {
    let mut judge = Judge::default();
    let addresses = [Some(IpAddr::from([198, 18, 0, 1]))];
    let hop = HopCounts { sent: 10, ..HopCounts::default() };
    let at = |second| WallTime::from_unix_seconds(START_S + second);
    let observation = |number: i64| Observation {
        path: PathId::from_uuid(Uuid::nil()),
        measured_at: at(number * 3),
        number: number.cast_unsigned(),
        source: IpAddr::from([10, 0, 0, 2]),
        flow: FlowKey::default(),
        route: ContentId::of(b"route"),
        addresses: &addresses,
        hops: std::slice::from_ref(&hop),
        stamps: StampSource::Kernel,
        lateness: None,
        arrived_dscp: None,
    };
    let observations: Vec<Observation<'_>> = (0..6).map(observation).collect();
    judge.step(JudgeInput::Report(AgentReport::of_rounds(&observations)), at(17));
    let mut seals = judge.seals.clone();
    assert_eq!(seals.paths.len(), 1);
    seals.on_input(at(80));
    assert!(seals.late_and_due().is_empty(), "none of them is late");
}

#[test]
fn rounds_that_always_take_long_are_not_late() {
    let mut judge = Judge::default();
    // A round takes fifty seconds, one every minute.
    let mut effects = Vec::new();
    for minute in 0..80 {
        let lost = if (60..70).contains(&minute) { 4 } else { 0 };
        effects.extend(observe(&mut judge, minute * 6, lost, START_S + minute * 60 + 50));
        effects.extend(wait(&mut judge, minute * 60 + 55..minute * 60 + 110));
    }
    assert_eq!((alarms(&effects).as_str(), recorded(&effects)), ("rx", vec![]));
}

#[test]
fn a_clock_that_was_a_day_ahead_leaves_no_partition_in_conflict() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    live(&mut judge, 8_640..8_700, 0);
    let effects = live(&mut judge, 40..41, 0);
    let dropped = effects.iter().filter(
        |effect| matches!(effect, Effect::Withdrawn { window, .. } if *window > 8_000 + START_S / 10),
    );
    assert_eq!(dropped.count(), 60);
    assert!(effects.iter().any(|effect| matches!(effect, Effect::Assessed { newest: true, .. })));
    live(&mut judge, 41..60, 0);
    assert_eq!(alarms(&live(&mut judge, 60..70, 3)), "r", "judged as if nothing had been");
}

#[test]
fn a_fault_of_two_hours_does_not_become_usual() {
    let mut judge = Judge::default();
    live(&mut judge, 0..60, 0);
    assert_eq!(alarms(&live(&mut judge, 60..780, 3)), "r");
    assert!(found(&live(&mut judge, 780..781, 3)), "still a finding after two hours");
    assert_eq!(alarms(&live(&mut judge, 781..800, 0)), "x");
}

#[test]
fn a_lossy_member_route_stands_for_the_path_in_every_window() {
    let mut judge = Judge::default();
    let mut effects = Vec::new();
    for number in 0..600i64 {
        // Rounds take two routes in turn; the third hop of one of them loses from the fortieth
        // window on.
        let other = number % 2 == 1;
        let lost: u8 = if other && number >= 400 { 4 } else { 0 };
        let hops = five_hops(lost);
        let third = if other { 33 } else { 3 };
        let addresses: Vec<Option<IpAddr>> =
            [1, 2, third, 4, 5].map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).to_vec();
        let at = WallTime::from_unix_seconds(START_S + number);
        let observation = Observation {
            path: PathId::from_uuid(Uuid::nil()),
            measured_at: at,
            number: number.cast_unsigned(),
            source: IpAddr::from([10, 0, 0, 2]),
            flow: FlowKey::default(),
            route: ContentId::of(&[third]),
            addresses: &addresses,
            hops: &hops,
            stamps: StampSource::Kernel,
            lateness: None,
            arrived_dscp: None,
        };
        effects.extend(judge.step(JudgeInput::Report(AgentReport::of_rounds(&[observation])), at));
    }
    assert_eq!(alarms(&effects), "r", "one alarm, which does not flap");
    let last = effects.iter().rev().find_map(|effect| match effect {
        Effect::Assessed { assessment, .. } => assessment.finding.clone(),
        _ => None,
    });
    let to = last.unwrap().place.first_with_fault().unwrap();
    assert_eq!(to, IpAddr::from([198, 18, 0, 33]));
}

#[test]
fn a_fault_that_pauses_by_chance_does_not_become_usual() {
    let mut judge = Judge::default();
    live(&mut judge, 0..30, 0);
    // Every third minute it is hardly there.
    for minute in 5..60 {
        let lost = if minute % 3 == 0 { 1 } else { 3 };
        live(&mut judge, minute * 6..minute * 6 + 6, lost);
    }
    assert!(found(&live(&mut judge, 363..364, 3)), "still a finding after an hour");
}

/// The newest assessment.
fn last(effects: &[Effect]) -> &Assessment {
    let assessed = effects.iter().rev().find_map(|effect| match effect {
        Effect::Assessed { assessment, .. } => Some(assessment),
        _ => None,
    });
    assessed.unwrap()
}

#[test]
fn rounds_that_get_no_further_than_a_hop_count_against_the_known_route() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    let mut effects = Vec::new();
    for window in 40..50 {
        // One round of each window falls into a burst that silences all behind the second
        // hop. Its flow is new, so the agent tries hops beyond the target's.
        let hops: Vec<HopCounts> = (0..9u8)
            .map(|hop| HopCounts {
                sent: 10,
                answered: if hop < 2 { (1 << 10) - 1 } else { 0 },
                rtt: vec![Micros::new(u32::from(hop) * 4_000 + 900); if hop < 2 { 10 } else { 0 }],
                ..HopCounts::default()
            })
            .collect();
        let mut addresses = vec![None; 9];
        addresses[0] = Some(IpAddr::from([198, 18, 0, 1]));
        addresses[1] = Some(IpAddr::from([198, 18, 0, 2]));
        let at = WallTime::from_unix_seconds(START_S + window * 10);
        let observation = Observation {
            path: PathId::from_uuid(Uuid::nil()),
            measured_at: at,
            number: window.cast_unsigned() + 1_000,
            source: IpAddr::from([10, 0, 0, 2]),
            flow: FlowKey::default(),
            route: ContentId::of(b"silence"),
            addresses: &addresses,
            hops: &hops,
            stamps: StampSource::Kernel,
            lateness: None,
            arrived_dscp: None,
        };
        effects.extend(judge.step(JudgeInput::Report(AgentReport::of_rounds(&[observation])), at));
        effects.extend(observe(&mut judge, window, 0, START_S + window * 10 + 2));
    }
    let last = last(&effects);
    assert_eq!((last.rounds, last.hops.len()), (12, 5), "both rounds of six windows");
    assert_eq!((last.end_sent, last.end_lost), (120, 60), "{last:?}");
    let finding = last.finding.as_ref().unwrap();
    let place = finding.place.first_with_fault().unwrap();
    assert_eq!(place, IpAddr::from([198, 18, 0, 3]));
    // All of them end early now: a break, still on the known route.
    let broken = live(&mut judge, 50..53, 10);
    assert!(found(&broken));
}

/// The evidence that a store holds after these effects, summed up: minute, probes sent, lost.
fn evidence(effects: &[Effect]) -> Vec<(i64, u32, u32)> {
    let mut parts = BTreeMap::new();
    for effect in effects {
        if let Effect::Evidence { minute, part, content, .. } = effect {
            parts.insert((*minute, *part), content.clone());
        }
    }
    let mut minutes: BTreeMap<i64, (u32, u32)> = BTreeMap::new();
    for ((minute, _), content) in parts {
        let Some(content) = content else { continue };
        let summary = crate::PublishedMinute::from_bytes(&content).unwrap().summary();
        let sum = minutes.entry(minute - START_S / 60).or_default();
        for hop in summary.routes().filter_map(|route| route.hops.last()) {
            *sum = (sum.0 + hop.sent, sum.1 + hop.lost);
        }
    }
    minutes.into_iter().map(|(minute, (sent, lost))| (minute, sent, lost)).collect()
}

#[test]
fn evidence_is_published_by_minute_when_it_is_sealed_and_again_after_late_rounds() {
    // The first window is the third of its minute.
    assert_eq!(window_of(WallTime::from_unix_seconds(START_S)).rem_euclid(6), 2);
    let mut judge = Judge::default();
    let effects = live(&mut judge, 0..10, 1);
    assert_eq!(evidence(&effects), [(0, 40, 4)], "the second minute is not complete");
    let mut effects = wait(&mut judge, 95..120);
    effects.extend(live(&mut judge, 20..21, 0));
    effects.extend(wait(&mut judge, 202..220));
    assert_eq!(evidence(&effects), [(1, 60, 6)], "by the clock");
    // Rounds of the third minute, which had none, and of the second come late.
    let late: Vec<Effect> =
        [9, 12, 13].into_iter().flat_map(|w| observe(&mut judge, w, 2, START_S + 220)).collect();
    assert_eq!(evidence(&late), [(1, 70, 8), (2, 20, 4)]);
    let effects = live(&mut judge, 21..24, 0);
    assert_eq!(evidence(&effects), [(3, 20, 0)]);
}

#[test]
fn evidence_is_the_same_in_whatever_order_and_portions_rounds_come() {
    let of = |order: &[i64], at_once: bool| {
        let mut judge = Judge::default();
        let mut effects = live(&mut judge, 0..2, 0);
        for (nth, window) in (0..).zip(order) {
            let s = if at_once { 4_000 + nth / 10 } else { window * 10 + 2 };
            let lost = u8::try_from(window % 4).unwrap();
            effects.extend(observe(&mut judge, *window, lost, START_S + s));
        }
        effects.extend(live(&mut judge, 410..430, 0));
        evidence(&effects)
    };
    // An hour, most of which is too late to be judged where its end comes first.
    let in_order: Vec<i64> = (2..362).collect();
    let backward: Vec<i64> = in_order.iter().rev().copied().collect();
    let shuffled: Vec<i64> = (0..360).map(|n| 2 + (n * 37) % 360).collect();
    let expected = of(&in_order, false);
    assert_eq!(expected.iter().map(|(_, sent, _)| sent).sum::<u32>(), 10 * (362 + 14));
    for order in [&in_order, &backward, &shuffled] {
        assert_eq!(of(order, true), expected);
    }
}

/// The last word on each window: whether it has a finding, and where.
fn last_words(effects: &[Effect]) -> BTreeMap<i64, Option<Finding>> {
    let judged = effects.iter().filter_map(|effect| match effect {
        Effect::Assessed { window, assessment, .. } => {
            Some((window - START_S / 10, assessment.finding.clone()))
        }
        _ => None,
    });
    judged.collect()
}

#[test]
fn late_rounds_end_in_the_findings_that_they_would_have_made_in_order() {
    let lost = |window: i64| if (45..55).contains(&window) { 4 } else { 0 };
    let of = |order: &[i64], at_once: bool| {
        let mut judge = Judge::default();
        let mut effects = live(&mut judge, 0..40, 0);
        if at_once {
            effects.extend(wait(&mut judge, 402..902));
        }
        for window in order {
            let now_s = if at_once { 903 } else { window * 10 + 2 };
            effects.extend(observe(&mut judge, *window, lost(*window), START_S + now_s));
        }
        for window in 91..100 {
            effects.extend(live(&mut judge, window..window + 1, 0));
            effects.extend(wait(&mut judge, window * 10 + 3..window * 10 + 10));
        }
        last_words(&effects)
    };
    let in_order: Vec<i64> = (40..91).collect();
    let expected = of(&in_order, false);
    assert!(expected.values().filter(|finding| finding.is_some()).count() > 10);
    let backward: Vec<i64> = in_order.iter().rev().copied().collect();
    let shuffled: Vec<i64> = (0..51).map(|n| 40 + (n * 37) % 51).collect();
    for order in [&in_order, &backward, &shuffled] {
        let words = of(order, true);
        let differing = expected.iter().find(|(window, word)| words.get(window) != Some(word));
        assert_eq!((words.len(), differing), (expected.len(), None));
    }
}

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

fn exchange(judge: &mut Judge, window: i64, lost: u16, now_s: i64) -> Vec<Effect> {
    let pair = PairId::from_uuid(Uuid::from_u128(9));
    let round = two_way(pair, window, lost);
    let pairs = [PairObservation { measured_at: round.clocks.wall, round: &round }];
    let report = AgentReport { pairs: &pairs, ..AgentReport::default() };
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
fn rounds_of_an_outage_are_regarded_and_published_although_they_come_at_once() {
    let mut judge = Judge::default();
    live(&mut judge, 0..2, 0);
    wait(&mut judge, 15..5_002);
    // More windows than are kept, in one report.
    let addresses = [Some(IpAddr::from([198, 18, 0, 1])), Some(IpAddr::from([198, 18, 0, 2]))];
    let hop = |lost: u8| HopCounts {
        sent: 10,
        answered: (1 << (10 - lost)) - 1,
        rtt: vec![Micros::new(900); usize::from(10 - lost)],
        ..HopCounts::default()
    };
    let (good, bad) = ([hop(0), hop(0)], [hop(0), hop(4)]);
    let observation = |window: i64| Observation {
        path: PathId::from_uuid(Uuid::nil()),
        measured_at: WallTime::from_unix_seconds(START_S + window * 10),
        number: window.cast_unsigned(),
        source: IpAddr::from([10, 0, 0, 2]),
        flow: FlowKey::default(),
        route: ContentId::of(b"short"),
        addresses: &addresses,
        hops: if (60..100).contains(&window) { &bad } else { &good },
        stamps: StampSource::Kernel,
        lateness: None,
        arrived_dscp: None,
    };
    let observations: Vec<Observation<'_>> = (2..500).map(observation).collect();
    let report = JudgeInput::Report(AgentReport::of_rounds(&observations));
    let effects = judge.step(report, WallTime::from_unix_seconds(START_S + 5_002));
    let counts = |effects: &[Effect]| {
        evidence(effects).iter().fold((0, 0), |sum, it| (sum.0 + it.1, sum.1 + it.2))
    };
    assert_eq!(counts(&effects), (4_960, 160), "the last minute is not complete");
    let later = wait(&mut judge, 5_003..5_060);
    assert_eq!(recorded(&later).len(), 1, "of what was forgotten after that");
    assert!(judge.paths.values().all(|path| path.windows.len() <= KEPT_WINDOWS));
}

/// What a store holds after these updates.
fn stored(updates: &[Checkpoint]) -> Checkpoint {
    let mut windows = BTreeMap::new();
    for update in updates {
        windows.extend(update.windows.iter().map(|it| ((it.path, it.window), it.clone())));
        update.dropped.iter().for_each(|key| drop(windows.remove(key)));
    }
    let stages = updates.last().map(|last| last.stages.clone()).unwrap_or_default();
    Checkpoint { stages, windows: windows.into_values().collect(), dropped: Vec::new() }
}

fn restored(checkpoint: &Checkpoint) -> Judge {
    Judge::restored(checkpoint, RebuildSources::default()).unwrap().0
}

#[test]
fn a_judge_restored_from_checkpoints_continues_as_if_it_had_never_stopped() {
    let mut undisturbed = Judge::default();
    let mut updates = Vec::new();
    // Long enough for windows to be dropped that were stored.
    for (windows, lost) in [(0..40, 0), (40..43, 3), (43..260, 0), (260..263, 3)] {
        live(&mut undisturbed, windows, lost);
        updates.push(undisturbed.checkpoint());
    }
    assert!(updates.iter().any(|update| !update.dropped.is_empty()));
    let last = updates.last().unwrap();
    assert!(last.windows.len() < 20, "only what differs: {}", last.windows.len());
    let mut continued = restored(&stored(&updates));
    assert_eq!(live(&mut continued, 263..280, 3), live(&mut undisturbed, 263..280, 3));
}

/// As another version of a stage wrote it: what it says cannot be read.
fn make_foreign(checkpoint: &mut Checkpoint, stage: Stage) {
    let state = checkpoint.stages.iter_mut().find(|it| it.stage == stage.name()).unwrap();
    state.version += 1;
    state.content = vec![0xFF];
}

/// What a judge remembers of each window, as it is stored.
fn windows_in(judge: &Judge) -> BTreeMap<i64, Vec<u8>> {
    let path = judge.paths.values().next().unwrap();
    path.windows.range(..).map(|(window, kept)| (window, kept.to_bytes())).collect()
}

#[test]
fn findings_of_another_version_are_made_again_with_the_clock_and_leave_the_others() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    assert_eq!(alarms(&live(&mut judge, 40..46, 3)), "r");
    let mut checkpoint = stored(&[judge.checkpoint()]);
    make_foreign(&mut checkpoint, Stage::Findings);
    // The other version has found nothing anywhere.
    checkpoint.windows.iter_mut().for_each(|window| window.content[1] = 0);
    let mut continued = restored(&checkpoint);
    assert_eq!(continued.book().open().len(), 1, "alarms are as they were");
    assert_ne!(windows_in(&continued), windows_in(&judge), "what was found stands at first");
    let progress = Judge::stored_progress(&continued.checkpoint()).unwrap();
    assert_eq!((progress.done, progress.paths), (0, 1));
    // It goes on after a restart.
    let mut continued = restored(&stored(&[checkpoint, continued.checkpoint()]));
    let effects = wait(&mut continued, 463..464);
    wait(&mut judge, 463..464);
    assert_eq!(windows_in(&continued), windows_in(&judge));
    assert_eq!(alarms(&effects), "");
    let judged = effects.iter().filter(|it| matches!(it, Effect::Assessed { .. })).count();
    assert_eq!(judged, 46, "each window has a finding of this version, or none");
    assert_eq!(Judge::stored_progress(&continued.checkpoint()), None);
    assert_eq!(live(&mut continued, 47..60, 3), live(&mut judge, 47..60, 3));
}

#[test]
fn alarms_of_another_version_are_made_from_the_windows_and_keep_what_was_recorded() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    live(&mut judge, 40..46, 3);
    let mut checkpoint = stored(&[judge.checkpoint()]);
    make_foreign(&mut checkpoint, Stage::Alarms);
    let known = judge.book().open()[0].clone();
    let since = known.since.plus_micros(-3_600_000_000);
    let known = Alarm { since, worst_loss_ppm: 500_000, ..known };
    let gone = AlarmKey { cause: Cause::Delay, ..known.key };
    let gone = Alarm { key: gone, ..known.clone() };
    let open = vec![known.clone(), gone.clone()];
    let sources = RebuildSources { open, ..RebuildSources::default() };
    let (mut continued, effects) = Judge::restored(&checkpoint, sources).unwrap();
    let effects = effects.into_iter().map(Effect::Alarm).collect::<Vec<_>>();
    assert_eq!(alarms(&effects), "x", "the one that is not shown any more");
    assert_eq!(continued.book().open(), [known]);
    assert_eq!(alarms(&live(&mut continued, 46..60, 3)), "", "it is not raised again");
    let (_, effects) = Judge::restored(&checkpoint, RebuildSources::default()).unwrap();
    assert!(matches!(effects[..], [AlarmEffect::Raised(_)]), "none was recorded");
}

#[test]
fn windows_of_another_version_are_made_from_evidence_and_the_newest_rounds() {
    let mut judge = Judge::default();
    let mut effects = live(&mut judge, 0..40, 0);
    effects.extend(live(&mut judge, 40..46, 3));
    let mut checkpoint = stored(&[judge.checkpoint()]);
    make_foreign(&mut checkpoint, Stage::Windows);
    checkpoint.windows.iter_mut().for_each(|window| window.content = vec![0xFF]);
    let published = effects.into_iter().filter_map(|effect| match effect {
        Effect::Evidence { subject: EvidenceSubject::Path(path), minute, content, .. } => {
            Some((path, minute, crate::PublishedMinute::from_bytes(&content?).unwrap()))
        }
        _ => None,
    });
    let minutes: Vec<_> = published.collect();
    let wanted = minutes_to_rebuild(&checkpoint);
    assert_eq!(wanted.len(), 8, "46 windows, of which the first four end a minute");
    assert!(minutes.iter().all(|(path, minute, _)| wanted.contains(&(*path, *minute))));
    let from = rounds_to_rebuild(&checkpoint, &minutes).unwrap();
    let first = window_of(from) - START_S / 10;
    assert_eq!(first, 40, "the last minute of evidence ends there");
    let hops = five_hops(3);
    let rounds = (first..46).map(|window| observation(window, &hops)).collect();
    let sources = RebuildSources { minutes, rounds, ..RebuildSources::default() };
    let (mut continued, _) = Judge::restored(&checkpoint, sources).unwrap();
    wait(&mut continued, 463..464);
    wait(&mut judge, 463..464);
    assert_eq!(windows_in(&continued), windows_in(&judge), "and their findings with the clock");
    let rewritten = continued.checkpoint();
    assert_eq!(rewritten.windows.len(), 46);
    assert_eq!(live(&mut continued, 47..60, 3), live(&mut judge, 47..60, 3));
    assert!(windows_to_rebuild(&rewritten).is_empty());
}

#[test]
fn a_damaged_state_is_an_error_that_names_its_stage() {
    let mut judge = Judge::default();
    live(&mut judge, 0..4, 0);
    let mut checkpoint = stored(&[judge.checkpoint()]);
    let seals = checkpoint.stages.iter_mut().find(|it| it.stage == Stage::Seals.name()).unwrap();
    seals.content.truncate(3);
    let damaged = Judge::restored(&checkpoint, RebuildSources::default());
    assert_eq!(damaged.map(drop).unwrap_err().stage, Stage::Seals);
}
