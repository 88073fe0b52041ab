//! The accuracy bench: both simulations of a world agree, and scores mean what they say.

use itinera_lab::accuracy::{
    Effect, Extent, Job, Kind, LEARNED, ORACLE, Parts, SIZE_UNKNOWN, Setup, Stage, Stretch, Suite,
    Traffic, Warm, WorldRecord, draw, explain, report, run_world, table,
};
use itinera_lab::{Density, run};
use itinera_model::path::Method;
use itinera_model::two_way::{OneWay, PORT};
use itinera_model::unit::{Micros, Tick};
use itinera_probe::two_way::{OwnClock, Reflector, Sender, SenderConfig, Session, TwoWay};
use itinera_probe::{Budget, Engine, Input};
use itinera_simnet::closed_form::{Pace, PairPlan, PathPlan, Sampler};
use itinera_simnet::worlds::{Blueprint, Changes, FaultPlan, Split, WorldFamily};
use itinera_simnet::{Scenario, Simnet};
use itinera_wire::Addresses;
use std::collections::BTreeMap;
use std::net::IpAddr;

const PACE: Pace = Pace { probes: 5, interval_nanos: 2_000_000_000 };

/// Few agents, so that tests are quick; everything else as it is measured.
fn small() -> Setup {
    Setup { name: "small".to_owned(), agents: 4, peers: 2, ..Setup::a() }
}

fn job(family: WorldFamily, seed: u64, extent: Extent) -> Job {
    Job { setup: small(), family, seed, extent }
}

/// Counts and delays by path and hop.
#[derive(Default, Clone)]
struct Tally {
    sent: f64,
    answered: f64,
    delays_us: Vec<f64>,
}

/// Distances of both simulations of a world: answers in standard errors, and the largest distance
/// between both distributions of delay in its own (Kolmogorov, Smirnov).
fn compare(packets: &Tally, closed: &Tally) -> (f64, f64) {
    let [p, q] = [packets, closed].map(|t| t.answered / t.sent);
    let both = (packets.answered + closed.answered) / (packets.sent + closed.sent);
    let spread = both * (1.0 - both) * (1.0 / packets.sent + 1.0 / closed.sent);
    let answers = (p - q).abs() / spread.sqrt().max(1e-9);
    let [a, b] = [packets, closed].map(|t| t.delays_us.len() as f64);
    let below = |t: &Tally, at: f64| t.delays_us.partition_point(|v| *v <= at) as f64;
    let apart = packets
        .delays_us
        .iter()
        .map(|at| (below(packets, *at) / a - below(closed, *at) / b).abs())
        .fold(0.0, f64::max);
    (if spread > 0.0 { answers } else { 0.0 }, apart * (a * b / (a + b)).sqrt())
}

#[test]
fn packets_and_the_closed_form_go_through_the_same_world() {
    const SPAN_S: u64 = 1_200;
    for (family, seed) in WorldFamily::ALL.into_iter().zip(4..) {
        let world = Blueprint::draw(seed, family, 2);
        let fault = Changes { at_s: 600.0, ..Changes::default() };
        let scenario = Scenario::parse(&world.scenario(&fault)).unwrap();
        let density = Density {
            methods: vec![Method::IcmpEcho],
            interval: Micros::from_millis(2_000),
            probes_per_hop: 5,
            timeout: Micros::from_millis(1_000),
        };
        let lab = run(&scenario, seed, &density, Tick::from_millis(SPAN_S * 1_000));
        let targets = world.targets.len();
        let plans: Vec<PathPlan> = (0..2 * targets)
            .map(|p| PathPlan { site: p / targets, target: p % targets, flows: Vec::new() })
            .collect();
        let mut sampler = Sampler::try_new(&scenario, seed, &plans, &[], PACE).unwrap();
        let mut packets: Vec<Vec<Tally>> = vec![Vec::new(); plans.len()];
        let mut limits = 0;
        for round in lab.rounds.iter().filter(|round| round.round.number > 2) {
            let path = lab.paths.iter().position(|path| path.id == round.round.path).unwrap();
            let (route, _) = sampler.route(path, 0, Tick::ZERO);
            packets[path].resize(route.len(), Tally::default());
            for (reading, hop) in round.reading.hops.iter().zip(route) {
                let left = reading.reply_hop_limit;
                assert!(
                    left.is_none_or(|left| left == hop.hop_limit),
                    "{family}: {left:?}, {hop:?}"
                );
                limits += usize::from(left.is_some());
            }
            for (tally, hop) in packets[path].iter_mut().zip(&round.round.hops) {
                tally.sent += f64::from(hop.sent);
                tally.answered += f64::from(hop.answers());
                tally.delays_us.extend(hop.rtt.iter().map(|rtt| f64::from(rtt.as_micros())));
            }
        }
        let mut closed: Vec<Vec<Tally>> =
            packets.iter().map(|hops| vec![Tally::default(); hops.len()]).collect();
        let mut hops = Vec::new();
        for number in 3..SPAN_S / 2 {
            for (path, tallies) in closed.iter_mut().enumerate() {
                let at = Tick::from_millis(number * 2_000);
                sampler.round(path, number, at, 1, &mut hops);
                for (tally, hop) in tallies.iter_mut().zip(&hops) {
                    tally.sent += f64::from(hop.sent);
                    tally.answered += f64::from(hop.answers());
                    tally.delays_us.extend(hop.rtt.iter().map(|rtt| f64::from(rtt.as_micros())));
                }
            }
        }
        let mut seen = 0;
        for (path, (packets, closed)) in packets.iter_mut().zip(&mut closed).enumerate() {
            assert!(!packets.is_empty(), "{family}: path {path} gave no rounds");
            for (hop, (packets, closed)) in packets.iter_mut().zip(closed).enumerate() {
                packets.delays_us.sort_by(f64::total_cmp);
                closed.delays_us.sort_by(f64::total_cmp);
                if closed.answered == 0.0 {
                    assert!(packets.answered < 1.0, "{family}: path {path} hop {hop} answers");
                    continue;
                }
                let (answers, delays) = compare(packets, closed);
                let place = format!("{family}: path {path} hop {hop}");
                let [p, c] = [&*packets, &*closed].map(|t| t.answered / t.sent);
                // Shares of a minute and moods of a quarter are the same in both; what remains is
                // chance, and that rounds of the two begin at other moments of them.
                // A limit by rate gives bursts by packets, and their mean share in closed form.
                let likely = if family == WorldFamily::Limits { 0.1 } else { 0.02 };
                assert!((p - c).abs() < likely || answers < 5.0, "{place}: {p} and {c} answered");
                // All quantiles at once.
                assert!(delays < 3.5, "{place}: delays differ by {delays}");
                seen += 1;
            }
        }
        assert!(seen > 40, "{family}: only {seen} hops to compare");
        assert!(limits > 1_000, "{family}: only {limits} hop limits of answers");
    }
}

/// Rounds of both engines of a pair through the simulation, packet by packet.
fn two_way(net: &mut Simnet, addresses: Addresses, session: &Session, until: Tick) -> Vec<TwoWay> {
    let clock = |of: IpAddr| {
        let site = net.sites().iter().find(|site| site.addresses[0] == of).unwrap();
        let unix_nanos_at_zero = 1_700_000_000_000_000_000 + site.clock_offset_us * 1_000;
        OwnClock { unix_nanos_at_zero, drift_ppb: site.clock_drift_ppb }
    };
    let [near, far] = [clock(addresses.source()), clock(addresses.destination())];
    let config = SenderConfig {
        addresses,
        ports: (PORT, PORT),
        session: session.session,
        key: session.key,
        dscp: session.dscp,
        size_bytes: session.size_bytes,
        interval: session.interval,
        packets: 10,
        regular: false,
        timeout: Micros::from_millis(1_000),
        clock: near,
        seed: 4,
    };
    let mut sender = Sender::new(config, Tick::ZERO).unwrap();
    let mut reflector = Reflector::new(PORT, far);
    reflector.set_sessions(vec![session.clone()], Tick::ZERO);
    let (mut budget, mut packet, mut rounds) = (Budget::unbounded(), Vec::new(), Vec::new());
    for _ in 0..2_000_000 {
        let deadlines = [sender.poll_deadline(), reflector.poll_deadline(), net.poll_deadline()];
        let Some(now) = deadlines.into_iter().flatten().min().filter(|now| *now <= until) else {
            return rounds;
        };
        net.advance(now);
        while let Some(delivery) = net.poll_delivery() {
            let input = Input::Datagram { stamp: delivery.at, packet: &delivery.packet };
            if delivery.to == addresses.source() {
                sender.handle(now, input);
            } else {
                reflector.handle(now, input);
            }
        }
        for engine in [&mut sender as &mut dyn DynEngine, &mut reflector] {
            engine.step(now, &mut budget, &mut packet, net);
        }
        while let Some(round) = sender.poll_event() {
            rounds.push(round);
        }
    }
    panic!("the engines do not come to rest");
}

/// What both engines of a pair have in common.
trait DynEngine {
    fn step(&mut self, now: Tick, budget: &mut Budget, packet: &mut Vec<u8>, net: &mut Simnet);
}

impl<E: Engine> DynEngine for E {
    fn step(&mut self, now: Tick, budget: &mut Budget, packet: &mut Vec<u8>, net: &mut Simnet) {
        self.handle(now, Input::Deadline);
        while let Some(token) = self.poll_transmit(now, budget, packet) {
            let outcome = match net.inject(now, packet) {
                Ok(_) => Input::Sent { token, stamp: now },
                Err(_) => Input::NotSent { token },
            };
            self.handle(now, outcome);
        }
    }
}

/// A world with a fault on the forward route only, between the first and third site.
fn faulty_on_the_way_there(pair: PairPlan) -> Scenario {
    let world = Blueprint::draw(4, WorldFamily::Plain, 4);
    let scenario = Scenario::parse(&world.scenario(&Changes::default())).unwrap();
    let calm = Sampler::try_new(&scenario, 4, &[], &[pair], PACE).unwrap();
    let [there, back] = calm.pair_ways(0, Tick::ZERO);
    let links = calm.links();
    let only_there = there.iter().find(|p| !back.contains(p)).map(|p| &links[p.link.0]).unwrap();
    let fault = FaultPlan {
        from: only_there.from,
        to: only_there.to,
        member: None,
        loss: Some(0.1),
        delay_ms: Some([20.0, 2.0]),
        spells: 1.0,
        after_s: 0.0,
    };
    let changes = Changes { faults: vec![fault], ..Changes::default() };
    Scenario::parse(&world.scenario(&changes)).unwrap()
}

/// Share lost in one direction, and the median of its rounds' medians of delay.
fn direction(all: &[OneWay]) -> (f64, i64) {
    let (lost, sent) = all.iter().fold((0.0, 0.0), |(lost, sent), one| {
        (lost + f64::from(one.lost), sent + f64::from(one.lost + one.arrived))
    });
    let delay = |one: &OneWay| one.delay.map(|d| d.min_us + i64::from(d.p50_us));
    let mut delays: Vec<i64> = all.iter().filter_map(delay).collect();
    delays.sort_unstable();
    (lost / sent, delays[delays.len() / 2])
}

#[test]
fn packets_between_sites_and_the_closed_form_agree_on_each_direction() {
    const SPAN_S: u64 = 3_000;
    let pair = PairPlan { near: 0, far: 2 };
    let scenario = faulty_on_the_way_there(pair);
    let mut sampler = Sampler::try_new(&scenario, 4, &[], &[pair], PACE).unwrap();
    let mut net = Simnet::new(&scenario, 4);
    let [near, far] = [0, 2].map(|site| net.sites()[site].addresses[0]);
    let session = Session {
        session: 9,
        key: [3; 32],
        interval: Micros::from_millis(100),
        opens_to: None,
        source: near,
        dscp: 0,
        size_bytes: 300,
    };
    let addresses = Addresses::try_new(near, far).unwrap();
    let packets = two_way(&mut net, addresses, &session, Tick::from_millis(SPAN_S * 1_000));
    assert!(packets.len() > 2_000, "{} rounds", packets.len());
    let closed = (0..SPAN_S)
        .map(|n| sampler.pair_round((0, pair), n, Tick::from_millis(n * 1_000), 10, 1))
        .map(|round| (round.forward, round.return_));
    let packets = packets.into_iter().map(|round| (round.forward, round.return_));
    let (there, back): (Vec<_>, Vec<_>) = packets.unzip();
    let (form_there, form_back): (Vec<_>, Vec<_>) = closed.unzip();
    for (route, (packets, closed)) in [(there, form_there), (back, form_back)].iter().enumerate() {
        let ((p, p_us), (c, c_us)) = (direction(packets), direction(closed));
        assert!((p - c).abs() < 0.01, "route {route}: {p} and {c} lost");
        assert!((route == 0) == (p > 0.08), "the fault is in the forward direction: {route} {p}");
        assert!(
            (p_us - c_us).abs() < 300 + p_us / 50,
            "route {route}: medians {p_us} and {c_us} us"
        );
    }
}

#[test]
fn a_fault_changes_nothing_but_what_crosses_it() {
    let world = Blueprint::draw(4, WorldFamily::Plain, 4);
    let plans: Vec<PathPlan> = (0..4)
        .flat_map(|site| {
            let flows = vec![(40_000, 33_434)];
            (0..world.targets.len()).map(move |target| PathPlan {
                site,
                target,
                flows: flows.clone(),
            })
        })
        .collect();
    let sampler = |changes: &Changes| {
        let scenario = Scenario::parse(&world.scenario(changes)).unwrap();
        Sampler::try_new(&scenario, 4, &plans, &[], PACE).unwrap()
    };
    let mut calm = sampler(&Changes::default());
    let stage = Stage::new(&small(), WorldFamily::Plain, 4);
    let all = (0..).map(|number| draw(&Stretch::of_case(&stage, number), number));
    let case = all.into_iter().find(|case| case.kind == Kind::ForwardLoss).unwrap();
    let changes = Changes { at_s: 100.0, for_s: None, ..case.changes };
    let mut faulty = sampler(&changes);
    let fault = &changes.faults[0];
    let crosses = |calm: &Sampler, path: usize, hop: usize| {
        let links = calm.links();
        let (route, _) = calm.route(path, 0, Tick::ZERO);
        let mut both = route[hop].there.iter().chain(&route[hop].return_);
        both.any(|p| (links[p.link.0].from, links[p.link.0].to) == (fault.from, fault.to))
    };
    let (mut same, mut other) = (Vec::new(), Vec::new());
    let (mut worse, mut changed) = (0, 0);
    for path in 0..plans.len() {
        for number in 0..400 {
            let at = Tick::from_millis(number * 1_000);
            calm.round(path, number, at, 1, &mut same);
            faulty.round(path, number, at, 1, &mut other);
            for (hop, (before, after)) in same.iter().zip(&other).enumerate() {
                if number < 100 || !crosses(&calm, path, hop) {
                    assert_eq!(before, after, "path {path} hop {hop} round {number}");
                } else {
                    assert_eq!(
                        before.answered & after.answered,
                        after.answered,
                        "only losses more"
                    );
                    worse += before.answers() - after.answers();
                    changed += usize::from(before != after);
                }
            }
            worse = worse.min(200);
        }
    }
    assert!(changed > 0 && worse > 0, "the fault is crossed");
}

#[test]
fn oracles_are_as_sure_as_they_are_right() {
    // Of the other families, those in which links vary by themselves and in which faults come and go.
    let families = [(WorldFamily::Plain, 3), (WorldFamily::Noise, 1), (WorldFamily::Bursts, 1)];
    let worlds =
        families.iter().flat_map(|(family, worlds)| (0..*worlds).map(|nth| (*family, nth)));
    let run = |(family, nth): (WorldFamily, u64)| {
        let cases = 40;
        let extent =
            Extent { cases, oracle_cases: cases, times: 10, calm_windows: 0, first_only: false };
        let parts = Parts { candidates: Vec::new(), world: true };
        (family, run_world(&job(family, Split::Tune.seed(nth), extent), &parts, || {}))
    };
    let records: Vec<(WorldFamily, WorldRecord)> = std::thread::scope(|scope| {
        let runs: Vec<_> = worlds.map(|world| scope.spawn(move || run(world))).collect();
        runs.into_iter().map(|run| run.join().unwrap()).collect()
    });
    let mut ranks: BTreeMap<&str, Vec<f64>> = BTreeMap::new();
    for (family, _) in families {
        let own: Vec<&WorldRecord> =
            records.iter().filter(|(known, _)| *known == family).map(|(_, it)| it).collect();
        // A share of the windows in which a fault acts is taken for the one of this case; the oracle that learns is not
        // asked there.
        let is_steady = family != WorldFamily::Bursts;
        for oracle in [ORACLE, SIZE_UNKNOWN, LEARNED] {
            if is_steady || oracle != LEARNED {
                is_as_sure_as_right(oracle, family, &own);
            }
            let cases = own.iter().flat_map(|record| &record.cases).filter(|_| is_steady);
            ranks
                .entry(oracle)
                .or_default()
                .extend(cases.filter_map(|it| it.size_ranks.get(oracle)));
        }
    }
    ranks.remove(ORACLE);
    // Simulation-based calibration: S. Talts, M. Betancourt, D. Simpson, A. Vehtari, A. Gelman, Validating Bayesian
    // inference algorithms with simulation-based calibration (2018).
    for (oracle, mut ranks) in ranks {
        ranks.sort_by(f64::total_cmp);
        let count = ranks.len() as f64;
        let apart = ranks.iter().enumerate().map(|(below, rank)| {
            let steps = [below as f64 / count, (below + 1) as f64 / count];
            steps.map(|step| (step - rank).abs()).into_iter().fold(0.0, f64::max)
        });
        let apart = apart.fold(0.0, f64::max);
        assert!(count > 50.0, "{oracle}: {count} ranks");
        let uniform = apart * count.sqrt() < 1.63;
        assert!(uniform, "{oracle}: ranks are not uniform: {apart} of {count}, {ranks:?}");
    }
}

fn is_as_sure_as_right(oracle: &str, family: WorldFamily, records: &[&WorldRecord]) {
    let cases = records.iter().flat_map(|record| &record.cases);
    let held: Vec<_> = cases.filter_map(|case| Some((case, case.verdicts.get(oracle)?))).collect();
    assert!(held.len() > 20 * records.len(), "{} cases of {family}", held.len());
    let claimed: Vec<_> = held.iter().filter(|(_, verdict)| verdict.claimed).collect();
    let expected: f64 = claimed.iter().map(|(_, verdict)| verdict.confidence).sum();
    let right = claimed.iter().filter(|(_, verdict)| verdict.link).count() as f64;
    let spread: f64 =
        claimed.iter().map(|(_, verdict)| verdict.confidence * (1.0 - verdict.confidence)).sum();
    let place = format!("{oracle}, {family}");
    assert!((right - expected).abs() < 4.0 * spread.sqrt() + 1.0, "{place}: {right} of {expected}");
    // One that has to learn what is usual may hold a fault possible where there is none, and miss a slight one: as
    // often as it says.
    if oracle == LEARNED {
        return;
    }
    for (case, verdict) in held.iter().filter(|(case, _)| case.kind == Kind::None) {
        assert!(verdict.confidence < 0.5, "{place}: {case:?}");
    }
    // What cannot be found is known before any candidate tries.
    for (case, verdict) in &held {
        let Some(nats) = case.truth.information_nats else { continue };
        assert!(nats < 40.0 || verdict.claimed, "{place}: {nats} nats, and missed: {case:?}");
    }
}

#[test]
fn worlds_add_up_in_any_order_and_a_world_is_the_same_again() {
    let extent = Extent { cases: 2, oracle_cases: 1, times: 2, calm_windows: 6, first_only: false };
    let of = |seed, parts: &Parts| run_world(&job(WorldFamily::Plain, seed, extent), parts, || {});
    let world = |seed| of(seed, &Parts::all());
    let [a, b] = [world(4), world(5)];
    assert_eq!(a, world(4));
    // A world and a candidate that were run apart are the same together.
    let mut apart = of(4, &Parts { world: true, candidates: vec!["naive".to_owned()] });
    let mut rule = of(4, &Parts { world: false, candidates: vec!["per-path".to_owned()] });
    let part = rule.take("per-path").unwrap();
    assert!(!b.clone().put(part.clone()) && apart.put(part));
    assert_eq!(apart, a);
    assert!(apart.take("naive").is_some() && apart.take("naive").is_none());
    let added = report(&[a.clone(), b.clone()]);
    assert_eq!(added, report(&[b, a.clone(), a]));
    let text = table(&added);
    assert!(text.contains("per-path") && text.contains("phantoms per 1,000 path-days"), "{text}");
    assert_eq!(added.parts[0].seeds, [4, 5]);
    assert_eq!(added.parts[0].cases, 4);
}

#[test]
fn a_case_is_described_drawn_and_printed_as_its_world() {
    let stage = Stage::new(&small(), WorldFamily::Plain, 4);
    let drawn = |number| draw(&Stretch::of_case(&stage, number), number);
    let number = (0..).find(|number| drawn(*number).kind == Kind::ForwardDelay).unwrap();
    let told = explain(&small(), WorldFamily::Plain, 4, number);
    let stretch = Stretch::of_case(&stage, number);
    let case = draw(&stretch, number);
    assert_eq!(told.record, Warm::new(&stretch).play(&case, |_| {}));
    let Effect::DelayMs(ms) = told.record.effect else { panic!("a delay: {:?}", told.record) };
    let [from, to] = &told.record.truth.links[0];
    assert_ne!(told.record.truth.crossed_by, [Traffic::Back], "{:?}", told.record.truth);
    let [loss, delay_ms] = told.record.truth.background[0];
    assert!(loss < 0.05 && delay_ms > 0.1, "{:?}", told.record.truth);
    for words in
        [format!("Truth     {from} to {to}"), format!("{ms:.0} ms added"), "oracle".to_owned()]
    {
        assert!(told.text.contains(&words), "{words}: {}", told.text);
    }
    assert!(told.svg.starts_with("<svg") && told.svg.ends_with("</svg>\n"));
    assert!(told.svg.contains("the fault") && !told.svg.contains("NaN"), "{}", told.svg);
    // Who opens the world in the ordinary simulation finds the same truth.
    let opened = Simnet::new(&Scenario::parse(&told.scenario).unwrap(), 4);
    assert_eq!(opened.truth().len(), 1);
    let begins_s = opened.truth()[0].begins.as_nanos() as f64 / 1e9;
    assert!((begins_s - told.record.truth.begins_s).abs() < 1e-3);
}

#[test]
fn suites_keep_to_their_splits_and_to_their_size() {
    for split in [Split::Tune, Split::Calibrate, Split::Test] {
        for suite in [Suite::Quick, Suite::Full, Suite::Sweep] {
            assert!(suite.jobs(split).iter().all(|job| Split::of(job.seed) == split));
        }
    }
    let full = Suite::Full.jobs(Split::Test);
    let plain = |name: &str| {
        full.iter().filter(|job| job.setup.name == name && job.family == WorldFamily::Plain).count()
    };
    assert!(plain("A") >= 100 && plain("B") >= 100);
    assert!(WorldFamily::ALL.iter().all(|family| full.iter().any(|job| job.family == *family)));
    assert!(full.iter().all(|job| job.extent.cases >= 40));
}
