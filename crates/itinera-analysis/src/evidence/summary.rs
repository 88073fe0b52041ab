//! Evidence summed up by minute: counts as they are, delays in classes.

use super::delays::Delays;
use super::window::{FlowCounts, HopWindow, RareCounts, RouteCounts, SeenRoute, Window};
use itinera_model::delay_class::{class_of, middle_of, percentile};
use itinera_model::id::ContentId;
use itinera_model::route::FlowKey;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Resolution of delays in microseconds. Those of 8 ms and more are in classes 1.6 % wide.
const UNIT_US: u32 = 64;

/// What a path showed in a minute. Summaries merge in any order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct MinuteSummary {
    pub(super) routes: BTreeMap<ContentId, RouteSummary>,
}

/// What the rounds of a minute that saw one route showed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouteSummary {
    pub(super) route: Arc<SeenRoute>,
    /// Rounds.
    pub rounds: u32,
    pub(super) flows: BTreeMap<FlowKey, FlowCounts>,
    /// By hop limit from 1.
    pub hops: Vec<HopSummary>,
}

/// What one hop showed in a minute.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct HopSummary {
    /// Probes sent.
    pub sent: u32,
    /// Of those, the ones without an answer.
    pub lost: u32,
    /// Answers with a delay that may be wrong by more than 2 ms; at most 32 of each window count.
    pub inexact: u32,
    pub(super) rare: RareCounts,
    /// Delays by class, in units.
    pub(super) delays: BTreeMap<u16, u32>,
}

impl HopSummary {
    fn add_window(&mut self, hop: &HopWindow) {
        let inexact = u32::try_from(hop.late_delays.len()).unwrap_or(u32::MAX);
        self.add_counts([hop.sent, hop.lost, inexact]);
        self.rare.add(&hop.rare);
        self.add_delays(&hop.delays);
    }

    fn add_delays(&mut self, delays: &Delays) {
        for (us, count) in delays.counted() {
            self.count(class_of(us / UNIT_US), count);
        }
    }

    fn add_counts(&mut self, [sent, lost, inexact]: [u32; 3]) {
        self.sent = self.sent.saturating_add(sent);
        self.lost = self.lost.saturating_add(lost);
        self.inexact = self.inexact.saturating_add(inexact);
    }

    fn count(&mut self, class: u16, count: u32) {
        let known = self.delays.entry(class).or_default();
        *known = known.saturating_add(count);
    }

    /// Adds all of another.
    pub(crate) fn merge(&mut self, other: &Self) {
        self.add_counts([other.sent, other.lost, other.inexact]);
        self.rare.add(&other.rare);
        for (class, count) in &other.delays {
            self.count(*class, *count);
        }
    }

    /// A percentile of the delay in microseconds by nearest rank, wrong by 32 microseconds or 0.8 % at
    /// most; absent without exact delays.
    pub fn delay_us(&self, percent: u8) -> Option<u32> {
        let counts = self.delays.iter().map(|(class, count)| (*class, *count));
        let class = percentile(counts, percent)?;
        Some(middle_of(class).saturating_mul(UNIT_US).saturating_add(UNIT_US / 2))
    }

    /// Answers after the timeout.
    pub const fn late(&self) -> u32 {
        self.rare.late
    }

    /// Probes that the hop got fewer than another hop of the same rounds: budgets left them out.
    pub const fn left_out(&self) -> u32 {
        self.rare.left_out
    }

    /// "Unreachable" answers by ICMP code.
    pub const fn unreachable(&self) -> &BTreeMap<u8, u32> {
        &self.rare.unreachable
    }
}

impl RouteSummary {
    pub(super) const fn new(route: Arc<SeenRoute>) -> Self {
        Self { route, rounds: 0, flows: BTreeMap::new(), hops: Vec::new() }
    }

    /// The route's addresses by hop limit from 1; absent where a hop never answered.
    pub fn addresses(&self) -> &[Option<IpAddr>] {
        &self.route.addresses
    }

    /// The route's identity.
    pub fn id(&self) -> ContentId {
        self.route.id
    }

    /// Number of different flows.
    pub fn flow_count(&self) -> usize {
        self.flows.len()
    }

    fn hops_upto(&mut self, count: usize) -> &mut [HopSummary] {
        if self.hops.len() < count {
            self.hops.resize_with(count, HopSummary::default);
        }
        &mut self.hops
    }

    fn add_flows(&mut self, flows: &BTreeMap<FlowKey, FlowCounts>) {
        for (key, counts) in flows {
            self.flows.entry(*key).or_default().add(*counts);
        }
    }

    fn add_counts(&mut self, counts: &RouteCounts) {
        self.rounds = self.rounds.saturating_add(counts.rounds);
        self.add_flows(&counts.flows);
        let hops = self.hops_upto(counts.hops.len());
        for (mine, theirs) in hops.iter_mut().zip(&counts.hops) {
            mine.add_window(theirs);
        }
    }

    fn merge(&mut self, other: &Self) {
        self.rounds = self.rounds.saturating_add(other.rounds);
        self.add_flows(&other.flows);
        let hops = self.hops_upto(other.hops.len());
        for (mine, theirs) in hops.iter_mut().zip(&other.hops) {
            mine.merge(theirs);
        }
    }
}

impl MinuteSummary {
    fn of_route(&mut self, route: &Arc<SeenRoute>) -> &mut RouteSummary {
        let new = || RouteSummary::new(Arc::clone(route));
        self.routes.entry(route.id).or_insert_with(new)
    }

    pub(super) fn add_window(&mut self, window: &Window) {
        for counts in window.routes.values() {
            self.of_route(&counts.route).add_counts(counts);
        }
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Self) {
        for summary in other.routes.values() {
            self.of_route(&summary.route).merge(summary);
        }
    }

    /// By route, in the order of their identities.
    pub fn routes(&self) -> impl Iterator<Item = &RouteSummary> {
        self.routes.values()
    }
}
