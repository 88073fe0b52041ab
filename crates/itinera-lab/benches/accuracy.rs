//! What the accuracy bench costs: drawing a round, and each candidate beside it, by number of paths.
//! `cargo bench --package itinera-lab --bench accuracy`; `-- --smoke` is a short form for tests.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::cast_precision_loss,
    clippy::disallowed_types,
    clippy::disallowed_methods,
    reason = "a bench measures time and memory, and prints"
)]

use itinera_lab::accuracy::{Job, Meter, Setup, Suite, costs, roster};
use itinera_simnet::worlds::{Split, WorldFamily};
use std::time::Instant;

/// Cores that the full suite is to run on.
const CORES: f64 = 2.0;

/// Memory of this process that is resident, in bytes.
fn resident() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1_024.0
}

fn job(agents: usize, per_target: usize) -> Job {
    let extent = Suite::Quick.jobs(Split::Tune)[0].extent;
    let setup = Setup { agents, per_target, ..Setup::a() };
    Job { setup, family: WorldFamily::Plain, seed: 0, extent }
}

fn main() {
    let short = std::env::args().any(|word| word == "--smoke");
    let windows = if short { 3 } else { 90 };
    let sizes: &[(usize, usize)] =
        if short { &[(4, 1)] } else { &[(16, 1), (64, 1), (200, 1), (200, 7)] };
    let begun = Instant::now();
    let now = move || begun.elapsed().as_secs_f64();
    println!("paths   candidate   us a round   to drawing   kB a path");
    let names: Vec<String> = roster().into_iter().map(|(name, _)| name.to_owned()).collect();
    let mut first = None;
    for (agents, per_target) in sizes {
        let job = job(*agents, *per_target);
        let meter = Meter { now: &now, resident: &resident };
        for cost in costs(&job, windows, &names, meter) {
            let name = cost.candidate.as_deref().unwrap_or("(drawing)");
            let held = cost.kb_per_path.map_or_else(|| "-".to_owned(), |kb| format!("{kb:.1}"));
            println!(
                "{:<8}{name:<12}{:>10.2}{:>13.2}{held:>12}",
                cost.paths, cost.us_per_round, cost.to_drawing
            );
            first.get_or_insert(cost.us_per_round);
            assert!(cost.us_per_round > 0.0, "{name} takes some time");
        }
    }
    let rounds = full_rounds();
    let hours = rounds * first.unwrap_or_default() / 1e6 / 3_600.0 / CORES;
    println!(
        "\nthe full suite draws {:.0} million rounds: {hours:.2} hours on two cores",
        rounds / 1e6
    );
}

/// Rounds of the full suite: of histories and of calm and fault cases, by the paths of each setup.
fn full_rounds() -> f64 {
    let of = |job: &Job| {
        let windows = job.extent.calm_windows + job.extent.cases * 65 + job.extent.times * 110;
        // Worlds have 12.5 targets on average.
        windows as f64 * job.setup.agents as f64 * 12.5 * f64::from(job.setup.rounds_per_window)
    };
    Suite::Full.jobs(Split::Test).iter().map(of).sum()
}
