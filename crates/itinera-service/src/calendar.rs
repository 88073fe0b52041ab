//! iCalendar text (RFC 5545) as planned work: events with their recurrences, and the sites and owners that
//! they name.

use calcard::common::timezone::Tz;
use calcard::icalendar::dates::TimeOrDelta;
use calcard::icalendar::{
    ICalendar, ICalendarComponent, ICalendarProperty, ICalendarStatus, ICalendarValue,
};
use calcard::{Entry, Parser};
use itinera_store::PlannedWork;
use std::collections::{BTreeMap, BTreeSet};
use std::str::FromStr;
use time::{Duration, OffsetDateTime};

/// Bytes of a calendar, at most.
pub(crate) const MAX_CALENDAR: usize = 1 << 20;
/// Occurrences of all events that are expanded, at most.
const MAX_OCCURRENCES: usize = 10_000;
/// Occurrences that are kept, at most.
const MAX_KEPT: usize = 2_000;
/// How far back and ahead occurrences are kept.
const BACK: Duration = Duration::days(30);
const AHEAD: Duration = Duration::days(400);
/// Characters of a UID and of a summary that are kept.
const LONGEST: usize = 250;
/// Refusals that are named.
const NAMED: usize = 20;

/// The names that events can name, and what is meant where they name none.
#[derive(Debug, Clone, Default)]
pub(crate) struct Names {
    pub(crate) sites: BTreeSet<String>,
    /// AS numbers by name of the owner.
    pub(crate) owners: BTreeMap<String, u32>,
    pub(crate) site: Option<String>,
    pub(crate) owner: Option<u32>,
}

/// What a calendar plans, and what of it cannot be used.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Parsed {
    pub(crate) works: Vec<PlannedWork>,
    /// Lines and events with the reason, the first of them.
    pub(crate) refused: Vec<String>,
}

fn kept(text: &str) -> String {
    text.chars().take(LONGEST).map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// The texts of a property; categories hold several.
fn texts<'a>(
    component: &'a ICalendarComponent,
    name: &'a ICalendarProperty,
) -> impl Iterator<Item = &'a str> {
    component.properties(name).flat_map(|entry| entry.values.iter().filter_map(|it| it.as_text()))
}

impl Names {
    fn owner(&self, text: &str) -> Option<u32> {
        let number = text.strip_prefix("AS").or_else(|| text.strip_prefix("as"));
        let by_number = number.and_then(|number| number.trim().parse().ok());
        let by_name = || {
            let mut owners = self.owners.iter();
            owners.find(|(name, _)| name.eq_ignore_ascii_case(text)).map(|(_, owner)| *owner)
        };
        by_number.or_else(by_name)
    }

    fn site(&self, text: &str) -> Option<String> {
        self.sites.iter().find(|site| site.eq_ignore_ascii_case(text)).cloned()
    }

    /// The sites and owners of an event: those that its location or categories name, or else those of the
    /// calendar.
    fn of(&self, component: &ICalendarComponent) -> (Vec<String>, Vec<u32>) {
        let (mut sites, mut owners) = (BTreeSet::new(), BTreeSet::new());
        let properties = [ICalendarProperty::Location, ICalendarProperty::Categories];
        for text in properties.iter().flat_map(|name| texts(component, name)).map(str::trim) {
            sites.extend(self.site(text));
            owners.extend(self.owner(text));
        }
        if sites.is_empty() && owners.is_empty() {
            sites.extend(self.site.clone());
            owners.extend(self.owner);
        }
        (sites.into_iter().collect(), owners.into_iter().collect())
    }
}

fn is_cancelled(component: &ICalendarComponent) -> bool {
    let status = component.property(&ICalendarProperty::Status);
    status.is_some_and(|entry| {
        entry.values.contains(&ICalendarValue::Status(ICalendarStatus::Cancelled))
    })
}

impl Parsed {
    fn refuse(&mut self, reason: String) {
        if self.refused.len() < NAMED && !self.refused.contains(&reason) {
            self.refused.push(reason);
        }
    }

    fn add(&mut self, calendar: &ICalendar, zone: Tz, names: &Names, now: OffsetDateTime) {
        let expanded = calendar.expand_dates(zone, MAX_OCCURRENCES);
        let component =
            |id: u32| calendar.components.get(usize::try_from(id).unwrap_or(usize::MAX));
        let named = |component: &ICalendarComponent| {
            let summary = texts(component, &ICalendarProperty::Summary).next();
            kept(summary.or_else(|| component.uid()).unwrap_or("without a summary"))
        };
        for error in expanded.errors {
            let event = component(error.comp_id).map_or_else(String::new, named);
            self.refuse(format!("event {event:?}: {:?}", error.error));
        }
        if expanded.events.len() >= MAX_OCCURRENCES {
            self.refuse(format!("more than {MAX_OCCURRENCES} occurrences: the later are left out"));
        }
        for event in expanded.events {
            let Some(component) = component(event.comp_id) else { continue };
            if !component.component_type.is_event() || is_cancelled(component) {
                continue;
            }
            let start = event.start.timestamp();
            let end = match event.end {
                TimeOrDelta::Time(end) => end.timestamp(),
                TimeOrDelta::Delta(delta) => start.saturating_add(delta.num_seconds()),
            };
            let at = |seconds| OffsetDateTime::from_unix_timestamp(seconds).ok();
            let (Some(starts_at), Some(ends_at)) = (at(start), at(end)) else { continue };
            if ends_at <= starts_at || ends_at < now - BACK || starts_at > now + AHEAD {
                continue;
            }
            let summary = named(component);
            let (sites, owners) = names.of(component);
            if sites.is_empty() && owners.is_empty() {
                self.refuse(format!("event {summary:?}: names no known site or owner"));
                continue;
            }
            let uid = kept(component.uid().unwrap_or(&summary));
            self.works.push(PlannedWork { uid, starts_at, ends_at, summary, sites, owners });
        }
    }
}

/// Reads a calendar. `zone` is that of times without one.
///
/// # Errors
/// Why nothing of it can be used.
pub(crate) fn parse(
    text: &str,
    zone: &str,
    names: &Names,
    now: OffsetDateTime,
) -> Result<Parsed, String> {
    if text.len() > MAX_CALENDAR {
        return Err(format!("content: more than {} KiB", MAX_CALENDAR >> 10));
    }
    let zone = Tz::from_str(zone)
        .map_err(|_| format!("zone: {zone:?} is no time zone such as Europe/London"))?;
    let mut parsed = Parsed::default();
    let mut calendars = 0_u32;
    let mut parser = Parser::new(text);
    loop {
        match parser.entry() {
            Entry::ICalendar(calendar) => {
                calendars += 1;
                parsed.add(&calendar, zone, names, now);
            }
            Entry::InvalidLine(line) if line.trim().is_empty() => {}
            Entry::InvalidLine(line) => parsed.refuse(format!("no iCalendar: {:?}", kept(&line))),
            Entry::UnterminatedComponent(name) => {
                parsed.refuse(format!("{name}: END is missing"));
            }
            Entry::Eof => break,
            other => parsed.refuse(format!("no calendar: {}", kept(&format!("{other:?}")))),
        }
    }
    if calendars == 0 {
        let first = parsed.refused.into_iter().next();
        let first = first.map(|reason| format!("; {reason}")).unwrap_or_default();
        return Err(format!("content: holds no VCALENDAR{first}"));
    }
    parsed.works.sort_by_key(|work| work.starts_at);
    if parsed.works.len() > MAX_KEPT {
        parsed.works.truncate(MAX_KEPT);
        parsed.refuse(format!(
            "more than {MAX_KEPT} occurrences are planned: the later are left out"
        ));
    }
    Ok(parsed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use time::macros::datetime;

    const NOW: OffsetDateTime = datetime!(2026-03-02 12:00 UTC);

    fn names() -> Names {
        Names {
            sites: ["Eskerry".to_owned(), "Carrock Pier".to_owned()].into(),
            owners: [("Stannoch Halls".to_owned(), 64_510)].into(),
            ..Names::default()
        }
    }

    fn calendar(events: &str) -> String {
        let events = events.replace('\n', "\r\n");
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Corriven//EN\r\n{events}END:VCALENDAR\r\n"
        )
    }

    fn read(events: &str) -> Parsed {
        parse(&calendar(events), "UTC", &names(), NOW).unwrap()
    }

    #[test]
    fn an_event_names_its_owner_or_site_and_its_time_in_its_zone() {
        let parsed = read(
            "BEGIN:VEVENT\nUID:1@stannoch\nDTSTAMP:20260301T000000Z\nSUMMARY:Power work\n\
             LOCATION:Stannoch Halls\nDTSTART;TZID=Europe/London:20260702T220000\nDURATION:PT4H\n\
             END:VEVENT\n\
             BEGIN:VEVENT\nUID:2\nDTSTAMP:20260301T000000Z\nSUMMARY:Cable\n\
             CATEGORIES:network,eskerry,AS64500\n\
             DTSTART:20260302T100000Z\nDTEND:20260302T113000Z\nEND:VEVENT\n",
        );
        assert_eq!(parsed.refused, Vec::<String>::new());
        let [cable, power] = &parsed.works[..] else { panic!("{parsed:?}") };
        assert_eq!(
            (&cable.sites[..], &cable.owners[..]),
            (&["Eskerry".to_owned()][..], &[64_500][..])
        );
        assert_eq!(cable.ends_at, datetime!(2026-03-02 11:30 UTC));
        assert_eq!((power.uid.as_str(), &power.owners[..]), ("1@stannoch", &[64_510][..]));
        // Summer time: an hour ahead of UTC.
        assert_eq!(power.starts_at, datetime!(2026-07-02 21:00 UTC));
        assert_eq!(power.ends_at, datetime!(2026-07-03 01:00 UTC));
    }

    #[test]
    fn recurrences_keep_their_hour_and_leave_exceptions_out() {
        let parsed = read(
            "BEGIN:VEVENT\nUID:weekly\nDTSTAMP:20260301T000000Z\nSUMMARY:Window\nLOCATION:Eskerry\n\
             DTSTART;TZID=Europe/London:20260323T020000\nDTEND;TZID=Europe/London:20260323T040000\n\
             RRULE:FREQ=WEEKLY;COUNT=4\nEXDATE;TZID=Europe/London:20260330T020000\nEND:VEVENT\n",
        );
        let starts: Vec<_> = parsed.works.iter().map(|work| work.starts_at).collect();
        // Summer time begins on 29 March.
        let expected = [
            datetime!(2026-03-23 02:00 UTC),
            datetime!(2026-04-06 01:00 UTC),
            datetime!(2026-04-13 01:00 UTC),
        ];
        assert_eq!(starts, expected);
    }

    #[test]
    fn what_is_cancelled_over_far_away_or_names_nothing_known_is_left_out() {
        let event = |uid: &str, more: &str| {
            format!(
                "BEGIN:VEVENT\nUID:{uid}\nDTSTAMP:20260301T000000Z\nSUMMARY:{uid}\n{more}\nEND:VEVENT\n"
            )
        };
        let soon = "DTSTART:20260303T100000Z\nDTEND:20260303T110000Z";
        let events = [
            event("cancelled", &format!("{soon}\nLOCATION:Eskerry\nSTATUS:CANCELLED")),
            event("over", "DTSTART:20250101T000000Z\nDTEND:20250101T010000Z\nLOCATION:Eskerry"),
            event("backward", "DTSTART:20260303T100000Z\nDTEND:20260303T090000Z\nLOCATION:Eskerry"),
            event("unknown", &format!("{soon}\nLOCATION:Elsewhere")),
            event("good", &format!("{soon}\nLOCATION:Carrock Pier")),
        ];
        let parsed = read(&events.concat());
        assert_eq!(parsed.works.iter().map(|it| it.uid.as_str()).collect::<Vec<_>>(), ["good"]);
        assert!(parsed.refused.iter().any(|it| it.contains("\"unknown\"")), "{parsed:?}");
        let of_calendar = Names { site: Some("Eskerry".to_owned()), ..names() };
        let parsed = parse(&calendar(&events[3]), "UTC", &of_calendar, NOW).unwrap();
        assert_eq!(parsed.works[0].sites, ["Eskerry"], "where the event names none");
    }

    #[test]
    fn bad_calendars_say_why_and_endless_ones_end() {
        let bad = |text: &str, zone: &str| parse(text, zone, &names(), NOW).unwrap_err();
        assert!(bad("", "UTC").starts_with("content"));
        assert!(bad("<html>not found</html>", "UTC").contains("html"));
        assert!(bad(&calendar(""), "Sound/Corriven").starts_with("zone"));
        assert!(bad(&" ".repeat(MAX_CALENDAR + 1), "UTC").starts_with("content"));
        let endless = "BEGIN:VEVENT\nUID:e\nDTSTAMP:20260301T000000Z\nSUMMARY:e\nLOCATION:Eskerry\n\
            DTSTART:20260303T100000Z\nDURATION:PT1M\nRRULE:FREQ=MINUTELY\nEND:VEVENT\n";
        let parsed = read(endless);
        assert!(!parsed.works.is_empty() && parsed.works.len() <= MAX_KEPT);
        assert!(!parsed.refused.is_empty(), "what is left out is said");
        let long = "x".repeat(5_000);
        let parsed = read(&endless.replace("UID:e", &format!("UID:{long}")).replace(";", ""));
        assert!(parsed.works.iter().all(|work| work.uid.len() <= LONGEST));
    }
}
