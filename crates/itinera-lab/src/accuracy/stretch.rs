//! A time of a world: an hour of some week, with so much history before anything happens.
//!
//! Cases of one world are played at several such times, so that they share neither loads nor habits of routers, and
//! nothing tells when a fault is due.

use super::chance::split_mix;
use super::memory::Memory;
use super::setup::WINDOW_S;
use super::stage::Stage;
use super::window::{DrawnPair, Window, begin_of};
use itinera_analysis::Observation;
use itinera_candidates::{PairRounds, WindowInput};
use itinera_model::round::{HopCounts, StampSource};
use itinera_model::route::FlowKey;
use itinera_model::unit::{Tick, WallTime};
use itinera_simnet::closed_form::{PathPlan, RouteHop, Sampler};
use itinera_simnet::worlds::{Blueprint, Changes};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::ops::Range;

const NANOS_PER_S: u64 = 1_000_000_000;
const MICROS_PER_HOUR: f64 = 3.6e9;
/// A Monday at midnight, UTC: hours of the week count from it.
const MONDAY: WallTime = WallTime::from_unix_seconds(1_699_833_600);
/// So many times a world has: cases are played at them in turn.
pub(super) const STRETCHES: u64 = 10;
/// Of four stretches one begins cold: at most ten minutes of history and no weeks before.
const COLD_EVERY: u64 = 4;
const COLD_WINDOWS: Range<u64> = 18..60;
const WARM_WINDOWS: Range<u64> = 60..181;
const WEEKS: Range<u8> = 1..7;
/// Share of an agent's rounds that are missing, and of agents that are away for some minutes of a stretch.
const MISSED: f64 = 0.003;
const AWAY: f64 = 0.05;
const AWAY_WINDOWS: Range<u64> = 6..60;

/// A time of a world.
#[derive(Debug, Clone)]
pub struct Stretch<'a> {
    pub(super) stage: &'a Stage,
    /// Its number in the world.
    pub number: u64,
    /// Windows before anything happens.
    pub history: u64,
    /// Weeks before it that are kept as summaries.
    pub weeks: u8,
    week_hour: f64,
    /// The world without faults at this time.
    pub(super) calm: Sampler,
    /// By site: windows in which its agent is away.
    away: Vec<Range<u64>>,
}

/// Names the life of a world in a stretch, or in a week before it.
pub(super) const fn life_of(stretch: u64, weeks_ago: u8) -> u64 {
    1 + stretch * 100 + weeks_ago as u64
}

impl<'a> Stretch<'a> {
    /// One of the times of a world.
    pub fn new(stage: &'a Stage, number: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(stage.world.seed);
        rng.set_stream(50_000_000 + number + 1_000_000 * stage.world.family as u64);
        let week_hour = rng.random::<f64>() * 168.0;
        let (history, weeks) = if number % COLD_EVERY == COLD_EVERY - 1 {
            (rng.random_range(COLD_WINDOWS), 0)
        } else {
            (rng.random_range(WARM_WINDOWS), rng.random_range(WEEKS))
        };
        let away = (0..stage.world.sites.len()).map(|_| {
            let begins = rng.random_range(0..2 * WARM_WINDOWS.end);
            let (is_away, windows) = (rng.random::<f64>() < AWAY, rng.random_range(AWAY_WINDOWS));
            begins..begins + if is_away { windows } else { 0 }
        });
        let away = away.collect();
        let calm = stage.sampler.at_another_time(week_hour, life_of(number, 0));
        Self { stage, number, history, weeks, week_hour, calm, away }
    }

    /// The time at which a case of a world is played.
    pub fn of_case(stage: &'a Stage, number: u64) -> Self {
        Self::new(stage, number % STRETCHES)
    }

    /// The world as it is at this time.
    pub fn world(&self) -> Blueprint {
        let mut world = self.stage.world.clone();
        (world.week_hour, world.life) = (self.week_hour, life_of(self.number, 0));
        world
    }

    /// The world at this time with changes.
    pub(super) fn changed(&self, changes: &Changes) -> Sampler {
        self.calm.changed(changes)
    }

    /// The world without faults, in which the routing of one link changes and changes back within so many windows
    /// after the history, a third of them each.
    pub(super) fn with_route_changes(&self, windows: u64) -> Sampler {
        let mut rng = ChaCha8Rng::seed_from_u64(self.stage.world.seed);
        rng.set_stream(60_000_000 + self.number);
        let used = self.stage.atlas.inner(0);
        if used.is_empty() || windows < 3 {
            return self.calm.clone();
        }
        let facts = &self.stage.atlas.links[used[rng.random_range(0..used.len())].0];
        let ends = [facts.from, facts.to];
        let links = &self.stage.world.links;
        let plan = links.iter().find(|it| it.between == ends || it.between == [ends[1], ends[0]]);
        let Some(plan) = plan else { return self.calm.clone() };
        let at_s = |third: u64| ((self.history + windows * third / 3) * WINDOW_S) as f64;
        let away =
            Changes { at_s: at_s(1), reroutes: vec![(ends, [200.0; 2])], ..Changes::default() };
        let back = vec![(plan.between, plan.metric())];
        let back = Changes { at_s: at_s(2), reroutes: back, ..Changes::default() };
        self.changed(&away).changed(&back)
    }

    /// Whether something of the world at this time, of this name, happens that has this chance.
    fn happens(&self, names: [u64; 2], share: f64) -> bool {
        let mut state = self.stage.world.seed;
        for name in [self.number, names[0], names[1]] {
            state = split_mix(&mut state) ^ name;
        }
        (split_mix(&mut state) as f64) < share * u64::MAX as f64
    }

    fn is_away(&self, site: usize, window: u64) -> bool {
        self.away[site].contains(&window)
    }

    /// Draws a window; `series` tells runs at one time apart.
    pub(super) fn window(&self, sampler: &mut Sampler, window: u64, series: u64, out: &mut Window) {
        let mut known = std::mem::take(&mut out.rounds).into_iter();
        for path in 0..self.stage.paths.len() {
            for (number, at) in self.rounds_of(path, window) {
                let mut round = known.next().unwrap_or_default();
                (round.path, round.number, round.at) = (path, number, at);
                sampler.round(path, number, at, series, &mut round.hops);
                out.rounds.push(round);
            }
        }
        let pairs = 0..self.stage.pairs.len();
        let pairs = pairs.filter_map(|pair| self.pair_round(sampler, pair, window, series));
        out.pairs.clear();
        out.pairs.extend(pairs);
    }

    /// Numbers and times of the rounds of a path in a window.
    pub(super) fn rounds_of(&self, path: usize, window: u64) -> Vec<(u64, Tick)> {
        let per_window = u64::from(self.stage.setup.rounds_per_window.max(1));
        if self.is_away(self.stage.paths[path].site, window) {
            return Vec::new();
        }
        let gap = WINDOW_S * NANOS_PER_S / per_window;
        // Each path begins its rounds at a moment of its own.
        let offset = path as u64 * 7_919 % 1_000 * gap / 1_000;
        let at = |turn| begin_of(window).plus_nanos(turn * gap + offset);
        let all = (0..per_window).map(|turn| (window * per_window + turn, at(turn)));
        all.filter(|(number, _)| !self.happens([path as u64, *number], MISSED)).collect()
    }

    /// When the nth of so many extra rounds in a window is run; absent while the agent is away.
    pub(super) fn extra_at(&self, path: usize, window: u64, nth: (usize, usize)) -> Option<Tick> {
        let (nth, of) = (nth.0 as u64, nth.1.max(1) as u64);
        let is_away = self.is_away(self.stage.paths[path].site, window);
        (!is_away).then(|| begin_of(window).plus_nanos(WINDOW_S * NANOS_PER_S * nth / of))
    }

    /// The round of a pair in a window; absent while one of its agents is away.
    pub(super) fn pair_round(
        &self,
        sampler: &mut Sampler,
        pair: usize,
        window: u64,
        series: u64,
    ) -> Option<DrawnPair> {
        let plan = self.stage.pairs[pair];
        if [plan.near, plan.far].into_iter().any(|site| self.is_away(site, window)) {
            return None;
        }
        let shift = pair as u64 * 6_133 % 1_000 * WINDOW_S * NANOS_PER_S / 1_000;
        let at = begin_of(window).plus_nanos(shift);
        let packets = self.stage.setup.pair_packets;
        let counts = sampler.pair_round((pair, plan), window, at, packets, series);
        Some(DrawnPair { pair, at, counts })
    }

    /// Wall time of a tick, true to the hour of the week.
    fn wall(&self, at: Tick) -> WallTime {
        #[allow(clippy::cast_possible_truncation, reason = "microseconds of a week")]
        let hour_us = (self.week_hour * MICROS_PER_HOUR) as i64;
        MONDAY.plus_micros(hour_us + i64::try_from(at.as_nanos() / 1_000).unwrap_or(i64::MAX))
    }

    /// What candidates are shown of a window, by agents that remember the routes they have seen.
    pub(super) fn show<T>(
        &self,
        memory: &mut Memory,
        sampler: &Sampler,
        window: u64,
        drawn: &Window,
        regard: impl FnOnce(&WindowInput<'_>) -> T,
    ) -> T {
        let plans = &self.stage.paths;
        let mut hop_limits = Vec::with_capacity(drawn.rounds.len());
        for round in &drawn.rounds {
            let (route, seen) = sampler.route(round.path, round.number, round.at);
            memory.on_round(round, &seen.addresses);
            let limit = |(hop, counts): (&RouteHop, &HopCounts)| {
                (counts.answered != 0).then_some(hop.hop_limit)
            };
            hop_limits.push(route.iter().zip(&round.hops).map(limit).collect());
        }
        let rounds: Vec<Observation<'_>> = drawn
            .rounds
            .iter()
            .map(|round| {
                let facts = &self.stage.topology.paths[round.path];
                let known = memory.route(round.path, round.number);
                Observation {
                    path: facts.id,
                    measured_at: self.wall(round.at),
                    number: round.number,
                    source: facts.source,
                    flow: flow(&plans[round.path], round.number),
                    route: known.id,
                    addresses: &known.route.hops,
                    hops: &round.hops,
                    stamps: StampSource::Virtual,
                    lateness: None,
                    arrived_dscp: None,
                }
            })
            .collect();
        let pairs = drawn.pairs.iter().map(|drawn| PairRounds {
            pair: drawn.pair,
            at: self.wall(drawn.at),
            sent: drawn.counts.sent,
            undetermined: drawn.counts.undetermined,
            forward: drawn.counts.forward.clone(),
            return_: drawn.counts.return_.clone(),
        });
        let pair_hops = Memory::pair_hops(sampler, window, &drawn.pairs);
        regard(&WindowInput {
            until: self.wall(begin_of(window + 1)),
            rounds: &rounds,
            hop_limits: &hop_limits,
            pairs: &pairs.collect::<Vec<_>>(),
            pair_hops: &pair_hops,
        })
    }
}

/// The flow of a path's nth round.
fn flow(plan: &PathPlan, number: u64) -> FlowKey {
    let nth = usize::try_from(number % plan.flows.len().max(1) as u64).unwrap_or(0);
    let (source_port, destination_port) = plan.flows.get(nth).copied().unwrap_or_default();
    FlowKey { source_port, destination_port }
}
