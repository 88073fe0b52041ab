//! The demonstration's world in virtual time, seed by seed.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests may fail loudly")]

use itinera_analysis::{Effect, Limits};
use itinera_lab::{Density, LabRun, run};
use itinera_model::alarm::AlarmEffect;
use itinera_model::finding::{Cause, Place};
use itinera_model::path::Method;
use itinera_model::unit::{Micros, Tick};
use itinera_simnet::Scenario;
use std::net::IpAddr;

const WORLD: &str = include_str!("../../../../demo/world.toml");
const END: Tick = Tick::from_millis(800_000);

fn world() -> Scenario {
    Scenario::parse(WORLD).unwrap()
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

#[test]
fn every_seed_ends_in_one_alarm_at_the_true_link_that_clears_by_itself() {
    let mut links = std::collections::BTreeSet::new();
    for seed in 1..=12 {
        let run = run(&world(), seed, &Density::default(), END);
        let truth = &run.truth[0];
        links.insert((truth.from, truth.to));
        let alarms = alarms(&run);
        let [
            (raised_at, AlarmEffect::Raised(alarm)),
            (cleared_at, AlarmEffect::Cleared { key, .. }),
        ] = alarms.as_slice()
        else {
            panic!("seed {seed}: one alarm and its end expected, got {alarms:#?}");
        };
        assert_eq!(alarm.key.cause, Cause::Loss, "seed {seed}");
        let Place::Link { from, to, .. } = alarm.key.place;
        assert_eq!(
            (from, to),
            (IpAddr::V4(truth.from), IpAddr::V4(truth.to)),
            "seed {seed}: {alarm:?}"
        );
        let delay = raised_at.since(truth.begins);
        assert!(delay < Micros::from_millis(120_000), "seed {seed}: raised after {delay}");
        assert!(*raised_at > truth.begins && *cleared_at > truth.ends.unwrap(), "seed {seed}");
        assert_eq!(*key, alarm.key);
    }
    assert!(links.len() >= 3, "the seeds draw only {links:?}");
}

#[test]
fn an_hour_without_a_fault_raises_nothing() {
    let text = WORLD.replace("loss = [0.15, 0.25]", "loss = [0, 0]");
    let scenario = Scenario::parse(&text).unwrap();
    let density = Density { interval: Micros::from_millis(6_000), ..Density::default() };
    let run = run(&scenario, 5, &density, Tick::from_millis(3_600_000));
    assert!(run.rounds.len() > 5_000);
    assert_eq!(alarms(&run), []);
}

#[test]
fn an_added_delay_is_alarmed_at_its_link() {
    let text = WORLD.replace("loss = [0.15, 0.25]", "added_delay_ms = [30, 60]");
    for seed in [1, 4, 9] {
        let run = run(&Scenario::parse(&text).unwrap(), seed, &Density::default(), END);
        let truth = run.truth[0].clone();
        let alarms = alarms(&run);
        let Some((_, AlarmEffect::Raised(alarm))) = alarms.first() else {
            panic!("seed {seed}: no alarm");
        };
        let Place::Link { from, to, .. } = alarm.key.place;
        assert_eq!(alarm.key.cause, Cause::Delay);
        assert_eq!((from, to), (IpAddr::V4(truth.from), IpAddr::V4(truth.to)), "seed {seed}");
        assert_eq!(alarms.len(), 2, "seed {seed}: {alarms:#?}");
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
