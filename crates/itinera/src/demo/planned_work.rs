//! The calendar of the demonstration: planned work at Stannoch Halls, beside its fault.

use super::directory::Directory;
use crate::client::Client;
use crate::exit::{Code, Failure};
use time::macros::format_description;
use time::{Duration, OffsetDateTime};

/// Name of the calendar, and of its file.
const CALENDAR: &str = "Stannoch Halls";
const FILE: &str = "planned-work.ics";
/// From the start of the simulation to the begin and the end of the work: its fault is within.
const BEGIN: Duration = Duration::seconds(570);
const END: Duration = Duration::seconds(1_200);

/// The calendar, for a simulation that starts at a time.
fn calendar(start: OffsetDateTime) -> Result<String, time::error::Format> {
    let format = format_description!("[year][month][day]T[hour][minute][second]Z");
    let (now, from, to) =
        (start.format(format)?, (start + BEGIN).format(format)?, (start + END).format(format)?);
    Ok(format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Stannoch Halls//Planned work//EN\r\n\
         BEGIN:VEVENT\r\nUID:{now}@stannoch.example\r\nDTSTAMP:{now}\r\nDTSTART:{from}\r\n\
         DTEND:{to}\r\nSUMMARY:Switch replacement in hall 3\r\nLOCATION:Stannoch Halls\r\n\
         END:VEVENT\r\nEND:VCALENDAR\r\n"
    ))
}

/// Saves the calendar.
pub(super) async fn plan(client: &Client, directory: &Directory) -> Result<(), Failure> {
    let content =
        calendar(OffsetDateTime::now_utc()).map_err(|error| Failure::new(Code::Failed, error))?;
    directory.write(FILE, &content)?;
    let place = format!("/calendars/{}", CALENDAR.replace(' ', "%20"));
    let saved = serde_json::json!({ "content": content });
    client.put(&place, &saved).await.map(drop)
}
