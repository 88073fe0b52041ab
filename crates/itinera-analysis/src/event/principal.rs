//! The event that stands for an incident of events.

use itinera_model::event::Event;
use std::collections::BTreeSet;

/// The event that stands for several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal<'a> {
    /// The event.
    pub event: &'a Event,
    /// Sites that see the same, its own first.
    pub sites: Vec<String>,
    /// True where it is over.
    pub cleared: bool,
}

/// The most severe of the events that last, else of all; the oldest of these. One of a pair, which names no
/// place, only where there is no other. `events` are given with their sites and whether each is over; absent
/// for none.
pub fn principal<'a>(events: &[(&'a Event, &str, bool)]) -> Option<Principal<'a>> {
    let rank = |event: &Event| (event.key.kind.is_of_pair(), event.severity, event.since);
    let lasting = events.iter().filter(|(.., over)| !over);
    let (event, site, cleared) = lasting
        .min_by_key(|(event, ..)| rank(event))
        .or_else(|| events.iter().min_by_key(|(event, ..)| rank(event)))?;
    let others: BTreeSet<&str> = events
        .iter()
        .filter(|(other, at, _)| other.group == event.group && at != site)
        .map(|(_, at, _)| *at)
        .collect();
    let sites = std::iter::once(*site).chain(others).map(str::to_owned).collect();
    Some(Principal { event, sites, cleared: *cleared })
}
