//! What a candidate says that it cannot tell apart, held against what cannot be.

use super::atlas::{Atlas, Edge};
use itinera_candidates::Region;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::ops::AddAssign;

/// Pairs of links that are, or are said to be, alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct CoverageRecord {
    /// Pairs that are said not to be told apart.
    pub said: u64,
    /// Those of them that cannot be.
    pub right: u64,
    /// All that cannot be.
    pub alike: u64,
}

impl AddAssign for CoverageRecord {
    fn add_assign(&mut self, other: Self) {
        self.said += other.said;
        self.right += other.right;
        self.alike += other.alike;
    }
}

/// Holds sets of places that are said to be alike against the classes of links.
pub(super) fn coverage(atlas: &Atlas, sets: &[Vec<Region>]) -> CoverageRecord {
    let used: BTreeSet<Edge> =
        atlas.used_links().into_iter().map(|link| atlas.edge(link)).collect();
    let mut alike = BTreeSet::new();
    for link in atlas.used_links() {
        pairs(atlas.class(link), &mut alike);
    }
    let mut said = BTreeSet::new();
    for set in sets {
        let meant = set.iter().flat_map(|region| atlas.edges_of(&atlas.means(region, None)));
        pairs(&meant.filter(|edge| used.contains(edge)).collect(), &mut said);
    }
    let right = said.intersection(&alike).count() as u64;
    CoverageRecord { said: said.len() as u64, right, alike: alike.len() as u64 }
}

/// Every pair of some links.
fn pairs(of: &BTreeSet<Edge>, into: &mut BTreeSet<(Edge, Edge)>) {
    for (nth, one) in of.iter().enumerate() {
        into.extend(of.iter().skip(nth + 1).map(|other| (*one, *other)));
    }
}

#[cfg(test)]
mod tests {
    use super::super::setup::Setup;
    use super::super::stage::Stage;
    use super::*;
    use itinera_simnet::worlds::WorldFamily;

    #[test]
    fn what_is_said_to_be_alike_is_held_against_the_classes() {
        let setup = Setup { agents: 4, peers: 2, ..Setup::a() };
        let stage = Stage::new(&setup, WorldFamily::Plain, 4);
        let atlas = &stage.atlas;
        let used = atlas.used_links();
        let of = |sets: &[Vec<Region>]| coverage(atlas, sets);
        let nothing = of(&[]);
        assert_eq!((nothing.said, nothing.right), (0, 0));
        assert!(nothing.alike > 5, "{nothing:?}");
        // One that knows: each link that shares its class, with all that do.
        let shares = used.iter().filter(|link| atlas.class(**link).len() > 1);
        let class = |link: &itinera_simnet::closed_form::LinkId| -> Vec<Region> {
            let same = used.iter().filter(|other| atlas.same_column(*link, **other));
            same.map(|link| atlas.region_of(*link)).collect()
        };
        let knowing = of(&shares.map(class).collect::<Vec<_>>());
        assert_eq!(knowing.right, knowing.alike, "{knowing:?}");
        assert!(knowing.said < 2 * knowing.right, "{knowing:?}");
        // One that holds everything to be alike.
        let all = of(&[used.iter().map(|link| atlas.region_of(*link)).collect()]);
        assert!(all.right == all.alike && all.said > 20 * all.right, "{all:?}");
    }
}
