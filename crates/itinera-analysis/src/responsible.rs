//! Which network is responsible for a place, by an owner map.

use itinera_model::finding::Place;
use itinera_model::owner::{Owner, OwnerMap, is_private};
use std::net::IpAddr;

/// The networks responsible for a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Responsible {
    /// All of it belongs to one owner.
    Inside(Owner),
    /// The owner changes there; the fault may be on either side.
    Boundary(Owner, Owner),
    /// The agent's own site.
    Site,
    /// Between the site and this owner.
    SiteEdge(Owner),
    /// No owner map names an owner of at least one end.
    Unknown,
}

enum Side {
    Owner(Owner),
    Site,
    Unknown,
}

fn side(address: IpAddr, map: &OwnerMap) -> Side {
    match map.owner_of(address) {
        Some(owner) => Side::Owner(owner.clone()),
        None if is_private(address) => Side::Site,
        None => Side::Unknown,
    }
}

impl Responsible {
    /// The networks responsible for a place, by an owner map.
    pub fn of(place: &Place, map: &OwnerMap) -> Self {
        if let Some((from, to)) = place.ends() {
            return Self::between(side(from, map), side(to, map));
        }
        match *place {
            Place::AgentSite { .. } => Self::Site,
            Place::Owner { as_number } => {
                map.owner_numbered(as_number).cloned().map_or(Self::Unknown, Self::Inside)
            }
            _ => match place.first_with_fault().map(|address| side(address, map)) {
                Some(Side::Owner(owner)) => Self::Inside(owner),
                Some(Side::Site) => Self::Site,
                Some(Side::Unknown) | None => Self::Unknown,
            },
        }
    }

    fn between(from: Side, to: Side) -> Self {
        match (from, to) {
            (Side::Owner(a), Side::Owner(b)) if a.as_number == b.as_number => Self::Inside(a),
            (Side::Owner(a), Side::Owner(b)) => Self::Boundary(a, b),
            (Side::Site, Side::Owner(owner)) | (Side::Owner(owner), Side::Site) => {
                Self::SiteEdge(owner)
            }
            (Side::Site, Side::Site) => Self::Site,
            (Side::Unknown, _) | (_, Side::Unknown) => Self::Unknown,
        }
    }

    /// True where one fault may lie in both places: they belong to the same networks, or one is a
    /// boundary, where either side may have the fault, and the other lies inside one of its owners.
    pub fn may_share_a_fault(&self, other: &Self) -> bool {
        let beside = |boundary: &Self, inside: &Self| match (boundary, inside) {
            (Self::Boundary(a, b), Self::Inside(owner)) => owner == a || owner == b,
            _ => false,
        };
        let same = self == other && *self != Self::Unknown;
        same || beside(self, other) || beside(other, self)
    }

    /// True where an owner is responsible for both places.
    pub fn shares_owner(&self, other: &Self) -> bool {
        let (own, others) = (self.owners(), other.owners());
        own.iter().any(|one| others.iter().any(|other| one.as_number == other.as_number))
    }

    /// The owners, the one nearer to the agent first.
    pub fn owners(&self) -> Vec<&Owner> {
        match self {
            Self::Inside(owner) | Self::SiteEdge(owner) => vec![owner],
            Self::Boundary(a, b) => vec![a, b],
            Self::Site | Self::Unknown => Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::AgentId;
    use itinera_model::owner::OwnerEntry;
    use uuid::Uuid;

    #[test]
    fn the_owner_depends_on_both_ends_and_on_the_kind_of_place() {
        let owner = |as_number| Owner { as_number, name: String::new(), contact: String::new() };
        let entry = |prefix: &str, as_number| OwnerEntry {
            prefix: prefix.parse().unwrap(),
            owner: owner(as_number),
        };
        let map = OwnerMap::new(vec![entry("198.18.3.0/24", 64500), entry("198.18.1.0/24", 64496)]);
        let ip = |text: &str| text.parse::<IpAddr>().unwrap();
        let link =
            |from: &str, to: &str| Place::Link { from: ip(from), to: ip(to), silent_between: 0 };
        let address = ip("198.18.3.1");
        for (place, responsible) in [
            (link("198.18.3.3", "198.18.3.4"), Responsible::Inside(owner(64500))),
            (link("198.18.1.1", "198.18.3.1"), Responsible::Boundary(owner(64496), owner(64500))),
            (link("10.1.0.1", "198.18.1.1"), Responsible::SiteEdge(owner(64496))),
            (link("10.1.0.2", "10.1.0.1"), Responsible::Site),
            (link("192.0.2.1", "198.18.1.1"), Responsible::Unknown),
            (Place::Node { address }, Responsible::Inside(owner(64500))),
            (Place::TargetEnd { address: ip("192.0.2.9") }, Responsible::Unknown),
            (Place::Owner { as_number: 64496 }, Responsible::Inside(owner(64496))),
            (Place::Owner { as_number: 64511 }, Responsible::Unknown),
            (Place::AgentSite { agent: AgentId::from_uuid(Uuid::nil()) }, Responsible::Site),
            (Place::Unknown, Responsible::Unknown),
        ] {
            assert_eq!(Responsible::of(&place, &map), responsible, "{place:?}");
        }
    }
}
