//! Which links places mean, which observations cross which links, and so which links cannot be told
//! apart.

use itinera_candidates::{Region, SITE, Topology};
use itinera_model::finding::Place;
use itinera_model::two_way::Direction;
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
    /// By two addresses that answer on one route: the directed links from the first to the second.
    between: BTreeMap<(IpAddr, IpAddr), BTreeSet<LinkId>>,
    /// By answering address and agent: the directed links of its answers.
    returns: BTreeMap<(IpAddr, IpAddr), BTreeSet<LinkId>>,
    /// By pair: the directed links there and back.
    pair_links: Vec<[BTreeSet<LinkId>; 2]>,
    /// By host's address: the directed links of its line.
    lines: BTreeMap<IpAddr, BTreeSet<LinkId>>,
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
            returns: BTreeMap::new(),
            pair_links: Vec::new(),
            lines: BTreeMap::new(),
            crossings: BTreeMap::new(),
            columns: Vec::new(),
            classes: Vec::new(),
            used: [BTreeSet::new(), BTreeSet::new()],
            hosts,
        };
        atlas.survey(sampler, topology);
        atlas.classify();
        atlas.inside = atlas.links_inside(world);
        let hosts = sampler.sites().iter().chain(sampler.targets()).enumerate();
        atlas.lines = hosts.map(|(node, host)| (host.addresses[0], atlas.line(node))).collect();
        let regions = atlas.used_links().into_iter().map(|link| atlas.common(link));
        let named = regions.chain(atlas.inside.values().cloned());
        atlas.names = named.map(|links| atlas.edges_of(&links)).collect();
        atlas
    }

    /// Both directions of the links of a host.
    fn line(&self, node: usize) -> BTreeSet<LinkId> {
        let own = self.links.iter().enumerate();
        let own = own.filter(|(_, facts)| facts.from == node || facts.to == node);
        own.map(|(link, _)| LinkId(link)).collect()
    }

    /// Every directed link that some observation crosses.
    pub(super) fn used_links(&self) -> Vec<LinkId> {
        let all = (0..self.links.len()).map(LinkId);
        all.filter(|link| !self.columns[link.0].is_empty()).collect()
    }

    /// Every simple region that a claim can name, with the directed links that it means.
    fn simple_regions(&self) -> impl Iterator<Item = (Region, &BTreeSet<LinkId>)> {
        let link = |(from, to): (IpAddr, IpAddr)| Place::Link { from, to, silent_between: 0 };
        let between = self.between.iter().map(move |(ends, links)| (link(*ends).into(), links));
        let returns = self
            .returns
            .iter()
            .map(|((hop, agent), links)| (Region::ReturnRoute { hop: *hop, agent: *agent }, links));
        let pairs = self.pair_links.iter().enumerate().flat_map(|(pair, both)| {
            let directions = [Direction::Forward, Direction::Return].into_iter().zip(both);
            directions.map(move |(direction, links)| (Region::Pair { pair, direction }, links))
        });
        between.chain(returns).chain(pairs)
    }

    /// The links that lie in the same simple regions as this one: the smallest that a claim can name.
    fn common(&self, link: LinkId) -> BTreeSet<LinkId> {
        let (with, without): (Vec<_>, Vec<_>) =
            self.simple_regions().map(|(_, links)| links).partition(|links| links.contains(&link));
        let Some((first, rest)) = with.split_first() else { return BTreeSet::new() };
        let mut common = (*first).clone();
        for links in rest {
            common.retain(|link| links.contains(link));
        }
        for links in without {
            common.retain(|link| !links.contains(link));
        }
        common
    }

    /// A claim of the smallest region that has this directed link.
    #[cfg(test)]
    pub(super) fn region_of(&self, link: LinkId) -> Region {
        let name = |(region, _): (Region, _)| region;
        let all = self.simple_regions();
        let (with, without): (Vec<_>, Vec<_>) = all.partition(|(_, links)| links.contains(&link));
        Region::Common {
            of: with.into_iter().map(name).collect(),
            without: without.into_iter().map(name).collect(),
        }
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
                let mut before = vec![(facts.source, 0)];
                for (hop, step) in route.iter().enumerate() {
                    let Some(address) = step.address else { continue };
                    // A hop between two may not have answered yet.
                    for (earlier, passed) in &before {
                        let passed = step.there[*passed..].iter().map(|passage| passage.link);
                        self.between.entry((*earlier, address)).or_default().extend(passed);
                    }
                    let answers = step.return_.iter().map(|passage| passage.link);
                    self.returns.entry((address, facts.source)).or_default().extend(answers);
                    before.push((address, step.there.len()));
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
            let links =
                |passages: &[Passage]| passages.iter().map(|passage| passage.link).collect();
            self.pair_links.push([links(there), links(back)]);
            for (which, passages) in
                [there.to_vec(), back.to_vec(), [there, back].concat()].iter().enumerate()
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
        let mut between = self.between.iter();
        let ends = between.find(|(_, meant)| meant.len() == 1 && meant.contains(&link));
        ends.map(|((from, to), _)| Place::Link { from: *from, to: *to, silent_between: 0 })
    }

    /// What one region of a claim can mean, without direction: the links of the smallest regions, and owners.
    pub(super) const fn names(&self) -> &BTreeSet<BTreeSet<Edge>> {
        &self.names
    }

    /// Whether a region means nothing but some of these links: a fault among which no observation tells can be
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

    /// The directed links that a region means, in the direction that packets take; a place by itself has that of
    /// probes, and both directions of it count where a claim says the other.
    pub(super) fn means(&self, region: &Region, direction: Option<Direction>) -> BTreeSet<LinkId> {
        match region {
            Region::Place(place) => {
                let links = self.of_place(place);
                match direction {
                    Some(Direction::Return) => links.iter().map(|it| self.reverse(*it)).collect(),
                    _ => links,
                }
            }
            Region::Line { host } => self.lines.get(host).cloned().unwrap_or_default(),
            Region::ReturnRoute { hop, agent } => {
                self.returns.get(&(*hop, *agent)).cloned().unwrap_or_default()
            }
            Region::Pair { pair, direction } => {
                let both = self.pair_links.get(*pair);
                let which = usize::from(*direction == Direction::Return);
                both.map(|both| both[which].clone()).unwrap_or_default()
            }
            Region::Common { of, without } => {
                let mut meant = of.iter().map(|region| self.means(region, direction));
                let Some(mut common) = meant.next() else { return BTreeSet::new() };
                for links in meant {
                    common.retain(|link| links.contains(link));
                }
                for links in without.iter().map(|region| self.means(region, direction)) {
                    common.retain(|link| !links.contains(link));
                }
                common
            }
        }
    }

    /// The directed links of a place, as probes go. A site's line is a region of its own, by address.
    fn of_place(&self, place: &Place) -> BTreeSet<LinkId> {
        let known = match place {
            Place::Owner { as_number } => self.inside.get(as_number),
            Place::TargetEnd { address } => self.lines.get(address),
            Place::Node { address } => return self.around(*address),
            Place::ReturnRoute { from } => return self.any_return(*from),
            _ => place.ends().and_then(|ends| self.between.get(&ends)),
        };
        known.cloned().unwrap_or_default()
    }

    /// The links into and out of what answers from an address.
    fn around(&self, address: IpAddr) -> BTreeSet<LinkId> {
        let near = self.between.iter();
        let near = near
            .filter(|((from, to), links)| (*from == address || *to == address) && links.len() == 1);
        near.flat_map(|(_, links)| links.iter().copied()).collect()
    }

    /// What answers of an address cross, to whatever agent.
    fn any_return(&self, hop: IpAddr) -> BTreeSet<LinkId> {
        let all = self.returns.iter().filter(|((from, _), _)| *from == hop);
        all.flat_map(|(_, links)| links.iter().copied()).collect()
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

    /// Directed links between routers that probes (0) or answers (1) cross.
    pub(super) fn inner(&self, which: usize) -> Vec<LinkId> {
        let between_routers = |link: &LinkId| {
            let facts = &self.links[link.0];
            facts.from >= self.hosts && facts.to >= self.hosts
        };
        self.used[which].iter().copied().filter(between_routers).collect()
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
