//! Calendars of planned work, and the alarms that it explains.

use super::alarms::{act_as_itself, alarm_items};
use super::users::checked_name;
use super::view::alarm::AlarmItem;
use super::view::planned_work::{CalendarItem, PlannedWorkItem, SavedCalendar};
use super::{ValidQuery, checked_range};
use crate::calendar::{MAX_CALENDAR, Names, Parsed, parse};
use crate::context::Shared;
use crate::notices::fetch;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_model::triage::{HandlingChange, OperatorState};
use itinera_store::{AlarmQuery, CalendarSpec, Lasting, PlannedWork, PlannedWorkRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// How often a calendar is fetched, and how often one from a file is expanded.
const FETCH: Duration = Duration::minutes(15);
const EXPAND: Duration = Duration::hours(6);
/// A fault may show this long before the work is said to begin: clocks of people differ.
const EARLY: Duration = Duration::minutes(2);
/// Open alarms that are compared with planned work, the newest.
const COMPARED: u64 = 2_000;
/// Occurrences that are listed.
const LISTED: i64 = 500;

/// Calendars by name.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Calendars {
    items: Vec<CalendarItem>,
}

/// The calendars of planned work, by name.
#[utoipa::path(get, path = "/calendars", operation_id = "getCalendars", responses(
    (status = 200, body = Calendars),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn calendars(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<Calendars>, ApiError> {
    let items = shared.store.calendars().await?.into_iter().map(CalendarItem::from).collect();
    Ok(Json(Calendars { items }))
}

/// A calendar to save: its text, or where it is fetched from.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CalendarRequest {
    /// iCalendar text (RFC 5545).
    content: Option<String>,
    /// `https:` or `http:` URL; it is fetched every 15 minutes.
    url: Option<String>,
    /// Name of the site of its work, where an event names none.
    site: Option<String>,
    /// AS number of the owner of its work, where an event names none.
    owner: Option<u32>,
    /// Time zone of times without one, such as `Europe/London`.
    #[serde(default = "utc")]
    zone: String,
}

fn utc() -> String {
    "UTC".to_owned()
}

/// The names that events of a calendar can name.
async fn names(
    shared: &Shared,
    site: Option<String>,
    owner: Option<u32>,
    now: OffsetDateTime,
) -> Result<Names, ApiError> {
    let sites = shared.store.sites().await?.into_iter().map(|site| site.name).collect();
    let (map, _) = shared.owner_map_at(now).await?;
    let owners = map.owners().map(|owner| (owner.name.clone(), owner.as_number)).collect();
    Ok(Names { sites, owners, site, owner })
}

fn next_at(url: Option<&String>, now: OffsetDateTime) -> OffsetDateTime {
    now + if url.is_some() { FETCH } else { EXPAND }
}

/// Saves a calendar under its name, in place of an earlier one. What of it cannot be used is said; the rest
/// is kept.
#[utoipa::path(put, path = "/calendars/{name}", operation_id = "saveCalendar",
    params(("name" = String, Path, description = "Name of the calendar")),
    request_body = CalendarRequest, responses(
    (status = 200, body = SavedCalendar),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn save_calendar(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(name): Path<String>,
    body: Result<Json<CalendarRequest>, JsonRejection>,
) -> Result<Json<SavedCalendar>, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let name = checked_name(&name, 60)?.to_owned();
    let now = OffsetDateTime::now_utc();
    let known = names(&shared, asked.site.clone(), asked.owner, now).await?;
    if let Some(site) = asked.site.as_ref().filter(|site| !known.sites.contains(*site)) {
        return Err(ApiError::BadInput(format!("site: {site:?} is no configured site")));
    }
    let content = match (asked.content, &asked.url) {
        (Some(content), None) => content,
        (None, Some(url)) => {
            let fetched = fetch(&shared.sending, url, MAX_CALENDAR).await;
            fetched.map_err(|reason| {
                let reason = reason.strip_prefix("url: ").unwrap_or(&reason);
                ApiError::BadInput(format!("url: {reason}"))
            })?
        }
        _ => return Err(ApiError::BadInput("content: either this or a url is needed".to_owned())),
    };
    let Parsed { works, refused } =
        parse(&content, &asked.zone, &known, now).map_err(ApiError::BadInput)?;
    let next_at = next_at(asked.url.as_ref(), now);
    let spec = CalendarSpec {
        name: name.clone(),
        url: asked.url,
        site: asked.site,
        owner: asked.owner,
        zone: asked.zone,
        content,
    };
    shared.store.save_calendar(&spec, &works, next_at, &by.name).await?;
    Ok(Json(SavedCalendar { name, occurrences: works.len(), refused }))
}

/// Removes a calendar. Alarms that it explained stay shelved.
#[utoipa::path(delete, path = "/calendars/{name}", operation_id = "removeCalendar",
    params(("name" = String, Path, description = "Name of the calendar")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove_calendar(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    match shared.store.remove_calendar(&name, &by.name).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::unknown_id(&name)),
    }
}

/// A range of planned work.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct PlannedWorkFilter {
    /// RFC 3339; a day ago where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    from: Option<OffsetDateTime>,
    /// RFC 3339; 14 days after `from` where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    to: Option<OffsetDateTime>,
}

/// Planned work, by begin; the first 500.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PlannedWorkList {
    items: Vec<PlannedWorkItem>,
}

/// Planned work that lasts at some time in a range, with the alarms that it explained.
#[utoipa::path(get, path = "/planned-work", operation_id = "getPlannedWork",
    params(PlannedWorkFilter), responses(
    (status = 200, body = PlannedWorkList),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn planned_work(
    State(shared): State<Arc<Shared>>,
    ValidQuery(asked): ValidQuery<PlannedWorkFilter>,
) -> Result<Json<PlannedWorkList>, ApiError> {
    let begin = asked.from.unwrap_or_else(|| OffsetDateTime::now_utc() - Duration::days(1));
    let end = asked.to.or_else(|| begin.checked_add(Duration::days(14)));
    let (from, to) = checked_range((Some(begin), end), Duration::days(14), begin)?;
    let works = shared.store.planned_work(from, to, LISTED).await?;
    Ok(Json(PlannedWorkList { items: works.into_iter().map(PlannedWorkItem::from).collect() }))
}

/// Fetches calendars again, and expands those from files again. One that fails keeps what it had.
pub(crate) async fn refresh_calendars(shared: Arc<Shared>) -> Result<(), ApiError> {
    let now = OffsetDateTime::now_utc();
    for spec in shared.store.due_calendars(now).await? {
        let content = match &spec.url {
            Some(url) => fetch(&shared.sending, url, MAX_CALENDAR).await,
            None => Ok(spec.content),
        };
        let known = names(&shared, spec.site, spec.owner, now).await?;
        let read = content.and_then(|content| {
            parse(&content, &spec.zone, &known, now).map(|parsed| (content, parsed.works))
        });
        let outcome = match &read {
            Ok((content, works)) => Ok((content.as_str(), works.as_slice())),
            Err(reason) => Err(reason.as_str()),
        };
        let next_at = next_at(spec.url.as_ref(), now);
        shared.store.record_calendar(&spec.name, outcome, next_at).await?;
    }
    Ok(())
}

/// Whether planned work explains an alarm: it began within the time of the work, and an owner at fault does
/// the work, or each site that sees it is where the work is.
fn explains(work: &PlannedWork, alarm: &AlarmItem) -> bool {
    let owners = alarm.place.iter().flat_map(|place| place.owners());
    let by_owner = owners.into_iter().any(|owner| work.owners.contains(&owner.as_number()));
    let at_sites =
        !alarm.sites.is_empty() && alarm.sites.iter().all(|site| work.sites.contains(site));
    is_within(work, alarm) && (by_owner || at_sites)
}

fn is_within(work: &PlannedWork, alarm: &AlarmItem) -> bool {
    alarm.since >= work.starts_at - EARLY && alarm.since < work.ends_at
}

/// Whether planned work explains an alarm of a pair by all alarms with a place in its incident.
fn explains_pair(work: &PlannedWork, alarm: &AlarmItem, all: &[AlarmItem]) -> bool {
    let located = alarm.located_with(all);
    !located.is_empty() && is_within(work, alarm) && located.iter().all(|it| explains(work, it))
}

/// Shelves open alarms that planned work explains until its end, each once: an operator may take that back.
pub(super) async fn apply_planned_work(shared: &Shared) -> Result<(), ApiError> {
    let now = OffsetDateTime::now_utc();
    let lasting = shared.store.planned_work(now, now, LISTED).await?;
    if lasting.is_empty() {
        return Ok(());
    }
    let states = Some(vec![OperatorState::None, OperatorState::Ack, OperatorState::Shelved]);
    let open = AlarmQuery { lasting: Lasting::OPEN, states, ..AlarmQuery::default() };
    let alarms = alarm_items(shared, &open, None, COMPARED).await?;
    for alarm in alarms.iter().filter(|it| it.handling.state != OperatorState::Shelved) {
        let explaining = |it: &&PlannedWorkRecord| {
            explains(&it.work, alarm) || explains_pair(&it.work, alarm, &alarms)
        };
        let Some(record) = lasting.iter().find(explaining) else { continue };
        if record.explained.iter().any(|(root, _)| *root == alarm.id) {
            continue;
        }
        let reason = format!("Planned work: {} ({})", record.work.summary, record.calendar);
        let until = record.work.ends_at.into();
        act_as_itself(shared, alarm.id, HandlingChange::Shelve { until, reason }, now).await?;
        shared.store.record_explained(record, alarm.id, now).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::view::message::MessageView;
    use super::*;
    use crate::testing;
    use itinera_analysis::responsible::Responsible;
    use itinera_model::finding::LossCounts;
    use itinera_model::message::{Message, OneWayLoss};
    use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
    use itinera_model::unit::{Ratio, WallTime};
    use itinera_store::{AlarmRecord, PathEnds};
    use time::macros::datetime;

    const SINCE: OffsetDateTime = datetime!(2026-03-02 10:00 UTC);
    const STANNOCH: u32 = 64_510;

    /// An alarm on a link inside an owner, seen from some sites.
    fn alarm(sites: &[&str]) -> AlarmItem {
        use itinera_model::finding::Place;
        use itinera_model::id::{AlarmId, PathId};
        use uuid::Uuid;
        let address = |last| [198, 18, 128, last].into();
        let place = Place::Link { from: address(1), to: address(2), silent_between: 0 };
        let paths: Vec<PathId> =
            (0..sites.len()).map(|n| PathId::from_uuid(Uuid::from_u128(n as u128))).collect();
        let ends: Vec<PathEnds> = paths
            .iter()
            .zip(sites)
            .map(|(path, site)| PathEnds {
                path: *path,
                site: (*site).to_owned(),
                service: "Bridge Voice".to_owned(),
            })
            .collect();
        let owner = Owner {
            as_number: STANNOCH,
            name: "Stannoch Halls".to_owned(),
            contact: "desk@stannoch.example".to_owned(),
        };
        let prefix = "198.18.128.0/20".parse().unwrap();
        let map = OwnerMap::new(vec![OwnerEntry { prefix, owner }]);
        assert_eq!(Responsible::of(&place, &map).owners().len(), 1);
        let at = WallTime::from(SINCE);
        let mut alarm = testing::alarm();
        (alarm.key.place, alarm.since, alarm.raised_at) = (place, at, at);
        (alarm.showing, alarm.paths) = (paths.clone(), paths);
        let id = AlarmId::from_uuid(Uuid::from_u128(9));
        let record = AlarmRecord { id, no: 9, alarm, cleared_at: None, incident: None };
        AlarmItem::of_paths(&record, &ends, &map)
    }

    fn work(minutes: (i64, i64), sites: &[&str], owners: &[u32]) -> PlannedWork {
        PlannedWork {
            uid: "1".to_owned(),
            starts_at: SINCE + Duration::minutes(minutes.0),
            ends_at: SINCE + Duration::minutes(minutes.1),
            summary: String::new(),
            sites: sites.iter().map(|&site| site.to_owned()).collect(),
            owners: owners.to_vec(),
        }
    }

    #[test]
    fn work_explains_what_began_within_it_at_its_owner_or_at_its_sites_alone() {
        let alarm = alarm(&["Dunverra", "Eskerry"]);
        for (work, expected) in [
            (work((-10, 60), &[], &[STANNOCH]), true),
            (work((1, 60), &[], &[STANNOCH]), true),
            (work((5, 60), &[], &[STANNOCH]), false),
            (work((-60, -1), &[], &[STANNOCH]), false),
            (work((-10, 60), &[], &[64_500]), false),
            (work((-10, 60), &["Eskerry"], &[]), false),
            (work((-10, 60), &["Eskerry", "Dunverra"], &[]), true),
            (work((-10, 60), &["Ferrish Holm"], &[64_500]), false),
        ] {
            assert_eq!(explains(&work, &alarm), expected, "{work:?}");
        }
    }
    #[test]
    fn work_explains_a_pair_by_all_places_of_its_incident() {
        let incident = Some(uuid::Uuid::from_u128(4));
        let located = AlarmItem { incident, ..alarm(&["Eskerry"]) };
        let loss = OneWayLoss {
            from: "Eskerry".to_owned(),
            to: "Dunverra".to_owned(),
            lossy: LossCounts { sent: 40, lost: 6 },
            opposite: LossCounts { sent: 34, lost: 0 },
            limit: Ratio::from_ppm(30_000),
            seconds: 40,
        };
        let message = MessageView::of_one(Message::PairLoss(loss), &OwnerMap::default());
        let pair = AlarmItem { message, place: None, ..located.clone() };
        let elsewhere = AlarmItem { incident: None, ..located.clone() };
        let unexplained = AlarmItem { since: SINCE - Duration::hours(1), ..located.clone() };
        let work = work((-10, 60), &[], &[STANNOCH]);
        for (all, expected) in [
            (vec![located.clone(), pair.clone()], true),
            (vec![pair.clone()], false),
            (vec![elsewhere, pair.clone()], false),
            (vec![located.clone(), unexplained, pair.clone()], false),
        ] {
            assert!(!explains(&work, &pair));
            assert_eq!(explains_pair(&work, &pair, &all), expected, "{}", all.len());
        }
        let path = AlarmItem { place: None, ..located.clone() };
        assert!(!explains_pair(&work, &path, &[located, path.clone()]), "it is of no pair");
    }
}
