//! Watches and suppressions as the API shows them.

use super::message::NoteView;
use crate::watches::WatchFound;
use itinera_model::message::RecordedWords;
use itinera_model::note::Note;
use itinera_model::owner::OwnerMap;
use itinera_model::path::{Family, Method};
use itinera_store::{NewSuppression, SuppressionRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// State of a watch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum WatchState {
    /// The path is measured more often.
    Running,
    /// The path is measured as usual for now.
    Paused,
    /// It has ended.
    Over,
}

/// What a watch found.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WatchFoundView {
    rounds: u32,
    /// Probes to the far end.
    sent: u32,
    /// Of those, unanswered in time.
    lost: u32,
    /// Round-trip delay to the far end: smallest, median, 95th percentile.
    delay_us: Option<[u32; 3]>,
    /// Number of different routes.
    routes: u32,
    /// The figures and the worst finding.
    notes: Vec<NoteView>,
}

impl WatchFoundView {
    pub(crate) fn new(found: WatchFound, map: &OwnerMap) -> Self {
        let WatchFound { rounds, sent, lost, delay_us, routes, notes, sentences } = found;
        let recorded = sentences.into_iter().map(|words| Note::Recorded(RecordedWords { words }));
        let notes = NoteView::all(notes.into_iter().chain(recorded), map);
        Self { rounds, sent, lost, delay_us, routes, notes }
    }
}

/// A watch.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WatchItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) path: Uuid,
    pub(crate) site: String,
    pub(crate) target: String,
    /// Absent where the path is gone.
    pub(crate) family: Option<Family>,
    /// Absent where the path is gone.
    pub(crate) method: Option<Method>,
    /// From round to round while it lasts.
    pub(crate) interval_ms: u32,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) begins_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) ends_at: OffsetDateTime,
    pub(crate) state: WatchState,
    pub(crate) reason: String,
    pub(crate) user: String,
    /// The incident it belongs to.
    pub(crate) incident: Option<Uuid>,
    pub(crate) incident_no: Option<i64>,
    /// What it found: kept once it is over, until now while it lasts. Absent in lists while it
    /// lasts.
    pub(crate) found: Option<WatchFoundView>,
}

/// A planned pause of measurement.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SuppressionItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    /// From this site only; from all where absent.
    pub(crate) site: Option<String>,
    /// To this target only; to all where absent.
    pub(crate) target: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) until: OffsetDateTime,
    pub(crate) reason: String,
    pub(crate) user: String,
}

impl From<SuppressionRecord> for SuppressionItem {
    fn from(record: SuppressionRecord) -> Self {
        let SuppressionRecord { id, no, asked } = record;
        let NewSuppression { site, target, from, until, reason, user } = asked;
        Self { id, no, site, target, from, until, reason, user }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_summary_from_before_notes_keeps_its_words() {
        let words = "No fault was located.";
        let kept = json!({
            "rounds": 1, "sent": 5, "lost": 0, "delay_us": null, "routes": 1, "sentences": [words],
        });
        let found: WatchFound = serde_json::from_value(kept).unwrap();
        let view = WatchFoundView::new(found, &OwnerMap::default());
        let notes = serde_json::to_value(view.notes).unwrap();
        assert_eq!(notes[0]["code"], "recorded");
        assert_eq!(notes[0]["text"], words);
    }
}
