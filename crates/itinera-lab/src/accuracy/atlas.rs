//! Which links places mean, which observations cross which links, and so which links cannot be told
//! apart.

use itinera_candidates::{SITE, Topology};
use itinera_model::finding::Place;
use itinera_model::unit::Tick;
use itinera_simnet::closed_form::{LinkFacts, LinkId, Passage, Sampler};
use itinera_simnet::worlds::Blueprint;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// A link without its direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Edge(pub usize);

/// A possible place at fault: the oracle weighs them, and classes consist of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Suspect {
    /// One direction of a link.
    Link(LinkId),
    /// One member of one direction.
    Member(LinkId, u8),
    /// Both directions: the line of a site or target.
    Line(Edge),
}

/// What is seen of the world: one hop of one flow of a path, or one direction of a pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Signal {
    /// Path, flow, hop.
    Hop(usize, usize, usize),
    /// Pair, 0 there, 1 back, 2 both when nothing came.
    Pair(usize, usize),
}

/// The map of a world as it is at one time.
#[derive(Debug, Clone)]
pub(super) struct Atlas {
    pub(super) links: Vec<LinkFacts>,
    /// By directed link.
    pub(super) edges: Vec<Edge>,
    /// By edge: its directed links.
    pub(super) of_edge: Vec<Vec<LinkId>>,
    /// By place: the directed links from its first address to its second.
    between: BTreeMap<(IpAddr, IpAddr), BTreeSet<LinkId>>,
    pub(super) suspects: Vec<Suspect>,
    /// By sight: the suspects it crosses, and how often.
    pub(super) crossings: BTreeMap<Signal, Vec<(usize, u8)>>,
    /// By directed link: what crosses it, and how often.
    columns: Vec<Vec<(Signal, u8)>>,
    /// By directed link: the links with the same crossings.
    classes: Vec<BTreeSet<Edge>>,
    /// Directed links that probes to targets cross, and that their answers cross.
    pub(super) used: [BTreeSet<LinkId>; 2],
    /// By node: owner's name.
    owners: Vec<String>,
    /// By AS number: directed links inside the owner that packets to or from targets cross.
    inside: BTreeMap<u32, BTreeSet<LinkId>>,
    /// What one place of a claim can mean, without direction, each once.
    names: BTreeSet<BTreeSet<Edge>>,
    pub(super) hosts: usize,
}

impl Atlas {
    pub(super) fn new(world: &Blueprint, sampler: &Sampler, topology: &Topology) -> Self {
        let links = sampler.links();
        let (edges, of_edge) = edges(&links);
        let hosts = world.sites.len() + world.targets.len();
        let owner = |node: usize| match world.owner_of(node) {
            Some(owner) => world.owners[owner].name.clone(),
            None => SITE.to_owned(),
        };
        let mut atlas = Self {
            owners: (0..hosts + world.routers.len()).map(owner).collect(),
            inside: BTreeMap::new(),
            names: BTreeSet::new(),
            suspects: suspects(&links, &of_edge, hosts),
            links,
            edges,
            of_edge,
            between: BTreeMap::new(),
            crossings: BTreeMap::new(),
            columns: Vec::new(),
            classes: Vec::new(),
            used: [BTreeSet::new(), BTreeSet::new()],
            hosts,
        };
        atlas.survey(sampler, topology);
        atlas.classify();
        atlas.inside = atlas.links_inside(world);
        atlas.names = atlas.places().map(|(_, links)| atlas.edges_of(links)).collect();
        atlas
    }

    /// By AS number: the used links with both ends in that owner.
    fn links_inside(&self, world: &Blueprint) -> BTreeMap<u32, BTreeSet<LinkId>> {
        let mut inside: BTreeMap<u32, BTreeSet<LinkId>> = BTreeMap::new();
        for link in self.used.iter().flatten() {
            let facts = &self.links[link.0];
            let [from, to] = [facts.from, facts.to].map(|node| world.owner_of(node));
            if let Some(owner) = from.filter(|_| from == to) {
                let (as_number, _) = world.registration(owner);
                inside.entry(as_number).or_default().insert(*link);
            }
        }
        inside
    }

    /// Walks every route of every flow and pair.
    fn survey(&mut self, sampler: &Sampler, topology: &Topology) {
        let index: BTreeMap<Suspect, usize> =
            self.suspects.iter().enumerate().map(|(index, suspect)| (*suspect, index)).collect();
        for (path, facts) in topology.paths.iter().enumerate() {
            for flow in 0..sampler.flows(path) {
                let (route, _) = sampler.route(path, flow as u64, Tick::ZERO);
                let mut before = (facts.source, 0);
                for (hop, step) in route.iter().enumerate() {
                    let Some(address) = step.address else { continue };
                    let passed = step.there[before.1..].iter().map(|passage| passage.link);
                    self.between.entry((before.0, address)).or_default().extend(passed);
                    before = (address, step.there.len());
                    let both = step.there.iter().chain(&step.return_);
                    let crossed = self.crossed(&index, both);
                    self.crossings.insert(Signal::Hop(path, flow, hop), crossed);
                }
                if let Some(end) = route.last() {
                    self.used[0].extend(end.there.iter().map(|passage| passage.link));
                    self.used[1].extend(end.return_.iter().map(|passage| passage.link));
                }
            }
        }
        for pair in 0..topology.pairs.len() {
            let [there, back] = sampler.pair_ways(pair, Tick::ZERO);
            for (which, passages) in
                [there.clone(), back.clone(), [there.as_slice(), back].concat()].iter().enumerate()
            {
                let crossed = self.crossed(&index, passages.iter());
                self.crossings.insert(Signal::Pair(pair, which), crossed);
            }
        }
    }

    fn crossed<'p>(
        &self,
        index: &BTreeMap<Suspect, usize>,
        passages: impl Iterator<Item = &'p Passage>,
    ) -> Vec<(usize, u8)> {
        let mut counts: BTreeMap<usize, u8> = BTreeMap::new();
        for passage in passages {
            let all = [
                Suspect::Link(passage.link),
                Suspect::Member(passage.link, passage.member),
                Suspect::Line(self.edges[passage.link.0]),
            ];
            for suspect in all.iter().filter_map(|suspect| index.get(suspect)) {
                *counts.entry(*suspect).or_default() += 1;
            }
        }
        counts.into_iter().collect()
    }

    /// Links with equal crossings are one class; without any crossing they are of none.
    fn classify(&mut self) {
        let mut columns: Vec<Vec<(Signal, u8)>> = vec![Vec::new(); self.links.len()];
        for (sight, crossed) in &self.crossings {
            // What both directions of a pair show together says nothing that each does not.
            if matches!(sight, Signal::Pair(_, 2)) {
                continue;
            }
            for (suspect, count) in crossed {
                if let Suspect::Link(link) = self.suspects[*suspect] {
                    columns[link.0].push((*sight, *count));
                }
            }
        }
        let mut classes: BTreeMap<&[(Signal, u8)], BTreeSet<Edge>> = BTreeMap::new();
        for (link, column) in columns.iter().enumerate().filter(|(_, column)| !column.is_empty()) {
            classes.entry(column).or_default().insert(self.edges[link]);
        }
        self.classes = columns
            .iter()
            .map(|c| classes.get(c.as_slice()).cloned().unwrap_or_default())
            .collect();
        self.columns = columns;
    }

    /// Whether two directed links cannot be told apart: the same observations cross both, and there is one.
    pub(super) fn same_column(&self, one: LinkId, other: LinkId) -> bool {
        !self.columns[one.0].is_empty() && self.columns[one.0] == self.columns[other.0]
    }

    /// A place that means this directed link alone, as probes go; absent where silent nodes hide it.
    #[cfg(test)]
    pub(super) fn place_of(&self, link: LinkId) -> Option<Place> {
        let mut places = self.places();
        places.find(|(_, meant)| meant.len() == 1 && meant.contains(&link)).map(|(place, _)| place)
    }

    /// What a claim may say in this world: consecutive answering addresses and owners, with the directed links
    /// that each means.
    pub(super) fn places(&self) -> impl Iterator<Item = (Place, &BTreeSet<LinkId>)> {
        let link = |(from, to): (IpAddr, IpAddr)| Place::Link { from, to, silent_between: 0 };
        let between = self.between.iter().map(move |(ends, links)| (link(*ends), links));
        let inside = self.inside.iter();
        let inside =
            inside.map(|(as_number, links)| (Place::Owner { as_number: *as_number }, links));
        between.chain(inside).filter(|(_, links)| !links.is_empty())
    }

    /// What one place of a claim can mean, without direction.
    pub(super) const fn names(&self) -> &BTreeSet<BTreeSet<Edge>> {
        &self.names
    }

    /// Whether a place means nothing but some of these links: a fault among which no observation tells can be
    /// named.
    pub(super) fn can_name(&self, class: &BTreeSet<Edge>) -> bool {
        self.names.iter().any(|name| name.is_subset(class))
    }

    pub(super) fn edges_of(&self, links: &BTreeSet<LinkId>) -> BTreeSet<Edge> {
        links.iter().map(|link| self.edge(*link)).collect()
    }

    /// The links that cannot be told from this one; none where no observation crosses it.
    pub(super) fn class(&self, link: LinkId) -> &BTreeSet<Edge> {
        &self.classes[link.0]
    }

    /// The directed links that a place means, in the direction that packets take.
    pub(super) fn means(&self, place: &Place) -> BTreeSet<LinkId> {
        let known = match place {
            Place::Owner { as_number } => self.inside.get(as_number),
            _ => place.ends().and_then(|ends| self.between.get(&ends)),
        };
        known.cloned().unwrap_or_default()
    }

    pub(super) fn edge(&self, link: LinkId) -> Edge {
        self.edges[link.0]
    }

    /// The other direction of a link.
    pub(super) fn reverse(&self, link: LinkId) -> LinkId {
        let both = &self.of_edge[self.edges[link.0].0];
        both.iter().copied().find(|other| *other != link).unwrap_or(link)
    }

    /// The nodes at the ends of a link.
    pub(super) fn ends(&self, edge: Edge) -> [usize; 2] {
        let link = &self.links[self.of_edge[edge.0][0].0];
        [link.from, link.to]
    }

    /// The owner of a node.
    pub(super) fn owner(&self, node: usize) -> &str {
        &self.owners[node]
    }

    /// How many paths and how many pairs cross one of these suspects.
    pub(super) fn crossing_counts(&self, suspects: &[usize]) -> (usize, usize) {
        let crossing = self
            .crossings
            .iter()
            .filter(|(_, crossed)| crossed.iter().any(|(suspect, _)| suspects.contains(suspect)));
        let (mut paths, mut pairs) = (BTreeSet::new(), BTreeSet::new());
        for (sight, _) in crossing {
            match sight {
                Signal::Hop(path, ..) => paths.insert(*path),
                Signal::Pair(pair, _) => pairs.insert(*pair),
            };
        }
        (paths.len(), pairs.len())
    }

    pub(super) fn suspect(&self, suspect: Suspect) -> Option<usize> {
        self.suspects.iter().position(|known| *known == suspect)
    }

    /// The directed links of a suspect.
    pub(super) fn links_of(&self, suspect: Suspect) -> Vec<LinkId> {
        match suspect {
            Suspect::Link(link) | Suspect::Member(link, _) => vec![link],
            Suspect::Line(edge) => self.of_edge[edge.0].clone(),
        }
    }
}

fn edges(links: &[LinkFacts]) -> (Vec<Edge>, Vec<Vec<LinkId>>) {
    let mut known: BTreeMap<(usize, usize), Edge> = BTreeMap::new();
    let mut of_edge: Vec<Vec<LinkId>> = Vec::new();
    let mut edges = Vec::new();
    for (index, link) in links.iter().enumerate() {
        let ends = (link.from.min(link.to), link.from.max(link.to));
        let edge = *known.entry(ends).or_insert_with(|| {
            of_edge.push(Vec::new());
            Edge(of_edge.len() - 1)
        });
        of_edge[edge.0].push(LinkId(index));
        edges.push(edge);
    }
    (edges, of_edge)
}

fn suspects(links: &[LinkFacts], of_edge: &[Vec<LinkId>], hosts: usize) -> Vec<Suspect> {
    let single = (0..links.len()).map(|link| Suspect::Link(LinkId(link)));
    let members =
        links.iter().enumerate().filter(|(_, link)| link.members > 1).flat_map(|(index, link)| {
            (0..link.members).map(move |m| Suspect::Member(LinkId(index), m))
        });
    let lines = of_edge.iter().enumerate().filter(|(_, both)| {
        both.iter().any(|link| links[link.0].from < hosts || links[link.0].to < hosts)
    });
    let lines = lines.map(|(edge, _)| Suspect::Line(Edge(edge)));
    single.chain(members).chain(lines).collect()
}
