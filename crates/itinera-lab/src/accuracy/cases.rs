//! What goes wrong in a world: drawn by seed and number, with its truth.

use super::atlas::{Atlas, Edge, Suspect};
use super::setup::WINDOW_S;
use super::stage::Stage;
use super::stretch::Stretch;
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
    /// Two single faults, each of a kind and size of its own, the second up to five minutes after the first.
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

/// Shares lost, and milliseconds added, that faults have: uniform in their logarithm.
pub(super) const LOSSES: std::ops::Range<f64> = 0.005..0.3;
pub(super) const DELAYS_MS: std::ops::Range<f64> = 3.0..200.0;
/// Jitter of an added delay against the delay.
pub(super) const JITTER: f64 = 0.1;

/// What is wrong in one place.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fault {
    /// Where.
    pub(super) suspect: Suspect,
    /// How bad.
    pub(super) effect: Effect,
    /// Seconds after the onset of the case.
    pub(super) after_s: f64,
}

/// A case: the change, and what is wrong by it.
#[derive(Debug, Clone)]
pub struct Case {
    /// Its number in the world.
    pub number: u64,
    /// Its kind.
    pub kind: Kind,
    /// How bad; of two faults the first, for "nothing" the assumed severity.
    pub effect: Effect,
    /// What changes in the world.
    pub changes: Changes,
    /// What is wrong, by place; of two faults the one that begins first comes first.
    pub(super) faults: Vec<Fault>,
    /// Share of spells in which it acts.
    pub(super) spells: f64,
}

/// Share of spells in which faults act that come and go.
const FLAPS: std::ops::Range<f64> = 0.3..0.8;
/// A fault lasts until the end of its case, ten minutes, or ends within it.
const LASTS_S: f64 = 600.0;
const SHORT: f64 = 0.25;
const SHORT_S: std::ops::Range<f64> = 120.0..480.0;
/// After a fault that ends, its case is watched for so many windows more: five minutes.
const AFTER_WINDOWS: u64 = 30;

impl Case {
    /// Whether the first figures are about it.
    pub fn is_first(&self) -> bool {
        self.kind.is_link() && self.effect.is_first()
    }

    /// Seconds from its onset until candidates are asked: it ends then, or lasts on.
    pub(super) fn lasts_s(&self) -> f64 {
        self.changes.for_s.unwrap_or(LASTS_S)
    }

    /// Candidates are asked at the end of this window: the last one that lies wholly within the fault.
    pub(super) fn asked_after(&self) -> u64 {
        let ends_s = self.changes.at_s + self.lasts_s();
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "windows")]
        let windows = (ends_s / WINDOW_S as f64) as u64;
        windows - 1
    }

    /// The first window that is no more watched.
    pub(super) fn watched_until(&self) -> u64 {
        self.asked_after() + 1 + if self.changes.for_s.is_some() { AFTER_WINDOWS } else { 0 }
    }

    /// The share of spells in which faults act in a world, as far as that is known before.
    pub(super) fn usual_spells(family: WorldFamily) -> f64 {
        if family.has(WorldFamily::Bursts) { f64::midpoint(FLAPS.start, FLAPS.end) } else { 1.0 }
    }

    /// The places at fault.
    pub(super) fn suspects(&self) -> Vec<Suspect> {
        self.faults.iter().map(|fault| fault.suspect).collect()
    }
}

fn log_between(rng: &mut ChaCha8Rng, low: f64, high: f64) -> f64 {
    libm::exp(libm::log(low) + libm::log(high / low) * rng.random::<f64>())
}

fn between(rng: &mut ChaCha8Rng, range: std::ops::Range<f64>) -> f64 {
    range.start + (range.end - range.start) * rng.random::<f64>()
}

fn loss(rng: &mut ChaCha8Rng) -> Effect {
    Effect::Loss(log_between(rng, LOSSES.start, LOSSES.end))
}

fn delay(rng: &mut ChaCha8Rng) -> Effect {
    Effect::DelayMs(log_between(rng, DELAYS_MS.start, DELAYS_MS.end))
}

fn either(rng: &mut ChaCha8Rng) -> Effect {
    if rng.random::<bool>() { loss(rng) } else { delay(rng) }
}

/// Draws a kind among some, by their weights.
fn weighed(rng: &mut ChaCha8Rng, wanted: impl Fn(Kind) -> bool) -> Kind {
    let all = || Kind::WEIGHTS.into_iter().filter(|(kind, _)| wanted(*kind));
    let mut left = rng.random_range(0..all().map(|(_, weight)| weight).sum());
    let kind = all().find(|(_, weight)| {
        let here = left < *weight;
        left = left.saturating_sub(*weight);
        here
    });
    kind.map_or(Kind::None, |(kind, _)| kind)
}

fn effect_of(kind: Kind, rng: &mut ChaCha8Rng) -> Effect {
    match kind {
        Kind::ForwardLoss | Kind::ReverseLoss | Kind::Member => loss(rng),
        Kind::ForwardDelay | Kind::ReverseDelay => delay(rng),
        Kind::BlackHole => Effect::Loss(1.0),
        _ => either(rng),
    }
}

/// Draws the nth case of a world, which must be one of this time, and begins after its history.
///
/// A kind for which a world has no place (a bundle, say) is drawn again.
pub fn draw(stretch: &Stretch<'_>, number: u64) -> Case {
    let world = &stretch.stage.world;
    let mut rng = ChaCha8Rng::seed_from_u64(world.seed);
    rng.set_stream(1_000 + number + 100_000 * world.family as u64);
    let at_s = ((stretch.history * WINDOW_S) as f64) + rng.random::<f64>() * WINDOW_S as f64;
    loop {
        let kind = weighed(&mut rng, |_| true);
        if let Some(case) = of_kind(stretch, number, kind, at_s, &mut rng) {
            return case;
        }
    }
}

fn of_kind(
    stretch: &Stretch<'_>,
    number: u64,
    kind: Kind,
    at_s: f64,
    rng: &mut ChaCha8Rng,
) -> Option<Case> {
    let stage = stretch.stage;
    let effect = effect_of(kind, rng);
    let flaps = stage.world.family.has(WorldFamily::Bursts) && kind != Kind::BlackHole;
    let spells = if flaps { between(rng, FLAPS) } else { 1.0 };
    let mut changes = Changes { at_s, ..Changes::default() };
    let (is_short, short_s) = (rng.random::<f64>() < SHORT, rng.random_range(SHORT_S));
    if kind.is_fault() && kind != Kind::Two && is_short {
        changes.for_s = Some(short_s);
    }
    let suspects = match kind {
        Kind::None => Vec::new(),
        Kind::ClockStep => {
            let site = rng.random_range(0..stage.world.sites.len());
            let ms = log_between(rng, 5.0, 500.0);
            changes.clock_steps.push((site, if rng.random::<bool>() { ms } else { -ms }));
            Vec::new()
        }
        Kind::RouteChange => {
            let link = one(&stage.atlas.inner(0), rng)?;
            let facts = &stage.atlas.links[link.0];
            changes.reroutes.push(([facts.from, facts.to], [200.0; 2]));
            moves_packets(stretch, &changes).then(Vec::new)?
        }
        Kind::Two => {
            let faults = two(stage, rng)?;
            changes.faults = faults.iter().flat_map(|it| plans(&stage.atlas, it, spells)).collect();
            let effect = faults[0].effect;
            return Some(Case { number, kind, effect, changes, faults: faults.into(), spells });
        }
        Kind::OwnerWide => owner_wide(&stage.atlas, rng)?,
        _ => vec![single(stage, rng, kind)?],
    };
    let at_onset = |suspect| Fault { suspect, effect, after_s: 0.0 };
    let faults: Vec<Fault> = suspects.into_iter().map(at_onset).collect();
    changes.faults = faults.iter().flat_map(|it| plans(&stage.atlas, it, spells)).collect();
    Some(Case { number, kind, effect, changes, faults, spells })
}

/// Whether a change of routing moves any path.
fn moves_packets(stretch: &Stretch<'_>, changes: &Changes) -> bool {
    let changed = stretch.changed(changes);
    let at = changes.begins();
    (0..stretch.stage.paths.len()).any(|path| {
        (0..changed.flows(path) as u64)
            .any(|flow| changed.route(path, flow, at).0 != stretch.calm.route(path, flow, at).0)
    })
}

/// The second of two faults begins so long after the first at most: both last for minutes of their case.
const BETWEEN_TWO_S: f64 = 300.0;

/// Two single faults on different links, each of its own kind and size.
fn two(stage: &Stage, rng: &mut ChaCha8Rng) -> Option<[Fault; 2]> {
    let mut at_onset = || {
        let kind = weighed(rng, Kind::is_single);
        let effect = effect_of(kind, rng);
        Some(Fault { suspect: single(stage, rng, kind)?, effect, after_s: 0.0 })
    };
    let (first, second) = (at_onset()?, at_onset()?);
    let edges = |fault: &Fault| -> BTreeSet<Edge> {
        let links = stage.atlas.links_of(fault.suspect);
        links.into_iter().map(|link| stage.atlas.edge(link)).collect()
    };
    let second = Fault { after_s: rng.random::<f64>() * BETWEEN_TWO_S, ..second };
    edges(&first).is_disjoint(&edges(&second)).then_some([first, second])
}

fn one<T: Copy>(all: &[T], rng: &mut ChaCha8Rng) -> Option<T> {
    (!all.is_empty()).then(|| all[rng.random_range(0..all.len())])
}

/// Members of bundles that probes or answers cross.
pub(super) fn members(atlas: &Atlas) -> Vec<Suspect> {
    let used: BTreeSet<LinkId> = atlas.inner(0).into_iter().chain(atlas.inner(1)).collect();
    let all = atlas.suspects.iter().copied();
    all.filter(|suspect| matches!(suspect, Suspect::Member(link, _) if used.contains(link)))
        .collect()
}

/// Lines of sites (true) or targets (false).
pub(super) fn lines(stage: &Stage, of_sites: bool) -> Vec<Suspect> {
    let sites = stage.world.sites.len();
    let is_one = |edge: &Edge| {
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
            one(&stage.atlas.inner(1), rng).map(Suspect::Link)
        }
        _ => one(&stage.atlas.inner(0), rng).map(Suspect::Link),
    }
}

/// Six of ten links of an owner, each in one direction, that packets cross.
fn owner_wide(atlas: &Atlas, rng: &mut ChaCha8Rng) -> Option<Vec<Suspect>> {
    let used: BTreeSet<LinkId> = atlas.inner(0).into_iter().chain(atlas.inner(1)).collect();
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

fn plans(atlas: &Atlas, fault: &Fault, spells: f64) -> impl Iterator<Item = FaultPlan> {
    let Fault { suspect, effect, after_s } = *fault;
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
        let (from, to) = (facts.from, facts.to);
        FaultPlan { from, to, member, loss, delay_ms, spells, after_s }
    })
}
