//! An hour of a path's evidence, summed up by minute and written by column: equal and similar numbers
//! lie beside each other, so that they compress well.

use super::encoding::{put_rare, put_routes, read_rare, read_routes};
use super::minute::{EvidenceError, read_version};
use super::summary::{HopSummary, MinuteSummary, RouteSummary};
use super::window::{FlowCounts, SeenRoute};
use itinera_model::delay_class;
use itinera_model::route::FlowKey;
use itinera_model::varint::{Reader, VarintError, put, put_signed};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

const VERSION: u8 = 1;
const MINUTES: u8 = 60;
const MOST: u64 = 1 << 20;
const MOST_HOPS: u64 = 255;
/// A column holds one value for all rows, or one for each.
const EQUAL: u8 = 0;
const EACH: u8 = 1;

/// The minutes of an hour of a path.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct HourBlock {
    minutes: BTreeMap<u8, MinuteSummary>,
}

fn put_column(out: &mut Vec<u8>, values: impl Iterator<Item = u64> + Clone) {
    let mut rest = values.clone();
    let first = rest.next();
    match first {
        Some(first) if rest.all(|value| value == first) => {
            out.push(EQUAL);
            put(out, first);
        }
        _ => {
            out.push(EACH);
            values.for_each(|value| put(out, value));
        }
    }
}

fn read_column(
    reader: &mut Reader<'_>,
    field: &'static str,
    rows: usize,
) -> Result<Vec<u32>, VarintError> {
    match reader.byte()? {
        EQUAL if rows > 0 => Ok(vec![reader.typed(field)?; rows]),
        EACH => (0..rows).map(|_| reader.typed(field)).collect(),
        _ => Err(reader.range(field)),
    }
}

/// Which minutes of the hour there are, as bits.
fn bits(minutes: impl Iterator<Item = u8>) -> u64 {
    minutes.fold(0, |bits, minute| bits | (1 << minute))
}

fn read_bits(reader: &mut Reader<'_>) -> Result<Vec<u8>, VarintError> {
    let bits = reader.number("minutes", (1 << MINUTES) - 1)?;
    Ok((0..MINUTES).filter(|minute| bits & (1 << minute) != 0).collect())
}

fn put_flows(out: &mut Vec<u8>, rows: &[(u8, &RouteSummary)]) {
    let keys: BTreeSet<FlowKey> =
        rows.iter().flat_map(|(_, it)| it.flows.keys().copied()).collect();
    put(out, keys.len() as u64);
    for key in keys {
        put(out, key.source_port.into());
        put(out, key.destination_port.into());
        let of_flow = rows.iter().filter_map(|(minute, it)| Some((*minute, *it.flows.get(&key)?)));
        put(out, bits(of_flow.clone().map(|(minute, _)| minute)));
        put_column(out, of_flow.clone().map(|(_, counts)| counts.rounds.into()));
        put_column(out, of_flow.clone().map(|(_, counts)| counts.sent.into()));
        put_column(out, of_flow.map(|(_, counts)| counts.lost.into()));
    }
}

fn read_flows(
    reader: &mut Reader<'_>,
    rows: &mut BTreeMap<u8, RouteSummary>,
) -> Result<(), VarintError> {
    for _ in 0..reader.number("flows", MOST)? {
        let source_port = reader.typed("source port")?;
        let key = FlowKey { source_port, destination_port: reader.typed("destination port")? };
        let minutes = read_bits(reader)?;
        let mut column = |field| read_column(reader, field, minutes.len());
        let rounds = column("rounds of a flow")?;
        let (sent, lost) = (column("sent of a flow")?, column("lost of a flow")?);
        for (index, minute) in minutes.iter().enumerate() {
            let row = rows.get_mut(minute).ok_or_else(|| reader.range("minutes of a flow"))?;
            let counts = FlowCounts { rounds: rounds[index], sent: sent[index], lost: lost[index] };
            row.flows.insert(key, counts);
        }
    }
    Ok(())
}

/// Delays as the lowest class, as difference to that of the minute before, and the counts of this
/// class and those above until all delays are counted. After a class without any, the number of
/// further empty ones is written.
fn put_delays(out: &mut Vec<u8>, hops: &[(u8, &HopSummary)]) {
    put_column(out, hops.iter().map(|(_, hop)| hop.delays.values().map(|it| u64::from(*it)).sum()));
    let mut before = 0i64;
    for (_, hop) in hops {
        let Some(lowest) = hop.delays.keys().next() else { continue };
        put_signed(out, i64::from(*lowest) - before);
        before = i64::from(*lowest);
    }
    for (_, hop) in hops {
        let mut last = None;
        for (class, count) in &hop.delays {
            let empty = last.map_or(0, |last| class - last - 1);
            if empty > 0 {
                put(out, 0);
                put(out, u64::from(empty) - 1);
            }
            put(out, (*count).into());
            last = Some(*class);
        }
    }
}

fn read_delays(reader: &mut Reader<'_>, hops: &mut [(u8, HopSummary)]) -> Result<(), VarintError> {
    let counts = read_column(reader, "delays", hops.len())?;
    let mut lowest = Vec::with_capacity(hops.len());
    let mut before = 0i64;
    for count in &counts {
        if *count > 0 {
            before = before.saturating_add(reader.signed("lowest class")?);
        }
        lowest.push(before);
    }
    for (((_, hop), lowest), count) in hops.iter_mut().zip(lowest).zip(counts) {
        let (mut class, mut left) = (lowest, count);
        while left > 0 {
            let number: u32 = reader.typed("count of a class")?;
            if number == 0 {
                let more: u16 = reader.typed("empty classes")?;
                class += i64::from(more) + 1;
                continue;
            }
            let known = u16::try_from(class).ok().filter(|class| *class <= delay_class::MOST);
            let known = known.ok_or_else(|| reader.range("class"))?;
            left = left.checked_sub(number).ok_or_else(|| reader.range("count of a class"))?;
            hop.delays.insert(known, number);
            class += 1;
        }
    }
    Ok(())
}

fn put_hops(out: &mut Vec<u8>, rows: &[(u8, &RouteSummary)]) {
    put_column(out, rows.iter().map(|(_, it)| it.hops.len() as u64));
    let most = rows.iter().map(|(_, it)| it.hops.len()).max().unwrap_or(0);
    for index in 0..most {
        let hops: Vec<(u8, &HopSummary)> =
            rows.iter().filter_map(|(minute, it)| Some((*minute, it.hops.get(index)?))).collect();
        put_column(out, hops.iter().map(|(_, hop)| hop.sent.into()));
        put_column(out, hops.iter().map(|(_, hop)| hop.lost.into()));
        put_column(out, hops.iter().map(|(_, hop)| hop.inexact.into()));
        let with_rare = hops.iter().filter(|(_, hop)| !hop.rare.is_empty());
        put(out, bits(with_rare.clone().map(|(minute, _)| *minute)));
        with_rare.for_each(|(_, hop)| put_rare(out, &hop.rare));
        put_delays(out, &hops);
    }
}

fn read_hops(
    reader: &mut Reader<'_>,
    rows: &mut BTreeMap<u8, RouteSummary>,
) -> Result<(), VarintError> {
    let lengths = read_column(reader, "hops", rows.len())?;
    let most = lengths.iter().max().copied().unwrap_or(0);
    if u64::from(most) > MOST_HOPS {
        return Err(reader.range("hops"));
    }
    for index in 0..most {
        let with_hop = rows.keys().zip(&lengths).filter(|(_, length)| **length > index);
        let mut hops: Vec<(u8, HopSummary)> =
            with_hop.map(|(minute, _)| (*minute, HopSummary::default())).collect();
        let mut column = |field| read_column(reader, field, hops.len());
        let (sent, lost, inexact) = (column("sent")?, column("lost")?, column("inexact")?);
        for (row, (_, hop)) in hops.iter_mut().enumerate() {
            (hop.sent, hop.lost, hop.inexact) = (sent[row], lost[row], inexact[row]);
        }
        for minute in read_bits(reader)? {
            let rare = read_rare(reader)?;
            let hop = hops.iter_mut().find(|(known, _)| *known == minute);
            hop.ok_or_else(|| reader.range("minutes of a hop"))?.1.rare = rare;
        }
        read_delays(reader, &mut hops)?;
        for (minute, hop) in hops {
            if let Some(row) = rows.get_mut(&minute) {
                row.hops.push(hop);
            }
        }
    }
    Ok(())
}

impl HourBlock {
    /// Adds what was measured in a minute of the hour, from 0 to 59; others are left out.
    pub fn add(&mut self, minute: u8, summary: &MinuteSummary) {
        if minute < MINUTES {
            self.minutes.entry(minute).or_default().merge(summary);
        }
    }

    /// Puts what was measured in a minute in the place of what was known of it.
    pub fn replace(&mut self, minute: u8, summary: MinuteSummary) {
        if minute < MINUTES {
            self.minutes.insert(minute, summary);
        }
    }

    /// The minutes with rounds, in order.
    pub fn minutes(&self) -> impl Iterator<Item = (u8, &MinuteSummary)> {
        self.minutes.iter().map(|(minute, summary)| (*minute, summary))
    }

    /// As it is stored, to be compressed.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut routes: BTreeMap<_, Arc<SeenRoute>> = BTreeMap::new();
        for it in self.minutes.values().flat_map(|summary| summary.routes.values()) {
            routes.entry(it.route.id).or_insert_with(|| Arc::clone(&it.route));
        }
        let mut out = vec![VERSION];
        put_routes(&mut out, &routes.values().map(Arc::clone).collect::<Vec<_>>());
        for id in routes.keys() {
            let rows: Vec<(u8, &RouteSummary)> = self
                .minutes
                .iter()
                .filter_map(|(minute, summary)| Some((*minute, summary.routes.get(id)?)))
                .collect();
            put(&mut out, bits(rows.iter().map(|(minute, _)| *minute)));
            put_column(&mut out, rows.iter().map(|(_, it)| it.rounds.into()));
            put_flows(&mut out, &rows);
            put_hops(&mut out, &rows);
        }
        out
    }

    /// Reads what [`Self::to_bytes`] wrote.
    ///
    /// # Errors
    /// [`EvidenceError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, EvidenceError> {
        let mut reader = Reader::new(bytes);
        read_version(&mut reader, VERSION)?;
        let mut block = Self::default();
        for route in read_routes(&mut reader)? {
            let minutes = read_bits(&mut reader)?;
            let new = |minute: &u8| (*minute, RouteSummary::new(Arc::clone(&route)));
            let mut rows: BTreeMap<u8, RouteSummary> = minutes.iter().map(new).collect();
            let rounds = read_column(&mut reader, "rounds", rows.len())?;
            for (row, rounds) in rows.values_mut().zip(rounds) {
                row.rounds = rounds;
            }
            read_flows(&mut reader, &mut rows)?;
            read_hops(&mut reader, &mut rows)?;
            for (minute, row) in rows {
                block.minutes.entry(minute).or_default().routes.insert(route.id, row);
            }
        }
        reader.end()?;
        Ok(block)
    }
}
