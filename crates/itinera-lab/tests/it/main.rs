//! The demonstration's world in virtual time, seed by seed.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests may fail loudly")]

mod accuracy;
mod engines;
mod lateness;

use itinera_analysis::{Effect, Limits};
use itinera_lab::{Density, LabRun, run};
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::Cause;
use itinera_model::path::Method;
use itinera_model::unit::{Micros, Tick};
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
            Effect::Alarm(alarm @ (AlarmEffect::Raised(_) | AlarmEffect::Cleared { .. })) => {
                Some((at, alarm))
            }
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
        let (_, effects) = run.judge(Limits::default());
        let mut last = std::collections::BTreeMap::new();
        for (_, effect) in effects {
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
