//! The compact form of windows: counts as numbers of variable length, delays as differences.

use super::delays::Delays;
use super::window::{FlowCounts, HopWindow, LateDelay, RareCounts, RouteCounts, SeenRoute, Window};
use itinera_model::id::ContentId;
use itinera_model::route::FlowKey;
use itinera_model::varint::{Reader, VarintError, put};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// What a hop's first byte says is written of it.
const LOST: u8 = 1;
const ALL_DELAYS: u8 = 2;
const CLASSES: u8 = 4;
const LATE_DELAYS: u8 = 8;
const RARE: u8 = 16;
/// A path has at most so many hops, and a window so many of everything else.
const MOST_HOPS: u64 = 255;
const MOST: u64 = 1 << 20;

/// Memory to make ready for so many, whatever the number claims.
fn room(count: u64) -> usize {
    usize::try_from(count.min(256)).unwrap_or(0)
}

pub(super) fn put_routes(out: &mut Vec<u8>, routes: &[Arc<SeenRoute>]) {
    put(out, routes.len() as u64);
    for route in routes {
        out.extend(route.id.as_bytes());
        put(out, route.addresses.len() as u64);
        for address in &route.addresses {
            put_address(out, *address);
        }
    }
}

pub(super) fn read_routes(reader: &mut Reader<'_>) -> Result<Vec<Arc<SeenRoute>>, VarintError> {
    let count = reader.number("routes", MOST)?;
    let mut routes = Vec::with_capacity(room(count));
    for _ in 0..count {
        let id = ContentId::from_slice(reader.take(16)?).ok_or_else(|| reader.range("route"))?;
        let hops = reader.number("hops", MOST_HOPS)?;
        let addresses = (0..hops).map(|_| read_address(reader)).collect::<Result<_, _>>()?;
        routes.push(Arc::new(SeenRoute { id, addresses }));
    }
    Ok(routes)
}

pub(super) fn put_address(out: &mut Vec<u8>, address: Option<IpAddr>) {
    match address {
        None => out.push(0),
        Some(IpAddr::V4(v4)) => {
            out.push(4);
            out.extend(v4.octets());
        }
        Some(IpAddr::V6(v6)) => {
            out.push(6);
            out.extend(v6.octets());
        }
    }
}

pub(super) fn read_address(reader: &mut Reader<'_>) -> Result<Option<IpAddr>, VarintError> {
    let wrong = |reader: &Reader<'_>| reader.range("address");
    Ok(match reader.byte()? {
        0 => None,
        4 => {
            let v4: [u8; 4] = reader.take(4)?.try_into().map_err(|_| wrong(reader))?;
            Some(v4.into())
        }
        6 => {
            let v6: [u8; 16] = reader.take(16)?.try_into().map_err(|_| wrong(reader))?;
            Some(v6.into())
        }
        _ => return Err(wrong(reader)),
    })
}

/// Writes a window. `number_of` gives the number of each of its routes in a list kept beside it.
pub(super) fn put_window(
    out: &mut Vec<u8>,
    window: &Window,
    number_of: impl Fn(&Arc<SeenRoute>) -> usize,
) {
    put(out, window.routes.len() as u64);
    for counts in window.routes.values() {
        put(out, number_of(&counts.route) as u64);
        put(out, counts.rounds.into());
        put(out, counts.newest);
        put_flows(out, &counts.flows);
        put(out, counts.hops.len() as u64);
        for hop in &counts.hops {
            put_hop(out, hop);
        }
    }
}

pub(super) fn read_window(
    reader: &mut Reader<'_>,
    routes: &[Arc<SeenRoute>],
) -> Result<Window, VarintError> {
    let mut window = Window::default();
    for _ in 0..reader.number("routes", MOST)? {
        let number: usize = reader.typed("route")?;
        let route = routes.get(number).ok_or_else(|| reader.range("route"))?;
        let mut counts = RouteCounts::new(Arc::clone(route));
        counts.rounds = reader.typed("rounds")?;
        counts.newest = reader.typed("newest round")?;
        counts.flows = read_flows(reader)?;
        let hops = reader.number("hops", MOST_HOPS)?;
        counts.hops = (0..hops).map(|_| read_hop(reader)).collect::<Result<_, _>>()?;
        window.routes.insert(route.id, counts);
    }
    Ok(window)
}

pub(super) fn put_flows(out: &mut Vec<u8>, flows: &BTreeMap<FlowKey, FlowCounts>) {
    put(out, flows.len() as u64);
    for (key, counts) in flows {
        put(out, key.source_port.into());
        put(out, key.destination_port.into());
        put(out, counts.rounds.into());
        put(out, counts.sent.into());
        put(out, counts.lost.into());
    }
}

pub(super) fn read_flows(
    reader: &mut Reader<'_>,
) -> Result<BTreeMap<FlowKey, FlowCounts>, VarintError> {
    let mut flows = BTreeMap::new();
    for _ in 0..reader.number("flows", MOST)? {
        let source_port = reader.typed("source port")?;
        let destination_port = reader.typed("destination port")?;
        let (rounds, sent) = (reader.typed("rounds of a flow")?, reader.typed("sent of a flow")?);
        let counts = FlowCounts { rounds, sent, lost: reader.typed("lost of a flow")? };
        flows.insert(FlowKey { source_port, destination_port }, counts);
    }
    Ok(flows)
}

pub(super) fn put_rare(out: &mut Vec<u8>, rare: &RareCounts) {
    for count in rare.all() {
        put(out, count.into());
    }
    put(out, rare.unreachable.len() as u64);
    for (code, count) in &rare.unreachable {
        out.push(*code);
        put(out, (*count).into());
    }
}

pub(super) fn read_rare(reader: &mut Reader<'_>) -> Result<RareCounts, VarintError> {
    let mut all = [0; 7];
    for count in &mut all {
        *count = reader.typed("count of answers")?;
    }
    let mut unreachable = BTreeMap::new();
    for _ in 0..reader.number("codes", 256)? {
        unreachable.insert(reader.byte()?, reader.typed("count of a code")?);
    }
    Ok(RareCounts::of(all, unreachable))
}

fn put_hop(out: &mut Vec<u8>, hop: &HopWindow) {
    let (exact, classes) = hop.delays.parts();
    let heard = usize::try_from(hop.sent.saturating_sub(hop.lost)).unwrap_or(usize::MAX);
    let flag = |is: bool, flag: u8| if is { flag } else { 0 };
    let flags = flag(hop.lost > 0, LOST)
        | flag(classes.is_empty() && exact.len() == heard, ALL_DELAYS)
        | flag(!classes.is_empty(), CLASSES)
        | flag(!hop.late_delays.is_empty(), LATE_DELAYS)
        | flag(!hop.rare.is_empty(), RARE);
    out.push(flags);
    put(out, hop.sent.into());
    if flags & LOST != 0 {
        put(out, hop.lost.into());
    }
    if flags & CLASSES != 0 {
        put(out, classes.len() as u64);
        let mut last = 0;
        for (class, count) in classes {
            put(out, (*class - last).into());
            put(out, (*count).into());
            last = *class;
        }
    } else {
        if flags & ALL_DELAYS == 0 {
            put(out, exact.len() as u64);
        }
        let mut last = 0;
        for us in exact {
            put(out, (*us - last).into());
            last = *us;
        }
    }
    if flags & LATE_DELAYS != 0 {
        put(out, hop.late_delays.len() as u64);
        for delay in &hop.late_delays {
            put(out, delay.at_least_us.into());
            put(out, (delay.at_most_us - delay.at_least_us).into());
        }
    }
    if flags & RARE != 0 {
        put_rare(out, &hop.rare);
    }
}

fn read_hop(reader: &mut Reader<'_>) -> Result<HopWindow, VarintError> {
    let flags = reader.byte()?;
    let sent: u32 = reader.typed("sent")?;
    let lost = if flags & LOST == 0 { 0 } else { reader.typed("lost")? };
    let (mut exact, mut classes) = (Vec::new(), BTreeMap::new());
    if flags & CLASSES == 0 {
        let count = match flags & ALL_DELAYS {
            0 => reader.number("delays", MOST)?,
            _ => u64::from(sent.saturating_sub(lost)),
        };
        exact.reserve_exact(room(count));
        let mut last = 0u32;
        for _ in 0..count {
            let more: u32 = reader.typed("delay")?;
            last = last.checked_add(more).ok_or_else(|| reader.range("delay"))?;
            exact.push(last);
        }
    } else {
        let mut last = 0u16;
        for _ in 0..reader.number("classes", MOST)? {
            let more: u16 = reader.typed("class")?;
            last = last.checked_add(more).ok_or_else(|| reader.range("class"))?;
            classes.insert(last, reader.typed("count of a class")?);
        }
    }
    let delays = Delays::from_parts(exact, classes).ok_or_else(|| reader.range("delays"))?;
    let mut late_delays = Vec::new();
    if flags & LATE_DELAYS != 0 {
        for _ in 0..reader.number("late delays", MOST)? {
            let at_least_us: u32 = reader.typed("late delay")?;
            let at_most_us = at_least_us.checked_add(reader.typed("late delay")?);
            let at_most_us = at_most_us.ok_or_else(|| reader.range("late delay"))?;
            late_delays.push(LateDelay { at_most_us, at_least_us });
        }
    }
    let rare = if flags & RARE == 0 { RareCounts::default() } else { read_rare(reader)? };
    Ok(HopWindow { sent, lost, delays, late_delays, rare })
}
