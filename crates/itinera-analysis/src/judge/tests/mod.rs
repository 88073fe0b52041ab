//! Judgement, window by window.

mod checkpoints;
mod pairs;
mod rules;

use super::*;
use itinera_model::alarm::AlarmEffect;
use itinera_model::checkpoint::Checkpoint;
use itinera_model::finding::Finding;
use itinera_model::unit::Micros;
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
        Effect::Alarm(AlarmEffect::Raised(_) | AlarmEffect::RaisedAgain { .. }) => Some('r'),
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
    // An hour, most of which is too late for its windows where its end comes first.
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
    let short = |window: i64| {
        let hops = if (60..100).contains(&window) { &bad } else { &good };
        let route = ContentId::of(b"short");
        Observation { route, addresses: &addresses, ..observation(window, hops) }
    };
    let observations: Vec<Observation<'_>> = (2..500).map(short).collect();
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
    let mut minutes = BTreeMap::new();
    for update in updates {
        minutes.extend(update.minutes.iter().map(|it| ((it.path, it.minute), it.clone())));
        update.dropped.iter().for_each(|key| drop(minutes.remove(key)));
    }
    let stages = updates.last().map(|last| last.stages.clone()).unwrap_or_default();
    Checkpoint { stages, minutes: minutes.into_values().collect(), dropped: Vec::new() }
}

fn restored(checkpoint: &Checkpoint) -> Judge {
    Judge::restored(checkpoint, RebuildSources::default()).unwrap().0
}
