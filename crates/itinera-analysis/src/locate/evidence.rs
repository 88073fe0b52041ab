//! Evidence of one path: what the recent windows show against what earlier ones did.

use super::micros;
use crate::delays::Delays;
use crate::history::{HopWindow, RouteCounts, Window, compatible, reaches_target};
use crate::stat;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Windows regarded together as "recent": one minute.
pub(crate) const RECENT: i64 = 6;
/// Windows that make what is usual, the newest ones without a finding: ten minutes.
const USUAL: usize = 60;
/// Fewer earlier windows than this say nothing about delay.
const LEAST_USUAL: usize = 3;

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

/// What was usual at the last window, by route: round after round of one window asks for
/// it, and it changes only when a window before the recent ones does.
#[derive(Debug, Clone, Default)]
pub(crate) struct Usual {
    of: Option<i64>,
    members: Vec<(Vec<Option<IpAddr>>, Vec<UsualHop>)>,
}

impl Usual {
    /// A window has other counts, another flag, or is gone: what was made from it is forgotten.
    pub(crate) fn on_change(&mut self, window: i64) {
        if self.of.is_some_and(|regarded| window <= regarded - RECENT) {
            self.of = None;
        }
    }

    /// What is usual before the minute that ends with `window`, on this route.
    fn at(
        &mut self,
        windows: &BTreeMap<i64, Window>,
        window: i64,
        route: &[Option<IpAddr>],
    ) -> &[UsualHop] {
        if self.of != Some(window) {
            self.of = Some(window);
            self.members.clear();
        }
        if let Some(index) = self.members.iter().position(|(member, _)| member.as_slice() == route)
        {
            return &self.members[index].1;
        }
        let earlier: Vec<_> = windows
            .range(..=window - RECENT)
            .rev()
            .filter(|(_, earlier)| !earlier.flagged)
            .take(USUAL)
            .filter_map(|(_, earlier)| merged(earlier, route))
            .collect();
        let hops = (0..route.len()).map(|index| usual_hop(index, &earlier)).collect();
        self.members.push((route.to_vec(), hops));
        self.members.last().map_or(&[], |(_, hops)| hops)
    }
}

/// Collects the evidence for `window`, by route in it, the newest first; none when it
/// holds no round.
pub(super) fn collect(
    windows: &BTreeMap<i64, Window>,
    window: i64,
    usual: &mut Usual,
) -> Vec<Evidence> {
    let Some(content) = windows.get(&window) else {
        return Vec::new();
    };
    let mut members: Vec<Vec<Option<IpAddr>>> = Vec::new();
    for present in content.newest_first() {
        if !members.iter().any(|member| compatible(member, &present.addresses)) {
            members.push(full_route(windows, window, present));
        }
    }
    members.iter().map(|route| of_way(windows, window, route, usual)).collect()
}

fn of_way(
    windows: &BTreeMap<i64, Window>,
    window: i64,
    route: &[Option<IpAddr>],
    usual: &mut Usual,
) -> Evidence {
    let recent: Vec<_> = same_route(windows.range(window - RECENT + 1..=window), route).collect();
    let usual = usual.at(windows, window, route);
    let rounds = recent.iter().map(|merged| merged.rounds).sum();
    let hops = route.iter().zip(usual).enumerate().map(|(index, (address, usual))| {
        let mut now = HopWindow::default();
        let hops: Vec<_> = recent.iter().filter_map(|merged| merged.hops.get(index)).collect();
        now.merge(&hops);
        // Nothing is known of what is usual: what may be wrong says nothing.
        let quarter = usual.delay.map(|(quarter_ms, _)| micros(quarter_ms).as_micros());
        let late = quarter.iter().flat_map(|us| now.late_delays.iter().map(|d| d.toward(*us)));
        now.delays = Delays::merged([&now.delays], late);
        hop_evidence(index, *address, now, usual)
    });
    Evidence { rounds, hops: hops.collect() }
}

/// The present route, completed by addresses that other windows of the same route have, and ended at
/// the target where an earlier one ended.
fn full_route(
    windows: &BTreeMap<i64, Window>,
    window: i64,
    present: &RouteCounts,
) -> Vec<Option<IpAddr>> {
    let mut route = present.addresses.clone();
    if !reaches_target(&route) {
        let mut known = windows.range(..=window).rev().flat_map(|(_, w)| w.newest_first());
        let known =
            known.find(|c| reaches_target(&c.addresses) && compatible(&c.addresses, &route));
        route.truncate(known.map_or(route.len(), |known| known.addresses.len()));
    }
    for earlier in windows.range(..=window).rev().take(USUAL).flat_map(|(_, w)| w.routes.values()) {
        if compatible(&earlier.addresses, &route) {
            for (known, other) in route.iter_mut().zip(&earlier.addresses) {
                *known = known.or(*other);
            }
        }
    }
    route
}

fn same_route<'a>(
    windows: impl Iterator<Item = (&'a i64, &'a Window)>,
    route: &[Option<IpAddr>],
) -> impl Iterator<Item = Cow<'a, RouteCounts>> {
    windows.filter_map(move |(_, window)| merged(window, route))
}

/// All counts of a window that can belong to this route: usually one route's, lent as they are.
fn merged<'a>(window: &'a Window, route: &[Option<IpAddr>]) -> Option<Cow<'a, RouteCounts>> {
    let mut same = window.routes.values().filter(|c| compatible(&c.addresses, route));
    let mut total = Cow::Borrowed(same.next()?);
    for counts in same {
        let total = total.to_mut();
        total.rounds += counts.rounds;
        if total.hops.len() < counts.hops.len() {
            total.hops.resize_with(counts.hops.len(), HopWindow::default);
        }
        for (mine, theirs) in total.hops.iter_mut().zip(&counts.hops) {
            mine.merge(&[theirs]);
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

fn usual_hop(index: usize, usual: &[Cow<'_, RouteCounts>]) -> UsualHop {
    let counts: Vec<(u32, u32)> =
        usual.iter().filter_map(|w| w.hops.get(index)).map(|hop| (hop.lost, hop.sent)).collect();
    let lost: f64 = counts.iter().map(|(lost, _)| f64::from(*lost)).sum();
    let sent: f64 = counts.iter().map(|(_, sent)| f64::from(*sent)).sum();
    // Shrunk toward a common overdispersion of 1/200 while few losses speak.
    let weight = lost / (lost + 15.0);
    let rho = weight * stat::overdispersion(&counts) + (1.0 - weight) / 200.0;
    let by_window = |numerator, denominator| -> Option<Vec<f64>> {
        let values: Vec<f64> = usual
            .iter()
            .filter_map(|w| w.hops.get(index)?.delays.quantile(numerator, denominator))
            .map(|us| f64::from(us) / 1_000.0)
            .collect();
        (values.len() >= LEAST_USUAL).then_some(values)
    };
    let quarters = by_window(1, 4);
    UsualHop {
        loss: (lost + 0.25) / (sent + 100.0),
        kappa: (1.0 / rho.max(1e-6) - 1.0).min(400.0),
        delay: quarters.and_then(|values| stat::median(&values).zip(stat::mad(&values))),
        median: by_window(1, 2).and_then(|values| stat::median(&values)),
    }
}
