//! Scores of groups of cases: by kind, by size, by what crosses the fault, by what is known before.

use super::cases::{Effect, Kind};
use super::figures::{ScoredCase, is_first, is_link, mean_of, one};
use super::interval::Interval;
use super::run::{CaseRecord, WorldRecord};
use serde::{Deserialize, Serialize};

/// Scores of some of the cases.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Group {
    /// Which.
    pub name: String,
    /// The link is right; without a fault, the share of cases without a claim; of
    /// several faults, the share of cases in which all are found; owner-wide, in which the extent is right.
    pub link: Interval,
    /// The owner is right.
    pub owner: Interval,
    /// Share of the cases in which any claim could be right: the most that `link` can be.
    pub ceiling: Interval,
}

fn group(
    label: String,
    name: &str,
    worlds: &[&WorldRecord],
    wanted: impl Fn(&CaseRecord) -> bool + Copy,
) -> Group {
    let right = |(case, verdict): ScoredCase<'_>| one(verdict.is_right(case.kind));
    let owner = |(case, verdict): ScoredCase<'_>| {
        case.kind.is_fault().then(|| f64::from(u8::from(verdict.owner)))
    };
    Group {
        name: label,
        link: mean_of(name, worlds, wanted, right),
        owner: mean_of(name, worlds, wanted, owner),
        ceiling: mean_of(name, worlds, wanted, |(case, _)| one(case.truth.nameable)),
    }
}

pub(super) fn by_kind(name: &str, worlds: &[&WorldRecord]) -> Vec<Group> {
    let of = |kind: Kind| {
        let label = serde_name(kind);
        group(label, name, worlds, |case| case.kind == kind && !case.truth.is_undetectable())
    };
    let undetectable = |case: &CaseRecord| case.truth.is_undetectable();
    let rest = group("undetectable".to_owned(), name, worlds, undetectable);
    Kind::all().map(of).chain(std::iter::once(rest)).collect()
}

/// A kind's name in words.
pub(super) fn serde_name(kind: Kind) -> String {
    match kind {
        Kind::ForwardLoss => "forward loss",
        Kind::ReverseLoss => "return loss",
        Kind::ForwardDelay => "forward delay",
        Kind::ReverseDelay => "return delay",
        Kind::Member => "one member of a bundle",
        Kind::BlackHole => "black hole",
        Kind::OwnerWide => "owner-wide",
        Kind::AgentSite => "a site's line",
        Kind::TargetEnd => "a target's line",
        Kind::None => "no fault",
        Kind::Two => "two at once",
        Kind::RouteChange => "route change",
        Kind::ClockStep => "clock step",
    }
    .to_owned()
}

/// After a cold start nothing but some minutes is known; otherwise weeks of summaries.
pub(super) fn by_history(name: &str, worlds: &[&WorldRecord]) -> Vec<Group> {
    let of = |(label, is_cold): (&str, bool)| {
        group(label.to_owned(), name, worlds, |case| is_first(case) && (case.weeks == 0) == is_cold)
    };
    [("cold start, at most 10 minutes", true), ("10 to 30 minutes, and weeks", false)]
        .map(of)
        .into()
}

pub(super) fn by_size(name: &str, worlds: &[&WorldRecord]) -> Vec<Group> {
    let losses = [(0.0, 0.02), (0.02, 0.05), (0.05, 0.2), (0.2, 1.0)].map(|(low, high)| {
        let label = format!("loss {:.0} to {:.0} %", low * 100.0, (high * 100.0_f64).min(30.0));
        group(label, name, worlds, |case| {
            is_link(case)
                && matches!(case.effect, Effect::Loss(share) if share >= low && share < high)
        })
    });
    let delays = [(3.0, 8.0), (8.0, 20.0), (20.0, 60.0), (60.0, 200.1)].map(|(low, high)| {
        let label = format!("delay {low:.0} to {high:.0} ms");
        group(label, name, worlds, |case| {
            is_link(case) && matches!(case.effect, Effect::DelayMs(ms) if ms >= low && ms < high)
        })
    });
    losses.into_iter().chain(delays).collect()
}

pub(super) fn by_crossings(name: &str, worlds: &[&WorldRecord]) -> Vec<Group> {
    let of = |(low, high, label): (usize, usize, &str)| {
        group(format!("{label} paths cross it"), name, worlds, |case| {
            is_first(case) && (low..=high).contains(&case.truth.paths_crossing)
        })
    };
    [(0, 3, "up to 3"), (4, 10, "4 to 10"), (11, 30, "11 to 30"), (31, usize::MAX, "over 30")]
        .map(of)
        .into()
}

pub(super) fn by_class(name: &str, worlds: &[&WorldRecord]) -> Vec<Group> {
    let of = |(low, high, label): (usize, usize, &str)| {
        group(label.to_owned(), name, worlds, |case| {
            is_first(case) && (low..=high).contains(&case.truth.class_links)
        })
    };
    [(0, 1, "a link of its own"), (2, 2, "two alike"), (3, usize::MAX, "three or more alike")]
        .map(of)
        .into()
}
