//! What goes wrong in a world: drawn by seed and number, with its truth.

use super::atlas::{Atlas, Suspect};
use super::stage::Stage;
use itinera_simnet::closed_form::LinkId;
use itinera_simnet::worlds::{Changes, FaultPlan, WorldFamily};
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What kind of thing goes wrong.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A link loses what probes send to targets.
    ForwardLoss,
    /// A link loses what targets answer.
    ReverseLoss,
    /// A link delays what probes send to targets.
    ForwardDelay,
    /// A link delays what targets answer.
    ReverseDelay,
    /// One member of a bundle loses.
    Member,
    /// A link loses everything.
    BlackHole,
    /// Six of ten links of one owner lose, or delay.
    OwnerWide,
    /// The line of a site loses or delays, in both directions.
    AgentSite,
    /// The line of a target loses or delays, in both directions.
    TargetEnd,
    /// Nothing.
    None,
    /// Two single faults at once.
    Two,
    /// Routing changes, without a fault.
    RouteChange,
    /// A site's clock is set, without a fault.
    ClockStep,
}

impl Kind {
    /// How often each comes, of 36.
    const WEIGHTS: [(Self, u32); 13] = [
        (Self::ForwardLoss, 5),
        (Self::ReverseLoss, 4),
        (Self::ForwardDelay, 4),
        (Self::ReverseDelay, 3),
        (Self::Member, 2),
        (Self::BlackHole, 1),
        (Self::OwnerWide, 2),
        (Self::AgentSite, 2),
        (Self::TargetEnd, 2),
        (Self::None, 6),
        (Self::Two, 3),
        (Self::RouteChange, 1),
        (Self::ClockStep, 1),
    ];

    /// One fault in one place: what the oracle knows how to weigh.
    pub const fn is_single(self) -> bool {
        matches!(
            self,
            Self::ForwardLoss
                | Self::ReverseLoss
                | Self::ForwardDelay
                | Self::ReverseDelay
                | Self::Member
                | Self::BlackHole
                | Self::AgentSite
                | Self::TargetEnd
        )
    }

    /// A fault of one direction of a single link.
    pub const fn is_link(self) -> bool {
        matches!(
            self,
            Self::ForwardLoss | Self::ReverseLoss | Self::ForwardDelay | Self::ReverseDelay
        )
    }

    /// Whether anything is wrong.
    pub const fn is_fault(self) -> bool {
        !matches!(self, Self::None | Self::RouteChange | Self::ClockStep)
    }

    /// Every kind.
    pub fn all() -> impl Iterator<Item = Self> {
        Self::WEIGHTS.into_iter().map(|(kind, _)| kind)
    }
}

/// How bad it is, and of which sort: all parameters of a fault other than its place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// This share is lost.
    Loss(f64),
    /// So many milliseconds are added, and an exponential time of a tenth of it.
    DelayMs(f64),
}

impl Effect {
    /// Neither slight nor gross: 2 to 20 % lost, 8 to 60 ms added.
    pub fn is_first(self) -> bool {
        match self {
            Self::Loss(share) => (0.02..=0.2).contains(&share),
            Self::DelayMs(ms) => (8.0..=60.0).contains(&ms),
        }
    }
}

/// Jitter of an added delay against the delay.
pub(super) const JITTER: f64 = 0.1;

/// A case: the change, and the owner at fault.
#[derive(Debug, Clone)]
pub struct Case {
    /// Its number in the world.
    pub number: u64,
    /// Its kind.
    pub kind: Kind,
    /// How bad; for "nothing" the assumed severity.
    pub effect: Effect,
    /// What changes in the world.
    pub changes: Changes,
    /// The owner at fault.
    pub(super) suspects: Vec<Suspect>,
    /// Share of spells of ten seconds in which it acts.
    pub(super) spells: f64,
}

impl Case {
    /// Whether the first figures are about it.
    pub fn is_first(&self) -> bool {
        self.kind.is_link() && self.effect.is_first()
    }
}

fn log_between(rng: &mut ChaCha8Rng, low: f64, high: f64) -> f64 {
    libm::exp(libm::log(low) + libm::log(high / low) * rng.random::<f64>())
}

fn loss(rng: &mut ChaCha8Rng) -> Effect {
    Effect::Loss(log_between(rng, 0.005, 0.3))
}

fn delay(rng: &mut ChaCha8Rng) -> Effect {
    Effect::DelayMs(log_between(rng, 3.0, 200.0))
}

fn either(rng: &mut ChaCha8Rng) -> Effect {
    if rng.random::<bool>() { loss(rng) } else { delay(rng) }
}

/// Draws the nth case of a world, which begins at `at_s`.
///
/// A kind for which a world has no place (a bundle, say) is drawn again.
pub(super) fn draw(stage: &Stage, number: u64, at_s: f64) -> Case {
    let mut rng = ChaCha8Rng::seed_from_u64(stage.world.seed);
    rng.set_stream(1_000 + number + 100_000 * stage.world.family as u64);
    let at_s = at_s + rng.random::<f64>() * 10.0;
    loop {
        let total: u32 = Kind::WEIGHTS.iter().map(|(_, weight)| weight).sum();
        let mut left = rng.random_range(0..total);
        let kind = Kind::WEIGHTS.into_iter().find(|(_, weight)| {
            let here = left < *weight;
            left = left.saturating_sub(*weight);
            here
        });
        let kind = kind.map_or(Kind::None, |(kind, _)| kind);
        if let Some(case) = of_kind(stage, number, kind, at_s, &mut rng) {
            return case;
        }
    }
}

fn of_kind(
    stage: &Stage,
    number: u64,
    kind: Kind,
    at_s: f64,
    rng: &mut ChaCha8Rng,
) -> Option<Case> {
    let effect = match kind {
        Kind::ForwardLoss | Kind::ReverseLoss | Kind::Member => loss(rng),
        Kind::ForwardDelay | Kind::ReverseDelay => delay(rng),
        Kind::BlackHole => Effect::Loss(1.0),
        _ => either(rng),
    };
    let flaps = stage.world.family == WorldFamily::Bursts && kind != Kind::BlackHole;
    let spells = if flaps { 0.3 + 0.5 * rng.random::<f64>() } else { 1.0 };
    let mut changes = Changes { at_s, ..Changes::default() };
    let suspects = match kind {
        Kind::None => Vec::new(),
        Kind::ClockStep => {
            let site = rng.random_range(0..stage.world.sites.len());
            let ms = log_between(rng, 5.0, 500.0);
            changes.clock_steps.push((site, if rng.random::<bool>() { ms } else { -ms }));
            Vec::new()
        }
        Kind::RouteChange => {
            let link = one(&inner(&stage.atlas, 0), rng)?;
            let facts = &stage.atlas.links[link.0];
            let planned = stage.world.links.iter().position(|plan| {
                plan.between == [facts.from, facts.to] || plan.between == [facts.to, facts.from]
            });
            changes.reroutes.push((planned?, 200.0));
            Vec::new()
        }
        Kind::Two => {
            let first = single(stage, rng, Kind::ForwardLoss)?;
            let second = single(stage, rng, Kind::ReverseLoss)?;
            let apart = stage.atlas.links_of(first)[0] != stage.atlas.links_of(second)[0];
            apart.then_some(vec![first, second])?
        }
        Kind::OwnerWide => owner_wide(&stage.atlas, rng)?,
        _ => vec![single(stage, rng, kind)?],
    };
    for suspect in &suspects {
        changes.faults.extend(plans(&stage.atlas, *suspect, effect, spells));
    }
    Some(Case { number, kind, effect, changes, suspects, spells })
}

fn one<T: Copy>(all: &[T], rng: &mut ChaCha8Rng) -> Option<T> {
    (!all.is_empty()).then(|| all[rng.random_range(0..all.len())])
}

/// Links between routers that probes (0) or answers (1) cross.
pub(super) fn inner(atlas: &Atlas, which: usize) -> Vec<LinkId> {
    let between_routers = |link: &LinkId| {
        let facts = &atlas.links[link.0];
        facts.from >= atlas.hosts && facts.to >= atlas.hosts
    };
    atlas.used[which].iter().copied().filter(between_routers).collect()
}

/// Members of bundles that probes or answers cross.
pub(super) fn members(atlas: &Atlas) -> Vec<Suspect> {
    let used: BTreeSet<LinkId> = inner(atlas, 0).into_iter().chain(inner(atlas, 1)).collect();
    let all = atlas.suspects.iter().copied();
    all.filter(|suspect| matches!(suspect, Suspect::Member(link, _) if used.contains(link)))
        .collect()
}

/// Lines of sites (true) or targets (false).
pub(super) fn lines(stage: &Stage, of_sites: bool) -> Vec<Suspect> {
    let sites = stage.world.sites.len();
    let is_one = |edge: &super::atlas::Edge| {
        let nearest = stage.atlas.ends(*edge).into_iter().min().unwrap_or(0);
        nearest < stage.atlas.hosts && (nearest < sites) == of_sites
    };
    let all = stage.atlas.suspects.iter().copied();
    all.filter(|suspect| matches!(suspect, Suspect::Line(edge) if is_one(edge))).collect()
}

fn single(stage: &Stage, rng: &mut ChaCha8Rng, kind: Kind) -> Option<Suspect> {
    match kind {
        Kind::Member => one(&members(&stage.atlas), rng),
        Kind::AgentSite => one(&lines(stage, true), rng),
        Kind::TargetEnd => one(&lines(stage, false), rng),
        Kind::ReverseLoss | Kind::ReverseDelay => {
            one(&inner(&stage.atlas, 1), rng).map(Suspect::Link)
        }
        _ => one(&inner(&stage.atlas, 0), rng).map(Suspect::Link),
    }
}

/// Six of ten links of an owner, each in one direction, that packets cross.
fn owner_wide(atlas: &Atlas, rng: &mut ChaCha8Rng) -> Option<Vec<Suspect>> {
    let used: BTreeSet<LinkId> = inner(atlas, 0).into_iter().chain(inner(atlas, 1)).collect();
    let owners: BTreeSet<&str> =
        used.iter().map(|link| atlas.owner(atlas.links[link.0].to)).collect();
    let owner = one(&owners.into_iter().collect::<Vec<_>>(), rng)?;
    let inside = |link: &LinkId| {
        let facts = &atlas.links[link.0];
        [facts.from, facts.to].into_iter().all(|node| atlas.owner(node) == owner)
    };
    let mut own: Vec<LinkId> = used.into_iter().filter(inside).collect();
    own.shuffle(rng);
    let count = (own.len() * 6).div_ceil(10);
    own.truncate(count);
    (count >= 2).then(|| own.into_iter().map(Suspect::Link).collect())
}

fn plans(
    atlas: &Atlas,
    suspect: Suspect,
    effect: Effect,
    spells: f64,
) -> impl Iterator<Item = FaultPlan> {
    let member = match suspect {
        Suspect::Member(_, member) => Some(member + 1),
        _ => None,
    };
    atlas.links_of(suspect).into_iter().map(move |link| {
        let facts = &atlas.links[link.0];
        let (loss, delay_ms) = match effect {
            Effect::Loss(share) => (Some(share), None),
            Effect::DelayMs(ms) => (None, Some([ms, ms * JITTER])),
        };
        FaultPlan { from: facts.from, to: facts.to, member, loss, delay_ms, spells }
    })
}
