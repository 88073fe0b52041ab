//! The oracle that also learns what is usual: how much each hop and each direction of a pair loses, which routers leave
//! probes unanswered or answer late, and the least delay of each. It sees the same history as candidates. It knows
//! routing, the laws of noise, and how queues fill by themselves.
//!
//! What a hop loses without a fault is a hidden level: it stays, moves to its neighbours, or jumps where a router takes
//! up or leaves its habits. So is the share of answers that are slow. What a router answers to one site has one level;
//! that it has the same habits towards others is not used, and it makes nothing of the weeks before. Where the loss of links comes and goes in hard
//! spells, which many hops share, it would be too sure; it is not asked there.

use super::chain::{Course, Likely, Moves, Told as Levels, pass};
use super::evidence::Reader;
use super::laws::{CROSSED, Tested, bin_of, delayed, slower};
use super::told::Told;
use super::weighing::{ByItself, Held, Likelihood, weigh};
use crate::accuracy::atlas::Signal;
use crate::accuracy::stretch::Stretch;
use crate::accuracy::window::Window;
use itinera_analysis::stat::ln_sum_exp;
use itinera_simnet::worlds::WorldFamily;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

/// Levels of loss, as shares.
const LOSSES: [f64; 19] = [
    1e-4, 5e-4, 1.5e-3, 3e-3, 6e-3, 0.012, 0.025, 0.05, 0.1, 0.18, 0.27, 0.36, 0.45, 0.54, 0.63,
    0.72, 0.81, 0.9, 0.96,
];
const LOSS_LEVELS: usize = LOSSES.len();
/// Levels from here on are habits of routers.
const HABITS_FROM: usize = 7;
/// A habit that leaves few probes unanswered leaves hardly any in some minutes.
const REDRAWS_FROM: usize = 5;
/// How often a path loses so much by its links: some 2e-4 each, more on poor lines.
const BY_LINKS: [f64; HABITS_FROM] = [0.03, 0.1, 0.25, 0.3, 0.18, 0.1, 0.04];
/// A fifth of the routers leave probes unanswered by habit, most of the time.
const REFUSE: f64 = 0.17;
/// In some windows a link of the route is in a spell in which it loses this share more.
const SPELLS: f64 = 0.15;
const SPELL_LOSS: f64 = 0.008;
/// Shares of answers that are slow.
const SLOW: [f64; 6] = [0.002, 0.1, 0.2, 0.35, 0.5, 0.7];
const SLOW_LEVELS: usize = SLOW.len();
const ARE_SLOW: f64 = 0.13;
/// Means of slow answers, in milliseconds: they are drawn between 3 and 100.
const SLOW_MS: [f64; 5] = [3.5, 8.0, 18.0, 40.0, 85.0];
/// Routers take up or leave their habits in 5 to 30 minutes, and follow them four fifths of the time.
const JUMPS: f64 = 0.003;
/// A router that leaves probes unanswered draws its share again every minute.
const REDRAWS: f64 = 0.12;
const DRIFTS: f64 = 0.014;
/// Faults are crossed twice at most.
const MOST_CROSSED: u8 = 2;
/// No probability of a bin of delays is less.
const FLOOR: f64 = 1e-6;
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

/// What is observed together: what a router answers to a site, a target to a path, or one direction of a pair.
#[derive(Debug, Clone)]
struct Group {
    signals: Vec<Signal>,
    loss: ([f64; LOSS_LEVELS], Moves<LOSS_LEVELS>),
    slow: ([f64; SLOW_LEVELS], Moves<SLOW_LEVELS>),
    /// Ways in which faults cross it: how often, by signal, and the suspects that do.
    patterns: Vec<(Vec<u8>, Vec<usize>)>,
}

/// What is usual at a time of a world, as its history tells.
#[derive(Debug, Clone, Default)]
pub(in crate::accuracy) struct Baselines {
    groups: Vec<Group>,
    /// By signal: its group, and its place in it.
    of: BTreeMap<Signal, (usize, usize)>,
    /// By signal: what delays are above their law.
    above_us: BTreeMap<Signal, i64>,
    /// Laws of delays that come again in each case.
    shapes: RefCell<Shapes>,
}

fn normalized<const K: usize>(weights: [f64; K]) -> [f64; K] {
    let sum: f64 = weights.iter().sum();
    weights.map(|weight| weight / sum)
}

/// How often each level of loss is usual; routers have habits beside.
fn usual_losses(is_router: bool) -> [f64; LOSS_LEVELS] {
    let refuse = if is_router { REFUSE } else { 1e-4 };
    let habits = (LOSS_LEVELS - HABITS_FROM) as f64;
    normalized(std::array::from_fn(|k| match BY_LINKS.get(k) {
        Some(weight) => weight * (1.0 - refuse),
        None => refuse / habits,
    }))
}

fn usual_slow(is_router: bool) -> [f64; SLOW_LEVELS] {
    let slow = if is_router { ARE_SLOW } else { 1e-4 };
    std::array::from_fn(|k| if k == 0 { 1.0 - slow } else { slow / (SLOW_LEVELS - 1) as f64 })
}

impl Group {
    fn new(is_router: bool) -> Self {
        let jump = if is_router { JUMPS } else { JUMPS / 10.0 };
        let steps = |k| if k >= REDRAWS_FROM && is_router { REDRAWS } else { DRIFTS };
        let losses = usual_losses(is_router);
        let slow = usual_slow(is_router);
        Self {
            signals: Vec::new(),
            loss: (losses, Moves { steps: std::array::from_fn(steps), jump, target: losses }),
            slow: (slow, Moves { steps: [0.0; SLOW_LEVELS], jump, target: slow }),
            patterns: Vec::new(),
        }
    }

    /// Jumps lead half of the time to where the level has been.
    fn aim(&mut self, [losses, slow]: [&[f64]; 2]) {
        fn mixed<const K: usize>(target: &mut [f64; K], seen: &[f64]) {
            let whole = seen.iter().sum::<f64>().max(f64::MIN_POSITIVE);
            target.iter_mut().zip(seen).for_each(|(it, seen)| *it = 0.5 * (*it + seen / whole));
            *target = normalized(*target);
        }
        mixed(&mut self.loss.1.target, losses);
        mixed(&mut self.slow.1.target, slow);
    }
}

/// Powers of the share that is lost or kept, by level.
type Powers = Vec<[[f64; LOSS_LEVELS]; 2]>;

/// How likely counts of loss are, by level, when packets cross a fault.
struct LossTable {
    /// By crossings, none first: powers by count.
    powers: [Powers; CROSSED + 1],
    bumped: [Powers; CROSSED + 1],
}

impl LossTable {
    fn new(share: f64, most: usize) -> Self {
        let powers = |more: f64| {
            std::array::from_fn(|times| {
                let stays = libm::pow(1.0 - share, times as f64) * (1.0 - more);
                let lost = LOSSES.map(|level| 1.0 - (1.0 - level) * stays);
                let mut all: Powers = vec![[[1.0; LOSS_LEVELS]; 2]];
                for count in 1..=most {
                    let before = all[count - 1];
                    all.push([
                        std::array::from_fn(|k| before[0][k] * lost[k]),
                        std::array::from_fn(|k| before[1][k] * (1.0 - lost[k]).max(1e-12)),
                    ]);
                }
                all
            })
        };
        Self { powers: powers(0.0), bumped: powers(SPELL_LOSS) }
    }

    /// The likelihood of losing and keeping so many.
    fn of(&self, (lost, kept): (usize, usize), times: usize) -> [f64; LOSS_LEVELS] {
        let of = |powers: &Powers, k: usize| powers[lost][0][k] * powers[kept][1][k];
        std::array::from_fn(|k| {
            (1.0 - SPELLS) * of(&self.powers[times], k) + SPELLS * of(&self.bumped[times], k)
        })
    }
}

/// Masses of usual and of slow delays, by bin.
type Delays = [Vec<f64>; 2];

/// Laws of delays that were needed, by law, test and crossings.
#[derive(Debug, Clone, Default)]
struct Shapes {
    /// By law and milliseconds added, from and to (bits).
    known: BTreeMap<(usize, [u64; 2]), Rc<[Delays; CROSSED + 1]>>,
    /// Milliseconds that are asked for in each case.
    again: BTreeSet<[u64; 2]>,
}

impl Shapes {
    fn of(&mut self, reader: &mut Reader<'_>, law: usize, ms: [f64; 2]) -> Rc<[Delays; 3]> {
        let key = (law, ms.map(f64::to_bits));
        if let Some(known) = self.known.get(&key) {
            return Rc::clone(known);
        }
        let usual = reader.masses(law).to_vec();
        let slow = slower(&usual, &SLOW_MS);
        let made = if ms[1] > 0.0 {
            let [once, twice] = delayed(&usual, ms);
            let [slow_once, slow_twice] = delayed(&slow, ms);
            Rc::new([[usual, slow], [once, slow_once], [twice, slow_twice]])
        } else {
            Rc::new([[usual.clone(), slow.clone()], [usual.clone(), slow.clone()], [usual, slow]])
        };
        self.known.insert(key, Rc::clone(&made));
        made
    }

    /// Forgets what is asked for once.
    fn forget(&mut self) {
        let again = &self.again;
        self.known.retain(|(_, ms), _| again.contains(ms));
    }
}

fn likely_delays([usual, slow]: &Delays, bins: &[usize]) -> [f64; SLOW_LEVELS] {
    let mut likely = [1.0; SLOW_LEVELS];
    for bin in bins {
        let (usual, slow) = (usual[*bin] + FLOOR, slow[*bin] + FLOOR);
        for (likely, share) in likely.iter_mut().zip(SLOW) {
            *likely *= (1.0 - share) * usual + share * slow;
        }
    }
    likely
}

/// What one signal gave in a window.
#[derive(Debug, Clone)]
struct Given {
    /// Its place in its group.
    signal: usize,
    lost: usize,
    kept: usize,
    bins: Vec<usize>,
    law: usize,
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "counts of packets")]
fn count(of: f64) -> usize {
    of as usize
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
        let mut known = Baselines::of(self.stretch);
        known.level(&mut self.reader, &self.windows);
        let most = most_packets(self.stretch);
        let table = LossTable::new(0.0, most);
        let mut shapes = Shapes::default();
        shapes.again.insert([0; 2]);
        let by_group = known.by_group(&self.windows);
        for (group, windows) in known.groups.iter_mut().zip(by_group) {
            let mut seen = ([0.0; LOSS_LEVELS], [0.0; SLOW_LEVELS]);
            for given in windows {
                let (loss, slow) = usual_of(&given, &table, &mut shapes, &mut self.reader);
                pass(&mut group.loss.0, &group.loss.1, &loss);
                pass(&mut group.slow.0, &group.slow.1, &slow);
                seen.0.iter_mut().zip(group.loss.0).for_each(|(seen, it)| *seen += it);
                seen.1.iter_mut().zip(group.slow.0).for_each(|(seen, it)| *seen += it);
            }
            group.aim([&seen.0, &seen.1]);
        }
        known.shapes = RefCell::new(shapes);
        known
    }
}

/// The likelihood of what a group gave in a window without a fault, by both levels.
fn usual_of(
    given: &[Given],
    table: &LossTable,
    shapes: &mut Shapes,
    reader: &mut Reader<'_>,
) -> (Levels<LOSS_LEVELS>, Levels<SLOW_LEVELS>) {
    let none = |_: &Given| 0;
    (losses(given, table, none), delays(given, [0.0; 2], none, (shapes, reader)))
}

fn losses(
    given: &[Given],
    table: &LossTable,
    times: impl Fn(&Given) -> usize,
) -> Levels<LOSS_LEVELS> {
    let of = |given: &Given| table.of((given.lost, given.kept), times(given));
    given.iter().map(|given| Likely::new(of(given))).reduce(Likely::and)
}

fn delays(
    given: &[Given],
    ms: [f64; 2],
    times: impl Fn(&Given) -> usize,
    (shapes, reader): (&mut Shapes, &mut Reader<'_>),
) -> Levels<SLOW_LEVELS> {
    let each = given.iter().filter(|given| !given.bins.is_empty()).map(|given| {
        let laws = shapes.of(reader, given.law, ms);
        Likely::new(likely_delays(&laws[times(given)], &given.bins))
    });
    each.reduce(Likely::and)
}

/// The most packets of one observation.
fn most_packets(stretch: &Stretch<'_>) -> usize {
    usize::from(stretch.stage.setup.probes_per_hop)
        .max(usize::from(stretch.stage.setup.pair_packets))
}

impl Baselines {
    /// What is observed together, before anything is known of it.
    fn of(stretch: &Stretch<'_>) -> Self {
        let stage = stretch.stage;
        let mut known = Self::default();
        let mut numbers = BTreeMap::new();
        for (signal, crossed) in &stage.atlas.crossings {
            let key = match *signal {
                Signal::Hop(path, flow, hop) => {
                    let (_, seen) =
                        stretch.calm.route(path, flow as u64, itinera_model::unit::Tick::ZERO);
                    // What never answers tells nothing.
                    let Some(address) = seen.addresses[hop] else { continue };
                    let is_router = hop + 1 < seen.addresses.len();
                    let from = if is_router { stage.paths[path].site } else { path };
                    (Some(address), is_router, from, 0)
                }
                Signal::Pair(pair, route) => (None, false, pair, route),
            };
            let number = *numbers.entry(key).or_insert_with(|| {
                known.groups.push(Group::new(key.1));
                known.groups.len() - 1
            });
            let group = &mut known.groups[number];
            let nth = group.signals.len();
            group.signals.push(*signal);
            known.of.insert(*signal, (number, nth));
            for (suspect, times) in crossed {
                let mut own = vec![0; nth + 1];
                own[nth] = (*times).min(MOST_CROSSED);
                match group.patterns.iter_mut().find(|(_, all)| all.contains(suspect)) {
                    Some((known, _)) => {
                        known.resize(nth, 0);
                        known.push(own[nth]);
                    }
                    None => group.patterns.push((own, vec![*suspect])),
                }
            }
        }
        for group in &mut known.groups {
            let mut same: BTreeMap<Vec<u8>, Vec<usize>> = BTreeMap::new();
            for (mut times, suspects) in std::mem::take(&mut group.patterns) {
                times.resize(group.signals.len(), 0);
                same.entry(times).or_default().extend(suspects);
            }
            group.patterns = same.into_iter().collect();
        }
        known
    }

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

    /// What each group gave, window by window.
    fn by_group(&self, windows: &[Vec<Told>]) -> Vec<Vec<Vec<Given>>> {
        let mut all = vec![vec![Vec::new(); windows.len()]; self.groups.len()];
        for (window, told) in windows.iter().enumerate() {
            for told in told {
                let Some((group, signal)) = self.of.get(&told.signal) else { continue };
                let above_us = self.above_us.get(&told.signal);
                // Without any answer before, nothing is known of its delay.
                let bins = above_us.map_or_else(Vec::new, |above| {
                    told.over_us.iter().map(|us| bin_of(us - above)).collect()
                });
                all[*group][window].push(Given {
                    signal: *signal,
                    lost: count(told.lost),
                    kept: count(told.kept),
                    bins,
                    law: told.steady,
                });
            }
        }
        all
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
        let given = self.baselines.by_group(&self.windows);
        let most = most_packets(self.stretch);
        let usual = LossTable::new(0.0, most);
        let shapes = &mut *self.baselines.shapes.borrow_mut();
        let groups = self.baselines.groups.iter().zip(given);
        let courses = groups.map(|(group, given)| {
            let usual: (Vec<_>, Vec<_>) =
                given.iter().map(|given| usual_of(given, &usual, shapes, reader)).unzip();
            let loss = Course::new(group.loss.0, &group.loss.1, &usual.0);
            let slow = Course::new(group.slow.0, &group.slow.1, &usual.1);
            InCase { group, given, loss, slow }
        });
        let courses = courses.collect();
        let windows = self.windows.len();
        let suspects = self.stretch.stage.atlas.suspects.len();
        let mut likelihood = ByHistory { courses, reader, shapes, windows, most, suspects };
        let held = weigh(self.stretch.stage, &mut likelihood, &BY_ITSELF);
        shapes.forget();
        held
    }
}

/// A group in a case.
struct InCase<'a> {
    group: &'a Group,
    /// By window.
    given: Vec<Vec<Given>>,
    loss: Course<LOSS_LEVELS>,
    slow: Course<SLOW_LEVELS>,
}

/// How likely the data of a case are where what is usual was learned.
struct ByHistory<'a, 'r, 'x> {
    courses: Vec<InCase<'a>>,
    reader: &'r mut Reader<'x>,
    shapes: &'r mut Shapes,
    windows: usize,
    most: usize,
    suspects: usize,
}

/// What a test compares with.
enum Ready {
    Loss(LossTable),
    Delay([f64; 2]),
}

impl Ready {
    fn new(tested: Tested, most: usize) -> Self {
        match tested {
            Tested::Loss(share) => Self::Loss(LossTable::new(share, most)),
            Tested::DelayMs(from, to) => Self::Delay([from, to]),
        }
    }
}

impl ByHistory<'_, '_, '_> {
    /// By window of onset: log of how much likelier a fault that crosses a group in a way makes its data.
    fn by_onset(&mut self, group: usize, times: &[u8], ready: &Ready) -> Vec<f64> {
        let Self { courses, reader, shapes, .. } = self;
        let InCase { group, given, loss, slow } = &courses[group];
        let times = |given: &Given| usize::from(times[given.signal]);
        match ready {
            Ready::Loss(table) => {
                let with: Vec<_> = given.iter().map(|given| losses(given, table, times)).collect();
                loss.changed_from(&group.loss.1, &with)
            }
            Ready::Delay(ms) => {
                let with: Vec<_> =
                    given.iter().map(|given| delays(given, *ms, times, (shapes, reader))).collect();
                slow.changed_from(&group.slow.1, &with)
            }
        }
    }

    fn mean(&self, by_onset: &[f64]) -> f64 {
        ln_sum_exp(by_onset) - libm::log(self.windows.max(1) as f64)
    }
}

impl Likelihood for ByHistory<'_, '_, '_> {
    fn of_all(&mut self, tests: &[Tested]) -> Vec<Vec<f64>> {
        let mut all = Vec::with_capacity(tests.len());
        for test in tests {
            if let Tested::DelayMs(from, to) = test {
                self.shapes.again.insert([from, to].map(|ms| ms.to_bits()));
            }
            let ready = Ready::new(*test, self.most);
            let mut sums = vec![vec![0.0; self.windows]; self.suspects];
            for number in 0..self.courses.len() {
                let group = self.courses[number].group;
                for (times, suspects) in &group.patterns {
                    let ratios = self.by_onset(number, times, &ready);
                    for suspect in suspects {
                        sums[*suspect].iter_mut().zip(&ratios).for_each(|(sum, it)| *sum += it);
                    }
                }
            }
            all.push(sums.iter().map(|sums| self.mean(sums)).collect());
        }
        all
    }

    fn of_one(&mut self, suspect: usize, tested: Tested) -> f64 {
        let ready = Ready::new(tested, self.most);
        let mut sums = vec![0.0; self.windows];
        for number in 0..self.courses.len() {
            let group = self.courses[number].group;
            let own = group.patterns.iter().find(|(_, suspects)| suspects.contains(&suspect));
            let Some((times, _)) = own else { continue };
            let ratios = self.by_onset(number, times, &ready);
            sums.iter_mut().zip(&ratios).for_each(|(sum, it)| *sum += it);
        }
        self.mean(&sums)
    }
}
