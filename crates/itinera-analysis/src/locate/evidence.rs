//! Evidence of one path: what the recent windows show against what earlier ones did.

use super::micros;
use crate::evidence::{
    Delays, HopWindow, Kept, RouteCounts, SeenRoute, WINDOWS_A_MINUTE, Window, Windows, compatible,
    reaches_target,
};
use crate::stat;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Windows regarded together as "recent": one minute.
pub(crate) const RECENT: i64 = 6;
/// Windows that make what is usual, the newest ones without a finding: ten minutes.
const USUAL: usize = 60;
/// Fewer earlier windows than this say nothing about delay.
pub(super) const LEAST_USUAL: usize = 3;

/// One hop's evidence.
#[derive(Debug, Clone)]
pub(super) struct HopEvidence {
    /// Hop limit.
    pub(super) hop: u8,
    pub(super) address: Option<IpAddr>,
    pub(super) sent: u32,
    pub(super) lost: u32,
    /// Recent delays.
    pub(super) delays: Delays,
    /// Usual loss.
    pub(super) usual_loss: f64,
    /// Concentration of the usual loss.
    pub(super) kappa: f64,
    /// Usual 25th percentile of delay in milliseconds, and its spread.
    pub(super) usual_delay: Option<(f64, f64)>,
    /// Usual median of delay in milliseconds, to be shown beside the present one.
    pub(super) usual_median: Option<f64>,
}

impl HopEvidence {
    /// True when losses say the same of both.
    pub(super) fn loses_like(&self, other: &Self) -> bool {
        (self.sent, self.lost) == (other.sent, other.lost)
            && self.usual_loss.to_bits() == other.usual_loss.to_bits()
            && self.kappa.to_bits() == other.kappa.to_bits()
    }

    /// The counts of a hop, by its index, of which nothing usual is known.
    pub(super) fn of_counts(
        index: usize,
        address: Option<IpAddr>,
        (sent, lost): (u32, u32),
    ) -> Self {
        let now = HopWindow { sent, lost, ..HopWindow::default() };
        let usual = UsualHop { loss: 0.0, kappa: 0.0, delay: None, median: None };
        hop_evidence(index, address, now, &usual)
    }
}

/// A path's evidence.
#[derive(Debug, Clone)]
pub(super) struct Evidence {
    pub(super) rounds: u32,
    pub(super) hops: Vec<HopEvidence>,
}

/// What is usual at one hop.
#[derive(Debug, Clone, Copy)]
struct UsualHop {
    loss: f64,
    kappa: f64,
    delay: Option<(f64, f64)>,
    median: Option<f64>,
}

/// What one hop showed in an earlier window, of that which tells what is usual.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Learned {
    sent: u32,
    lost: u32,
    /// 25th percentile and median of the delay in microseconds; absent without delays.
    delays: Option<(u32, u32)>,
}

impl Learned {
    fn of(hop: &HopWindow) -> Self {
        let delays = hop.delays.quantile(1, 4).zip(hop.delays.quantile(1, 2));
        Self { sent: hop.sent, lost: hop.lost, delays }
    }
}

/// The hops of a route in an earlier window.
type LearnedHops = Box<[Learned]>;

fn learned(counts: &RouteCounts) -> LearnedHops {
    counts.hops.iter().map(Learned::of).collect()
}

/// The last window from which the usual at a window is learned: before the recent ones, the last of a
/// whole minute, so that it is learned once a minute.
const fn last_learned(window: i64) -> i64 {
    let after = window.saturating_sub(RECENT).saturating_add(1);
    after.div_euclid(WINDOWS_A_MINUTE).saturating_mul(WINDOWS_A_MINUTE).saturating_sub(1)
}

/// What is usual, by route, as learned last: it changes only with a minute, or when a window that it was
/// learned from does.
#[derive(Debug, Clone, Default)]
pub(crate) struct Usual {
    /// The last window that it was learned from.
    through: Option<i64>,
    /// The first, where there were as many as are regarded: what is before it does not matter.
    since: Option<i64>,
    members: Vec<(Vec<Option<IpAddr>>, Vec<UsualHop>)>,
    /// What the windows say that were regarded last.
    learned: BTreeMap<i64, Vec<(Arc<SeenRoute>, LearnedHops)>>,
}

impl Usual {
    /// A window has other counts, another flag, or is gone: what was made from it is forgotten.
    pub(crate) fn on_change(&mut self, window: i64) {
        self.learned.remove(&window);
        let is_regarded = self.since.is_none_or(|since| window >= since);
        if is_regarded && self.through.is_some_and(|through| window <= through) {
            self.through = None;
        }
    }

    /// What is usual before the minute that ends with `window`, on this route.
    fn at(&mut self, windows: &Windows, window: i64, route: &[Option<IpAddr>]) -> &[UsualHop] {
        let through = last_learned(window);
        if self.through != Some(through) {
            self.through = Some(through);
            self.members.clear();
        }
        if let Some(index) = self.members.iter().position(|(member, _)| member.as_slice() == route)
        {
            return &self.members[index].1;
        }
        let earlier = windows.range(..=through).rev();
        let earlier: Vec<(i64, &Kept)> =
            earlier.filter(|(_, kept)| !kept.flagged).take(USUAL).collect();
        let oldest = earlier.last().map(|(oldest, _)| *oldest);
        if let Some(oldest) = oldest {
            self.learned = self.learned.split_off(&oldest);
        }
        self.since = oldest.filter(|_| earlier.len() == USUAL);
        for (index, kept) in &earlier {
            self.learned.entry(*index).or_insert_with(|| {
                let of_route = |it: &RouteCounts| (Arc::clone(&it.route), learned(it));
                kept.window().routes.values().map(of_route).collect()
            });
        }
        let learned: Vec<Cow<'_, LearnedHops>> = earlier
            .iter()
            .filter_map(|(index, kept)| learned_of(self.learned.get(index)?, kept, route))
            .collect();
        let hops = (0..route.len()).map(|index| usual_hop(index, &learned)).collect();
        self.members.push((route.to_vec(), hops));
        self.members.last().map_or(&[], |(_, hops)| hops)
    }
}

/// What a window says of all routes that can be this one: usually one, lent as it is.
fn learned_of<'a>(
    by_route: &'a [(Arc<SeenRoute>, LearnedHops)],
    kept: &Kept,
    route: &[Option<IpAddr>],
) -> Option<Cow<'a, LearnedHops>> {
    let mut same = by_route.iter().filter(|(seen, _)| compatible(&seen.addresses, route));
    let (_, first) = same.next()?;
    match same.next() {
        None => Some(Cow::Borrowed(first)),
        Some(_) => {
            let window = kept.window();
            Some(Cow::Owned(learned(&*merged(&window, route)?)))
        }
    }
}

/// Collects the evidence for `window`, by route in it, the newest first; none when it
/// holds no round.
pub(super) fn collect(windows: &Windows, window: i64, usual: &mut Usual) -> Vec<Evidence> {
    let Some(content) = windows.get(window) else {
        return Vec::new();
    };
    let mut members: Vec<Vec<Option<IpAddr>>> = Vec::new();
    for present in content.newest_first() {
        if !members.iter().any(|member| compatible(member, &present.addresses)) {
            members.push(full_route(windows, window, present));
        }
    }
    let recent: Vec<Cow<'_, Window>> =
        windows.range(window - RECENT + 1..=window).map(|(_, kept)| kept.window()).collect();
    let of_member =
        |route: &Vec<Option<IpAddr>>| of_way(&recent, route, usual.at(windows, window, route));
    members.iter().map(of_member).collect()
}

fn of_way(recent: &[Cow<'_, Window>], route: &[Option<IpAddr>], usual: &[UsualHop]) -> Evidence {
    let recent: Vec<_> = recent.iter().filter_map(|window| merged(window, route)).collect();
    let rounds = recent.iter().map(|merged| merged.rounds).sum();
    let hops = route.iter().zip(usual).enumerate().map(|(index, (address, usual))| {
        let mut now = HopWindow::default();
        now.merge(recent.iter().filter_map(|merged| merged.hops.get(index)));
        // Nothing is known of what is usual: what may be wrong says nothing.
        let quarter = usual.delay.map(|(quarter_ms, _)| micros(quarter_ms).as_micros());
        if !now.late_delays.is_empty() {
            let late = quarter.iter().flat_map(|us| now.late_delays.iter().map(|d| d.toward(*us)));
            now.delays = Delays::merged([&now.delays], late);
        }
        hop_evidence(index, *address, now, usual)
    });
    Evidence { rounds, hops: hops.collect() }
}

/// The present route, completed by addresses that other windows of the same route have, and ended at
/// the target where an earlier one ended.
fn full_route(windows: &Windows, window: i64, present: &SeenRoute) -> Vec<Option<IpAddr>> {
    let mut route = present.addresses.clone();
    if !reaches_target(&route) {
        let mut known = windows.range(..=window).rev().flat_map(|(_, kept)| kept.newest_first());
        let known =
            known.find(|c| reaches_target(&c.addresses) && compatible(&c.addresses, &route));
        route.truncate(known.map_or(route.len(), |known| known.addresses.len()));
    }
    // Most routes have no silent hop.
    let earlier = windows.range(..=window).rev().take(USUAL);
    for earlier in earlier.flat_map(|(_, kept)| kept.routes()) {
        if route.iter().all(Option::is_some) {
            break;
        }
        if compatible(&earlier.addresses, &route) {
            for (known, other) in route.iter_mut().zip(&earlier.addresses) {
                *known = known.or(*other);
            }
        }
    }
    route
}

/// All counts of a window that can belong to this route: usually one route's, lent as they are.
fn merged<'a>(window: &'a Window, route: &[Option<IpAddr>]) -> Option<Cow<'a, RouteCounts>> {
    let mut same = window.routes.values().filter(|c| compatible(&c.route.addresses, route));
    let mut total = Cow::Borrowed(same.next()?);
    for counts in same {
        let total = total.to_mut();
        total.rounds += counts.rounds;
        if total.hops.len() < counts.hops.len() {
            total.hops.resize_with(counts.hops.len(), HopWindow::default);
        }
        for (mine, theirs) in total.hops.iter_mut().zip(&counts.hops) {
            mine.merge(std::iter::once(theirs));
        }
    }
    Some(total)
}

fn hop_evidence(
    index: usize,
    address: Option<IpAddr>,
    now: HopWindow,
    usual: &UsualHop,
) -> HopEvidence {
    HopEvidence {
        hop: u8::try_from(index + 1).unwrap_or(u8::MAX),
        address,
        sent: now.sent,
        lost: now.lost,
        delays: now.delays,
        usual_loss: usual.loss,
        kappa: usual.kappa,
        usual_delay: usual.delay,
        usual_median: usual.median,
    }
}

fn usual_hop(index: usize, usual: &[Cow<'_, LearnedHops>]) -> UsualHop {
    let of_hop = || usual.iter().filter_map(|window| window.get(index));
    let (mut lost, mut sent) = (0.0, 0.0);
    let mut quarters_ms: Vec<f64> = Vec::with_capacity(usual.len());
    let mut medians_ms: Vec<f64> = Vec::with_capacity(usual.len());
    for hop in of_hop() {
        lost += f64::from(hop.lost);
        sent += f64::from(hop.sent);
        if let Some((quarter_us, median_us)) = hop.delays {
            quarters_ms.push(f64::from(quarter_us) / 1_000.0);
            medians_ms.push(f64::from(median_us) / 1_000.0);
        }
    }
    // Shrunk toward a common overdispersion of 1/200 while few losses speak.
    let weight = lost / (lost + 15.0);
    let overdispersion = match weight {
        0.0 => 0.0,
        _ => stat::overdispersion(&of_hop().map(|hop| (hop.lost, hop.sent)).collect::<Vec<_>>()),
    };
    let rho = weight * overdispersion + (1.0 - weight) / 200.0;
    let is_known = quarters_ms.len() >= LEAST_USUAL;
    UsualHop {
        loss: (lost + 0.25) / (sent + 100.0),
        kappa: (1.0 / rho.max(1e-6) - 1.0).min(400.0),
        delay: is_known.then(|| stat::median_and_mad(quarters_ms)).flatten(),
        median: is_known.then(|| stat::median_of(&mut medians_ms)).flatten(),
    }
}
