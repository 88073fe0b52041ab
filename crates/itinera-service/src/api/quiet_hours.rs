//! Alarms that are raised in quiet hours are shelved until their end.

use super::alarms::{ITSELF, act_as_itself, alarm_items};
use super::view::alarm::AlarmItem;
use super::view::alarm_history::raised_last;
use super::view::path::offset;
use crate::context::Shared;
use crate::inventory::rules_with;
use crate::problem::ApiError;
use itinera_analysis::rules::{QuietUntil, Ruled, RuledPath, Rules};
use itinera_model::alarm::AlarmClass;
use itinera_model::id::PathId;
use itinera_model::triage::{HandlingChange, OperatorState};
use itinera_store::{AlarmQuery, Lasting, PathEnds};
use std::collections::BTreeSet;
use time::OffsetDateTime;
use uuid::Uuid;

/// Open alarms that are compared with quiet hours, the newest.
const COMPARED: u64 = 2_000;

/// The quiet hours that an alarm was raised in, the last time that it was.
fn quiet_of(alarm: &AlarmItem, rules: &Rules) -> Option<QuietUntil> {
    let raised_at = raised_last(&alarm.history).unwrap_or(alarm.raised_at);
    let owners = alarm.place.iter().flat_map(|place| place.owners());
    let owners: Vec<u32> = owners.map(|owner| owner.as_number()).collect();
    let paths: Vec<PathId> = alarm.showing.iter().copied().map(PathId::from_uuid).collect();
    let sites: Vec<&str> = alarm.sites.iter().map(String::as_str).collect();
    let services: Vec<&str> = alarm.services.iter().map(String::as_str).collect();
    let of = match alarm.class {
        AlarmClass::Path => Ruled::Paths(&paths),
        AlarmClass::Event => Ruled::Events { sites: &sites, services: &services },
        AlarmClass::Service => return None,
    };
    rules.quiet((alarm.perceived_severity, raised_at.into()), of, &owners)
}

/// The quiet hours of an alarm of a pair: the first to end of those of all alarms with a place in its incident.
fn quiet_of_pair(alarm: &AlarmItem, all: &[AlarmItem], rules: &Rules) -> Option<QuietUntil> {
    let located = alarm.located_with(all).into_iter();
    let quiet: Option<Vec<QuietUntil>> = located.map(|it| quiet_of(it, rules)).collect();
    quiet?.into_iter().min_by_key(|quiet| quiet.until)
}

/// Shelves open alarms that were raised in quiet hours until their end, each once: an operator may take that
/// back. One that is not quiet any more, by its severity or other paths, is unshelved.
pub(super) async fn apply_quiet_hours(shared: &Shared) -> Result<(), ApiError> {
    let rules = shared.store.rules_in_force().await?;
    let now = OffsetDateTime::now_utc();
    let are_none = rules.iter().all(|rule| rule.quiet.is_none());
    if are_none && !shared.store.any_quiet_after(now).await? {
        return Ok(());
    }
    let states = Some(vec![OperatorState::None, OperatorState::Ack, OperatorState::Shelved]);
    let open = AlarmQuery { lasting: Lasting::OPEN, states, ..AlarmQuery::default() };
    let alarms = alarm_items(shared, &open, None, COMPARED).await?;
    let paths: BTreeSet<Uuid> = alarms.iter().flat_map(|it| it.showing.iter().copied()).collect();
    let paths: Vec<PathId> = paths.into_iter().map(PathId::from_uuid).collect();
    let ends = shared.store.path_ends(&paths).await?.into_iter();
    let ruled = |PathEnds { path, site, service }| (path, RuledPath { site, service });
    let rules = rules_with(shared, rules, ends.map(ruled)).await?;
    let known = shared.store.quiet_alarms(alarms.iter().map(|alarm| alarm.id).collect()).await?;
    for alarm in &alarms {
        let handling = &alarm.handling;
        let quiet = quiet_of(alarm, &rules).or_else(|| quiet_of_pair(alarm, &alarms, &rules));
        let quiet = quiet.filter(|quiet| quiet.until > now.into());
        let ended = known.get(&alarm.id);
        match (quiet, handling.shelved_until) {
            (Some(QuietUntil { rule, until }), None) if ended != Some(&offset(until)) => {
                let reason = format!("Quiet hours: {rule}");
                let shelve = HandlingChange::Shelve { until, reason };
                act_as_itself(shared, alarm.id, shelve, now).await?;
                shared.store.record_quiet(alarm.id, &rule, offset(until)).await?;
            }
            (None, Some(until))
                if ended == Some(&until) && handling.shelved_by.as_deref() == Some(ITSELF) =>
            {
                act_as_itself(shared, alarm.id, HandlingChange::Unshelve, now).await?;
            }
            _ => {}
        }
    }
    Ok(())
}
