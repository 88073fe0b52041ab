//! Figures over the cases of worlds, with their intervals.

use super::cases::Kind;
use super::interval::{Interval, of_worlds};
use super::run::{CaseRecord, WorldRecord};
use super::verdict::CaseScore;

pub(super) const fn is_link(case: &CaseRecord) -> bool {
    case.kind.is_link()
}

pub(super) fn is_first(case: &CaseRecord) -> bool {
    case.kind.is_link() && case.effect.is_first()
}

/// Cases in which a confidence is weighed: single faults, and none.
pub(super) fn is_weighed(case: &CaseRecord) -> bool {
    case.kind.is_single() || case.kind == Kind::None
}

/// What a figure is made from: one case and its score.
pub(super) type ScoredCase<'a> = (&'a CaseRecord, &'a CaseScore);

pub(super) fn held<'a>(
    name: &'a str,
    worlds: &'a [&'a WorldRecord],
    wanted: impl Fn(&CaseRecord) -> bool + Copy + 'a,
) -> impl Iterator<Item = ScoredCase<'a>> + 'a {
    let cases = worlds.iter().flat_map(|world| &world.cases).filter(move |case| wanted(case));
    cases.filter_map(move |case| Some((case, case.verdicts.get(name)?)))
}

/// The mean of something over cases, where it is there.
pub(super) fn mean_of(
    name: &str,
    worlds: &[&WorldRecord],
    wanted: impl Fn(&CaseRecord) -> bool + Copy,
    value: impl Fn(ScoredCase<'_>) -> Option<f64> + Copy,
) -> Interval {
    let count = held(name, worlds, wanted).filter_map(value).count();
    of_worlds(worlds, count, |drawn| {
        let worlds: Vec<&WorldRecord> = drawn.iter().map(|world| **world).collect();
        let values = held(name, &worlds, wanted).filter_map(value);
        let (sum, count) = values.fold((0.0, 0usize), |(sum, count), v| (sum + v, count + 1));
        (count > 0).then(|| sum / count as f64)
    })
}

/// Any figure over cases.
pub(super) fn figure_of(
    name: &str,
    worlds: &[&WorldRecord],
    wanted: impl Fn(&CaseRecord) -> bool + Copy,
    figure: impl Fn(&[ScoredCase<'_>]) -> Option<f64> + Copy,
) -> Interval {
    let count = held(name, worlds, wanted).filter(|(_, verdict)| verdict.claimed).count();
    of_worlds(worlds, count, |drawn| {
        let worlds: Vec<&WorldRecord> = drawn.iter().map(|world| **world).collect();
        let all: Vec<ScoredCase<'_>> = held(name, &worlds, wanted).collect();
        figure(&all)
    })
}

pub(super) fn one(is_so: bool) -> Option<f64> {
    Some(f64::from(u8::from(is_so)))
}
