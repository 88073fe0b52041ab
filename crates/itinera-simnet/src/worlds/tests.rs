use super::*;
use crate::closed_form::{Pace, PathPlan, Sampler};
use crate::scenario::Scenario;
use itinera_model::unit::Tick;
use std::collections::BTreeSet;

fn all_paths(world: &Blueprint) -> Vec<PathPlan> {
    let sites = 0..world.sites.len();
    sites
        .flat_map(|site| {
            let flows = vec![(40_000, 33_434)];
            (0..world.targets.len()).map(move |target| PathPlan {
                site,
                target,
                flows: flows.clone(),
            })
        })
        .collect()
}

fn sampler(world: &Blueprint, changes: &Changes) -> Sampler {
    let scenario = Scenario::parse(&world.scenario(changes)).unwrap();
    let pace = Pace { probes: 5, interval_nanos: 10_000_000_000 };
    Sampler::try_new(&scenario, world.seed, &all_paths(world), &[], pace).unwrap()
}

#[test]
fn every_family_prints_as_a_scenario_in_which_every_target_is_reached() {
    for family in WorldFamily::ALL {
        for seed in 0..4 {
            let world = Blueprint::draw(seed, family, 8);
            assert_eq!(Blueprint::draw(seed, family, 8), world);
            let sampler = sampler(&world, &Changes::default());
            for path in 0..all_paths(&world).len() {
                let (route, seen) = sampler.route(path, 0, Tick::ZERO);
                assert!(route.len() >= 2, "{family} {seed} {path}: {seen:?}");
                assert!(route.iter().all(|hop| !hop.return_.is_empty()), "{family} {seed} {path}");
            }
            assert_eq!(family.to_string().parse(), Ok(family));
        }
    }
    assert!("odd".parse::<WorldFamily>().is_err());
}

/// The owners of a route, in order.
fn owners(world: &Blueprint, nodes: impl Iterator<Item = usize>) -> Vec<usize> {
    let hosts = world.sites.len() + world.targets.len();
    let mut owners: Vec<usize> =
        nodes.filter(|node| *node >= hosts).filter_map(|node| world.owner_of(node)).collect();
    owners.dedup();
    owners
}

#[test]
fn ways_are_as_long_and_as_asymmetric_as_real_ones() {
    let (mut lengths, mut asymmetric, mut silent) = (Vec::new(), Vec::new(), Vec::new());
    for seed in 0..12 {
        let world = Blueprint::draw(seed, WorldFamily::Plain, 16);
        let sampler = sampler(&world, &Changes::default());
        let links = sampler.links();
        for path in 0..all_paths(&world).len() {
            let (route, _) = sampler.route(path, 0, Tick::ZERO);
            lengths.push(route.len() as f64);
            silent.push(
                route.iter().filter(|h| h.address.is_none()).count() as f64 / route.len() as f64,
            );
            let end = route.last().unwrap();
            let there = owners(&world, end.there.iter().map(|p| links[p.link.0].to));
            let mut back = owners(&world, end.return_.iter().map(|p| links[p.link.0].from));
            back.reverse();
            asymmetric.push(f64::from(u8::from(there != back)));
        }
    }
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let long = lengths.iter().filter(|hops| **hops > 18.0).count();
    assert!((7.0..14.0).contains(&mean(&lengths)), "{}", mean(&lengths));
    assert!(long * 20 < lengths.len(), "{long} of {} are longer than 18", lengths.len());
    assert!((0.3..0.55).contains(&mean(&asymmetric)), "{}", mean(&asymmetric));
    assert!((0.08..0.25).contains(&mean(&silent)), "{}", mean(&silent));
}

#[test]
fn sub_streams_are_their_own() {
    let few = Blueprint::draw(7, WorldFamily::Plain, 8);
    let many = Blueprint::draw(7, WorldFamily::Plain, 9);
    assert_eq!(few.owners.len(), many.owners.len());
    let strange = Blueprint::draw(7, WorldFamily::Limits, 8);
    assert_ne!(few, strange);
    assert!(strange.routers.iter().all(|router| router.rate_limits.is_none()));
    assert!(strange.routers.iter().any(|router| router.answers_per_s.is_some()));
}

#[test]
fn addresses_tell_nothing_of_who_is_next_to_each_other() {
    let (mut near, mut links, mut foreign) = (0, 0, 0);
    let mut answers_by = BTreeSet::new();
    for seed in 0..6 {
        let world = Blueprint::draw(seed, WorldFamily::Plain, 8);
        let hosts = world.sites.len() + world.targets.len();
        for link in world.links.iter().filter(|link| link.between[0] >= hosts) {
            let [a, b] = link.between.map(|node| &world.routers[node - hosts]);
            let apart = a.address.to_bits().abs_diff(b.address.to_bits());
            near += usize::from(a.owner == b.owner && apart <= 2);
            let [here, there] = link.interfaces.as_ref().unwrap();
            // One owner numbers both ends (RFC 3021).
            assert_eq!(here[0].to_bits() | 1, there[0].to_bits());
            let block = |address: Ipv4Addr| address.to_bits() >> 12;
            foreign += usize::from(block(here[0]) != block(a.address));
            links += 1;
        }
        answers_by.extend(world.routers.iter().map(|router| router.answers_by));
        assert!(world.routers.iter().any(|router| router.balances), "{seed}");
    }
    assert!(near * 20 < links && foreign * 20 > links, "{near}, {foreign} of {links}");
    assert_eq!(answers_by, BTreeSet::from([None, Some("own"), Some("outgoing")]));
}

#[test]
fn a_diamond_shares_flows_among_its_routes() {
    let world = Blueprint::draw(5, WorldFamily::Plain, 6);
    let scenario = Scenario::parse(&world.scenario(&Changes::default())).unwrap();
    let pace = Pace { probes: 5, interval_nanos: 10_000_000_000 };
    let flows = (0..16).map(|flow| (40_000 + flow, 33_434)).collect::<Vec<_>>();
    let mut plans = all_paths(&world);
    plans.iter_mut().for_each(|plan| plan.flows.clone_from(&flows));
    let sampler = Sampler::try_new(&scenario, world.seed, &plans, &[], pace).unwrap();
    let nodes = |path, flow| -> Vec<usize> {
        sampler.route(path, flow, Tick::ZERO).0.iter().map(|hop| hop.node).collect()
    };
    let routes = |path| (0..16).map(|flow| nodes(path, flow)).collect::<BTreeSet<_>>().len();
    assert!((0..plans.len()).any(|path| routes(path) > 1));
}

#[test]
fn splits_do_not_overlap_and_give_the_seeds_of_their_own() {
    let mut seen = BTreeSet::new();
    for split in [Split::Tune, Split::Calibrate, Split::Test] {
        for nth in 0..60 {
            let seed = split.seed(nth);
            assert_eq!(Split::of(seed), split);
            assert!(seen.insert(seed), "{seed}");
        }
    }
}

#[test]
fn changes_print_and_act_from_their_time_on() {
    let world = Blueprint::draw(5, WorldFamily::Plain, 6);
    let calm = sampler(&world, &Changes::default());
    let end = calm.route(0, 0, Tick::ZERO).0.last().unwrap().clone();
    let link = calm.links()[end.there[2].link.0].clone();
    let changes = Changes {
        at_s: 100.0,
        for_s: Some(60.0),
        faults: vec![FaultPlan {
            from: link.from,
            to: link.to,
            member: None,
            loss: Some(0.5),
            delay_ms: Some([20.0, 1.0]),
            spells: 1.0,
            after_s: 0.0,
        }],
        reroutes: Vec::new(),
        clock_steps: vec![(1, 250.0)],
    };
    let mut faulty = sampler(&world, &changes);
    let state = |sampler: &mut Sampler, s: u64| {
        sampler.link_state(end.there[2].link, 0, Tick::from_millis(s * 1_000))
    };
    for (s, expected) in [(99, 0.0), (101, 0.5), (159, 0.5), (161, 0.0)] {
        let (loss, delay) = state(&mut faulty, s);
        let (usual_loss, usual_delay) = state(&mut calm.clone(), s);
        assert!((loss - usual_loss - expected * (1.0 - usual_loss)).abs() < 1e-9, "{s}: {loss}");
        assert_eq!(delay - usual_delay, if expected > 0.0 { 20_000_000 } else { 0 });
    }
    assert_eq!(faulty.sites()[1].clock_steps, [(Tick::from_millis(100_000), 250_000)]);
    let mut quick = calm.changed(&changes);
    assert_eq!(quick.sites()[1].clock_steps, faulty.sites()[1].clock_steps);
    let (mut one, mut other) = (Vec::new(), Vec::new());
    for round in 0..30 {
        let at = Tick::from_millis(round * 8_000);
        quick.round(0, round, at, 3, &mut one);
        faulty.round(0, round, at, 3, &mut other);
        assert_eq!(one, other, "round {round}");
    }
    assert_eq!(faulty.truth().len(), 2, "loss and delay are labelled each");
}

#[test]
fn a_reroute_moves_paths_from_its_time_on() {
    let world = Blueprint::draw(5, WorldFamily::Plain, 6);
    let hosts = world.sites.len() + world.targets.len();
    let before = sampler(&world, &Changes::default());
    let links = before.links();
    let end = |sampler: &Sampler, path, s: u64| {
        sampler.route(path, 0, Tick::from_millis(s * 1_000)).0.last().unwrap().there.clone()
    };
    // Some link on some route can be made so long that the route leads around it.
    let moved = (0..all_paths(&world).len()).step_by(5).any(|path| {
        let route = end(&before, path, 0);
        let middle = &links[route[route.len() / 2].link.0];
        if middle.from < hosts || middle.to < hosts {
            return false;
        }
        let reroutes = vec![([middle.from, middle.to], [500.0; 2])];
        let changes = Changes { at_s: 50.0, reroutes, ..Changes::default() };
        let after = sampler(&world, &changes);
        let quick = before.changed(&changes);
        assert_eq!(end(&after, path, 49), route);
        for path in 0..all_paths(&world).len() {
            assert_eq!(
                end(&quick, path, 51),
                end(&after, path, 51),
                "a changed world is as if drawn"
            );
        }
        end(&after, path, 51) != route
    });
    assert!(moved);
}

#[test]
fn the_owner_map_names_routers_and_targets() {
    let world = Blueprint::draw(9, WorldFamily::Addresses, 8);
    let text = world.owner_map();
    let blocks = world.owners.len() - world.unmapped.len() + world.mismapped.len();
    assert!(text.lines().count() == 1 + blocks + world.targets.len());
    assert!(!world.unmapped.is_empty() || !world.mismapped.is_empty());
    let numbers: BTreeSet<u32> = (0..world.owners.len()).map(|o| world.registration(o).0).collect();
    assert_eq!(numbers.len(), world.owners.len());
    let reserved = |n: &u32| (64_496..=64_511).contains(n) || (65_536..=65_551).contains(n);
    assert!(numbers.iter().all(reserved));
}
