//! Calendars and planned work as the API shows them.

use super::handling::minute;
use itinera_store::{CalendarRecord, PlannedWorkRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A calendar of planned work.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CalendarItem {
    name: String,
    /// Where it is fetched from; absent for one from a file.
    url: Option<String>,
    /// The site of its work, where an event names none.
    site: Option<String>,
    /// AS number of the owner of its work, where an event names none.
    owner: Option<i64>,
    /// Time zone of times without one.
    zone: String,
    /// When it was saved, or fetched last.
    #[serde(with = "time::serde::rfc3339")]
    fetched_at: OffsetDateTime,
    /// Why it could not be fetched since then: what it planned before stays.
    error: Option<String>,
    /// Occurrences of its events from 30 days ago to 400 days ahead.
    occurrences: i64,
    saved_by: String,
}

impl From<CalendarRecord> for CalendarItem {
    fn from(record: CalendarRecord) -> Self {
        Self {
            name: record.name,
            url: record.url,
            site: record.site,
            owner: record.owner,
            zone: record.zone,
            fetched_at: record.fetched_at,
            error: record.error,
            occurrences: record.occurrences,
            saved_by: record.saved_by,
        }
    }
}

/// What was read of a calendar.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SavedCalendar {
    pub(crate) name: String,
    /// Occurrences of its events that are kept.
    pub(crate) occurrences: usize,
    /// Lines and events that cannot be used, with the reason; the first 20.
    pub(crate) refused: Vec<String>,
}

/// One occurrence of planned work.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PlannedWorkItem {
    /// Name of the calendar.
    calendar: String,
    summary: String,
    #[serde(with = "time::serde::rfc3339")]
    starts_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    ends_at: OffsetDateTime,
    /// Sites that it is at.
    sites: Vec<String>,
    /// AS numbers of the owners that do it.
    owners: Vec<u32>,
    /// Short numbers of the alarms that it explained: they are shelved until its end.
    explained: Vec<i64>,
}

impl PlannedWorkItem {
    /// In one line, with times in UTC.
    pub(crate) fn words(&self) -> String {
        let owners = self.owners.iter().map(|owner| format!("AS {owner}"));
        let of: Vec<String> = self.sites.iter().cloned().chain(owners).collect();
        let explained: Vec<String> = self.explained.iter().map(i64::to_string).collect();
        let explained = match &explained[..] {
            [] => String::new(),
            [one] => format!("; explains alarm {one}"),
            several => format!("; explains alarms {}", several.join(", ")),
        };
        let (from, to) = (minute(self.starts_at), minute(self.ends_at));
        format!("Planned work {from} to {to}: {} ({}){explained}", self.summary, of.join(", "))
    }
}

impl From<PlannedWorkRecord> for PlannedWorkItem {
    fn from(record: PlannedWorkRecord) -> Self {
        Self {
            calendar: record.calendar,
            summary: record.work.summary,
            starts_at: record.work.starts_at,
            ends_at: record.work.ends_at,
            sites: record.work.sites,
            owners: record.work.owners,
            explained: record.explained.into_iter().map(|(_, no)| no).collect(),
        }
    }
}
