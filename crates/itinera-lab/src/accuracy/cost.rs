//! What drawing a world costs, and what a candidate costs beside it.

use super::job::Job;
use super::memory::Memory;
use super::window::Window;
use super::{Stage, Stretch};
use itinera_candidates::Candidate;

/// What was spent on windows without faults.
pub struct Spent {
    /// Paths of the world.
    pub paths: usize,
    /// Rounds that were drawn.
    pub rounds: u64,
    /// Seconds spent on drawing them, and on what agents remember.
    pub drawing_s: f64,
    /// Seconds spent by the candidate.
    pub candidate_s: f64,
    /// The candidate with its memory; absent where none was asked for.
    pub candidate: Option<Box<dyn Candidate>>,
}

impl std::fmt::Debug for Spent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Spent").field("rounds", &self.rounds).finish_non_exhaustive()
    }
}

/// Draws so many windows of a job's world and shows them to a candidate, by the seconds of a clock.
pub fn spend(job: &Job, windows: u64, candidate: Option<&str>, now: impl Fn() -> f64) -> Spent {
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
