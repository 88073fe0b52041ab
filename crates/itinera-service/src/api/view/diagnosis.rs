//! Diagnoses as the API shows them.

use itinera_model::diagnosis::{Conclusion, DiagnosisUpdate, Part, StepKind, StepResult};
use itinera_model::diagnosis_message::StepMessage;
use itinera_model::unit::WallTime;
use itinera_store::DiagnosisRecord;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// State of a task that an agent does on demand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum TaskState {
    /// The agent has not begun.
    Waiting,
    /// The agent works on it.
    Running,
    /// It is done.
    Done,
    /// It failed.
    Failed,
    /// The agent did not answer in time.
    Late,
}

/// One step of a diagnosis.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StepView {
    pub(crate) step: StepKind,
    /// The step's name for people, such as `provider edge`.
    pub(crate) name: String,
    pub(crate) found: StepResult,
    #[serde(flatten)]
    pub(crate) message: StepMessage,
    /// The message in words.
    pub(crate) words: String,
}

/// What a diagnosis concludes, with the words of the catalogue.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ConclusionView {
    #[serde(flatten)]
    pub(crate) conclusion: Conclusion,
    /// The fault and the target, in at most 70 characters.
    pub(crate) headline: String,
    /// What to do.
    pub(crate) contact: Option<String>,
    /// What is broken and what was excluded.
    pub(crate) detail: Vec<String>,
}

/// A diagnosis from an agent.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DiagnosisItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) site: String,
    pub(crate) agent: Uuid,
    /// What is to be reached.
    pub(crate) target: String,
    /// The user.
    pub(crate) user: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) asked_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) done_at: Option<OffsetDateTime>,
    pub(crate) state: TaskState,
    /// How far it is, in words.
    pub(crate) progress: String,
    /// The incident that it belongs to.
    pub(crate) incident: Option<Uuid>,
    /// The incident's short number.
    pub(crate) incident_no: Option<i64>,
    /// First part at fault; absent until it is done.
    pub(crate) part: Option<Part>,
    /// What is broken, what was excluded, what to do; absent until it is done.
    pub(crate) conclusion: Option<ConclusionView>,
    /// Nearest first.
    pub(crate) steps: Vec<StepView>,
    /// All of it as text that can be pasted into a mail.
    pub(crate) text: Option<String>,
}

pub(crate) fn progress(record: &DiagnosisRecord, now: WallTime) -> (TaskState, String) {
    let late = record.order.not_after < now;
    match (&record.progress, record.done_at) {
        (Some(DiagnosisUpdate::Failed(why)), Some(_)) => {
            (TaskState::Failed, format!("Failed: {why}."))
        }
        (_, Some(_)) => (TaskState::Done, "Done.".to_owned()),
        (_, None) if late => (TaskState::Late, "The agent did not answer in time.".to_owned()),
        (Some(DiagnosisUpdate::Looking(step)), None) => {
            (TaskState::Running, format!("Step: {step}."))
        }
        (Some(DiagnosisUpdate::Swept(round, of)), None) => (
            TaskState::Running,
            format!("Probing hops, target and service: round {round} of {of}."),
        ),
        (_, None) => (TaskState::Waiting, "Waiting for the agent to begin.".to_owned()),
    }
}
