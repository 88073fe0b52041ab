//! A notice as a CloudEvent 1.0, in the JSON format and structured content mode.

use super::content::NoticeContent;
use serde::Serialize;
use time::OffsetDateTime;

/// Content type of the structured mode.
pub(super) const MEDIA: &str = "application/cloudevents+json; charset=utf-8";

#[derive(Serialize)]
struct CloudEvent<'a> {
    specversion: &'static str,
    id: String,
    source: &'a str,
    r#type: String,
    subject: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    time: OffsetDateTime,
    datacontenttype: &'static str,
    data: &'a NoticeContent,
}

/// The event, the same bytes at every attempt. `source` is the URL of the service.
pub(super) fn json(content: &NoticeContent, source: &str) -> Vec<u8> {
    let event = CloudEvent {
        specversion: "1.0",
        id: content.id.to_string(),
        source,
        r#type: format!("itinera.notice.{}", content.kind.name()),
        subject: content.incident.map(|no| format!("incidents/{no}")),
        time: content.at,
        datacontenttype: "application/json",
        data: content,
    };
    serde_json::to_vec(&event).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::super::content::tests::raised;
    use super::*;

    #[test]
    fn an_event_has_every_attribute_that_is_required_and_is_the_same_each_time() {
        let bytes = json(&raised(), "https://itinera.corriven.example");
        let event: serde_json::Value = serde_json::from_slice(&bytes).unwrap();
        for (attribute, value) in [
            ("specversion", "1.0"),
            ("id", "01990000-0000-7000-8000-000000000007"),
            ("source", "https://itinera.corriven.example"),
            ("type", "itinera.notice.raised"),
            ("subject", "incidents/12"),
            ("time", "2026-03-02T10:05:00Z"),
        ] {
            assert_eq!(event[attribute], value, "{attribute}");
        }
        assert_eq!(event["data"]["headline"], raised().headline);
        assert_eq!(bytes, json(&raised(), "https://itinera.corriven.example"));
    }
}
