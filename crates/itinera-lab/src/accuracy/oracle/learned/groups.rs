//! What is observed together: signals that share one hidden level.

use super::super::chain::{Likely, Moves, Told, pass};
use crate::accuracy::atlas::Signal;
use crate::accuracy::stretch::Stretch;
use itinera_model::unit::Tick;
use std::collections::BTreeMap;

/// Faults are crossed twice at most.
const MOST_CROSSED: u8 = 2;

/// Signals that share a level.
#[derive(Debug, Clone)]
pub(super) struct Group<const K: usize> {
    /// What the level is held to be, as probabilities.
    pub(super) level: [f64; K],
    pub(super) moves: Moves<K>,
    /// Ways in which faults cross it: how often, by signal, and the suspects that do.
    pub(super) patterns: Vec<(Vec<u8>, Vec<usize>)>,
    signals: usize,
}

impl<const K: usize> Group<K> {
    pub(super) const fn new(level: [f64; K], moves: Moves<K>) -> Self {
        Self { level, moves, patterns: Vec::new(), signals: 0 }
    }

    /// Follows the level through windows. After this, jumps lead half of the time to where it has been.
    pub(super) fn learn(&mut self, windows: impl Iterator<Item = Told<K>>) {
        let mut seen = [0.0; K];
        for told in windows {
            pass(&mut self.level, &self.moves, &told);
            seen.iter_mut().zip(self.level).for_each(|(seen, it)| *seen += it);
        }
        let whole: f64 = seen.iter().sum();
        if whole > 0.0 {
            let target = self.moves.target.iter_mut().zip(seen);
            target.for_each(|(target, seen)| *target = f64::midpoint(*target, seen / whole));
        }
    }
}

/// All groups.
#[derive(Debug, Clone, Default)]
pub(super) struct Grouping<const K: usize> {
    pub(super) groups: Vec<Group<K>>,
    /// By signal: its group, and its place in it.
    of: BTreeMap<Signal, (usize, usize)>,
}

/// What tells groups apart: a router, perhaps towards one site alone; the target of a path; a direction of a pair.
type Key = (u8, usize, usize);

impl<const K: usize> Grouping<K> {
    /// Puts together what one router answers, to all sites or to each by itself, and leaves all else apart. `group`
    /// makes one, of a router or not.
    pub(super) fn new(
        stretch: &Stretch<'_>,
        by_site: bool,
        group: impl Fn(bool) -> Group<K>,
    ) -> Self {
        let stage = stretch.stage;
        let mut all = Self { groups: Vec::new(), of: BTreeMap::new() };
        let mut numbers: BTreeMap<Key, usize> = BTreeMap::new();
        // By group and suspect: how often it crosses each signal.
        let mut times: Vec<BTreeMap<usize, Vec<u8>>> = Vec::new();
        for (signal, crossed) in &stage.atlas.crossings {
            let key = match *signal {
                Signal::Hop(path, flow, hop) => {
                    let (route, _) = stretch.calm.route(path, flow as u64, Tick::ZERO);
                    // What never answers tells nothing.
                    if route[hop].address.is_none() {
                        continue;
                    }
                    match (hop + 1 < route.len(), by_site) {
                        (false, _) => (0, path, 0),
                        (true, true) => (1, route[hop].node, stage.paths[path].site),
                        (true, false) => (1, route[hop].node, 0),
                    }
                }
                Signal::Pair(pair, route) => (2, pair, route),
            };
            let number = *numbers.entry(key).or_insert_with(|| {
                all.groups.push(group(key.0 == 1));
                times.push(BTreeMap::new());
                all.groups.len() - 1
            });
            let own = &mut all.groups[number];
            let nth = own.signals;
            own.signals += 1;
            all.of.insert(*signal, (number, nth));
            for (suspect, count) in crossed {
                let of = times[number].entry(*suspect).or_default();
                of.resize(nth, 0);
                of.push((*count).min(MOST_CROSSED));
            }
        }
        for (group, times) in all.groups.iter_mut().zip(times) {
            let mut same: BTreeMap<Vec<u8>, Vec<usize>> = BTreeMap::new();
            for (suspect, mut times) in times {
                times.resize(group.signals, 0);
                same.entry(times).or_default().push(suspect);
            }
            group.patterns = same.into_iter().collect();
        }
        all
    }

    /// What each group gave, window by window: `of` makes it, with its place in the group.
    pub(super) fn sorted<T, G: Clone>(
        &self,
        windows: &[Vec<T>],
        signal: impl Fn(&T) -> Signal,
        of: impl Fn(&T, usize) -> Option<G>,
    ) -> Vec<Vec<Vec<G>>> {
        let mut all = vec![vec![Vec::new(); windows.len()]; self.groups.len()];
        for (window, told) in windows.iter().enumerate() {
            for told in told {
                let Some((group, nth)) = self.of.get(&signal(told)) else { continue };
                all[*group][window].extend(of(told, *nth));
            }
        }
        all
    }
}

/// The likelihood of everything that was observed by itself.
pub(super) fn together<const K: usize>(each: impl Iterator<Item = Likely<K>>) -> Told<K> {
    each.reduce(Likely::and)
}
