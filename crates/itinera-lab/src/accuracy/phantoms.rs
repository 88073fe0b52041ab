//! Claims that nothing true explains, counted by episode.
//!
//! An episode begins with a claim and lasts while claims of the same cause share a place with it. So a
//! claim that stands for an hour counts once, and so does one that changes the order of its places.

use super::cast::Said;
use itinera_candidates::{Claim, Region};
use itinera_model::finding::Cause;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Windows without a claim after which the next one begins another episode: a minute.
const ENDS_AFTER: u64 = 6;
/// Confidences at which episodes are counted.
pub(super) const LEVELS: [f64; 3] = [0.0, 0.9, 0.99];

/// A link got worse by itself where it loses so much more, or delays by so many milliseconds more, than it did.
const LEAST_LOSS: f64 = 0.005;
const LEAST_DELAY_MS: f64 = 2.0;
/// A size is right within this factor.
const SIZE_FACTOR: f64 = 2.0;

/// Whether a claim tells of a link that by itself loses this share more and delays by so many milliseconds more than
/// it did: by the cause, with about the size. A claim without a size tells of none.
pub(super) fn is_surge(claim: &Claim, more_loss: f64, more_ms: f64) -> bool {
    let (grown, least) = match claim.cause {
        Cause::Delay => (more_ms, LEAST_DELAY_MS),
        _ => (more_loss, LEAST_LOSS),
    };
    let is_near = |size: f64| (grown / SIZE_FACTOR..=grown * SIZE_FACTOR).contains(&size);
    grown >= least && claim.size.is_some_and(is_near)
}

/// Episodes of a candidate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct PhantomRecord {
    /// Without explanation, by the confidence that they reach: any, .9, .99.
    pub phantoms: [u64; 3],
    /// With a link that really got worse: cause, direction and size are right.
    pub true_surges: u64,
    /// Windows that were watched.
    pub windows: u64,
    /// Extra rounds that it asked for in these, and got.
    pub extra_rounds: u64,
}

impl PhantomRecord {
    /// Adds the episodes of another time.
    pub(super) fn add(&mut self, other: &Self) {
        for (sum, more) in self.phantoms.iter_mut().zip(other.phantoms) {
            *sum += more;
        }
        self.true_surges += other.true_surges;
        self.windows += other.windows;
        self.extra_rounds += other.extra_rounds;
    }
}

/// What explains a claim.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Explanation {
    /// The fault of the case; its place may be wrong, which is scored by itself.
    Fault,
    /// A link that got worse by itself.
    Surge,
    /// Nothing.
    Nothing,
}

#[derive(Debug, Clone)]
struct Episode {
    cause: Cause,
    places: BTreeSet<Region>,
    last: u64,
    confidence: f64,
    explanation: Explanation,
}

/// The episodes of a candidate as windows come.
#[derive(Debug, Clone, Default)]
pub(super) struct Episodes {
    open: Vec<Episode>,
    /// What has been counted.
    pub(super) record: PhantomRecord,
}

impl Episodes {
    /// The same episodes, with nothing counted.
    pub(super) fn continued(&self) -> Self {
        Self { open: self.open.clone(), record: PhantomRecord::default() }
    }

    /// Takes what a candidate says at the end of a window. `explain` is asked about each episode that
    /// begins, with the number of open episodes that the fault explains.
    pub(super) fn regard(
        &mut self,
        window: u64,
        said: &Said,
        mut explain: impl FnMut(&Claim, usize) -> Explanation,
    ) {
        self.open.retain(|episode| episode.last + ENDS_AFTER >= window);
        self.record.windows += 1;
        self.record.extra_rounds += said.extra_rounds;
        for claim in &said.claims {
            let Some((_, confidence)) = claim.places.first() else { continue };
            let regions = claim.places.iter().map(|(region, _)| region.clone());
            let places: BTreeSet<Region> = regions.collect();
            let known = self.open.iter().position(|episode| {
                episode.cause == claim.cause && !episode.places.is_disjoint(&places)
            });
            let index = known.unwrap_or_else(|| {
                let of_fault = |it: &&Episode| it.explanation == Explanation::Fault;
                let explanation = explain(claim, self.open.iter().filter(of_fault).count());
                self.record.true_surges += u64::from(explanation == Explanation::Surge);
                let (cause, places) = (claim.cause, BTreeSet::new());
                let last = window;
                self.open.push(Episode { cause, places, last, confidence: -1.0, explanation });
                self.open.len() - 1
            });
            let episode = &mut self.open[index];
            episode.places.extend(places);
            episode.last = window;
            let before = episode.confidence;
            episode.confidence = before.max(*confidence);
            if episode.explanation == Explanation::Nothing {
                for (count, level) in self.record.phantoms.iter_mut().zip(LEVELS) {
                    *count += u64::from(before < level && episode.confidence >= level);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::Place;

    fn claim(last: &[u8], confidence: f64) -> Claim {
        let place =
            |last: &u8| (Place::Node { address: [198, 18, 0, *last].into() }.into(), confidence);
        let places = last.iter().map(place).collect();
        Claim { cause: Cause::Loss, places, direction: None, owner: None, size: None }
    }

    #[test]
    fn a_link_that_got_worse_explains_a_claim_of_about_that_size() {
        let told = |cause, size| Claim { cause, size, ..claim(&[1], 0.9) };
        for (cause, size, is_true) in [
            (Cause::Loss, Some(0.02), true),
            (Cause::Loss, Some(0.011), true),
            (Cause::Loss, Some(0.05), false),
            (Cause::Loss, None, false),
            (Cause::Delay, Some(4.0), false),
        ] {
            assert_eq!(is_surge(&told(cause, size), 0.02, 1.0), is_true, "{cause} {size:?}");
        }
        assert!(is_surge(&told(Cause::Delay, Some(4.0)), 0.02, 5.0));
        assert!(!is_surge(&told(Cause::Loss, Some(0.004)), 0.004, 0.0), "too little to be a surge");
    }

    #[test]
    fn an_episode_counts_once_at_each_confidence_whatever_the_order_of_its_places() {
        let mut episodes = Episodes::default();
        let said = |claims: &[Claim]| Said { claims: claims.to_vec(), extra_rounds: 0 };
        let mut regard = |window, claims: &[Claim]| {
            episodes.regard(window, &said(claims), |_, _| Explanation::Nothing);
            episodes.record.phantoms
        };
        assert_eq!(regard(0, &[claim(&[1, 2], 0.5)]), [1, 0, 0]);
        assert_eq!(regard(1, &[claim(&[2, 1], 0.95)]), [1, 1, 0]);
        assert_eq!(regard(2, &[]), [1, 1, 0]);
        assert_eq!(regard(3, &[claim(&[3, 2], 0.999)]), [1, 1, 1]);
        assert_eq!(regard(9, &[claim(&[3], 0.2)]), [1, 1, 1], "within a minute");
        assert_eq!(regard(16, &[claim(&[3], 0.2), claim(&[4], 0.92)]), [3, 2, 1]);
        let mut continued = episodes.continued();
        continued.regard(17, &said(&[claim(&[4], 0.92)]), |_, _| Explanation::Nothing);
        let nothing = PhantomRecord { windows: 1, ..PhantomRecord::default() };
        assert_eq!(continued.record, nothing, "it was counted before");
    }

    #[test]
    fn what_is_explained_is_no_phantom_however_sure_it_becomes() {
        let mut episodes = Episodes::default();
        let mut asked = Vec::new();
        for (window, confidence) in [(0, 0.3), (1, 0.999)] {
            let claims = vec![claim(&[1], confidence), claim(&[2], confidence)];
            let said = Said { claims, extra_rounds: 0 };
            episodes.regard(window, &said, |_, of_fault| {
                asked.push(of_fault);
                if asked.len() == 1 { Explanation::Fault } else { Explanation::Surge }
            });
        }
        assert_eq!(asked, [0, 1]);
        assert_eq!(
            episodes.record,
            PhantomRecord { true_surges: 1, windows: 2, ..PhantomRecord::default() }
        );
    }
}
