//! Addresses of routers and their interfaces, from which of them routers answer, and the owner map with its errors.

use super::topology::address_in;
use super::{Blueprint, Stream, WorldFamily, chance, stream};
use rand::RngExt;
use rand::seq::SliceRandom;

/// Own addresses of routers lie below, interfaces from here up to the hosts of the block.
const FIRST_INTERFACE: u16 = 0x400;
const FIRST_HOST: u16 = 0xf00;

pub(super) fn draw(world: &mut Blueprint) {
    addresses(world);
    owner_map(world);
}

fn addresses(world: &mut Blueprint) {
    let rng = &mut stream(world.seed, world.family, Stream::Addresses);
    let hosts = world.sites.len() + world.targets.len();
    // In any order: neighbours in the network are none in the numbers.
    let mut free: Vec<Vec<u16>> = Vec::new();
    let mut pairs: Vec<Vec<u16>> = Vec::new();
    for _ in &world.owners {
        let mut own: Vec<u16> = (1..FIRST_INTERFACE).collect();
        let mut links: Vec<u16> = (FIRST_INTERFACE..FIRST_HOST).step_by(2).collect();
        own.shuffle(rng);
        links.shuffle(rng);
        free.push(own);
        pairs.push(links);
    }
    let strange = world.family.has(WorldFamily::Addresses);
    let (own, outgoing) = if strange { (0.4, 0.3) } else { (0.2, 0.15) };
    for router in &mut world.routers {
        let block = world.owners[router.owner].block;
        router.address = address_in(block, free[router.owner].pop().unwrap_or_default());
        let draw = rng.random::<f64>();
        router.answers_by = match draw {
            draw if draw < own => Some("own"),
            draw if draw < own + outgoing => Some("outgoing"),
            _ => None,
        };
    }
    for link in &mut world.links {
        let visible = link.members > 1 && chance(rng, 0.5);
        let far = rng.random::<bool>();
        if link.between[0] < hosts {
            continue;
        }
        // Both ends of a link have addresses of one owner: at a boundary, of either.
        let owner = world.routers[link.between[usize::from(far)] - hosts].owner;
        let block = world.owners[owner].block;
        let count = if visible { usize::from(link.members) } else { 1 };
        let at = pairs[owner].len().saturating_sub(count);
        let taken = pairs[owner].split_off(at);
        let end = |nth: u16| taken.iter().map(|first| address_in(block, first + nth)).collect();
        link.interfaces = Some([end(0), end(1)]);
    }
}

/// Some owners are missing, and some parts of blocks are given to another owner.
fn owner_map(world: &mut Blueprint) {
    let rng = &mut stream(world.seed, world.family, Stream::OwnerMap);
    let strange = world.family.has(WorldFamily::Addresses);
    let (missing, wrong) = if strange { (0.1, 0.1) } else { (0.03, 0.02) };
    let routing: Vec<usize> = (0..world.owners.len())
        .filter(|owner| world.routers.iter().any(|router| router.owner == *owner))
        .collect();
    for owner in &routing {
        if chance(rng, missing) {
            world.unmapped.push(*owner);
        }
        let block = world.owners[*owner].block;
        for nth in 0..FIRST_HOST / 256 {
            let other = routing[rng.random_range(0..routing.len())];
            if chance(rng, wrong) && other != *owner {
                world.mismapped.push((block, nth, other));
            }
        }
    }
}
