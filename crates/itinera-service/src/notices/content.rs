//! What a notice tells: the same at every attempt and to every receiver.

use itinera_model::alarm::Severity;
use itinera_model::notice::NoticeKind;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// What a notice tells, as the data of its CloudEvent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub(crate) struct NoticeContent {
    /// Id of the notice, the same at every attempt.
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) kind: NoticeKind,
    /// When that came to be.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    /// Absent where it is about no alarm.
    pub(crate) severity: Option<Severity>,
    /// Effect, then place, in at most 70 characters.
    pub(crate) headline: String,
    /// The owner to call, or what to check first; absent where there is nothing to do.
    pub(crate) contact: Option<String>,
    /// The providers that its sites pay, with their contacts and the sites.
    #[serde(default)]
    pub(crate) contract_holders: Vec<String>,
    /// Numbers, reasons, and what to do next.
    pub(crate) detail: Vec<String>,
    /// Short number of the incident.
    pub(crate) incident: Option<i64>,
    /// Short number of its worst alarm.
    pub(crate) alarm: Option<i64>,
    /// Start of the fault.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) since: Option<OffsetDateTime>,
    /// Sites that show it.
    pub(crate) sites: Vec<String>,
    /// Services that it touches.
    pub(crate) services: Vec<String>,
    /// Paths that show it.
    pub(crate) paths: usize,
    /// The users who have its alarms.
    pub(crate) handled_by: Vec<String>,
    /// The alarm in the console; the incident where there is no alarm.
    pub(crate) link: String,
}

/// Text without controls, which could forge lines and headers.
fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// Names at most in one line of text; the data have all of them.
const NAMED: usize = 8;

fn several(one: &str, names: &[String]) -> Option<String> {
    let shown: Vec<String> = names.iter().take(NAMED).map(|name| plain(name)).collect();
    let more = match names.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    match names {
        [] => None,
        [_] => Some(format!("{one} {}", shown[0])),
        _ => Some(format!("{one}s {}{more}", shown.join(", "))),
    }
}

/// A duration in its two largest units.
fn lasting(seconds: i64) -> String {
    let parts = [(seconds / 86_400, "d"), (seconds / 3_600 % 24, "h"), (seconds / 60 % 60, "min")];
    let parts = parts.into_iter().chain([(seconds % 60, "s")]).skip_while(|(count, _)| *count == 0);
    let shown: Vec<_> = parts.take(2).map(|(count, unit)| format!("{count} {unit}")).collect();
    if shown.is_empty() { "0 s".to_owned() } else { shown.join(" ") }
}

fn date(at: OffsetDateTime) -> String {
    let at = at.to_offset(time::UtcOffset::UTC);
    let (time, date) = (at.time(), at.date());
    format!("{date} {:02}:{:02}:{:02} UTC", time.hour(), time.minute(), time.second())
}

impl NoticeContent {
    /// What it says, in a word or two.
    const fn says(&self) -> &'static str {
        match self.kind {
            NoticeKind::Raised => "Raised",
            NoticeKind::Worsened => "Severity raised",
            NoticeKind::RaisedAgain => "Raised again",
            NoticeKind::Cleared => "Cleared",
            NoticeKind::Requested => "For information",
            NoticeKind::Test | NoticeKind::Unknown => "Test",
        }
    }

    fn severity_word(&self) -> Option<&'static str> {
        Some(match self.severity? {
            Severity::Critical => "critical",
            Severity::Major => "major",
            Severity::Minor => "minor",
        })
    }

    /// One line: what it says, how severe, and the headline.
    pub(crate) fn subject(&self) -> String {
        let severity = match (self.kind, self.severity_word()) {
            (NoticeKind::Cleared, _) | (_, None) => String::new(),
            (_, Some(word)) => format!(", {word}"),
        };
        let headline = plain(&self.headline);
        match self.kind {
            NoticeKind::Test => headline,
            _ => format!("{}{severity}: {headline}", self.says()),
        }
    }

    fn impact(&self) -> Option<String> {
        let paths = match self.paths {
            0 => None,
            1 => Some("1 path".to_owned()),
            paths => Some(format!("{paths} paths")),
        };
        let parts = [paths, several("site", &self.sites), several("service", &self.services)];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        (!parts.is_empty()).then(|| parts.join("; "))
    }

    /// All of it as lines of plain text.
    pub(crate) fn text(&self) -> String {
        let numbers = [("alarm", self.alarm), ("incident", self.incident)];
        let numbers: Vec<String> =
            numbers.iter().filter_map(|(of, no)| Some(format!("{of} {}", (*no)?))).collect();
        let state = [Some(self.says().to_owned()), self.severity_word().map(str::to_owned)];
        let state: Vec<String> = state.into_iter().flatten().chain(numbers).collect();
        let since = self.since.map(|since| {
            let seconds = (self.at - since).whole_seconds().max(0);
            match self.kind {
                NoticeKind::Cleared => {
                    format!("{} to {}, {}", date(since), date(self.at), lasting(seconds))
                }
                _ => format!("{}, {} before this notice", date(since), lasting(seconds)),
            }
        });
        let handled = match (&self.handled_by[..], self.incident) {
            (_, None) => None,
            ([], _) => Some("not assigned".to_owned()),
            (users, _) => Some(users.iter().map(|user| plain(user)).collect::<Vec<_>>().join(", ")),
        };
        // There is nothing to call about any more.
        let contact = self.contact.as_deref().filter(|_| self.kind != NoticeKind::Cleared);
        let holders = self.contract_holders.iter().filter(|_| self.kind != NoticeKind::Cleared);
        let holders: Vec<String> = holders.take(NAMED).map(|holder| plain(holder)).collect();
        let contract = (!holders.is_empty()).then(|| holders.join("; "));
        let fields = [
            ("State", Some(state.join(", "))),
            ("Contact", contact.map(plain)),
            ("Contract", contract),
            ("Since", since),
            ("Impact", self.impact()),
            ("Handled", handled),
            ("Open", Some(self.link.clone())),
        ];
        let mut text = format!("{}\n\n", plain(&self.headline));
        for (name, value) in fields {
            if let Some(value) = value {
                text.push_str(&format!("{name:<9}{value}\n"));
            }
        }
        for paragraph in &self.detail {
            text.push_str(&format!("\n{}\n", plain(paragraph)));
        }
        text.push_str(&format!("\nItinera notice {}, id {}\n", self.no, self.id));
        text
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use time::macros::datetime;

    /// A notice of an alarm.
    pub(crate) fn raised() -> NoticeContent {
        let names = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect();
        NoticeContent {
            id: Uuid::from_u128(0x0199_0000_0000_7000_8000_0000_0000_0007),
            no: 7,
            kind: NoticeKind::Raised,
            at: datetime!(2026-03-02 10:05:00 UTC),
            severity: Some(Severity::Major),
            headline: "13 % loss inside Northmere Carriage".to_owned(),
            contact: Some("Call Northmere Carriage (AS 64501), noc@northmere.example.".to_owned()),
            contract_holders: vec!["Fennel Fibre, support@fennel.example, for Dunverra".to_owned()],
            detail: vec!["13 % packet loss (11–15 %). Seen on 14 paths.".to_owned()],
            incident: Some(12),
            alarm: Some(34),
            since: Some(datetime!(2026-03-02 10:03:20 UTC)),
            sites: names(&["Dunverra", "Eskerry"]),
            services: names(&["Gate Scanning"]),
            paths: 14,
            handled_by: Vec::new(),
            link: "https://itinera.corriven.example/alarms?show=all&alarm=34".to_owned(),
        }
    }

    #[test]
    fn the_words_of_notices() {
        let raised = raised();
        let cleared = NoticeContent {
            kind: NoticeKind::Cleared,
            at: datetime!(2026-03-02 12:03:21 UTC),
            handled_by: vec!["ailsa".to_owned(), "bran".to_owned()],
            ..raised.clone()
        };
        let test = NoticeContent {
            kind: NoticeKind::Test,
            severity: None,
            headline: "Test of the receiver Duty desk".to_owned(),
            contact: None,
            contract_holders: Vec::new(),
            detail: Vec::new(),
            incident: None,
            alarm: None,
            since: None,
            sites: Vec::new(),
            services: Vec::new(),
            paths: 0,
            ..raised.clone()
        };
        let words = [raised, cleared, test].map(|it| format!("{}\n\n{}", it.subject(), it.text()));
        insta::assert_snapshot!(words.join("\n--\n\n"));
    }

    #[test]
    fn foreign_text_forges_no_line() {
        let name = "Eskerry\r\nBcc: all@corriven.example\0".to_owned();
        let odd = NoticeContent {
            headline: name.clone(),
            contact: Some(name.clone()),
            detail: vec![name.clone()],
            sites: vec![name.clone(); 40],
            handled_by: vec![name],
            ..raised()
        };
        assert!(!odd.subject().chars().any(char::is_control));
        assert!(!odd.text().contains("\nBcc"), "{}", odd.text());
        assert!(odd.text().contains("and 32 more"), "{}", odd.text());
    }

    #[test]
    fn a_duration_has_its_two_largest_units() {
        let expected = ["0 s", "59 s", "1 min 0 s", "2 h 3 min", "1 d 0 h"];
        assert_eq!([0, 59, 60, 7_381, 86_400].map(lasting), expected);
    }
}
