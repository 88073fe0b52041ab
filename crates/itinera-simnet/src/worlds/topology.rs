//! The connections between owners.

use super::{
    Blueprint, HostPlan, LinkPlan, OwnerPlan, RouterPlan, Stream, WorldFamily, between, chance,
    stream,
};
use rand::RngExt;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use std::net::Ipv4Addr;

const BEGINNINGS: [&str; 12] = [
    "Alder", "Brack", "Corr", "Dun", "Esk", "Fenn", "Garth", "Harr", "Inver", "Keld", "Lorn",
    "Marr",
];
const ENDINGS: [&str; 6] = ["water", "holm", "vale", "moor", "stead", "wick"];
/// Networks that run targets.
const OPERATORS: usize = 4;
/// Share of the links of a carrier's ring that are two routes of equal metric over a router each.
const DIAMONDS: f64 = 0.15;

struct Draft {
    world: Blueprint,
    rng: ChaCha8Rng,
    /// By owner: its borders, where other owners connect, and its edges, where hosts do.
    borders: Vec<Vec<usize>>,
    edges: Vec<Vec<usize>>,
}

pub(super) fn draw(seed: u64, family: WorldFamily, sites: usize) -> Blueprint {
    let world = Blueprint {
        seed,
        family,
        week_hour: 0.0,
        life: 0,
        owners: Vec::new(),
        sites: Vec::new(),
        targets: Vec::new(),
        routers: Vec::new(),
        links: Vec::new(),
        unmapped: Vec::new(),
        mismapped: Vec::new(),
    };
    let rng = stream(seed, family, Stream::Topology);
    let mut draft = Draft { world, rng, borders: Vec::new(), edges: Vec::new() };
    draft.world.week_hour = between(&mut draft.rng, 0.0, 168.0);
    let targets = draft.rng.random_range(5..=20);
    draft.hosts(sites, targets);
    for _ in 0..draft.rng.random_range(3..=6) {
        draft.transit();
    }
    let transits = draft.world.owners.len();
    for _ in 0..draft.rng.random_range(6..=15) {
        draft.access();
    }
    draft.connect(transits);
    draft.attach_hosts(transits);
    draft.world
}

/// What a node is named before routers are numbered after the hosts.
impl Draft {
    fn hosts(&mut self, sites: usize, targets: usize) {
        let host = |id: String, name: String, address| HostPlan {
            id,
            name,
            address,
            operator: None,
            jitter_ms: 0.0,
            clock: [0.0; 2],
        };
        self.world.sites = (1..=sites)
            .map(|n| {
                let octet = u8::try_from(n).unwrap_or(u8::MAX);
                host(format!("site-{n}"), format!("Site {n}"), Ipv4Addr::new(10, octet, 0, 2))
            })
            .collect();
        self.world.targets = (1..=targets)
            .map(|n| host(format!("target-{n}"), format!("Target {n}"), Ipv4Addr::UNSPECIFIED))
            .collect();
    }

    fn owner(&mut self, transit: bool) -> usize {
        let index = self.world.owners.len();
        let name = format!(
            "{}{} {}",
            BEGINNINGS[index % BEGINNINGS.len()],
            ENDINGS[(index * 5 + index / BEGINNINGS.len()) % ENDINGS.len()],
            if transit { "Carriage" } else { "Fibre" },
        );
        self.world.owners.push(OwnerPlan {
            id: format!("{}{}", if transit { "carrier-" } else { "access-" }, index + 1),
            name,
            block: u16::try_from(index).unwrap_or(u16::MAX),
            transit,
            upstreams: Vec::new(),
            peers: Vec::new(),
        });
        self.borders.push(Vec::new());
        self.edges.push(Vec::new());
        index
    }

    /// A router; gives its node.
    fn router(&mut self, owner: usize, role: char) -> usize {
        let number = self.world.routers.iter().filter(|router| router.owner == owner).count() + 1;
        self.world.routers.push(RouterPlan {
            id: format!("{}-{role}{number}", self.world.owners[owner].id),
            address: Ipv4Addr::UNSPECIFIED,
            owner,
            silent: false,
            hidden: false,
            rate_limits: None,
            slow: None,
            answers_per_s: None,
            limits_all: false,
            answers_by: None,
            balances: false,
            answer_hop_limit: 64,
        });
        self.world.sites.len() + self.world.targets.len() + self.world.routers.len() - 1
    }

    fn link(&mut self, a: usize, b: usize, delay_ms: f64) {
        let weight = between(&mut self.rng, 1.0, 10.0);
        let back = weight * between(&mut self.rng, 0.6, 1.6);
        self.link_of([a, b], delay_ms, [weight, back]);
    }

    fn link_of(&mut self, between: [usize; 2], delay_ms: f64, metric: [f64; 2]) {
        self.world.links.push(LinkPlan {
            between,
            members: 1,
            delay_ms,
            metric,
            loss: 0.0,
            spells: [0.0, 0.0],
            daily: None,
            jitter_ms: 0.0,
            interfaces: None,
        });
    }

    /// Two routes of equal metric between two routers, which share traffic by flow.
    fn diamond(&mut self, owner: usize, ends: [usize; 2]) {
        let middles = [0, 1].map(|_| self.router(owner, 'd'));
        let halves = [0, 1].map(|_| {
            let weight = between(&mut self.rng, 1.0, 5.0);
            [weight, weight * between(&mut self.rng, 0.6, 1.6)]
        });
        for middle in middles {
            for (half, between_ends) in
                [(halves[0], [ends[0], middle]), (halves[1], [middle, ends[1]])]
            {
                let delay = between(&mut self.rng, 0.3, 6.0);
                self.link_of(between_ends, delay, half);
            }
        }
        let hosts = self.world.sites.len() + self.world.targets.len();
        for end in ends {
            self.world.routers[end - hosts].balances = true;
        }
    }

    fn inside(&mut self, a: usize, b: usize, longest_ms: f64) {
        let delay = between(&mut self.rng, 0.3, longest_ms);
        self.link(a, b, delay);
    }

    /// A ring with chords.
    fn transit(&mut self) {
        let owner = self.owner(true);
        let size = self.rng.random_range(8..=14);
        let ring: Vec<usize> = (0..size).map(|_| self.router(owner, 'r')).collect();
        for index in 0..size {
            let ends = [ring[index], ring[(index + 1) % size]];
            if chance(&mut self.rng, DIAMONDS) {
                self.diamond(owner, ends);
            } else {
                self.inside(ends[0], ends[1], 12.0);
            }
        }
        for _ in 0..size / 2 {
            let from = self.rng.random_range(0..size);
            let to = (from + self.rng.random_range(2..size - 1)) % size;
            if !self.connected(ring[from], ring[to]) {
                self.inside(ring[from], ring[to], 12.0);
            }
        }
        self.borders[owner] = ring;
    }

    /// Edges under cores under borders.
    fn access(&mut self) {
        let owner = self.owner(false);
        let borders: Vec<usize> =
            (0..self.rng.random_range(2..=3)).map(|_| self.router(owner, 'b')).collect();
        let cores: Vec<usize> =
            (0..self.rng.random_range(1..=2)).map(|_| self.router(owner, 'c')).collect();
        let edges: Vec<usize> =
            (0..self.rng.random_range(2..=5)).map(|_| self.router(owner, 'e')).collect();
        for core in &cores {
            for other in borders.iter().chain(&edges) {
                self.inside(*core, *other, 3.0);
            }
        }
        (self.borders[owner], self.edges[owner]) = (borders, edges);
    }

    fn connected(&self, a: usize, b: usize) -> bool {
        self.world.links.iter().any(|link| link.between == [a, b] || link.between == [b, a])
    }

    /// A link between borders of two owners, if one is not there yet.
    fn hand_over(&mut self, a: usize, b: usize) {
        let [from, to] = [a, b].map(|owner| {
            let nth = self.rng.random_range(0..self.borders[owner].len());
            self.borders[owner][nth]
        });
        if !self.connected(from, to) {
            let delay = between(&mut self.rng, 0.2, 1.5);
            self.link(from, to, delay);
        }
    }

    fn connect(&mut self, transits: usize) {
        let count = self.world.owners.len();
        for a in 0..transits {
            for b in 0..a {
                self.world.owners[a].peers.push(b);
                // At several places, so that each side can hand over at its nearest.
                (0..3).for_each(|_| self.hand_over(a, b));
            }
        }
        for owner in transits..count {
            let mut carriers: Vec<usize> = (0..transits).collect();
            carriers.shuffle(&mut self.rng);
            carriers.truncate(self.rng.random_range(2..=3));
            for carrier in carriers {
                self.world.owners[owner].upstreams.push(carrier);
                self.hand_over(owner, carrier);
                if chance(&mut self.rng, 0.5) {
                    self.hand_over(owner, carrier);
                }
            }
        }
        for owner in transits..count {
            // Peerings are counted at both ends: one or so made by each gives one to three.
            for other in transits..owner {
                let direct = chance(&mut self.rng, 0.08);
                let wanted = self.world.owners[owner].peers.len() < 2
                    && chance(&mut self.rng, 1.2 / (count - transits) as f64);
                if direct || wanted {
                    self.world.owners[owner].peers.push(other);
                    self.hand_over(owner, other);
                }
            }
        }
    }

    fn attach_hosts(&mut self, transits: usize) {
        let (sites, targets) = (self.world.sites.len(), self.world.targets.len());
        let accesses = self.world.owners.len() - transits;
        for node in 0..sites + targets {
            let owner = transits + self.rng.random_range(0..accesses);
            let nth = self.rng.random_range(0..self.edges[owner].len());
            let edge = self.edges[owner][nth];
            let delay = between(&mut self.rng, 0.2, 2.0);
            self.link(node, edge, delay);
            if let Some(target) = node.checked_sub(sites) {
                let block = self.world.owners[owner].block;
                let host = u16::try_from(target + 1).unwrap_or(u16::MAX);
                self.world.targets[target].address = address_in(block, 0xf00 + host);
                let first = self.world.owners.len();
                self.world.targets[target].operator = Some(first + target % OPERATORS);
            }
        }
        for nth in 0..OPERATORS {
            let owner = self.owner(false);
            let name =
                ["Ambly Hosting", "Brindle Cloud", "Cawthorn Media", "Dinsdale Systems"][nth];
            let plan = &mut self.world.owners[owner];
            (plan.name, plan.id) = (name.to_owned(), format!("operator-{}", nth + 1));
        }
    }
}

/// The nth address of an owner's /20 in 198.18.0.0/15.
pub(super) fn address_in(block: u16, nth: u16) -> Ipv4Addr {
    let base = u32::from(Ipv4Addr::new(198, 18, 0, 0));
    Ipv4Addr::from(base + u32::from(block) * 4_096 + u32::from(nth))
}
