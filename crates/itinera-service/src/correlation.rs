//! Gives the store what decides which faults have one cause.

use itinera_analysis::correlation::{Belongs, Correlator, Known};
use itinera_model::event::Fault;
use itinera_model::id::IncidentId;
use itinera_model::owner::OwnerMap;
use itinera_store::{Correlation, KnownFault};

/// Puts new faults into incidents by their cause.
pub(crate) struct ByCause<'a>(Correlator<'a, IncidentId>);

impl<'a> ByCause<'a> {
    /// Owners are those of a map.
    pub(crate) const fn new(map: &'a OwnerMap) -> Self {
        Self(Correlator::new(map))
    }
}

impl Correlation for ByCause<'_> {
    fn add(&mut self, known: KnownFault) {
        let KnownFault { incident, fault, closed_at, cleared_at } = &known;
        let (closed_at, cleared_at) = (closed_at.map(Into::into), cleared_at.map(Into::into));
        self.0.add(Known { incident: *incident, fault, closed_at, cleared_at });
    }

    fn choose(&self, fault: &Fault) -> (Option<IncidentId>, Vec<IncidentId>) {
        let Belongs { incident, same } = self.0.choose(fault);
        (incident, same)
    }

    fn merge(&mut self, from: IncidentId, into: IncidentId) {
        self.0.merge(from, into);
    }

    fn clear(&mut self) {
        self.0.clear();
    }
}
