//! How fast the engines run when no clock holds them: the prober with the simulation, and
//! judgement of what they give. `cargo bench --package itinera-lab`;
//! `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    clippy::disallowed_types,
    reason = "a bench measures with the real clock and prints"
)]

use itinera_analysis::Limits;
use itinera_lab::{Density, run};
use itinera_model::unit::Tick;
use itinera_simnet::Scenario;
use itinera_simnet::closed_form::{Pace, PathPlan, Sampler};
use itinera_simnet::worlds::{Blueprint, Changes, WorldFamily};
use std::time::Instant;

const WORLD: &str = include_str!("../../../demo/world.toml");
const VIRTUAL_S: u64 = 3_600;
const VIRTUAL_ROUNDS: u64 = 2_000;

fn main() {
    let short = std::env::args().any(|word| word == "--smoke");
    let (virtual_s, virtual_rounds) = if short { (60, 5) } else { (VIRTUAL_S, VIRTUAL_ROUNDS) };
    let scenario = Scenario::parse(WORLD).unwrap();
    let begun = Instant::now();
    let lab = run(&scenario, 1, &Density::default(), Tick::from_millis(virtual_s * 1_000));
    let probing = begun.elapsed().as_secs_f64();
    let probes: u64 =
        lab.rounds.iter().flat_map(|lab| &lab.round.hops).map(|hop| u64::from(hop.sent)).sum();
    let begun = Instant::now();
    let (_, effects) = lab.judge(Limits::default());
    let judging = begun.elapsed().as_secs_f64();
    let rounds = lab.rounds.len() as f64;
    println!("{} paths for {virtual_s} virtual seconds", lab.paths.len());
    println!(
        "prober and simulation  {:>10.0} rounds/s  {:>10.0} probes/s",
        rounds / probing,
        probes as f64 / probing
    );
    println!(
        "judgement              {:>10.0} rounds/s  {:>10} effects",
        rounds / judging,
        effects.len()
    );
    println!("virtual over real time {:>10.0}", virtual_s as f64 / (probing + judging));
    println!("judgement per probing  {:>10.2}", judging / probing);
    for probes in [2, 10] {
        closed_form(probes, virtual_rounds, rounds / probing);
    }
}

/// Rounds in closed form on one core, against packets of the prober.
fn closed_form(probes: u8, rounds: u64, by_packets: f64) {
    let world = Blueprint::draw(4, WorldFamily::Plain, 16);
    let scenario = Scenario::parse(&world.scenario(&Changes::default())).unwrap();
    let targets = world.targets.len();
    let plans: Vec<PathPlan> = (0..16 * targets)
        .map(|path| PathPlan {
            site: path / targets,
            target: path % targets,
            flows: vec![(40_000, 33_434)],
        })
        .collect();
    let pace = Pace { probes, interval_nanos: 10_000_000_000 };
    let mut sampler = Sampler::try_new(&scenario, 4, &plans, &[], pace).unwrap();
    let mut hops = Vec::new();
    let (mut drawn, mut answers) = (0u32, 0u64);
    let begun = Instant::now();
    for number in 0..rounds {
        for path in 0..plans.len() {
            let at = Tick::from_millis(number * 10_000 + path as u64);
            sampler.round(path, number, at, 0, &mut hops);
            answers += hops.iter().map(|hop| u64::from(hop.answers())).sum::<u64>();
            drawn += 1;
        }
    }
    let per_s = f64::from(drawn) / begun.elapsed().as_secs_f64();
    let probes_a_round = answers as f64 / f64::from(drawn);
    println!(
        "closed form, {probes:>2} probes {per_s:>10.0} rounds/s  {probes_a_round:>10.0} answers a round  \
         {:>6.1} of the packets' rounds/s",
        per_s / by_packets
    );
}
