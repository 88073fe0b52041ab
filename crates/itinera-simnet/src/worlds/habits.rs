//! How links, routers and sites of a drawn world behave.

use super::{Blueprint, Stream, WorldFamily, between, chance, log_between, stream};
use rand::RngExt;

pub(super) fn draw(world: &mut Blueprint) {
    routers(world);
    links(world);
    sites(world);
}

fn routers(world: &mut Blueprint) {
    let rng = &mut stream(world.seed, world.family, Stream::Habits);
    let silent = between(rng, 0.10, 0.25);
    let hosts = world.sites.len() + world.targets.len();
    let handing_over = |node: usize| {
        world.links.iter().any(|link| {
            let [a, b] = link.between;
            (a == node || b == node) && a >= hosts && b >= hosts && {
                world.routers[a - hosts].owner != world.routers[b - hosts].owner
            }
        })
    };
    let borders: Vec<bool> = (0..world.routers.len()).map(|r| handing_over(r + hosts)).collect();
    let tunnels: Vec<bool> =
        world.owners.iter().map(|owner| owner.transit && chance(rng, 0.3)).collect();
    for (router, border) in world.routers.iter_mut().zip(borders) {
        router.silent = chance(rng, silent);
        router.hidden = tunnels[router.owner] && !border;
        let habits = chance(rng, 0.3);
        let (loses, late) = (chance(rng, 0.7), chance(rng, 0.5));
        let share = between(rng, 0.05, 0.9);
        let slow = [between(rng, 0.1, 0.7), log_between(rng, 3.0, 100.0)];
        let per_s = log_between(rng, 0.1, 2.0);
        // Some limit by rate, most of these for all senders together: agents take answers from each other.
        let by_rate = world.family.has(WorldFamily::Limits) || chance(rng, 0.2);
        if habits && loses && !by_rate {
            router.rate_limits = Some([(share - 0.1).max(0.0), (share + 0.1).min(1.0)]);
        }
        let all = chance(rng, 0.6);
        if habits && loses && by_rate {
            router.answers_per_s = Some(if all { per_s * 10.0 } else { per_s });
            router.limits_all = all;
        }
        router.slow = (habits && late).then_some(slow);
        router.answer_hop_limit = if chance(rng, 0.6) { 255 } else { 64 };
    }
}

fn links(world: &mut Blueprint) {
    let rng = &mut stream(world.seed, world.family, Stream::Life);
    let hosts = world.sites.len() + world.targets.len();
    let bundles = if world.family.has(WorldFamily::Routing) { 0.4 } else { 0.15 };
    for link in &mut world.links {
        let to_host = link.between[0] < hosts;
        link.loss = between(rng, 0.0, 2e-4);
        link.spells = if world.family.has(WorldFamily::Bursts) && chance(rng, 0.2) {
            [0.05, between(rng, 0.02, 0.15)]
        } else {
            [0.01, between(rng, 0.0, 0.02)]
        };
        let busy = chance(rng, 0.08);
        let (peak_ms, lossy) = (between(rng, 1.0, 25.0), chance(rng, 0.5));
        let (loss, hour) = (between(rng, 0.0, 0.01), between(rng, 10.0, 22.0));
        link.daily = busy.then_some([peak_ms, if lossy { loss } else { 0.0 }, hour]);
        let members = rng.random_range(2..=4);
        let bundle = chance(rng, bundles);
        link.members = if bundle && !to_host { members } else { 1 };
        let jitters = chance(rng, 0.2);
        let jitter = between(rng, 0.05, 0.5);
        link.jitter_ms = if jitters && world.family.has(WorldFamily::Noise) { jitter } else { 0.0 };
    }
}

fn sites(world: &mut Blueprint) {
    let rng = &mut stream(world.seed, world.family, Stream::Sites);
    for (node, site) in world.sites.iter_mut().enumerate() {
        let poor = chance(rng, 0.25);
        let (jitter, loss) = (between(rng, 2.0, 12.0), between(rng, 0.0, 0.015));
        // One clock in ten is not disciplined by any other.
        let (offset_ms, alone) = (between(rng, -20.0, 20.0), chance(rng, 0.1));
        let drift_ppm = if alone { between(rng, -20.0, 20.0) } else { between(rng, -0.05, 0.05) };
        site.clock = [offset_ms, drift_ppm];
        if !poor {
            continue;
        }
        site.jitter_ms = jitter;
        if let Some(link) = world.links.iter_mut().find(|link| link.between[0] == node) {
            // The line's share in each direction.
            link.loss += loss / 2.0;
        }
    }
}
