//! What the API gives, as far as tables show it.

use crate::exit::{Code, Failure};
use itinera_model::alarm::AlarmState;
use itinera_model::triage::OperatorState;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use time::OffsetDateTime;

pub(super) fn read<T: DeserializeOwned>(value: Value) -> Result<T, Failure> {
    serde_json::from_value(value).map_err(|error| {
        let text = "the service's answer is not what this version expects";
        Failure::new(Code::Failed, error).context(text)
    })
}

/// The words of a message.
#[derive(Deserialize)]
pub(super) struct Message {
    pub(super) headline: String,
    pub(super) contact: Option<String>,
    pub(super) detail: Vec<String>,
}

#[derive(Deserialize)]
pub(super) struct State {
    pub(super) sentence: String,
    pub(super) agents: i64,
    pub(super) agents_late: i64,
    pub(super) paths: i64,
    pub(super) paths_without_rounds: i64,
    pub(super) rounds: i64,
    pub(super) unjudged_commits: i64,
    #[serde(default)]
    pub(super) set_aside_commits: i64,
    pub(super) late_deliveries: i64,
    #[serde(default)]
    pub(super) rebuilding: Option<Rebuilding>,
    #[serde(default)]
    pub(super) disk: Option<Value>,
    pub(super) open_alarms: i64,
    pub(super) owner_map: Option<OwnerMap>,
}

/// How far a stage of judgement is rebuilt.
#[derive(Deserialize)]
pub(super) struct Rebuilding {
    pub(super) stage: String,
    pub(super) done: u64,
    pub(super) paths: u64,
}

#[derive(Deserialize)]
pub(super) struct OwnerMap {
    pub(super) source: String,
    pub(super) entries: i32,
}

#[derive(Deserialize)]
pub(super) struct Agents {
    pub(super) items: Vec<Agent>,
}

#[derive(Deserialize)]
pub(super) struct Agent {
    pub(super) id: String,
    pub(super) site: String,
    pub(super) version: String,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) last_batch_at: Option<OffsetDateTime>,
    pub(super) clock_offset_us: Option<i64>,
    pub(super) clock_error_us: Option<i64>,
    pub(super) dropped_rounds: i64,
    pub(super) refused: Vec<Value>,
}

#[derive(Deserialize)]
pub(super) struct Path {
    pub(super) id: String,
    pub(super) site: String,
    pub(super) target: String,
    pub(super) address: String,
    pub(super) family: String,
    pub(super) method: String,
    pub(super) size_bytes: i32,
    pub(super) latest: Option<Latest>,
}

#[derive(Deserialize)]
pub(super) struct Latest {
    #[serde(with = "time::serde::rfc3339")]
    pub(super) until: OffsetDateTime,
    pub(super) span_s: u32,
    pub(super) rounds: u32,
    pub(super) hops: usize,
    pub(super) end_sent: u32,
    pub(super) end_lost: u32,
    pub(super) end_delay_us: Option<u32>,
    pub(super) finding: Option<Finding>,
}

#[derive(Deserialize)]
pub(super) struct Finding {
    pub(super) message: Message,
    pub(super) confidence: f64,
    pub(super) explanations: Vec<Explanation>,
}

#[derive(Deserialize)]
pub(super) struct Explanation {
    pub(super) cause: String,
    pub(super) place: Place,
    pub(super) probability: f64,
}

#[derive(Deserialize)]
pub(super) struct Place {
    pub(super) text: String,
    pub(super) owners: Vec<Owner>,
}

#[derive(Deserialize)]
pub(super) struct Owner {
    pub(super) name: String,
}

/// The words of a note.
#[derive(Deserialize)]
pub(super) struct NoteWords {
    pub(super) text: String,
}

#[derive(Deserialize)]
pub(super) struct PathDetail {
    #[serde(flatten)]
    pub(super) path: Path,
    pub(super) messages: Vec<Message>,
    pub(super) notes: Vec<NoteWords>,
    pub(super) hops: Vec<Hop>,
}

#[derive(Deserialize)]
pub(super) struct Hop {
    pub(super) hop: u8,
    pub(super) address: Option<String>,
    pub(super) owner: Option<Owner>,
    pub(super) private: bool,
    pub(super) sent: u32,
    pub(super) lost: u32,
    pub(super) got_here_ratio: Option<f64>,
    pub(super) loss_low_ratio: Option<f64>,
    pub(super) loss_high_ratio: Option<f64>,
    pub(super) delay_us: Option<u32>,
    pub(super) delay_low_us: Option<u32>,
    pub(super) delay_high_us: Option<u32>,
    pub(super) usual_delay_us: Option<u32>,
    pub(super) verdict: String,
}

#[derive(Deserialize)]
pub(super) struct Alarm {
    pub(super) no: i64,
    pub(super) message: Message,
    pub(super) perceived_severity: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(super) since: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) cleared_at: Option<OffsetDateTime>,
    pub(super) state: AlarmState,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) no_data_since: Option<OffsetDateTime>,
    pub(super) silent_sites: Vec<String>,
    pub(super) sites: Vec<String>,
    pub(super) services: Vec<String>,
    pub(super) limit_loss_ratio: Option<f64>,
    pub(super) limit_added_delay_us: Option<u32>,
    pub(super) limits_by: Option<String>,
    pub(super) severity_by: Option<String>,
    pub(super) severity_by_figures: Option<String>,
    pub(super) contract_holders: Vec<ContractHolder>,
    pub(super) earlier: Option<Earlier>,
    pub(super) incident_no: Option<i64>,
    pub(super) paths: Vec<String>,
    pub(super) times_raised: usize,
    pub(super) history: Vec<AlarmStateChange>,
    pub(super) handling: Handling,
    pub(super) actions: Vec<AlarmActionDone>,
}

/// A provider that sites pay.
#[derive(Deserialize)]
pub(super) struct ContractHolder {
    pub(super) name: String,
    pub(super) contact: String,
    pub(super) sites: Vec<String>,
}

/// Earlier alarms of the same cause at the same place.
#[derive(Deserialize)]
pub(super) struct Earlier {
    pub(super) count: i64,
    pub(super) last: Vec<EarlierAlarm>,
}

#[derive(Deserialize)]
pub(super) struct EarlierAlarm {
    pub(super) no: i64,
    #[serde(with = "time::serde::rfc3339")]
    pub(super) raised_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) cleared_at: Option<OffsetDateTime>,
    pub(super) closing: Option<String>,
}

/// How operators handle an alarm.
#[derive(Deserialize)]
pub(super) struct Handling {
    pub(super) state: OperatorState,
    pub(super) assignee: Option<String>,
    pub(super) acknowledged_by: Option<String>,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(super) shelved_until: Option<OffsetDateTime>,
    pub(super) closed_by: Option<String>,
}

/// An action on an alarm.
#[derive(Deserialize)]
pub(super) struct AlarmActionDone {
    #[serde(with = "time::serde::rfc3339")]
    pub(super) at: OffsetDateTime,
    pub(super) words: String,
}

#[derive(Deserialize)]
pub(super) struct AlarmStateChange {
    #[serde(with = "time::serde::rfc3339")]
    pub(super) at: OffsetDateTime,
    pub(super) state: AlarmState,
    pub(super) perceived_severity: Option<String>,
}

#[derive(Deserialize)]
pub(super) struct Import {
    pub(super) accepted: usize,
    pub(super) refused: usize,
    pub(super) refused_lines: Vec<RefusedLine>,
}

#[derive(Deserialize)]
pub(super) struct RefusedLine {
    pub(super) line: u64,
    pub(super) reason: String,
}

#[derive(Deserialize)]
pub(super) struct JoinCode {
    pub(super) code: String,
    pub(super) site: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(super) expires_at: OffsetDateTime,
}
