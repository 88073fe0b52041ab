//! Rounds of paths with everything they refer to: what agents upload, a survey keeps and a
//! diagnosis looks at.

use crate::codec::DecodeError;
use crate::id::ContentId;
use crate::reading::Reading;
use crate::round::Round;
use crate::route::{Flow, Resolution, Route};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

const MAX_HOPS: usize = 64;
const MAX_PROBES: usize = 16;
/// Rounds that one set may have; agents put 500 into one.
const MAX_ROUNDS: usize = 10_000;

/// Rounds of paths, and the flows, resolutions, routes and readings that they refer to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RoundSet {
    /// Flows referred to.
    pub flows: Vec<Flow>,
    /// Resolutions referred to.
    pub resolutions: Vec<Resolution>,
    /// Routes referred to.
    pub routes: Vec<Route>,
    /// Readings referred to.
    #[serde(default)]
    pub readings: Vec<Reading>,
    /// The rounds.
    pub rounds: Vec<Round>,
}

impl RoundSet {
    /// Adds a round with what it refers to, each thing once.
    pub fn add(
        &mut self,
        round: Round,
        flow: &Flow,
        resolution: &Resolution,
        route: &Route,
        reading: &Reading,
    ) {
        if !self.flows.contains(flow) {
            self.flows.push(flow.clone());
        }
        if !self.resolutions.contains(resolution) {
            self.resolutions.push(resolution.clone());
        }
        if !self.routes.contains(route) {
            self.routes.push(route.clone());
        }
        if round.reading.is_some() && !self.readings.contains(reading) {
            self.readings.push(reading.clone());
        }
        self.rounds.push(round);
    }

    /// Checks every round against the set's own tables.
    ///
    /// # Errors
    /// [`DecodeError::Round`] naming the first round that refers to something the set does not
    /// hold, or with contradictory counts; [`DecodeError::Cbor`] for a set beyond its limits.
    pub fn check(&self) -> Result<(), DecodeError> {
        let flows: BTreeSet<ContentId> = self.flows.iter().map(Flow::id).collect();
        let resolutions: BTreeSet<_> = self.resolutions.iter().map(Resolution::id).collect();
        let routes: BTreeSet<ContentId> = self.routes.iter().map(Route::id).collect();
        let readings: BTreeSet<ContentId> = self.readings.iter().map(Reading::id).collect();
        let refuse = |text: &str| {
            Err(DecodeError::Cbor(ciborium::de::Error::Semantic(None, text.to_owned())))
        };
        if self.rounds.len() > MAX_ROUNDS {
            return refuse("more than 10,000 rounds");
        }
        if self.routes.iter().any(|route| route.hops.len() > MAX_HOPS) {
            return refuse("a route of more than 64 hops");
        }
        if self.readings.iter().any(|reading| !reading.is_bounded()) {
            return refuse("a reading of more than 64 hops, 16 labels or 64 bytes of a name");
        }
        self.rounds.iter().try_for_each(|round| {
            let refuse =
                |reason| Err(DecodeError::Round { path: round.path, number: round.number, reason });
            if !flows.contains(&round.flow) {
                return refuse("refers to a flow that is not beside it");
            }
            if !resolutions.contains(&round.resolution) {
                return refuse("refers to a resolution that is not beside it");
            }
            if !routes.contains(&round.route) {
                return refuse("refers to a route that is not beside it");
            }
            if round.reading.is_some_and(|reading| !readings.contains(&reading)) {
                return refuse("refers to a reading that is not beside it");
            }
            if round.hops.len() > MAX_HOPS {
                return refuse("has more than 64 hops");
            }
            if round.hops.iter().any(|hop| {
                hop.rtt.len() != hop.answered.count_ones() as usize
                    || usize::from(hop.sent) > MAX_PROBES
                    || hop.answers() > hop.sent
            }) {
                return refuse("has counts that contradict each other");
            }
            Ok(())
        })
    }
}
