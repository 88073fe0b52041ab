//! The suites: worlds, extent and candidates.

use super::job::{Extent, Job};
use super::setup::Setup;
use itinera_simnet::worlds::{Split, WorldFamily};

/// A set of worlds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Suite {
    /// Enough to find the better candidate, in minutes.
    Quick,
    /// What a change of judgement does to every score, in less than an hour.
    Daily,
    /// What is published: hundreds of worlds.
    Full,
    /// What more agents, peers, probes and rounds would buy.
    Sweep,
}

const QUICK: Extent =
    Extent { cases: 10, oracle_cases: 4, times: 4, calm_windows: 60, first_only: true };
/// Three quarters of a day without faults in each world: over 30,000 path-days in all.
const DAILY: Extent =
    Extent { cases: 20, oracle_cases: 10, times: 10, calm_windows: 600, first_only: false };
const FULL: Extent =
    Extent { cases: 40, oracle_cases: 10, times: 10, calm_windows: 6_480, first_only: false };
const SWEEP: Extent =
    Extent { cases: 24, oracle_cases: 12, times: 6, calm_windows: 90, first_only: false };

impl Suite {
    /// The worlds of the suite, those of a split, in an order in which every part of it is early
    /// a fair sample.
    pub fn jobs(self, split: Split) -> Vec<Job> {
        let job = |setup: &Setup, family, nth, extent| Job {
            setup: setup.clone(),
            family,
            seed: split.seed(nth),
            extent,
        };
        let both = [Setup::a(), Setup::b()];
        match self {
            Self::Quick => {
                (0..5).map(|nth| job(&Setup::a(), WorldFamily::Plain, nth, QUICK)).collect()
            }
            Self::Daily => {
                let plain = (0..12).map(|nth| job(&Setup::a(), WorldFamily::Plain, nth, DAILY));
                let combined =
                    (0..4).map(|nth| job(&Setup::a(), WorldFamily::Combined, nth, DAILY));
                plain.chain(combined).collect()
            }
            Self::Full => {
                let plain = (0..100).flat_map(|nth| {
                    both.iter().map(move |setup| job(setup, WorldFamily::Plain, nth, FULL))
                });
                let strange = (0..20).flat_map(|nth| {
                    let families =
                        WorldFamily::ALL.into_iter().filter(|f| *f != WorldFamily::Plain);
                    families.map(move |family| {
                        let extent = Extent { calm_windows: 360, ..FULL };
                        job(&Setup::a(), family, nth, extent)
                    })
                });
                plain.chain(strange).collect()
            }
            Self::Sweep => {
                let setups = Setup::sweep();
                let all = (0..20).flat_map(|nth| {
                    setups.iter().map(move |setup| job(setup, WorldFamily::Plain, nth, SWEEP))
                });
                all.collect()
            }
        }
    }
}
