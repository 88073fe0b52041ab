//! How likely delays are, by the hidden share of answers that are slow.

use super::super::chain::{Likely, Moves, Told};
use super::super::evidence::Reader;
use super::super::laws::{CROSSED, delayed, slower};
use super::groups::{Group, together};
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

/// Shares of answers that are slow.
const SHARES: [f64; 6] = [0.002, 0.1, 0.2, 0.35, 0.5, 0.7];
pub(super) const LEVELS: usize = SHARES.len();
/// Share of routers that answer late by habit.
const ARE_SLOW: f64 = 0.13;
/// Means of slow answers, in milliseconds: they are drawn between 3 and 100.
const MEANS_MS: [f64; 5] = [3.5, 8.0, 18.0, 40.0, 85.0];
/// Routers take up or leave their habits in 5 to 30 minutes.
const JUMPS: f64 = 0.003;
/// No probability of a bin of delays is less.
const FLOOR: f64 = 1e-6;

/// Delays of one signal in a window.
#[derive(Debug, Clone)]
pub(super) struct Given {
    /// Its place in its group.
    pub(super) signal: usize,
    pub(super) bins: Vec<usize>,
    pub(super) law: usize,
}

/// Signals that share a level of slow answers, of a router or not.
pub(super) fn group(is_router: bool) -> Group<LEVELS> {
    let slow = if is_router { ARE_SLOW } else { 1e-4 };
    let level =
        std::array::from_fn(|k| if k == 0 { 1.0 - slow } else { slow / (LEVELS - 1) as f64 });
    let jump = if is_router { JUMPS } else { JUMPS / 10.0 };
    Group::new(level, Moves { steps: [0.0; LEVELS], jump, target: level })
}

/// Masses of usual and of slow delays, by bin.
type Masses = [Vec<f64>; 2];

/// Laws of delays that were needed.
#[derive(Debug, Clone, Default)]
pub(super) struct Shapes {
    /// By law and milliseconds added, from and to (bits).
    known: BTreeMap<(usize, [u64; 2]), Rc<[Masses; CROSSED + 1]>>,
    /// Milliseconds that are asked for in each case.
    again: BTreeSet<[u64; 2]>,
}

impl Shapes {
    fn of(&mut self, reader: &mut Reader<'_>, law: usize, ms: [f64; 2]) -> Rc<[Masses; 3]> {
        let key = (law, ms.map(f64::to_bits));
        if let Some(known) = self.known.get(&key) {
            return Rc::clone(known);
        }
        let usual = reader.masses(law).to_vec();
        let slow = slower(&usual, &MEANS_MS);
        let made = if ms[1] > 0.0 {
            let [once, twice] = delayed(&usual, ms);
            let [slow_once, slow_twice] = delayed(&slow, ms);
            [[usual, slow], [once, slow_once], [twice, slow_twice]]
        } else {
            [0; 3].map(|_| [usual.clone(), slow.clone()])
        };
        let made = Rc::new(made);
        self.known.insert(key, Rc::clone(&made));
        made
    }

    /// Keeps what is asked for these milliseconds.
    pub(super) fn keep(&mut self, ms: [f64; 2]) {
        self.again.insert(ms.map(f64::to_bits));
    }

    /// Forgets what is asked for once.
    pub(super) fn forget(&mut self) {
        let again = &self.again;
        self.known.retain(|(_, ms), _| again.contains(ms));
    }
}

fn likely([usual, slow]: &Masses, bins: &[usize]) -> [f64; LEVELS] {
    let mut likely = [1.0; LEVELS];
    for bin in bins {
        let (usual, slow) = (usual[*bin] + FLOOR, slow[*bin] + FLOOR);
        for (likely, share) in likely.iter_mut().zip(SHARES) {
            *likely *= (1.0 - share) * usual + share * slow;
        }
    }
    likely
}

/// How likely the delays of a window are where so many milliseconds are added to what crosses a fault.
pub(super) fn with_fault(
    given: &[Given],
    ms: [f64; 2],
    times: impl Fn(&Given) -> usize,
    (shapes, reader): (&mut Shapes, &mut Reader<'_>),
) -> Told<LEVELS> {
    together(given.iter().filter(|given| !given.bins.is_empty()).map(|given| {
        let laws = shapes.of(reader, given.law, ms);
        Likely::new(likely(&laws[times(given)], &given.bins))
    }))
}
