//! The demonstration's world in virtual time, seed by seed.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests may fail loudly")]

mod accuracy;
mod engines;
mod lateness;

use itinera_analysis::{Effect, JudgeInput, Limits};
use itinera_lab::{Density, EPOCH, LabRun, run};
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::{Cause, Place};
use itinera_model::id::AgentId;
use itinera_model::path::Method;
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_simnet::Scenario;

/// The demonstration's world.
const WHOLE: &str = include_str!("../../../../demo/world.toml");
/// What happens in it beside the live fault begins with these words.
const BESIDE: &str = "# What services are there, and what happens beside the live fault:";

/// The world with the live fault alone.
fn live_only() -> &'static str {
    WHOLE.split(BESIDE).next().unwrap()
}
const END: Tick = Tick::from_millis(800_000);

fn world() -> Scenario {
    Scenario::parse(live_only()).unwrap()
}

fn alarms(run: &LabRun) -> Vec<(Tick, AlarmEffect)> {
    let (_, effects) = run.judge(Limits::default());
    effects
        .into_iter()
        .filter_map(|(at, effect)| match effect {
            Effect::Alarm(AlarmEffect::Changed { .. }) => None,
            Effect::Alarm(alarm) => Some((at, alarm)),
            _ => None,
        })
        .collect()
}

/// Each version of IP has at most one alarm, IPv4 has one, each names the true link, and each
/// clears by itself once the fault has ended.
fn check_alarms(run: &LabRun, cause: Cause, seed: u64) {
    let truth = &run.truth[0];
    let alarms = alarms(run);
    let mut raised = Vec::new();
    for (at, effect) in &alarms {
        let AlarmEffect::Raised(alarm) = effect else { continue };
        assert_eq!(alarm.key.cause, cause, "seed {seed}");
        let (from, to) = alarm.key.place.ends().unwrap();
        assert!(truth.from.contains(&from) && truth.to.contains(&to), "seed {seed}: {alarm:?}");
        let delay = at.since(truth.begins);
        assert!(*at > truth.begins && delay < Micros::from_millis(120_000), "seed {seed}: {delay}");
        assert!(!raised.contains(&from.is_ipv6()), "seed {seed}: twice {alarms:#?}");
        raised.push(from.is_ipv6());
        let cleared_at = alarms.iter().find_map(|(at, effect)| match effect {
            AlarmEffect::Cleared { key, .. } if *key == alarm.key => Some(*at),
            _ => None,
        });
        assert!(cleared_at.unwrap() > truth.ends.unwrap(), "seed {seed}");
    }
    assert!(raised.contains(&false), "seed {seed}: no alarm for IPv4");
    assert_eq!(alarms.len(), raised.len() * 2, "seed {seed}: {alarms:#?}");
}

#[test]
fn every_seed_ends_in_one_alarm_at_the_true_link_that_clears_by_itself() {
    let mut links = std::collections::BTreeSet::new();
    for seed in 1..=8 {
        let run = run(&world(), seed, &Density::default(), END);
        links.insert((run.truth[0].from.clone(), run.truth[0].to.clone()));
        check_alarms(&run, Cause::Loss, seed);
    }
    assert!(links.len() >= 4, "the seeds draw only {links:?}");
}

#[test]
fn an_hour_without_a_fault_raises_nothing() {
    let text = live_only().replace("loss = [0.15, 0.25]", "loss = [0, 0]");
    let scenario = Scenario::parse(&text).unwrap();
    let density = Density { interval: Micros::from_millis(6_000), ..Density::default() };
    let run = run(&scenario, 5, &density, Tick::from_millis(3_600_000));
    assert!(run.rounds.len() > 5_000);
    assert_eq!(alarms(&run), []);
}

#[test]
fn an_added_delay_is_alarmed_at_its_link() {
    let text = live_only().replace("loss = [0.15, 0.25]", "added_delay_ms = [30, 60]");
    for seed in [1, 4, 9] {
        let run = run(&Scenario::parse(&text).unwrap(), seed, &Density::default(), END);
        check_alarms(&run, Cause::Delay, seed);
    }
}

#[test]
fn the_same_seed_gives_the_same_rounds_and_another_seed_others() {
    let density = Density { methods: vec![Method::Udp], ..Density::default() };
    let rounds = |seed| {
        let run = run(&world(), seed, &density, Tick::from_millis(60_000));
        run.rounds.into_iter().map(|lab| lab.round).collect::<Vec<_>>()
    };
    assert_eq!(rounds(3), rounds(3));
    assert_ne!(rounds(3), rounds(4));
}

#[test]
fn findings_do_not_depend_on_the_order_of_arrival() {
    let ordered = run(&world(), 2, &Density::default(), Tick::from_millis(240_000));
    let mut shuffled = ordered.clone();
    // Late by up to two minutes, by a fixed rule that mixes neighbours well.
    shuffled.rounds.sort_by_key(|lab| {
        let us = lab.settled_at.as_nanos() / 1_000;
        let mix = (us ^ (lab.round.number << 7)).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40;
        us + mix * 7
    });
    assert_ne!(
        ordered.rounds.iter().map(|l| l.round.number).collect::<Vec<_>>(),
        shuffled.rounds.iter().map(|l| l.round.number).collect::<Vec<_>>()
    );
    let last_word = |run: &LabRun| {
        let (mut judge, effects) = run.judge(Limits::default());
        let mut effects: Vec<Effect> = effects.into_iter().map(|(_, effect)| effect).collect();
        // Late rounds are judged when no more of them come.
        for second in (240..420).step_by(5) {
            let now = EPOCH.plus_micros(second * 1_000_000);
            effects.extend(judge.step(JudgeInput::Clock, now));
        }
        let mut last = std::collections::BTreeMap::new();
        for effect in effects {
            if let Effect::Assessed { window, assessment, .. } = effect {
                last.insert((assessment.path, window), assessment);
            }
        }
        last
    };
    let (a, b) = (last_word(&ordered), last_word(&shuffled));
    assert!(a.values().filter(|assessment| assessment.finding.is_some()).count() > 50);
    assert!(a == b, "assessments differ by order of arrival");
}

/// The run as the service sees it when agents are cut off from it for some time: they measure, and
/// upload the newest first after that.
fn cut_off(run: &LabRun, from: Tick, to: Tick, is_cut: impl Fn(AgentId) -> bool) -> LabRun {
    let mut cut = run.clone();
    let span_ns = to.as_nanos() - from.as_nanos();
    for lab in &mut cut.rounds {
        if is_cut(lab.agent) && lab.settled_at >= from && lab.settled_at < to {
            // A second for all of them.
            let back_ns = (to.as_nanos() - lab.settled_at.as_nanos()) / (span_ns / 1_000_000_000);
            lab.settled_at = to.plus_nanos(back_ns);
        }
    }
    cut.rounds.sort_by_key(|lab| lab.settled_at);
    cut
}

/// A world with a fault of a minute that begins after five.
fn short_fault() -> Scenario {
    let text = live_only()
        .replace("at_s = [90, 105], for_s = 600", "at_s = [300, 300], for_s = 60")
        .replace("loss = [0.15, 0.25]", "loss = [0.3, 0.3]");
    Scenario::parse(&text).unwrap()
}

#[test]
fn a_fault_while_agents_are_cut_off_becomes_a_record_and_no_alarm_is_raised() {
    let span = Tick::from_millis(600_000);
    let whole = run(&short_fault(), 3, &Density::default(), span);
    let truth = &whole.truth[0];
    let is_true = |place: &Place| {
        let (from, to) = place.ends().unwrap();
        truth.from.contains(&from) && truth.to.contains(&to)
    };
    let alarms = |run: &LabRun| {
        let (_, effects) = run.judge(Limits::default());
        let of_alarms = effects.into_iter().filter_map(|(_, effect)| match effect {
            Effect::Alarm(alarm) => Some(alarm),
            _ => None,
        });
        of_alarms.collect::<Vec<_>>()
    };
    let raised = |alarms: &[AlarmEffect]| {
        alarms.iter().filter(|alarm| matches!(alarm, AlarmEffect::Raised(_))).count()
    };
    let (from, to) = (Tick::from_millis(290_000), Tick::from_millis(440_000));
    let connected = alarms(&whole);
    assert!(raised(&connected) > 0, "the fault is strong enough");

    let cut = alarms(&cut_off(&whole, from, to, |_| true));
    assert_eq!(raised(&cut), 0, "{cut:#?}");
    let records: Vec<_> = cut
        .iter()
        .filter_map(|alarm| match alarm {
            AlarmEffect::Recorded { alarm, cleared_at } => Some((alarm, *cleared_at)),
            _ => None,
        })
        .collect();
    assert!(!records.is_empty());
    for (alarm, cleared_at) in records {
        assert!(is_true(&alarm.key.place), "{alarm:?}");
        let after_us = |at: WallTime| at.micros_since(EPOCH) - 300_000_000;
        // A window may begin with the fault in its last second; a finding regards a minute.
        assert!((-10_000_000..30_000_000).contains(&after_us(alarm.since)), "{alarm:?}");
        assert!((60_000_000..180_000_000).contains(&after_us(cleared_at)), "{cleared_at:?}");
        assert!(after_us(alarm.recorded_at.unwrap()) > 140_000_000);
    }

    // One agent alone: what the others raised explains what it reports late.
    let first = whole.paths[0].agent;
    let one = alarms(&cut_off(&whole, from, to, |agent| agent == first));
    assert_eq!(raised(&one), raised(&connected));
    let others = one.iter().filter(|alarm| matches!(alarm, AlarmEffect::Recorded { .. }));
    assert_eq!(others.count(), 0, "{one:#?}");
}
