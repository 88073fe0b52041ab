//! What was said, held against what is true.

use super::atlas::{Atlas, Edge, Suspect};
use super::cases::{Case, Effect, Fault, Kind};
use super::oracle::{Candidate, Opinion, cause_of, class_of};
use super::stage::Stage;
use super::stretch::Stretch;
use super::window::begin_of;
use itinera_candidates::{Claim, Region};
use itinera_model::finding::Cause;
use itinera_simnet::closed_form::LinkId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Packets between sites and targets.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Traffic {
    /// What probes send to targets.
    There,
    /// What targets answer.
    Back,
    /// Both.
    Both,
}

/// What is true of a case.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Truth {
    /// When it begins, in seconds after the start of its history.
    pub begins_s: f64,
    /// Seconds until it ends, where it does so within the case.
    pub lasts_s: Option<f64>,
    /// The nodes before and behind each faulty directed link.
    pub links: Vec<[String; 2]>,
    /// By link: the paths and pairs that cross it.
    pub crossed_by: Vec<Traffic>,
    /// By link: share lost and milliseconds of delay just before, as it is by itself.
    pub background: Vec<[f64; 2]>,
    /// By link: how bad.
    pub effects: Vec<Effect>,
    /// By link: seconds from the onset of the case until it begins.
    pub after_s: Vec<f64>,
    /// Which member of the link, from 1.
    pub member: Option<u8>,
    /// The owner of the node behind the link, or of the line.
    pub owners: BTreeSet<String>,
    /// Owners on either side.
    pub either_side: BTreeSet<String>,
    /// Paths that cross it with probes or answers.
    pub paths_crossing: usize,
    /// Pairs that cross it.
    pub pairs_crossing: usize,
    /// Links that cannot be told from it with these agents and targets, itself included.
    pub class_links: usize,
    /// Whether a claim can be right at all: regions are made of what lies between answering addresses, of routes
    /// of answers and pairs, and of owners; where no such region means nothing but the faulty link, none can.
    pub nameable: bool,
    /// What its data are expected to tell against "nothing", in nats; absent for more than one.
    pub information_nats: Option<f64>,
}

/// Information below which a fault cannot be told from chance without more than one false alarm
/// in a thousand days of a path.
pub(super) const LEAST_NATS: f64 = 12.0;

impl Truth {
    /// Whether no judgement could find it without raising false alarms.
    pub fn is_undetectable(&self) -> bool {
        self.information_nats.is_some_and(|nats| nats < LEAST_NATS)
    }
}

/// The score of a candidate in one case.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, utoipa::ToSchema)]
pub struct CaseScore {
    /// Anything was claimed at the end.
    pub claimed: bool,
    /// The first claim's link lies within the class of the true one, and the cause is right.
    pub link: bool,
    /// Or is next to it.
    pub near: bool,
    /// The first claim names the true owner.
    pub owner: bool,
    /// Or the one on the other side of the link.
    pub either_side: bool,
    /// Given the link: the direction is right; absent where none was said or none is to be told.
    pub direction: Option<bool>,
    /// Probability that was given to the link.
    pub confidence: f64,
    /// Probability that was given to the owner.
    pub owner_confidence: f64,
    /// Links in the set that was claimed.
    pub set_links: usize,
    /// How many things were claimed at the end.
    pub claims: usize,
    /// Of several faults at once: how many were claimed within their classes.
    pub found: usize,
    /// Of a fault of many links: links that are both claimed and at fault, as a share of those that are
    /// either (Jaccard). An owner means all its links that packets cross.
    pub extent: f64,
    /// Seconds from the onset until the cause and a link that cannot be told from the faulty one were
    /// claimed first.
    pub noticed_s: Option<f64>,
    /// How often the first region of the first claim changed from when the fault was noticed until the candidate was
    /// asked.
    pub changes: u32,
    /// Of a fault that ended: seconds from its end until no claim about it stood any more; absent where none had, or
    /// one still did when the case ended.
    pub cleared_s: Option<f64>,
}

/// What an oracle holds less probable is left out when it names a region.
const LEAST_LIKELY: f64 = 1e-9;
/// A fault of many links is found where at least so much of what is claimed or at fault is both.
const RIGHT_EXTENT: f64 = 0.5;

impl CaseScore {
    /// Whether all that is wrong in a case of a kind is claimed, and nothing where nothing is.
    pub fn is_right(&self, kind: Kind) -> bool {
        match kind {
            kind if !kind.is_fault() => !self.claimed,
            Kind::Two => self.found == 2,
            Kind::OwnerWide => self.extent >= RIGHT_EXTENT,
            _ => self.link,
        }
    }
}

pub(super) fn truth(stretch: &Stretch<'_>, case: &Case, information: f64) -> Truth {
    let stage = stretch.stage;
    let atlas = &stage.atlas;
    let links: Vec<LinkId> =
        case.suspects().into_iter().flat_map(|suspect| atlas.links_of(suspect)).collect();
    let indices: Vec<usize> = case.suspects().iter().filter_map(|s| atlas.suspect(*s)).collect();
    let (paths_crossing, pairs_crossing) = atlas.crossing_counts(&indices);
    Truth {
        begins_s: case.changes.at_s,
        lasts_s: case.changes.for_s,
        links: links
            .iter()
            .map(|link| {
                let facts = &atlas.links[link.0];
                [facts.from, facts.to].map(|node| stage.world.id(node).to_owned())
            })
            .collect(),
        crossed_by: links.iter().map(|link| traffic(atlas, *link)).collect(),
        background: background(stretch, case, &links),
        effects: by_link(atlas, case, |fault| fault.effect),
        after_s: by_link(atlas, case, |fault| fault.after_s),
        member: match case.suspects().as_slice() {
            [Suspect::Member(_, member)] => Some(member + 1),
            _ => None,
        },
        owners: owners(atlas, &case.suspects()),
        either_side: links
            .iter()
            .flat_map(|link| atlas.ends(atlas.edge(*link)))
            .map(|node| atlas.owner(node).to_owned())
            .collect(),
        paths_crossing,
        pairs_crossing,
        nameable: is_nameable(stage, case),
        class_links: classes(stage, case).iter().map(BTreeSet::len).max().unwrap_or(0),
        information_nats: Some(information).filter(|nats| nats.is_finite()),
    }
}

/// Whether some claims would be counted as right: the score of the best ones is the ceiling of any candidate.
fn is_nameable(stage: &Stage, case: &Case) -> bool {
    let atlas = &stage.atlas;
    if case.kind != Kind::OwnerWide {
        return classes(stage, case).iter().all(|class| atlas.can_name(class));
    }
    let faulty = faulty(atlas, case);
    let parts = atlas.names().iter().filter(|name| name.is_subset(&faulty));
    let together: BTreeSet<Edge> = parts.flatten().copied().collect();
    let mut sets = atlas.names().iter().chain([&together]);
    sets.any(|claimed| shared(&faulty, claimed) >= RIGHT_EXTENT)
}

/// Something of the fault of each link.
fn by_link<T: Copy>(atlas: &Atlas, case: &Case, of: impl Fn(&Fault) -> T) -> Vec<T> {
    let links = |fault: &Fault| vec![of(fault); atlas.links_of(fault.suspect).len()];
    case.faults.iter().flat_map(links).collect()
}

fn traffic(atlas: &Atlas, link: LinkId) -> Traffic {
    let [there, back] = atlas.used.each_ref().map(|used| used.contains(&link));
    match (there, back) {
        (true, true) => Traffic::Both,
        (false, true) => Traffic::Back,
        (_, false) => Traffic::There,
    }
}

/// What links do by themselves when a case begins.
fn background(stretch: &Stretch<'_>, case: &Case, links: &[LinkId]) -> Vec<[f64; 2]> {
    let mut calm = stretch.calm.clone();
    let at = begin_of(stretch.history);
    let member = match case.suspects().as_slice() {
        [Suspect::Member(_, member)] => *member,
        _ => 0,
    };
    let state = |link: &LinkId| {
        let (loss, nanos) = calm.link_state(*link, member, at);
        [loss, nanos as f64 / 1e6]
    };
    links.iter().map(state).collect()
}

/// The owners of suspects: a line is its host's, a link that of the node behind it.
fn owners(atlas: &Atlas, suspects: &[Suspect]) -> BTreeSet<String> {
    let node = |suspect: &Suspect| match suspect {
        Suspect::Link(link) | Suspect::Member(link, _) => atlas.links[link.0].to,
        Suspect::Line(edge) => atlas.ends(*edge).into_iter().min().unwrap_or(0),
    };
    suspects.iter().map(|suspect| atlas.owner(node(suspect)).to_owned()).collect()
}

/// By fault: the links that count as it.
fn classes(stage: &Stage, case: &Case) -> Vec<BTreeSet<Edge>> {
    let of_fault = |suspect: &Suspect| {
        let mut class = class_of(stage, *suspect);
        class.extend(stage.atlas.links_of(*suspect).iter().map(|link| stage.atlas.edge(*link)));
        class
    };
    case.suspects().iter().map(of_fault).collect()
}

/// A claim in terms of links.
#[derive(Debug, Clone, Default)]
struct ClaimedLinks {
    /// The first place, without direction.
    top: BTreeSet<Edge>,
    /// All places.
    all: BTreeSet<Edge>,
    /// With direction, where it was said.
    directed: Option<BTreeSet<LinkId>>,
}

fn meant(atlas: &Atlas, claim: &Claim) -> ClaimedLinks {
    let Some((first, _)) = claim.places.first() else { return ClaimedLinks::default() };
    let links = atlas.means(first, claim.direction);
    let all = claim.places.iter().flat_map(|(region, _)| atlas.means(region, claim.direction));
    ClaimedLinks {
        top: atlas.edges_of(&links),
        all: all.map(|link| atlas.edge(link)).collect(),
        directed: says_direction(first, claim).then_some(links),
    }
}

/// Whether a claim says in which direction packets suffer: it does by itself, or its region has one.
const fn says_direction(region: &Region, claim: &Claim) -> bool {
    claim.direction.is_some() || matches!(region, Region::ReturnRoute { .. } | Region::Pair { .. })
}

fn fits(claim: &Claim, effect: Effect) -> bool {
    matches!(
        (claim.cause, effect),
        (Cause::Loss, Effect::Loss(_)) | (Cause::Delay, Effect::DelayMs(_))
    )
}

/// Whether the claim's cause is that of one of the faults.
fn fits_any(claim: &Claim, case: &Case) -> bool {
    case.faults.iter().any(|fault| fits(claim, fault.effect))
}

/// Holds what stands at the end against the truth.
pub(super) fn verdict(stage: &Stage, case: &Case, claims: &[Claim]) -> CaseScore {
    let atlas = &stage.atlas;
    let mut verdict =
        CaseScore { claimed: !claims.is_empty(), claims: claims.len(), ..CaseScore::default() };
    let classes = classes(stage, case);
    verdict.found = found(atlas, &classes, case, claims);
    verdict.extent = extent(atlas, case, claims);
    let Some(first) = claims.first() else { return verdict };
    let meant = meant(atlas, first);
    verdict.confidence = first.places.first().map_or(0.0, |(_, probability)| *probability);
    verdict.set_links = meant.all.len();
    let cause = fits_any(first, case);
    let mut faults = case.faults.iter().zip(&classes);
    verdict.link =
        faults.any(|(fault, class)| fits(first, fault.effect) && within(&meant.top, class));
    verdict.near = cause && (verdict.link || next_to_any(atlas, &meant.top, case));
    if let Some((owner, probability)) = &first.owner {
        let truth = owners(atlas, &case.suspects());
        let sides = case.suspects().into_iter().flat_map(|suspect| atlas.links_of(suspect));
        let mut sides = sides.flat_map(|link| atlas.ends(atlas.edge(link)));
        verdict.owner_confidence = *probability;
        verdict.owner = cause && truth.contains(owner);
        verdict.either_side =
            verdict.owner || (cause && sides.any(|node| atlas.owner(node) == owner));
    }
    if let (true, Some(directed), [Suspect::Link(link) | Suspect::Member(link, _)]) =
        (verdict.link, &meant.directed, case.suspects().as_slice())
    {
        verdict.direction = Some(direction_is_right(atlas, *link, directed));
    }
    verdict
}

/// Right where one of the directed links claimed is the true one, or cannot be told from it: the same
/// observations cross both. The opposite direction of a link is another column.
fn direction_is_right(atlas: &Atlas, truth: LinkId, directed: &BTreeSet<LinkId>) -> bool {
    directed.iter().any(|link| *link == truth || atlas.same_column(*link, truth))
}

fn within(top: &BTreeSet<Edge>, class: &BTreeSet<Edge>) -> bool {
    !top.is_empty() && top.is_subset(class)
}

fn next_to_any(atlas: &Atlas, top: &BTreeSet<Edge>, case: &Case) -> bool {
    let faulty = case.suspects().into_iter().flat_map(|suspect| atlas.links_of(suspect));
    let nodes: BTreeSet<usize> = faulty.flat_map(|link| atlas.ends(atlas.edge(link))).collect();
    top.iter().any(|edge| atlas.ends(*edge).iter().any(|node| nodes.contains(node)))
}

/// How many of the faults are named by one of as many claims as there are faults.
fn found(atlas: &Atlas, classes: &[BTreeSet<Edge>], case: &Case, claims: &[Claim]) -> usize {
    let first = claims.iter().filter(|claim| fits_any(claim, case)).take(classes.len());
    let tops: Vec<(&Claim, BTreeSet<Edge>)> =
        first.map(|claim| (claim, meant(atlas, claim).top)).collect();
    let named = |(fault, class): &(&Fault, &BTreeSet<Edge>)| {
        tops.iter().any(|(claim, top)| fits(claim, fault.effect) && within(top, class))
    };
    case.faults.iter().zip(classes).filter(named).count()
}

/// How far the links that are claimed, with the right cause, are those at fault.
fn extent(atlas: &Atlas, case: &Case, claims: &[Claim]) -> f64 {
    let fitting = claims.iter().filter(|claim| fits_any(claim, case));
    let claimed: BTreeSet<Edge> = fitting.flat_map(|claim| meant(atlas, claim).top).collect();
    shared(&faulty(atlas, case), &claimed)
}

/// The links at fault.
fn faulty(atlas: &Atlas, case: &Case) -> BTreeSet<Edge> {
    let links = case.suspects().into_iter().flat_map(|suspect| atlas.links_of(suspect));
    links.map(|link| atlas.edge(link)).collect()
}

/// Links that are in both sets, as a share of those in either (Jaccard).
fn shared(one: &BTreeSet<Edge>, other: &BTreeSet<Edge>) -> f64 {
    match one.union(other).count() {
        0 => 0.0,
        either => one.intersection(other).count() as f64 / either as f64,
    }
}

/// What claims in a case are held against.
pub(super) struct Expected(Vec<ExpectedFault>);

struct ExpectedFault {
    effect: Effect,
    /// The links that count as it.
    class: BTreeSet<Edge>,
    /// All links on routes that it touches.
    affected: BTreeSet<Edge>,
}

impl Expected {
    pub(super) fn new(stage: &Stage, case: &Case) -> Self {
        let faults = case.faults.iter().zip(classes(stage, case)).map(|(fault, class)| {
            let (effect, affected) = (fault.effect, affected(stage, fault.suspect));
            ExpectedFault { effect, class, affected }
        });
        Self(faults.collect())
    }

    /// Whether a claim names the cause and a link that cannot be told from a faulty one.
    pub(super) fn is_right(&self, stage: &Stage, claim: &Claim) -> bool {
        let top = meant(&stage.atlas, claim).top;
        self.0.iter().any(|it| fits(claim, it.effect) && within(&top, &it.class))
    }

    /// Whether a claim has the cause of a fault and lies on a route that it touches.
    pub(super) fn is_about(&self, stage: &Stage, claim: &Claim) -> bool {
        let top = meant(&stage.atlas, claim).top;
        let mut fitting = self.0.iter().filter(|it| fits(claim, it.effect));
        fitting.any(|it| top.iter().any(|edge| it.affected.contains(edge)))
    }

    /// Whether a claim is about a fault: it is right, or it has the cause and lies on a route that a fault
    /// touches. Of wrong ones only as many as there are faults: `open` claims are about them already.
    pub(super) fn explains(&self, stage: &Stage, claim: &Claim, open: usize) -> bool {
        self.is_right(stage, claim) || (open < self.0.len() && self.is_about(stage, claim))
    }
}

/// The directed links of a claim's first place; both directions where it says none.
pub(super) fn claimed_links(stage: &Stage, claim: &Claim) -> BTreeSet<LinkId> {
    let atlas = &stage.atlas;
    let meant = meant(atlas, claim);
    let both = || meant.top.iter().flat_map(|edge| atlas.of_edge[edge.0].iter().copied()).collect();
    meant.directed.clone().unwrap_or_else(both)
}

/// All links on routes that the fault touches.
fn affected(stage: &Stage, suspect: Suspect) -> BTreeSet<Edge> {
    let atlas = &stage.atlas;
    let own = atlas.suspect(suspect);
    let touched = atlas
        .crossings
        .values()
        .filter(|crossed| crossed.iter().any(|(suspect, _)| Some(*suspect) == own));
    let all = touched.flatten().map(|(suspect, _)| atlas.suspects[*suspect]);
    all.flat_map(|suspect| atlas.links_of(suspect)).map(|link| atlas.edge(link)).collect()
}

/// How an oracle did: of the regions that a claim can name, it names the one that is most probably counted as
/// right, with its cause.
pub(super) fn of_opinion(stage: &Stage, case: &Case, opinion: &Opinion) -> CaseScore {
    let atlas = &stage.atlas;
    if opinion.nothing > 0.5 {
        return CaseScore::default();
    }
    // The others together are nothing beside these.
    let mut likely: Vec<&Candidate> = opinion.candidates.iter().collect();
    likely.sort_by(|a, b| b.probability.total_cmp(&a.probability));
    likely.retain(|candidate| candidate.probability > LEAST_LIKELY);
    let class_by: Vec<(&Candidate, BTreeSet<Edge>)> = likely
        .iter()
        .map(|candidate| (*candidate, class_with_own(stage, candidate.suspect)))
        .collect();
    let by_name = [Cause::Loss, Cause::Delay].into_iter().flat_map(|cause| {
        let class_by = &class_by;
        atlas.names().iter().map(move |name| {
            let right =
                class_by.iter().filter(|(it, class)| it.cause == cause && name.is_subset(class));
            (right.map(|(candidate, _)| candidate.probability).sum::<f64>(), name, cause)
        })
    });
    let best = by_name.max_by(|a, b| a.0.total_cmp(&b.0).then_with(|| b.1.cmp(a.1)));
    let names: BTreeSet<String> = likely
        .iter()
        .flat_map(|candidate| owners(atlas, &[atlas.suspects[candidate.suspect]]))
        .collect();
    let of_owner = |name: &String| {
        opinion.probability_of(|it| owners(atlas, &[atlas.suspects[it.suspect]]).contains(name))
    };
    let owner = names.iter().map(|name| (of_owner(name), name)).max_by(|a, b| a.0.total_cmp(&b.0));
    let (Some((confidence, top, cause)), Some((owner_confidence, owner))) = (best, owner) else {
        return CaseScore::default();
    };
    let is_cause = case.faults.iter().any(|fault| cause_of(fault.effect) == cause);
    let truth = owners(atlas, &case.suspects());
    let sides = case.suspects().into_iter().flat_map(|suspect| atlas.links_of(suspect));
    let mut sides = sides.flat_map(|link| atlas.ends(atlas.edge(link)));
    let link = is_cause && classes(stage, case).iter().any(|class| within(top, class));
    let direction = match case.suspects().as_slice() {
        [Suspect::Link(truth) | Suspect::Member(truth, _)] if link => {
            let best = opinion
                .candidates
                .iter()
                .filter(|candidate| !matches!(atlas.suspects[candidate.suspect], Suspect::Line(_)))
                .max_by(|a, b| a.probability.total_cmp(&b.probability));
            best.map(|candidate| {
                let directed = atlas.links_of(atlas.suspects[candidate.suspect]);
                direction_is_right(atlas, *truth, &directed.into_iter().collect())
            })
        }
        _ => None,
    };
    CaseScore {
        claimed: true,
        claims: 1,
        link,
        near: link || (is_cause && next_to_any(atlas, top, case)),
        owner: is_cause && truth.contains(owner),
        either_side: is_cause
            && (truth.contains(owner) || sides.any(|node| atlas.owner(node) == owner)),
        direction,
        confidence,
        owner_confidence,
        set_links: top.len(),
        found: usize::from(link),
        ..CaseScore::default()
    }
}

fn class_with_own(stage: &Stage, suspect: usize) -> BTreeSet<Edge> {
    let suspect = stage.atlas.suspects[suspect];
    let mut class = class_of(stage, suspect);
    class.extend(stage.atlas.links_of(suspect).iter().map(|link| stage.atlas.edge(*link)));
    class
}

/// A suspect, as text.
pub(super) fn suspect_in_words(stage: &Stage, suspect: Suspect) -> String {
    let id = |node: usize| stage.world.id(node);
    match suspect {
        Suspect::Link(link) => {
            let facts = &stage.atlas.links[link.0];
            format!("{} to {}", id(facts.from), id(facts.to))
        }
        Suspect::Member(link, member) => {
            let facts = &stage.atlas.links[link.0];
            format!("{} to {}, member {}", id(facts.from), id(facts.to), member + 1)
        }
        Suspect::Line(edge) => {
            let [a, b] = stage.atlas.ends(edge);
            format!("the line of {}, both directions", id(a.min(b)))
        }
    }
}
