//! The oracle that also learns what is usual: how much each hop and each direction of a pair loses, which routers leave
//! probes unanswered or answer late, and the least delay of each. It sees the same history as candidates. It knows
//! routing, the laws of noise, and how queues fill by themselves.
//!
//! What is lost without a fault is a hidden level: it stays, moves to its neighbours, or jumps where a router takes
//! up or leaves its habits. So is the share of answers that are slow. What a router leaves unanswered has one level
//! towards all sites. It makes nothing of the weeks before. Where the loss of links comes and goes in hard
//! spells, which many hops share, it would be too sure; it is not asked there.

mod delays;
mod groups;
mod losses;

use super::chain::{Course, Likely, Told as Likelihoods};
use super::evidence::Reader;
use super::laws::{Tested, bin_of};
use super::told::Told;
use super::weighing::{ByItself, Held, Likelihood, weigh};
use crate::accuracy::atlas::Signal;
use crate::accuracy::stretch::Stretch;
use crate::accuracy::window::Window;
use delays::Shapes;
use groups::{Group, Grouping};
use itinera_analysis::stat::ln_sum_exp;
use itinera_simnet::worlds::WorldFamily;
use losses::Table;
use std::cell::RefCell;
use std::collections::BTreeMap;

/// Losses of links that change by themselves, with their odds on each link: one link of twenty-five loses up to 1 % as
/// its queue fills, and twice that on a day of much load. As fine as data tell sizes apart.
const BY_ITSELF: [ByItself; 12] = [
    (Tested::Loss(0.001), 1.6e-3),
    (Tested::Loss(0.001_3), 1.6e-3),
    (Tested::Loss(0.001_7), 1.6e-3),
    (Tested::Loss(0.002_2), 1.6e-3),
    (Tested::Loss(0.002_9), 1.6e-3),
    (Tested::Loss(0.003_7), 1.6e-3),
    (Tested::Loss(0.004_9), 1.2e-3),
    (Tested::Loss(0.006_3), 8e-4),
    (Tested::Loss(0.008_2), 5e-4),
    (Tested::Loss(0.010_7), 3e-4),
    (Tested::Loss(0.013_9), 1.5e-4),
    (Tested::Loss(0.018), 7e-5),
];

/// What is usual at a time of a world, as its history tells.
#[derive(Debug, Clone, Default)]
pub(in crate::accuracy) struct Baselines {
    loss: Grouping<{ losses::LEVELS }>,
    delay: Grouping<{ delays::LEVELS }>,
    /// By signal: what delays are above their law.
    above_us: BTreeMap<Signal, i64>,
    /// By site: what its routes lose, as a number of [`losses::nearest_route`].
    routes: Vec<usize>,
    /// Laws of delays that come again in each case.
    shapes: RefCell<Shapes>,
}

/// Learns from a history.
#[derive(Debug)]
pub(in crate::accuracy) struct Learner<'a> {
    stretch: &'a Stretch<'a>,
    reader: Reader<'a>,
    windows: Vec<Vec<Told>>,
}

impl<'a> Learner<'a> {
    pub(in crate::accuracy) fn new(stretch: &'a Stretch<'a>) -> Self {
        Self { stretch, reader: Reader::new(stretch), windows: Vec::new() }
    }

    /// Takes a window of the history.
    pub(in crate::accuracy) fn regard(&mut self, drawn: &Window) {
        let told = self.reader.window(drawn);
        self.windows.push(told);
    }

    /// What is usual by all that was seen.
    pub(in crate::accuracy) fn learned(mut self) -> Baselines {
        let mut known = Baselines {
            loss: Grouping::new(self.stretch, false, losses::group),
            delay: Grouping::new(self.stretch, true, delays::group),
            ..Baselines::default()
        };
        known.level(&mut self.reader, &self.windows);
        known.routes = self.losses_of_routes();
        let table = Table::new(0.0, most_packets(self.stretch));
        let lost = known.lost(self.stretch, &self.windows);
        for (group, windows) in known.loss.groups.iter_mut().zip(lost) {
            group.learn(windows.iter().map(|given| table.sum(given).map(Likely::of_logs)));
        }
        let mut shapes = Shapes::default();
        shapes.keep([0.0; 2]);
        let delayed = known.delayed(&self.windows);
        for (group, windows) in known.delay.groups.iter_mut().zip(delayed) {
            group.learn(windows.iter().map(|given| {
                delays::with_fault(given, [0.0; 2], |_| 0, (&mut shapes, &mut self.reader))
            }));
        }
        known.shapes = RefCell::new(shapes);
        known
    }

    /// By site: what is lost of what it sends to targets and of their answers.
    fn losses_of_routes(&self) -> Vec<usize> {
        let stage = self.stretch.stage;
        let mut counts = vec![[0.0; 2]; stage.world.sites.len()];
        for told in self.windows.iter().flatten() {
            let Signal::Hop(path, flow, hop) = told.signal else { continue };
            let (route, _) =
                self.stretch.calm.route(path, flow as u64, itinera_model::unit::Tick::ZERO);
            if hop + 1 == route.len() {
                let [lost, sent] = &mut counts[stage.paths[path].site];
                *lost += told.lost;
                *sent += told.lost + told.kept;
            }
        }
        let share = |[lost, sent]: [f64; 2]| losses::nearest_route(lost / sent.max(1.0));
        counts.into_iter().map(share).collect()
    }
}

/// The most packets of one observation.
fn most_packets(stretch: &Stretch<'_>) -> usize {
    let setup = &stretch.stage.setup;
    usize::from(setup.probes_per_hop).max(usize::from(setup.pair_packets))
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts of packets")]
fn count(of: f64) -> usize {
    of as usize
}

impl Baselines {
    /// Learns the level of delays: by how much the least of each is above the least that its law leads to expect.
    fn level(&mut self, reader: &mut Reader<'_>, windows: &[Vec<Told>]) {
        let mut least: BTreeMap<Signal, (i64, usize, usize)> = BTreeMap::new();
        for told in windows.iter().flatten().filter(|told| !told.over_us.is_empty()) {
            let one = told.over_us.iter().copied().min().unwrap_or(0);
            let known = least.entry(told.signal).or_insert((i64::MAX, 0, told.steady));
            *known = (known.0.min(one), known.1 + told.over_us.len(), told.steady);
        }
        for (signal, (least, count, law)) in least {
            let masses = reader.masses(law);
            let wanted = 1.0 / (count + 1) as f64;
            let mut below = 0.0;
            let bin = masses.iter().position(|mass| {
                below += mass;
                below >= wanted
            });
            // Within its bin the law is taken to be even.
            let bin = bin.unwrap_or(0);
            let within = 1.0 - (below - wanted) / masses[bin].max(f64::MIN_POSITIVE);
            #[allow(clippy::cast_possible_truncation, reason = "microseconds")]
            let expected_us = ((bin as f64 + within.clamp(0.0, 1.0)) * 100.0) as i64;
            self.above_us.insert(signal, least - expected_us);
        }
    }

    /// Counts by group and window.
    fn lost(&self, stretch: &Stretch<'_>, windows: &[Vec<Told>]) -> Vec<Vec<Vec<losses::Given>>> {
        let paths = &stretch.stage.paths;
        let of = |told: &Told, signal: usize| {
            let route = match told.signal {
                Signal::Hop(path, flow, hop) => {
                    let (route, _) =
                        stretch.calm.route(path, flow as u64, itinera_model::unit::Tick::ZERO);
                    // The level of an end is that of its route.
                    if hop + 1 == route.len() { 0 } else { self.routes[paths[path].site] }
                }
                Signal::Pair(..) => 0,
            };
            let (lost, kept) = (count(told.lost), count(told.kept));
            Some(losses::Given { signal, lost, kept, route })
        };
        self.loss.sorted(windows, |told| told.signal, of)
    }

    /// Delays by group and window. Without any answer before, nothing is known of them.
    fn delayed(&self, windows: &[Vec<Told>]) -> Vec<Vec<Vec<delays::Given>>> {
        let of = |told: &Told, signal: usize| {
            let above = self.above_us.get(&told.signal)?;
            let bins = told.over_us.iter().map(|us| bin_of(us - above)).collect();
            Some(delays::Given { signal, bins, law: told.steady })
        };
        self.delay.sorted(windows, |told| told.signal, of)
    }
}

/// Takes the windows of a case, and weighs them at the end.
#[derive(Debug)]
pub(in crate::accuracy) struct Learned<'a> {
    stretch: &'a Stretch<'a>,
    baselines: &'a Baselines,
    windows: Vec<Vec<Told>>,
}

impl<'a> Learned<'a> {
    pub(in crate::accuracy) const fn new(
        stretch: &'a Stretch<'a>,
        baselines: &'a Baselines,
    ) -> Self {
        Self { stretch, baselines, windows: Vec::new() }
    }

    /// Whether it is right about worlds of a family.
    pub(in crate::accuracy) fn is_asked_in(family: WorldFamily) -> bool {
        !family.has(WorldFamily::Bursts)
    }

    /// Takes what one window tells.
    pub(in crate::accuracy) fn regard(&mut self, told: Vec<Told>) {
        self.windows.push(told);
    }

    /// What it holds of all that was seen.
    pub(in crate::accuracy) fn opinion(&self, reader: &mut Reader<'_>) -> Held {
        let shapes = &mut *self.baselines.shapes.borrow_mut();
        let most = most_packets(self.stretch);
        let usual = Table::new(0.0, most);
        let lost = self.baselines.lost(self.stretch, &self.windows);
        let loss = self.baselines.loss.groups.iter().zip(lost);
        let loss = loss.map(|(group, given)| {
            let sums: Vec<_> = given.iter().map(|given| usual.sum(given)).collect();
            let usual: Vec<_> = sums.iter().map(|sum| sum.map(Likely::of_logs)).collect();
            InCase {
                course: Course::new(group.level, &group.moves, &usual),
                group,
                given,
                usual,
                sums,
            }
        });
        let loss = loss.collect();
        let delayed = self.baselines.delayed(&self.windows);
        let delay = self.baselines.delay.groups.iter().zip(delayed);
        let delay = delay.map(|(group, given)| {
            let usual: Vec<_> = given
                .iter()
                .map(|given| delays::with_fault(given, [0.0; 2], |_| 0, (shapes, reader)))
                .collect();
            let course = Course::new(group.level, &group.moves, &usual);
            InCase { course, group, given, usual, sums: Vec::new() }
        });
        let delay = delay.collect();
        let (windows, stage) = (self.windows.len(), self.stretch.stage);
        let suspects = stage.atlas.suspects.len();
        let sizes = Sizes { windows, suspects, most };
        let mut likelihood = ByHistory { loss, delay, table: usual, reader, shapes, sizes };
        let held = weigh(stage, &mut likelihood, &BY_ITSELF);
        shapes.forget();
        held
    }
}

/// A group in a case.
struct InCase<'a, const K: usize, G> {
    group: &'a Group<K>,
    /// By window.
    given: Vec<Vec<G>>,
    /// How likely each window is without a fault.
    usual: Vec<Likelihoods<K>>,
    /// Logs of the same, where they are used.
    sums: Vec<Option<[f64; K]>>,
    course: Course<K>,
}

#[derive(Debug, Clone, Copy)]
struct Sizes {
    windows: usize,
    suspects: usize,
    most: usize,
}

/// How likely the data of a case are where what is usual was learned.
struct ByHistory<'a, 'r, 'x> {
    loss: Vec<InCase<'a, { losses::LEVELS }, losses::Given>>,
    delay: Vec<InCase<'a, { delays::LEVELS }, delays::Given>>,
    /// Of losses without a fault.
    table: Table,
    reader: &'r mut Reader<'x>,
    shapes: &'r mut Shapes,
    sizes: Sizes,
}

/// By window of onset: log of how much likelier a fault that loses, and crosses a group so often, makes its data.
fn by_loss(
    case: &InCase<'_, { losses::LEVELS }, losses::Given>,
    tables: [&Table; 2],
    times: &[u8],
) -> Vec<f64> {
    let windows = case.given.iter().zip(&case.sums).zip(&case.usual);
    let with: Vec<_> = windows
        .map(|((given, sum), usual)| {
            let changed =
                sum.as_ref().and_then(|sum| losses::with_fault(tables, sum, given, times));
            changed.or(*usual)
        })
        .collect();
    case.course.changed_from(&case.group.moves, &with)
}

/// The same of a fault that delays.
fn by_delay(
    case: &InCase<'_, { delays::LEVELS }, delays::Given>,
    ms: [f64; 2],
    times: &[u8],
    (shapes, reader): (&mut Shapes, &mut Reader<'_>),
) -> Vec<f64> {
    let of = |given: &delays::Given| usize::from(times[given.signal]);
    let windows = case.given.iter().zip(&case.usual);
    let with: Vec<_> = windows
        .map(|(given, usual)| match given.iter().any(|given| of(given) > 0) {
            true => delays::with_fault(given, ms, of, (shapes, reader)),
            false => *usual,
        })
        .collect();
    case.course.changed_from(&case.group.moves, &with)
}

impl ByHistory<'_, '_, '_> {
    /// Tells `take` of every way in which a fault may cross a group: the suspects, and what the group says by window
    /// of onset.
    fn each(
        &mut self,
        tested: Tested,
        wanted: impl Fn(&[usize]) -> bool,
        mut take: impl FnMut(&[usize], &[f64]),
    ) {
        match tested {
            Tested::Loss(share) => {
                let table = Table::new(share, self.sizes.most);
                for case in &self.loss {
                    for (times, suspects) in case.group.patterns.iter().filter(|it| wanted(&it.1)) {
                        take(suspects, &by_loss(case, [&self.table, &table], times));
                    }
                }
            }
            Tested::DelayMs(from, to) => {
                for case in &self.delay {
                    for (times, suspects) in case.group.patterns.iter().filter(|it| wanted(&it.1)) {
                        let laws = (&mut *self.shapes, &mut *self.reader);
                        take(suspects, &by_delay(case, [from, to], times, laws));
                    }
                }
            }
        }
    }

    fn mean(&self, by_onset: &[f64]) -> f64 {
        ln_sum_exp(by_onset) - libm::log(self.sizes.windows.max(1) as f64)
    }
}

impl Likelihood for ByHistory<'_, '_, '_> {
    fn of_all(&mut self, tests: &[Tested]) -> Vec<Vec<f64>> {
        let mut all = Vec::with_capacity(tests.len());
        for test in tests {
            if let Tested::DelayMs(from, to) = test {
                self.shapes.keep([*from, *to]);
            }
            let mut sums = vec![vec![0.0; self.sizes.windows]; self.sizes.suspects];
            self.each(
                *test,
                |_| true,
                |suspects, ratios| {
                    for suspect in suspects {
                        sums[*suspect].iter_mut().zip(ratios).for_each(|(sum, it)| *sum += it);
                    }
                },
            );
            all.push(sums.iter().map(|sums| self.mean(sums)).collect());
        }
        all
    }

    fn of_one(&mut self, suspect: usize, tested: Tested) -> f64 {
        let mut sums = vec![0.0; self.sizes.windows];
        self.each(
            tested,
            |suspects| suspects.contains(&suspect),
            |_, ratios| {
                sums.iter_mut().zip(ratios).for_each(|(sum, it)| *sum += it);
            },
        );
        self.mean(&sums)
    }
}
