//! How likely counts of loss are, by hidden levels.

use super::super::chain::{Likely, Moves};
use super::super::laws::CROSSED;
use super::groups::Group;

/// Levels of loss, as shares.
const SHARES: [f64; 19] = [
    1e-4, 5e-4, 1.5e-3, 3e-3, 6e-3, 0.012, 0.025, 0.05, 0.1, 0.18, 0.27, 0.36, 0.45, 0.54, 0.63,
    0.72, 0.81, 0.9, 0.96,
];
pub(super) const LEVELS: usize = SHARES.len();
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
/// Routers take up or leave their habits in 5 to 30 minutes, and follow them four fifths of the time.
const JUMPS: f64 = 0.003;
/// A router that leaves probes unanswered draws its share again every minute.
const REDRAWS: f64 = 0.12;
const DRIFTS: f64 = 0.014;
/// What the routes of a site lose by themselves, whichever router answers.
const ROUTES: [f64; 6] = [0.0, 0.002, 0.004, 0.008, 0.012, 0.018];

/// Counts of one signal in a window.
#[derive(Debug, Clone, Copy)]
pub(super) struct Given {
    /// Its place in its group.
    pub(super) signal: usize,
    pub(super) lost: usize,
    pub(super) kept: usize,
    /// What its route loses by itself, as [`nearest_route`] numbers it; nothing where the level tells all.
    pub(super) route: usize,
}

/// The number of a share that routes of a site lose.
pub(super) fn nearest_route(share: f64) -> usize {
    let apart = |nth: &usize| (ROUTES[*nth] - share).abs();
    (0..ROUTES.len()).min_by(|a, b| apart(a).total_cmp(&apart(b))).unwrap_or(0)
}

/// Signals that share a level of loss, of a router or not.
pub(super) fn group(is_router: bool) -> Group<LEVELS> {
    let refuse = if is_router { REFUSE } else { 1e-4 };
    let habits = (LEVELS - HABITS_FROM) as f64;
    let level = std::array::from_fn(|k| match BY_LINKS.get(k) {
        Some(weight) => weight * (1.0 - refuse),
        None => refuse / habits,
    });
    let jump = if is_router { JUMPS } else { JUMPS / 10.0 };
    let step = |k| if k >= REDRAWS_FROM && is_router { REDRAWS } else { DRIFTS };
    Group::new(level, Moves { steps: std::array::from_fn(step), jump, target: level })
}

/// Logs of how likely counts are, by level.
#[derive(Debug)]
pub(super) struct Table {
    most: usize,
    /// By route, crossings, lost and kept, one after the other.
    logs: Vec<[f64; LEVELS]>,
}

impl Table {
    /// Of a fault that loses a share, for at most so many packets.
    pub(super) fn new(share: f64, most: usize) -> Self {
        let mut logs = Vec::new();
        for route in ROUTES {
            for times in 0..=CROSSED {
                let stays = libm::pow(1.0 - share, times as f64) * (1.0 - route);
                let lost = |more: f64| SHARES.map(|it| 1.0 - (1.0 - it) * stays * (1.0 - more));
                let [usual, spell] = [0.0, SPELL_LOSS].map(lost);
                for lost in 0..=most {
                    for kept in 0..=most {
                        let likely = |share: f64| {
                            libm::pow(share, lost as f64)
                                * libm::pow((1.0 - share).max(1e-12), kept as f64)
                        };
                        logs.push(std::array::from_fn(|k| {
                            let both =
                                (1.0 - SPELLS) * likely(usual[k]) + SPELLS * likely(spell[k]);
                            libm::log(both.max(f64::MIN_POSITIVE))
                        }));
                    }
                }
            }
        }
        Self { most, logs }
    }

    pub(super) fn of(&self, given: &Given, times: usize) -> &[f64; LEVELS] {
        let row = (given.route * (CROSSED + 1) + times) * (self.most + 1) + given.lost;
        &self.logs[row * (self.most + 1) + given.kept]
    }

    /// Logs of all that a group gave in a window without a fault; absent where it gave nothing.
    pub(super) fn sum(&self, given: &[Given]) -> Option<[f64; LEVELS]> {
        let each = given.iter().map(|given| *self.of(given, 0));
        each.reduce(|a, b| std::array::from_fn(|k| a[k] + b[k]))
    }
}

/// How likely a window is with a fault that crosses its signals so often, given the logs of it without one.
pub(super) fn with_fault(
    [usual, fault]: [&Table; 2],
    sum: &[f64; LEVELS],
    given: &[Given],
    times: &[u8],
) -> Option<Likely<LEVELS>> {
    let crossed = given.iter().filter(|given| times[given.signal] > 0);
    let logs = crossed.fold(None, |logs: Option<[f64; LEVELS]>, given| {
        let logs = logs.unwrap_or(*sum);
        let (with, without) =
            (fault.of(given, usize::from(times[given.signal])), usual.of(given, 0));
        Some(std::array::from_fn(|k| logs[k] + with[k] - without[k]))
    });
    logs.map(Likely::of_logs)
}
