//! The candidates that watch a world, each with the extra rounds that it asks for.

use super::memory::Memory;
use super::stretch::Stretch;
use super::window::{Drawn, Window};
use itinera_candidates::{Archive, Candidate, Claim};
use itinera_simnet::closed_form::Sampler;
use std::sync::Arc;

/// Extra rounds have numbers from here on.
const EXTRA: u64 = 1 << 32;

/// A candidate that watches.
struct Actor {
    candidate: Box<dyn Candidate>,
    /// The paths that it wants another round of in the next window.
    asked: Vec<usize>,
    /// Extra rounds that it was given.
    given: u64,
}

/// Candidates that watch the same windows.
pub(super) struct Cast(Vec<Actor>);

/// What a candidate says after a window.
#[derive(Debug, Clone, Default)]
pub(super) struct Said {
    /// What stands.
    pub(super) claims: Vec<Claim>,
    /// Extra rounds that it was given in the window.
    pub(super) extra_rounds: u64,
}

impl Cast {
    /// Candidates that are told of the weeks before.
    pub(super) fn new(candidates: Vec<Box<dyn Candidate>>, archive: &Arc<dyn Archive>) -> Self {
        let actor = |mut candidate: Box<dyn Candidate>| {
            candidate.begin(archive);
            Actor { candidate, asked: Vec::new(), given: 0 }
        };
        Self(candidates.into_iter().map(actor).collect())
    }

    pub(super) const fn len(&self) -> usize {
        self.0.len()
    }

    pub(super) fn candidates(&self) -> impl Iterator<Item = &dyn Candidate> {
        self.0.iter().map(|actor| actor.candidate.as_ref())
    }

    /// The same candidates with the same memory, to go on by themselves.
    pub(super) fn fork(&self) -> Self {
        let fork = |it: &Actor| Actor {
            candidate: it.candidate.fork(),
            asked: it.asked.clone(),
            given: it.given,
        };
        Self(self.0.iter().map(fork).collect())
    }

    /// Shows a window to those that watch it, to each with what it asked for; gives what each says. `series` tells
    /// runs at one time apart.
    pub(super) fn watch(
        &mut self,
        stretch: &Stretch<'_>,
        memory: &mut Memory,
        sampler: &mut Sampler,
        (window, series, drawn): (u64, u64, &Window),
        watches: impl Fn(&dyn Candidate) -> bool,
    ) -> Vec<Option<Said>> {
        let mut said: Vec<Option<Said>> = stretch.show(memory, sampler, window, drawn, |shown| {
            let all = self.0.iter_mut().map(|actor| {
                let is_shown = actor.asked.is_empty() && watches(actor.candidate.as_ref());
                is_shown.then(|| Said { claims: actor.candidate.regard(shown), extra_rounds: 0 })
            });
            all.collect()
        });
        for (actor, said) in self.0.iter_mut().zip(&mut said) {
            if !watches(actor.candidate.as_ref()) {
                continue;
            }
            let asked = std::mem::take(&mut actor.asked);
            if !asked.is_empty() {
                let (more, extra_rounds) =
                    with_extra(stretch, sampler, (window, series, drawn), (&asked, actor.given));
                actor.given += extra_rounds;
                // What it learns of routes by extra rounds, others do not know.
                let claims = stretch.show(&mut memory.clone(), sampler, window, &more, |shown| {
                    actor.candidate.regard(shown)
                });
                *said = Some(Said { claims, extra_rounds });
            }
            let most = stretch.stage.setup.extra_rounds(stretch.stage.paths.len());
            if most > 0 {
                actor.asked = actor.candidate.ask(most);
                actor.asked.retain(|path| *path < stretch.stage.paths.len());
                actor.asked.truncate(most);
            }
        }
        said
    }
}

/// A window with extra rounds, and how many these are: agents that are away give none.
fn with_extra(
    stretch: &Stretch<'_>,
    sampler: &mut Sampler,
    (window, series, drawn): (u64, u64, &Window),
    (asked, given): (&[usize], u64),
) -> (Window, u64) {
    let mut more = drawn.clone();
    for (nth, path) in asked.iter().enumerate() {
        let Some(at) = stretch.extra_at(*path, window, (nth, asked.len())) else { continue };
        let number = EXTRA + given + nth as u64;
        let mut round = Drawn { path: *path, number, at, hops: Vec::new() };
        sampler.round(*path, number, at, series, &mut round.hops);
        more.rounds.push(round);
    }
    let extra = (more.rounds.len() - drawn.rounds.len()) as u64;
    more.rounds.sort_by_key(|round| (round.path, round.at));
    (more, extra)
}

#[cfg(test)]
mod tests {
    use super::super::setup::Setup;
    use super::super::stage::Stage;
    use super::super::window::Window;
    use super::*;
    use itinera_candidates::WindowInput;
    use itinera_simnet::worlds::WorldFamily;

    /// Claims nothing; asks for rounds of a path, and counts what it is shown of it.
    #[derive(Debug, Clone, Default)]
    struct Curious {
        asks: Vec<usize>,
        name: &'static str,
    }

    impl Candidate for Curious {
        fn name(&self) -> &'static str {
            self.name
        }

        fn version(&self) -> u32 {
            1
        }

        fn regard(&mut self, shown: &WindowInput<'_>) -> Vec<Claim> {
            assert_eq!(shown.rounds.len(), shown.hop_limits.len());
            let in_order = shown
                .rounds
                .windows(2)
                .all(|two| two[0].path != two[1].path || two[0].measured_at <= two[1].measured_at);
            assert!(in_order, "by time");
            let is_extra = |round: &&itinera_analysis::Observation<'_>| round.number >= EXTRA;
            let extra = shown.rounds.iter().filter(is_extra).count();
            // What it was shown, said as so many claims.
            vec![claim(); extra]
        }

        fn ask(&mut self, most: usize) -> Vec<usize> {
            assert_eq!(most, 8, "a quarter of the paths");
            self.asks.clone()
        }

        fn fork(&self) -> Box<dyn Candidate> {
            Box::new(self.clone())
        }
    }

    fn claim() -> Claim {
        let cause = itinera_model::finding::Cause::Loss;
        Claim { cause, places: Vec::new(), direction: None, owner: None, size: None }
    }

    #[test]
    fn extra_rounds_are_run_within_the_budget_for_the_one_that_asks() {
        let setup = Setup { agents: 4, peers: 2, follow_up_percent: 25, ..Setup::a() };
        let seeds = (0..).map(|seed| Stage::new(&setup, WorldFamily::Plain, seed));
        let stage = seeds.into_iter().find(|stage| (32..36).contains(&stage.paths.len())).unwrap();
        let stretches = (0..).map(|number| Stretch::new(&stage, number));
        let present = |it: &Stretch<'_>| it.extra_at(0, 0, (0, 1)).is_some();
        let stretch = stretches.into_iter().find(present).unwrap();
        let curious = |name, asks: Vec<usize>| Box::new(Curious { asks, name }) as _;
        let all: Vec<Box<dyn Candidate>> = vec![
            curious("modest", vec![0, 0]),
            curious("silent", Vec::new()),
            curious("greedy", vec![0; 100]),
            curious("lost", vec![100_000]),
        ];
        let mut cast = Cast::new(all, &super::super::archive::before(&stretch));
        let mut memory = Memory::new(&stage);
        let mut sampler = stretch.calm.clone();
        let mut drawn = Window::default();
        let mut window = |window| {
            stretch.window(&mut sampler, window, 0, &mut drawn);
            let now = (window, 0, &drawn);
            let said = cast.watch(&stretch, &mut memory, &mut sampler, now, |_| true);
            let said: Vec<Said> = said.into_iter().map(Option::unwrap).collect();
            let seen = said.iter().map(|said| said.claims.len()).collect::<Vec<_>>();
            let given = said.iter().map(|said| said.extra_rounds).collect::<Vec<_>>();
            (seen, given)
        };
        assert_eq!(window(0), (vec![0; 4], vec![0; 4]), "nothing was asked before");
        assert_eq!(window(1), (vec![2, 0, 8, 0], vec![2, 0, 8, 0]));
        assert_eq!(window(2), (vec![2, 0, 8, 0], vec![2, 0, 8, 0]));
    }
}
