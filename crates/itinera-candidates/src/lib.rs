//! What a candidate of the accuracy bench is shown and what it may say; and the candidates that
//! need nothing else.
//!
//! This crate knows no simulation, so no candidate can see a truth: the compiler refuses it, and
//! `cargo xtask gauges` refuses the dependency. It promises no sockets, no clock,
//! no files and no chance.
//!
//! A new candidate implements [`Candidate`] and is added to [`all`].

mod naive;
mod per_path;

use itinera_analysis::Observation;
use itinera_model::finding::{Cause, Place};
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::two_way::{Direction, OneWay};
use itinera_model::unit::WallTime;
use std::net::IpAddr;
use std::sync::Arc;

pub use naive::Naive;
pub use per_path::PerPath;

/// What everybody may know before anything is measured.
#[derive(Debug, Clone, Default)]
pub struct Topology {
    /// The paths.
    pub paths: Vec<PathFacts>,
    /// The pairs.
    pub pairs: Vec<PairFacts>,
    /// The owner map.
    pub owners: OwnerMap,
}

/// A path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PathFacts {
    /// Its name.
    pub id: PathId,
    /// The agent's address.
    pub source: IpAddr,
    /// The target's address.
    pub target: IpAddr,
}

/// Two agents that measure each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PairFacts {
    /// The sender's address.
    pub near: IpAddr,
    /// The reflector's address.
    pub far: IpAddr,
}

/// One round of a pair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PairRounds {
    /// Index among the topology's pairs.
    pub pair: usize,
    /// When it began.
    pub at: WallTime,
    /// Packets that left.
    pub sent: u16,
    /// Packets lost in an unknown direction.
    pub undetermined: u16,
    /// From the sender to the reflector.
    pub forward: OneWay,
    /// From the reflector to the sender.
    pub return_: OneWay,
}

/// Everything measured in one window of ten seconds.
#[derive(Debug, Clone, Copy)]
pub struct WindowInput<'a> {
    /// The window's end.
    pub until: WallTime,
    /// Rounds of paths, in the order of paths and then of time.
    pub rounds: &'a [Observation<'a>],
    /// Rounds of pairs.
    pub pairs: &'a [PairRounds],
}

/// What a candidate holds to be wrong.
#[derive(Debug, Clone, PartialEq)]
pub struct Claim {
    /// Loss or delay.
    pub cause: Cause,
    /// Where, with the probability that it is there: the most probable first. The first place
    /// alone is scored as the link; all of them are the set.
    pub places: Vec<(Place, f64)>,
    /// Direction over the place, as probes go; absent where the candidate does not say.
    pub direction: Option<Direction>,
    /// The owner, with its probability.
    pub owner: Option<(String, f64)>,
    /// Share lost, or milliseconds added, by the cause; absent where the candidate does not say.
    pub size: Option<f64>,
}

impl Claim {
    /// What makes two claims one that stands, rather than a new one.
    pub fn same_as(&self, other: &Self) -> bool {
        let first = |claim: &Self| claim.places.first().map(|(place, _)| *place);
        self.cause == other.cause && first(self) == first(other)
    }
}

/// A method that locates faults from measurements of agents.
pub trait Candidate: Send {
    /// What tables call it.
    fn name(&self) -> &'static str;

    /// Regards one more window; gives what stands at its end, what matters most first.
    fn regard(&mut self, shown: &WindowInput<'_>) -> Vec<Claim>;

    /// The same candidate with the same memory, to go on by itself.
    fn fork(&self) -> Box<dyn Candidate>;
}

/// Every candidate, without memory.
pub fn all(topology: &Arc<Topology>) -> Vec<Box<dyn Candidate>> {
    vec![Box::new(Naive::new(Arc::clone(topology))), Box::new(PerPath::new(Arc::clone(topology)))]
}

/// Name of the owner of the equipment at an address; equipment that the owner map does
/// not know belongs to a site.
pub fn owner_name(owners: &OwnerMap, address: IpAddr) -> String {
    owners.owner_of(address).map_or_else(|| SITE.to_owned(), |owner| owner.name.clone())
}

/// Stands for a site's own equipment.
pub const SITE: &str = "(the site's own)";
