//! Planned work of a calendar: it shelves the alarms that it explains, and no other within its time.

use crate::demonstration::{Demonstration, at_owner, truth};
use crate::support::{PATIENCE, directory, eventually};
use serde_json::Value;
use time::macros::format_description;
use time::{Duration, OffsetDateTime};

/// It draws a live fault inside Northmere Carriage.
const SEED: u64 = 2;
const PLANNED: &str = "Stannoch Halls";
const UNRELATED: &str = "Lowtide Mobile";

fn calendar(now: OffsetDateTime) -> String {
    let format = format_description!("[year][month][day]T[hour][minute][second]Z");
    let at = |time: OffsetDateTime| time.format(&format).unwrap();
    let (from, to) = (at(now - Duration::minutes(1)), at(now + Duration::hours(1)));
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//A//B//EN\r\nBEGIN:VEVENT\r\nUID:1\r\n\
         DTSTAMP:{from}\r\nDTSTART:{from}\r\nDTEND:{to}\r\nSUMMARY:Switch replacement\r\n\
         LOCATION:{PLANNED}\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nUID:2\r\nDTSTAMP:{from}\r\n\
         DTSTART:{from}\r\nSUMMARY:Elsewhere\r\nLOCATION:nowhere\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

#[test]
fn what_is_planned_is_shelved_and_an_unrelated_fault_is_told() {
    assert_eq!(truth(SEED).owner.as_deref(), Some("Northmere Carriage"));
    let place = directory();
    let demonstration = Demonstration::with_two_faults_soon(SEED, place.path());
    let file = place.path().join("work.ics");
    std::fs::write(&file, calendar(OffsetDateTime::now_utc())).unwrap();
    let file = file.display().to_string();
    let saved = demonstration.client(&["calendars", "save", "Halls", "--file", &file]);
    assert_eq!((&saved["occurrences"], saved["refused"].as_array().unwrap().len()), (&1.into(), 1));

    let (planned, unrelated) = eventually("both alarms", PATIENCE, || {
        let alarms = demonstration.client(&["alarms", "--open"]);
        let (planned, unrelated) = (at_owner(&alarms, PLANNED), at_owner(&alarms, UNRELATED));
        let is_shelved = |alarm: &&Value| alarm["handling"]["state"] == "shelved";
        let shelved = planned.iter().find(is_shelved)?.clone();
        Some((shelved, unrelated.first()?.clone()))
    });
    let reason = planned["handling"]["shelve_reason"].as_str().unwrap();
    assert!(reason.contains("Switch replacement"), "{reason}");
    assert_eq!(planned["handling"]["shelved_by"], "Itinera");
    assert_eq!(unrelated["handling"]["state"], "none");
    let work = demonstration.client(&["planned-work"]);
    let explained: Vec<&Value> = work[0]["explained"].as_array().unwrap().iter().collect();
    assert!(explained.contains(&&planned["no"]), "{work}");
    assert!(!explained.contains(&&unrelated["no"]), "{work}");

    let incident = |alarm: &Value| {
        demonstration.client(&["incidents", "show", &alarm["incident_no"].to_string()])
    };
    assert_eq!(incident(&planned)["is_set_aside"], true);
    assert_eq!(incident(&unrelated)["is_set_aside"], false);

    let event = demonstration.raised(&unrelated["incident_no"]);
    assert!(event["data"]["contact"].as_str().unwrap().contains(UNRELATED), "{event}");
    let told = demonstration.received();
    let of_planned =
        |it: &&Value| it["text"].as_str().unwrap().contains(&format!("inside {PLANNED}"));
    assert_eq!(told.iter().find(of_planned), None, "planned work is not told");
    let hand_over = demonstration.client(&["hand-over"]);
    assert!(hand_over["text"].as_str().unwrap().contains("Switch replacement"), "{hand_over}");
    let removed = demonstration.run(&["calendars", "remove", "Halls"]);
    assert_eq!(removed.code, Some(0), "{removed:?}");
    assert_eq!(demonstration.run(&["calendars", "remove", "Halls"]).code, Some(4));
    demonstration.stop();
}
