//! Worlds by seed: internets with owners, asymmetric routing, bundles, silence, tunnels, routers
//! that answer as they like, and a life by the hour, to measure judgement on.
//!
//! A world prints as a scenario file, which is what everything else reads: the simulation packet
//! by packet, the closed form, and people. Topology, habits of routers, life of links and sites
//! each have a stream of chance of their own.

mod addresses;
mod habits;
mod print;
#[cfg(test)]
mod tests;
mod topology;

use itinera_model::unit::Tick;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::fmt;
use std::net::Ipv4Addr;
use std::ops::RangeInclusive;
use std::str::FromStr;

/// What a world assumes beyond what any judgement may rely on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum WorldFamily {
    /// As the method of locating is described.
    Plain,
    /// Other laws of noise: two modes, heavier tails, jitter on links.
    Noise,
    /// Loss in longer and harder spells, faults that come and go within seconds.
    Bursts,
    /// Most routers answer from their own address or from the interface towards the sender, and the owner map has
    /// more errors.
    Addresses,
    /// Routes by the least sum of metrics over all owners, and many bundles.
    Routing,
    /// Routers that limit their answers by rate instead of by share.
    Limits,
    /// All of these at once.
    Combined,
}

impl WorldFamily {
    /// All families, the one without surprises first.
    pub const ALL: [Self; 7] = [
        Self::Plain,
        Self::Noise,
        Self::Bursts,
        Self::Addresses,
        Self::Routing,
        Self::Limits,
        Self::Combined,
    ];

    /// Whether its worlds break what worlds of another family break.
    pub fn has(self, other: Self) -> bool {
        self == other || self == Self::Combined
    }

    const fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Noise => "noise",
            Self::Bursts => "bursts",
            Self::Addresses => "addresses",
            Self::Routing => "routing",
            Self::Limits => "limits",
            Self::Combined => "combined",
        }
    }
}

impl fmt::Display for WorldFamily {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// No family has this name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} is no family of worlds; there are plain, noise, bursts, addresses, routing, limits, combined"
)]
pub struct UnknownFamily(String);

impl FromStr for WorldFamily {
    type Err = UnknownFamily;

    fn from_str(text: &str) -> Result<Self, UnknownFamily> {
        let found = Self::ALL.into_iter().find(|family| family.name() == text);
        found.ok_or_else(|| UnknownFamily(text.to_owned()))
    }
}

/// The first seed for figures that are published.
pub const FIRST_PUBLISHED: u64 = 16;

/// What a world's seed is for, so that nothing is tuned on what it is measured by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Split {
    /// Parameters may be chosen on it.
    Tune,
    /// Confidence may be calibrated on it.
    Calibrate,
    /// Only for the figures that are published.
    Test,
}

impl Split {
    /// The split a seed belongs to: two of ten are for tuning, two for calibrating. Seeds before
    /// [`FIRST_PUBLISHED`] are never published: the bench was written while looking at them.
    pub const fn of(seed: u64) -> Self {
        match seed % 10 {
            2 | 3 => Self::Calibrate,
            4.. if seed >= FIRST_PUBLISHED => Self::Test,
            _ => Self::Tune,
        }
    }

    /// The nth seed of a split, from 0.
    pub const fn seed(self, nth: u64) -> u64 {
        match self {
            Self::Tune => nth / 2 * 10 + nth % 2,
            Self::Calibrate => nth / 2 * 10 + 2 + nth % 2,
            // The first eight of these are before the first that is published.
            Self::Test => (nth + 8) / 6 * 10 + 4 + (nth + 8) % 6,
        }
    }
}

/// A site or target.
#[derive(Debug, Clone, PartialEq)]
pub struct HostPlan {
    /// Its id in the scenario.
    pub id: String,
    /// What users call it.
    pub name: String,
    /// Its address.
    pub address: Ipv4Addr,
    /// Its owner, where the owner map has it.
    pub operator: Option<usize>,
    /// Of a site: mean of the jitter on its line, in milliseconds.
    jitter_ms: f64,
    /// Of a site: milliseconds by which its clock is ahead, and parts in a million by which it drifts.
    clock: [f64; 2],
}

/// A router.
#[derive(Debug, Clone, PartialEq)]
pub struct RouterPlan {
    /// Its id in the scenario.
    pub id: String,
    /// Its own address.
    pub address: Ipv4Addr,
    /// Its owner: index among the owners.
    pub owner: usize,
    /// It never answers.
    pub silent: bool,
    hidden: bool,
    rate_limits: Option<[f64; 2]>,
    slow: Option<[f64; 2]>,
    answers_per_s: Option<f64>,
    limits_all: bool,
    /// Where it does not answer from the interface by which the packet came in.
    answers_by: Option<&'static str>,
    /// It shares traffic among routes of equal metric.
    balances: bool,
    answer_hop_limit: u8,
}

/// A link between two of the nodes, sites and targets first, then routers.
#[derive(Debug, Clone, PartialEq)]
pub struct LinkPlan {
    /// Its ends.
    pub between: [usize; 2],
    /// Lines that share its traffic.
    pub members: u8,
    delay_ms: f64,
    metric: [f64; 2],
    loss: f64,
    spells: [f64; 2],
    /// Peak in milliseconds, loss, and hour.
    daily: Option<[f64; 3]>,
    jitter_ms: f64,
    interfaces: Option<[Vec<Ipv4Addr>; 2]>,
}

impl LinkPlan {
    /// Its length for routing, there and back.
    pub const fn metric(&self) -> [f64; 2] {
        self.metric
    }
}

/// A network.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnerPlan {
    /// Its id in the scenario.
    pub id: String,
    /// What users call it.
    pub name: String,
    /// First two bytes and a half of its addresses: the number of its /20 in 198.18.0.0/15.
    block: u16,
    transit: bool,
    upstreams: Vec<usize>,
    peers: Vec<usize>,
}

/// Something that goes wrong, or changes, in a world.
#[derive(Debug, Clone, PartialEq)]
pub struct FaultPlan {
    /// Node before the link.
    pub from: usize,
    /// Node behind it.
    pub to: usize,
    /// Which member of the link, from 1; all where absent.
    pub member: Option<u8>,
    /// Share lost.
    pub loss: Option<f64>,
    /// Milliseconds added, and the mean of an exponential time they vary by.
    pub delay_ms: Option<[f64; 2]>,
    /// Share of spells of ten seconds in which it acts.
    pub spells: f64,
    /// Seconds from the time of all changes until it begins.
    pub after_s: f64,
}

/// Everything that changes in a world at one time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Changes {
    /// Seconds after the start at which all of it begins.
    pub at_s: f64,
    /// How long faults last; for ever where absent.
    pub for_s: Option<f64>,
    /// Faults.
    pub faults: Vec<FaultPlan>,
    /// Links, by their ends, that get another metric: there and back.
    pub reroutes: Vec<([usize; 2], [f64; 2])>,
    /// Clock steps by site number, in milliseconds.
    pub clock_steps: Vec<(usize, f64)>,
}

impl Changes {
    /// When faults begin that do so at the time of all changes.
    pub fn begins(&self) -> Tick {
        crate::time::ticks(self.at_s)
    }
}

/// A drawn world.
#[derive(Debug, Clone, PartialEq)]
pub struct Blueprint {
    /// Its seed.
    pub seed: u64,
    /// Its family.
    pub family: WorldFamily,
    /// Hour of the week at the start, from Monday midnight.
    pub week_hour: f64,
    /// Number of the draw of what changes by itself with time.
    pub life: u64,
    /// Networks, those of targets' operators last.
    pub owners: Vec<OwnerPlan>,
    /// Sites: nodes from 0.
    pub sites: Vec<HostPlan>,
    /// Targets: nodes after the sites.
    pub targets: Vec<HostPlan>,
    /// Routers: nodes after the targets.
    pub routers: Vec<RouterPlan>,
    /// Links.
    pub links: Vec<LinkPlan>,
    /// Owners that the owner map does not have.
    unmapped: Vec<usize>,
    /// Parts of owners' blocks that the owner map gives to another: block, number of the /24, owner.
    mismapped: Vec<(u16, u16, usize)>,
}

impl Blueprint {
    /// Sites a world can have.
    pub const SITES: RangeInclusive<usize> = 2..=200;

    /// Draws a world with so many sites.
    ///
    /// # Panics
    /// When there are not at least two sites, or more than 200: the caller's bug.
    pub fn draw(seed: u64, family: WorldFamily, sites: usize) -> Self {
        assert!(Self::SITES.contains(&sites), "{sites} sites");
        let mut world = topology::draw(seed, family, sites);
        habits::draw(&mut world);
        addresses::draw(&mut world);
        world
    }

    /// The id of a node.
    pub fn id(&self, node: usize) -> &str {
        let hosts = self.sites.len() + self.targets.len();
        match node.checked_sub(hosts) {
            Some(router) => &self.routers[router].id,
            None => self.sites.iter().chain(&self.targets).nth(node).map_or("", |host| &host.id),
        }
    }

    /// The owner of a node; a site is its own owner.
    pub fn owner_of(&self, node: usize) -> Option<usize> {
        let hosts = self.sites.len() + self.targets.len();
        match (node.checked_sub(hosts), node.checked_sub(self.sites.len())) {
            (Some(router), _) => Some(self.routers[router].owner),
            (None, Some(target)) => self.targets[target].operator,
            (None, None) => None,
        }
    }
}

/// Which stream of chance a part of the world is drawn from.
#[derive(Debug, Clone, Copy)]
enum Stream {
    Topology = 11,
    Habits = 12,
    Life = 13,
    Sites = 14,
    Addresses = 15,
    OwnerMap = 16,
}

fn stream(seed: u64, family: WorldFamily, stream: Stream) -> ChaCha8Rng {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    rng.set_stream(stream as u64 + 100 * family as u64);
    rng
}

fn between(rng: &mut ChaCha8Rng, low: f64, high: f64) -> f64 {
    low + (high - low) * rng.random::<f64>()
}

fn log_between(rng: &mut ChaCha8Rng, low: f64, high: f64) -> f64 {
    libm::exp(between(rng, libm::log(low), libm::log(high)))
}

fn chance(rng: &mut ChaCha8Rng, share: f64) -> bool {
    rng.random::<f64>() < share
}
