//! Judgement of what was, computed again from the rounds of then.

use crate::judge::{Effect, Judge, Observation};
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Every window's assessment, by path and time. What was usual is learned from the windows
/// before it within the same observations, so they should begin some minutes earlier.
pub fn assessments(observations: &[Observation<'_>]) -> Vec<Assessment> {
    let mut ordered = observations.to_vec();
    ordered.sort_by_key(|observation| observation.measured_at);
    let mut assessed: BTreeMap<(PathId, i64), Arc<Assessment>> = BTreeMap::new();
    for effect in Judge::default().step_through(&ordered) {
        if let Effect::Assessed { window, assessment, .. } = effect {
            assessed.insert((assessment.path, window), assessment);
        }
    }
    assessed.into_values().map(Arc::unwrap_or_clone).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::HopVerdict;
    use itinera_model::id::ContentId;
    use itinera_model::round::{HopCounts, StampSource};
    use itinera_model::route::FlowKey;
    use itinera_model::unit::{Micros, WallTime};
    use std::net::IpAddr;
    use uuid::Uuid;

    fn said(answered: [u16; 4], rounds: i64) -> Option<Assessment> {
        let addresses: Vec<Option<IpAddr>> =
            (1..=4).map(|hop| Some(IpAddr::from([198, 18, 0, hop]))).collect();
        let hops: Vec<HopCounts> = answered
            .into_iter()
            .map(|answered| HopCounts {
                sent: 5,
                answered,
                rtt: vec![Micros::new(900); answered.count_ones() as usize],
                ..HopCounts::default()
            })
            .collect();
        let observations: Vec<Observation<'_>> = (0..rounds)
            .map(|number| Observation {
                path: PathId::from_uuid(Uuid::nil()),
                measured_at: WallTime::from_unix_seconds(1_700_000_000 + number),
                number: number.cast_unsigned(),
                source: IpAddr::from([10, 0, 0, 2]),
                flow: FlowKey::default(),
                route: ContentId::of(b"route"),
                addresses: &addresses,
                hops: &hops,
                stamps: StampSource::Virtual,
                lateness: None,
                arrived_dscp: None,
            })
            .collect();
        assessments(&observations).pop()
    }

    #[test]
    fn ten_seconds_tell_where_loss_begins_and_what_is_rate_limiting() {
        assert_eq!(said([31; 4], 0), None);
        let clean = said([31; 4], 10).unwrap();
        assert!(clean.finding.is_none() && clean.rounds == 10);
        let lossy = said([31, 31, 15, 15], 10).unwrap();
        let to = lossy.finding.unwrap().place.first_with_fault().unwrap();
        assert_eq!(to, IpAddr::from([198, 18, 0, 3]));
        let rate_limits = said([31, 1, 31, 31], 10).unwrap();
        assert!(rate_limits.finding.is_none());
        assert_eq!(rate_limits.hops[1].verdict, HopVerdict::RateLimits);
    }
}
