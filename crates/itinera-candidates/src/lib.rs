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

/// The hops that the agents of a pair saw toward each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PairHops {
    /// Index among the topology's pairs.
    pub pair: usize,
    /// There and back: the routers before the receiver, absent where none answered.
    pub hops: [Vec<Option<IpAddr>>; 2],
}

/// Everything measured in one window of ten seconds.
#[derive(Debug, Clone, Copy)]
pub struct WindowInput<'a> {
    /// The window's end; true to the hour of the week, in UTC.
    pub until: WallTime,
    /// Rounds of paths, in the order of paths and then of time. Agents miss some.
    pub rounds: &'a [Observation<'a>],
    /// By round and hop: the hop limit with which answers arrived; absent where none did.
    pub hop_limits: &'a [Vec<Option<u8>>],
    /// Rounds of pairs.
    pub pairs: &'a [PairRounds],
    /// Routes of pairs, where they were swept in this window.
    pub pair_hops: &'a [PairHops],
}

/// What was measured in the weeks before, as summaries of hours.
pub trait Archive: Send + Sync {
    /// So many weeks are kept; none after a cold start.
    fn weeks(&self) -> u8;

    /// What each hop of a path gave in one hour of the week, counted from Monday midnight, so many weeks ago (1 is the
    /// last week); empty for hours that are not kept.
    fn hour(&self, path: usize, weeks_ago: u8, hour_of_week: u8) -> Vec<HopSummary>;
}

/// What a hop gave in an hour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct HopSummary {
    /// Probes.
    pub sent: u32,
    /// Probes without an answer.
    pub lost: u32,
    /// Quartiles of round-trip delay, in microseconds; absent where nothing answered.
    pub quartiles_us: Option<[u32; 3]>,
}

/// A part of the network that a claim can name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Region {
    /// A place, as findings name it.
    Place(Place),
    /// The line of an agent or target, in both directions.
    Line {
        /// Its address.
        host: IpAddr,
    },
    /// What the answers of a hop cross on their way to an agent.
    ReturnRoute {
        /// The hop's address.
        hop: IpAddr,
        /// The agent's address.
        agent: IpAddr,
    },
    /// What packets of one direction of a pair cross.
    Pair {
        /// Index among the topology's pairs.
        pair: usize,
        /// Which direction.
        direction: Direction,
    },
    /// What lies in all of some regions and in none of others: where routes with the fault meet, less what routes
    /// without it cross.
    Common {
        /// It lies in all of these.
        of: Vec<Self>,
        /// It lies in none of these.
        without: Vec<Self>,
    },
}

impl From<Place> for Region {
    fn from(place: Place) -> Self {
        Self::Place(place)
    }
}

/// What a candidate holds to be wrong.
#[derive(Debug, Clone, PartialEq)]
pub struct Claim {
    /// Loss or delay.
    pub cause: Cause,
    /// Where, with the probability that it is there: the most probable first. The first place
    /// alone is scored as the link; all of them are the set.
    pub places: Vec<(Region, f64)>,
    /// Direction over a place, as probes go; absent where the candidate does not say. Routes of answers and of pairs
    /// have the direction of their packets.
    pub direction: Option<Direction>,
    /// The owner, with its probability.
    pub owner: Option<(String, f64)>,
    /// Share lost, or milliseconds added, by the cause; absent where the candidate does not say.
    pub size: Option<f64>,
}

impl Claim {
    /// What makes two claims one that stands, rather than a new one.
    pub fn same_as(&self, other: &Self) -> bool {
        let first = |claim: &Self| claim.places.first().map(|(region, _)| region.clone());
        self.cause == other.cause && first(self) == first(other)
    }
}

/// A method that locates faults from measurements of agents.
pub trait Candidate: Send {
    /// What tables call it.
    fn name(&self) -> &'static str;

    /// Version of the method: records of another version are made again.
    fn version(&self) -> u32;

    /// A baseline is there to compare with: a seventh of the time without faults is enough for it.
    fn is_baseline(&self) -> bool {
        false
    }

    /// Is told what was measured in the weeks before, before the first window.
    fn begin(&mut self, _archive: &Arc<dyn Archive>) {}

    /// Regards one more window; gives what stands at its end, what matters most first.
    fn regard(&mut self, shown: &WindowInput<'_>) -> Vec<Claim>;

    /// After a window: the paths, by their index in the topology, of which it wants another round in the next window.
    /// Of what is more than `most`, the first are run. The numbers of extra rounds begin at 2^32.
    fn ask(&mut self, _most: usize) -> Vec<usize> {
        Vec::new()
    }

    /// Sets of regions: the links of each set cannot be told apart by what is measured.
    fn alike(&self) -> Vec<Vec<Region>> {
        Vec::new()
    }

    /// The same candidate with the same memory, to go on by itself.
    fn fork(&self) -> Box<dyn Candidate>;
}

/// Names and versions of all candidates.
pub fn roster() -> Vec<(&'static str, u32)> {
    let all = all(&Arc::default());
    all.iter().map(|candidate| (candidate.name(), candidate.version())).collect()
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
