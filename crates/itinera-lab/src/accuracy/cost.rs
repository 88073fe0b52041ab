//! What drawing a world costs, and what a candidate costs beside it.

use super::job::Job;
use super::memory::Memory;
use super::window::Window;
use super::{Stage, Stretch};
use itinera_candidates::Candidate;
use serde::{Deserialize, Serialize};

/// What drawing rounds, or a candidate, costs on this machine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Cost {
    /// The candidate; absent for drawing.
    pub candidate: Option<String>,
    /// Paths of the world.
    pub paths: usize,
    /// Microseconds of one core for a round of a path.
    pub us_per_round: f64,
    /// The same as a multiple of drawing the round.
    pub to_drawing: f64,
    /// Memory that it holds at the end, in kilobytes for each path; absent for drawing.
    pub kb_per_path: Option<f64>,
}

/// What measures time and memory.
#[derive(Debug, Clone, Copy)]
pub struct Meter<'a, C, M> {
    /// Seconds of a clock.
    pub now: &'a C,
    /// Bytes of memory that the process holds.
    pub resident: &'a M,
}

/// What was spent on windows without faults.
struct Spent {
    paths: usize,
    rounds: u64,
    drawing_s: f64,
    candidate_s: f64,
    /// With its memory.
    candidate: Option<Box<dyn Candidate>>,
}

/// Draws so many windows of a job's world by itself, and for each candidate.
pub fn costs<C: Fn() -> f64, M: Fn() -> f64>(
    job: &Job,
    windows: u64,
    candidates: &[String],
    meter: Meter<'_, C, M>,
) -> Vec<Cost> {
    let drawn = spend(job, windows, None, meter.now);
    let rounds = drawn.rounds.max(1) as f64;
    let drawing_us = drawn.drawing_s * 1e6 / rounds;
    let mut all = vec![Cost {
        candidate: None,
        paths: drawn.paths,
        us_per_round: drawing_us,
        to_drawing: 1.0,
        kb_per_path: None,
    }];
    for name in candidates {
        let before = (meter.resident)();
        let spent = spend(job, windows, Some(name), meter.now);
        let held = ((meter.resident)() - before).max(0.0) / 1e3 / spent.paths.max(1) as f64;
        let us_per_round = spent.candidate_s * 1e6 / rounds;
        all.push(Cost {
            candidate: spent.candidate.map(|it| it.name().to_owned()),
            paths: spent.paths,
            us_per_round,
            to_drawing: us_per_round / drawing_us,
            kb_per_path: Some(held),
        });
    }
    all
}

/// Draws so many windows of a job's world and shows them to a candidate.
fn spend(job: &Job, windows: u64, candidate: Option<&str>, now: &impl Fn() -> f64) -> Spent {
    let stage = Stage::new(&job.setup, job.family, job.seed);
    let stretch = Stretch::new(&stage, 0);
    let all = itinera_candidates::all(&stage.topology).into_iter();
    let mut chosen = all.into_iter().find(|it| Some(it.name()) == candidate);
    let mut sampler = stretch.calm.clone();
    let mut memory = Memory::new(&stage);
    let mut drawn = Window::default();
    let (mut rounds, mut drawing_s, mut candidate_s) = (0, 0.0, 0.0);
    for window in 0..windows {
        let begun = now();
        stretch.window(&mut sampler, window, 0, &mut drawn);
        rounds += drawn.rounds.len() as u64;
        let shown_at = stretch.show(&mut memory, &sampler, window, &drawn, |shown| {
            let shown_at = now();
            if let Some(candidate) = &mut chosen {
                candidate.regard(shown);
            }
            shown_at
        });
        drawing_s += shown_at - begun;
        candidate_s += now() - shown_at;
    }
    Spent { paths: stage.paths.len(), rounds, drawing_s, candidate_s, candidate: chosen }
}
