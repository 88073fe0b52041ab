//! The choice of pairs for two-way measurement.
//!
//! Links that no two paths tell apart cannot be told apart: partners are chosen so
//! that each new pair goes over routers that the agent's paths have not shown yet, within what
//! each agent is granted, and never twice between the same neighbourhoods while others are left.
//! A version of IP that an agent has is measured with a partner that has it too, before pairs that
//! stand are kept: else what is measured would depend on which agents were enrolled first.

use itinera_model::id::AgentId;
use itinera_model::path::Family;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

const FAMILIES: [Family; 2] = [Family::Ipv4, Family::Ipv6];

/// An agent that may have partners.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// Its name.
    pub agent: AgentId,
    /// Its site.
    pub site: String,
    /// Its addresses by its own word, one of each version of IP at most.
    pub addresses: Vec<IpAddr>,
    /// Where agents elsewhere reach it, by its site's configuration.
    pub reached_at: Vec<IpAddr>,
    /// Sites that the configuration pairs with this one, neighbouring prefixes included.
    pub paired_with: Vec<String>,
    /// Where the service hears it from; absent where that says nothing.
    pub heard_from: Option<IpAddr>,
    /// Routers that answered on its paths.
    pub routers: BTreeSet<IpAddr>,
}

/// Two agents that are to measure each other, and where they find each other.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Partners {
    /// The sending agent.
    pub sender: AgentId,
    /// The answering agent.
    pub reflector: AgentId,
    /// Version of IP.
    pub family: Family,
    /// Where the sender seems to be.
    pub sender_address: IpAddr,
    /// Where the reflector can be reached.
    pub reflector_address: IpAddr,
    /// The reflector stands behind address translation.
    pub is_hidden: bool,
}

/// A neighbourhood: agents of it see the same of the network.
fn subnet(address: IpAddr) -> [u8; 6] {
    match address {
        IpAddr::V4(four) => {
            let [a, b, c, _] = four.octets();
            [4, a, b, c, 0, 0]
        }
        IpAddr::V6(six) => {
            let [a, b, c, d, e, f, ..] = six.octets();
            [a, b, c, d, e, f]
        }
    }
}

fn are_neighbours(a: &Candidate, b: &Candidate) -> bool {
    let nets = |c: &Candidate| c.addresses.iter().copied().map(subnet).collect::<BTreeSet<_>>();
    a.site == b.site || !nets(a).is_disjoint(&nets(b))
}

/// The versions of IP in which it has an address.
fn versions(candidate: &Candidate) -> BTreeSet<Family> {
    candidate.addresses.iter().chain(&candidate.reached_at).copied().map(Family::of).collect()
}

fn are_paired(a: &Candidate, b: &Candidate) -> bool {
    a.site != b.site && (a.paired_with.contains(&b.site) || b.paired_with.contains(&a.site))
}

/// An address that is good only within one site or one provider (RFC 1918, RFC 6598, RFC 3927,
/// RFC 4193, RFC 4291).
fn is_inside(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(four) => {
            let [a, b, ..] = four.octets();
            four.is_private() || four.is_link_local() || (a == 100 && (64..128).contains(&b))
        }
        IpAddr::V6(six) => six.is_unique_local() || six.is_unicast_link_local(),
    }
}

/// Where `to` can be reached from `from` in a version of IP, and whether it is hidden there.
///
/// The address that its site configures comes first, then the one that its probes leave from. The
/// address that the service hears it from is another where it comes through a VPN or over a
/// management network: it counts only as the outside of an address translation, when the own
/// address is good only inside and that one is not.
fn reached(from: &Candidate, to: &Candidate, family: Family) -> Option<(IpAddr, bool)> {
    let of = |addresses: &[IpAddr]| addresses.iter().copied().find(|a| Family::of(*a) == family);
    of(&from.addresses).or_else(|| of(&from.reached_at))?;
    if let Some(configured) = of(&to.reached_at) {
        return Some((configured, false));
    }
    let own = of(&to.addresses)?;
    match to.heard_from.filter(|heard| Family::of(*heard) == family) {
        // Behind one public address they see each other as they are.
        Some(heard) if from.heard_from != Some(heard) && is_inside(own) && !is_inside(heard) => {
            Some((heard, true))
        }
        _ => Some((own, false)),
    }
}

/// The pair in one version of IP, absent where one of both has none; `a` sends unless `b` alone is
/// hidden: a hidden one can open the translation.
pub fn pair(a: &Candidate, b: &Candidate, family: Family) -> Option<Partners> {
    let (to_a, a_hidden) = reached(b, a, family)?;
    let (to_b, b_hidden) = reached(a, b, family)?;
    let swap = b_hidden && !a_hidden;
    let (sender, reflector) = if swap { (b, a) } else { (a, b) };
    let (sender_address, reflector_address) = if swap { (to_b, to_a) } else { (to_a, to_b) };
    Some(Partners {
        sender: sender.agent,
        reflector: reflector.agent,
        family,
        sender_address,
        reflector_address,
        is_hidden: a_hidden && b_hidden,
    })
}

/// Chooses at most `each` partners for every agent. Pairs that `stand` are kept as long as both
/// ends are there, so that their history continues.
///
/// Cost: agents squared by `each`.
pub fn choose(
    candidates: &[Candidate],
    each: usize,
    stand: &BTreeSet<(AgentId, AgentId)>,
) -> Vec<Partners> {
    let possible = |a: &Candidate, b: &Candidate| {
        (!are_neighbours(a, b) || are_paired(a, b))
            && FAMILIES.iter().any(|family| pair(a, b, *family).is_some())
    };
    let stands = |a: &Candidate, b: &Candidate| {
        stand.contains(&(a.agent, b.agent)) || stand.contains(&(b.agent, a.agent))
    };
    let mut degree = vec![0; candidates.len()];
    let mut covered: Vec<BTreeSet<IpAddr>> =
        candidates.iter().map(|candidate| candidate.routers.clone()).collect();
    let mut between: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    let mut chosen: BTreeSet<(usize, usize)> = BTreeSet::new();
    let mut measured: BTreeSet<(usize, Family)> = BTreeSet::new();
    for _ in 0..each {
        let mut order: Vec<usize> = (0..candidates.len()).collect();
        order.sort_by_key(|index| {
            let most_first = std::cmp::Reverse(versions(&candidates[*index]).len());
            (degree[*index], most_first, candidates[*index].agent)
        });
        for index in order {
            if degree[index] >= each {
                continue;
            }
            let own = &candidates[index];
            let best = (0..candidates.len())
                .filter(|other| *other != index && degree[*other] < each)
                .filter(|other| !chosen.contains(&ordered(index, *other)))
                .filter(|other| possible(own, &candidates[*other]))
                .min_by_key(|other| {
                    let that = &candidates[*other];
                    let used = between.get(&sites(own, that)).copied().unwrap_or(0);
                    let shown = that.routers.difference(&covered[index]).count();
                    let new = std::cmp::Reverse(shown);
                    let unmeasured = FAMILIES.into_iter().filter(|family| {
                        !measured.contains(&(index, *family)) && pair(own, that, *family).is_some()
                    });
                    (
                        !are_paired(own, that),
                        std::cmp::Reverse(unmeasured.count()),
                        !stands(own, that),
                        used,
                        degree[*other],
                        new,
                        that.agent,
                    )
                });
            if let Some(other) = best {
                chosen.insert(ordered(index, other));
                degree[index] += 1;
                degree[other] += 1;
                *between.entry(sites(own, &candidates[other])).or_default() += 1;
                for (from, to) in [(index, other), (other, index)] {
                    let both = FAMILIES.into_iter();
                    let both = both.filter(|f| pair(own, &candidates[other], *f).is_some());
                    measured.extend(both.map(|family| (from, family)));
                    let routers = candidates[from].routers.iter().copied();
                    covered[to].extend(routers);
                }
            }
        }
    }
    let all = chosen.into_iter().flat_map(|(a, b)| {
        FAMILIES.into_iter().filter_map(move |f| pair(&candidates[a], &candidates[b], f))
    });
    all.collect()
}

fn ordered(a: usize, b: usize) -> (usize, usize) {
    (a.min(b), a.max(b))
}

fn sites<'a>(a: &'a Candidate, b: &'a Candidate) -> (&'a str, &'a str) {
    if a.site <= b.site { (&a.site, &b.site) } else { (&b.site, &a.site) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    fn candidate(number: u8, site: &str, routers: &[u8]) -> Candidate {
        Candidate {
            agent: AgentId::from_uuid(Uuid::from_u128(number.into())),
            site: site.to_owned(),
            addresses: vec![[198, 18, number, 2].into()],
            reached_at: Vec::new(),
            paired_with: Vec::new(),
            heard_from: None,
            routers: routers.iter().map(|last| IpAddr::from([198, 19, 0, *last])).collect(),
        }
    }

    fn numbers(partners: &[Partners]) -> BTreeSet<(u128, u128)> {
        let number = |agent: AgentId| agent.as_uuid().as_u128();
        partners
            .iter()
            .map(|pair| (number(pair.sender), number(pair.reflector)))
            .map(|(a, b)| (a.min(b), a.max(b)))
            .collect()
    }

    #[test]
    fn everybody_has_partners_within_the_grant_and_none_at_home() {
        let sites = ["a", "b", "c", "d", "e", "f", "g", "h"];
        let candidates: Vec<Candidate> = sites
            .iter()
            .flat_map(|site| [(*site, 0), (*site, 1)])
            .zip(1..)
            .map(|((site, _), number)| candidate(number, site, &[number, number / 2]))
            .collect();
        let chosen = choose(&candidates, 4, &BTreeSet::new());
        let mut degree: BTreeMap<AgentId, usize> = BTreeMap::new();
        for pair in &chosen {
            *degree.entry(pair.sender).or_default() += 1;
            *degree.entry(pair.reflector).or_default() += 1;
            let site = |agent| candidates.iter().find(|c| c.agent == agent).map(|c| &c.site);
            assert_ne!(site(pair.sender), site(pair.reflector));
        }
        assert!(degree.values().all(|count| (3..=4).contains(count)), "{degree:?}");
        assert_eq!(degree.len(), 16);
        // Existing pairs stay when an agent joins.
        let stand = chosen.iter().map(|pair| (pair.sender, pair.reflector)).collect();
        let mut more = candidates;
        more.push(candidate(40, "z", &[40]));
        let again = choose(&more, 4, &stand);
        let kept = numbers(&chosen).intersection(&numbers(&again)).count();
        assert!(kept + 2 >= chosen.len(), "{kept} of {}", chosen.len());
    }

    #[test]
    fn who_shows_other_routers_comes_first_and_neighbours_never() {
        let mut near = candidate(2, "b", &[1, 2]);
        let far = candidate(3, "c", &[7, 8]);
        let own = candidate(1, "a", &[1, 2]);
        let all = [own.clone(), near.clone(), far.clone()];
        assert_eq!(numbers(&choose(&all, 1, &BTreeSet::new())), BTreeSet::from([(1, 3)]));
        near.addresses = vec![[198, 18, 1, 9].into()];
        let chosen = choose(&[own, near], 3, &BTreeSet::new());
        assert!(chosen.is_empty(), "another site, but the same network");
    }

    #[test]
    fn a_hidden_agent_sends_and_two_hidden_ones_open_both_translations() {
        let public = |number: u8| -> Option<IpAddr> { Some([203, 0, 113, number].into()) };
        let mut open = candidate(1, "a", &[]);
        open.heard_from = open.addresses.first().copied();
        let behind = |number: u8, site| {
            let addresses = vec![[10, number, 0, 2].into()];
            let heard_from = public(number);
            Candidate { addresses, heard_from, ..candidate(number, site, &[]) }
        };
        let (hidden, mut also) = (behind(2, "b"), behind(3, "c"));
        let one = choose(&[open, hidden.clone()], 1, &BTreeSet::new()).remove(0);
        assert_eq!((one.sender, one.is_hidden), (hidden.agent, false));
        assert_eq!(Some(one.sender_address), public(2));
        let two = choose(&[hidden.clone(), also.clone()], 1, &BTreeSet::new()).remove(0);
        assert!(two.is_hidden);
        assert_eq!(Some(two.reflector_address), public(3));
        // Behind the same public address they reach each other directly.
        also.heard_from = hidden.heard_from;
        let near = choose(&[hidden, also.clone()], 1, &BTreeSet::new()).remove(0);
        assert_eq!((near.is_hidden, near.reflector_address), (false, also.addresses[0]));
    }

    #[test]
    fn a_management_address_is_nobodys_meeting_place() {
        let mut managed = candidate(2, "b", &[]);
        let other = candidate(1, "a", &[]);
        let met = |managed: &Candidate| {
            let pair = pair(&other, managed, Family::Ipv4).unwrap();
            (pair.reflector_address, pair.is_hidden)
        };
        let own = (managed.addresses[0], false);
        // Heard through a VPN, or over a management network, or from another public address.
        for heard in [[10, 200, 0, 7], [100, 64, 3, 9], [203, 0, 113, 80]] {
            managed.heard_from = Some(heard.into());
            assert_eq!(met(&managed), own, "{heard:?}");
        }
        // An inside address heard from another inside one: no translation is known.
        managed.addresses = vec![[10, 2, 0, 2].into()];
        managed.heard_from = Some([10, 200, 0, 7].into());
        assert_eq!(met(&managed), (managed.addresses[0], false));
        managed.reached_at = vec![[203, 0, 113, 9].into()];
        assert_eq!(met(&managed), (managed.reached_at[0], false));
    }

    #[test]
    fn neighbours_are_partners_where_the_configuration_says_so() {
        let own = candidate(1, "a", &[]);
        let mut near = candidate(2, "b", &[]);
        near.addresses = vec![[198, 18, 1, 9].into()];
        near.paired_with = vec!["a".to_owned()];
        let chosen = choose(&[own, near], 3, &BTreeSet::new());
        assert_eq!(numbers(&chosen), BTreeSet::from([(1, 2)]));
    }

    #[test]
    fn both_versions_of_ip_are_measured_where_both_have_them() {
        let mut both = [candidate(1, "a", &[]), candidate(2, "b", &[])];
        for (candidate, text) in both.iter_mut().zip(["2001:db8:1::2", "2001:db8:2::2"]) {
            candidate.addresses.push(text.parse().unwrap());
        }
        let families: Vec<Family> =
            choose(&both, 1, &BTreeSet::new()).iter().map(|pair| pair.family).collect();
        assert_eq!(families, FAMILIES);
    }

    #[test]
    fn a_version_of_ip_is_measured_though_other_pairs_were_there_first() {
        let mut all: Vec<Candidate> = ["a", "b", "c", "d", "e", "f"]
            .into_iter()
            .zip(1..)
            .map(|(site, number)| candidate(number, site, &[number]))
            .collect();
        let first = choose(&all, 3, &BTreeSet::new());
        let apart = |(a, b): &(usize, usize)| {
            let agents = [all[*a].agent, all[*b].agent];
            !first
                .iter()
                .any(|pair| agents.contains(&pair.sender) && agents.contains(&pair.reflector))
        };
        let mut two = (0..6).flat_map(|a| (a + 1..6).map(move |b| (a, b)));
        let (a, b) = two.find(apart).expect("three partners of five");
        for (at, text) in [(a, "2001:db8:1::2"), (b, "2001:db8:2::2")] {
            all[at].addresses.push(text.parse().unwrap());
        }
        let stand = first.iter().map(|pair| (pair.sender, pair.reflector)).collect();
        let then = choose(&all, 3, &stand);
        let six = then.iter().filter(|pair| pair.family == Family::Ipv6);
        assert_eq!(six.count(), 1);
        let kept = numbers(&first).intersection(&numbers(&then)).count();
        assert!(kept + 3 >= first.len(), "{kept} of {}", first.len());
    }
}
