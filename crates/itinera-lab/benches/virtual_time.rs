//! How fast the engines run when no clock holds them: the prober with the simulation, and
//! judgement of what they give. `cargo bench --package itinera-lab`.
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
use std::time::Instant;

const WORLD: &str = include_str!("../../../demo/world.toml");
const VIRTUAL_S: u64 = 3_600;

fn main() {
    let scenario = Scenario::parse(WORLD).unwrap();
    let begun = Instant::now();
    let lab = run(&scenario, 1, &Density::default(), Tick::from_millis(VIRTUAL_S * 1_000));
    let probing = begun.elapsed().as_secs_f64();
    let probes: u64 =
        lab.rounds.iter().flat_map(|lab| &lab.round.hops).map(|hop| u64::from(hop.sent)).sum();
    let begun = Instant::now();
    let (_, effects) = lab.judge(Limits::default());
    let judging = begun.elapsed().as_secs_f64();
    let rounds = lab.rounds.len() as f64;
    println!("{} paths for {VIRTUAL_S} virtual seconds", lab.paths.len());
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
    println!("virtual over real time {:>10.0}", VIRTUAL_S as f64 / (probing + judging));
    println!("judgement per probing  {:>10.2}", judging / probing);
}
