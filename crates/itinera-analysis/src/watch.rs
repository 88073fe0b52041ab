//! What a watch has found, summed up.

use crate::judge::{Effect, Judge, Observation};
use crate::{complaint, messages};
use itinera_model::finding::Assessment;
use itinera_model::id::ContentId;
use itinera_model::note::{DelayQuantiles, Note, RouteCount, TargetLoss};
use itinera_model::quantile::quantile;
use itinera_model::unit::{Micros, WallTime};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The far end over the time of a watch.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WatchSummary {
    /// Rounds regarded.
    pub rounds: u32,
    /// Probes sent to the far end.
    pub sent: u32,
    /// Of those, unanswered in time.
    pub lost: u32,
    /// Round-trip delay to the far end: smallest, median, 95th percentile.
    pub delay: Option<[Micros; 3]>,
    /// Number of different routes.
    pub routes: u32,
    /// All of it as notes, with the surest finding.
    pub notes: Vec<Note>,
}

/// The worst assessment: one that suffers with the surest finding; else with the most lost to
/// the far end, the newest of these.
pub fn worst(assessments: Vec<Assessment>) -> Option<Assessment> {
    assessments.into_iter().max_by_key(|assessment| {
        let sure = assessment.finding.as_ref().map(|finding| finding.confidence_ppm);
        let suffers = complaint::suffers(assessment);
        (suffers, sure.filter(|_| suffers), assessment.end_lost, assessment.until)
    })
}

/// Sums up a watch page by page: what it keeps does not grow with the number of rounds, but for
/// their delays.
#[derive(Debug, Default)]
pub struct WatchSum {
    summary: WatchSummary,
    delays: Vec<Micros>,
    routes: BTreeSet<ContentId>,
    judge: Judge,
    /// Assessments of windows to which more rounds may come.
    open: BTreeMap<i64, Assessment>,
    worst: Option<Assessment>,
    begun: Option<WallTime>,
}

/// Windows behind the newest that still take rounds of the next page.
const OPEN_WINDOWS: i64 = 60;

impl WatchSum {
    /// Takes a page of rounds of one path in the order of measuring; pages follow each other in
    /// time. What is usual is learned from all of them, and those that are `within` count.
    pub fn add(&mut self, page: &[Observation<'_>], within: impl Fn(&Observation<'_>) -> bool) {
        for observation in page.iter().filter(|observation| within(observation)) {
            let Some(end) = observation.hops.last() else {
                continue;
            };
            self.begun.get_or_insert(observation.measured_at);
            self.summary.rounds += 1;
            self.summary.sent += u32::from(end.sent);
            self.summary.lost += u32::from(end.sent.saturating_sub(end.answers()));
            self.delays.extend(end.rtt.iter().copied());
            self.routes.insert(observation.route);
        }
        for effect in self.judge.step_through(page) {
            if let Effect::Assessed { window, assessment, .. } = effect {
                self.open.insert(window, Arc::unwrap_or_clone(assessment));
            }
        }
        let newest = self.open.keys().next_back().copied().unwrap_or(0);
        let still_open = self.open.split_off(&newest.saturating_sub(OPEN_WINDOWS));
        let closed = std::mem::replace(&mut self.open, still_open);
        self.close(closed);
    }

    fn close(&mut self, closed: BTreeMap<i64, Assessment>) {
        let begun = self.begun;
        let mine = closed.into_values().filter(|a| begun.is_some_and(|begun| a.until >= begun));
        self.worst = worst(self.worst.take().into_iter().chain(mine).collect());
    }

    /// All of it in figures and notes.
    pub fn finish(mut self) -> WatchSummary {
        let open = std::mem::take(&mut self.open);
        self.close(open);
        let Self { mut summary, mut delays, routes, worst, .. } = self;
        delays.sort_unstable();
        let at = |percent: usize| quantile(&delays, percent, 100);
        summary.delay =
            at(0).zip(at(50)).zip(at(95)).map(|((least, middle), most)| [least, middle, most]);
        summary.routes = u32::try_from(routes.len()).unwrap_or(u32::MAX);
        summary.notes = notes(&summary);
        if let Some(finding) = worst.and_then(|worst| worst.finding) {
            summary.notes.push(Note::WorstFinding(Box::new(messages::of_finding(&finding))));
        } else if summary.rounds > 0 {
            summary.notes.push(Note::NoFaultLocated);
        }
        summary
    }
}

fn notes(summary: &WatchSummary) -> Vec<Note> {
    let WatchSummary { rounds, sent, lost, delay, routes, .. } = *summary;
    if rounds == 0 {
        return vec![Note::NothingMeasured];
    }
    let mut notes = vec![Note::TargetLoss(TargetLoss { rounds, sent, lost })];
    notes.push(match delay.map(|all| all.map(Micros::as_micros)) {
        Some([min_us, median_us, p95_us]) => {
            Note::TargetDelay(DelayQuantiles { min_us, median_us, p95_us })
        }
        None => Note::NothingAnswered,
    });
    if routes > 1 {
        notes.push(Note::RoutesUsed(RouteCount { routes }));
    }
    notes
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::PathId;
    use itinera_model::message::Message;
    use itinera_model::round::{HopCounts, StampSource};
    use itinera_model::route::FlowKey;
    use std::net::IpAddr;
    use uuid::Uuid;

    #[test]
    fn a_watch_says_what_was_lost_and_where_it_began() {
        let addresses: Vec<Option<IpAddr>> =
            (1..=4).map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).collect();
        let hops = |answered: [u16; 4]| -> Vec<HopCounts> {
            let hop = |answered: u16| HopCounts {
                sent: 5,
                answered,
                rtt: vec![Micros::new(900); answered.count_ones() as usize],
                ..HopCounts::default()
            };
            answered.map(hop).to_vec()
        };
        let (good, bad) = (hops([31; 4]), hops([31, 31, 15, 15]));
        let observe = |second: i64| Observation {
            path: PathId::from_uuid(Uuid::nil()),
            measured_at: WallTime::from_unix_seconds(1_700_000_000 + second),
            number: second.cast_unsigned(),
            source: IpAddr::from([10, 0, 0, 2]),
            flow: FlowKey::default(),
            route: ContentId::of(b"route"),
            addresses: &addresses,
            hops: if second >= 120 { &bad } else { &good },
            stamps: StampSource::Virtual,
            lateness: None,
            arrived_dscp: None,
        };
        let all: Vec<_> = (0..240).map(observe).collect();
        let begins = |second: usize| {
            let at = all.get(second).map(|observation| observation.measured_at);
            move |observation: &Observation<'_>| at.is_some_and(|at| observation.measured_at >= at)
        };
        let sum_up = |all: &[Observation<'_>], within: usize, page: usize| {
            let mut sum = WatchSum::default();
            all.chunks(page).for_each(|page| sum.add(page, begins(within)));
            sum.finish()
        };
        let summary = sum_up(&all, 60, 240);
        for page in [1, 7, 100] {
            assert_eq!(sum_up(&all, 60, page), summary, "in pages of {page}");
        }
        assert_eq!(
            (summary.rounds, summary.sent, summary.lost, summary.routes),
            (180, 900, 120, 1)
        );
        assert_eq!(summary.delay, Some([Micros::new(900); 3]));
        let delay = DelayQuantiles { min_us: 900, median_us: 900, p95_us: 900 };
        let counts = TargetLoss { rounds: 180, sent: 900, lost: 120 };
        assert_eq!(summary.notes[..2], [Note::TargetLoss(counts), Note::TargetDelay(delay)]);
        let [Note::WorstFinding(worst)] = &summary.notes[2..] else { panic!("{summary:?}") };
        let Message::LossLocated(fault) = &**worst else { panic!("{worst:?}") };
        assert_eq!(fault.place.ends().unwrap().1, IpAddr::from([198, 18, 0, 3]));
        let calm = sum_up(&all[..60], 0, 60).notes;
        assert_eq!(calm[0], Note::TargetLoss(TargetLoss { rounds: 60, sent: 300, lost: 0 }));
        assert_eq!(calm.last(), Some(&Note::NoFaultLocated));
        assert_eq!(sum_up(&all[..60], 60, 60).notes, [Note::NothingMeasured]);
    }
}
