//! The evidence of an incident as the API shows it.

use super::message::MessageView;
use crate::problem::ApiError;
use itinera_analysis::messages;
use itinera_model::finding::Assessment;
use itinera_model::message::{Message, Relation};
use itinera_model::owner::OwnerMap;
use itinera_model::path::{Family, Method};
use itinera_store::IncidentRecord;
use itinera_store::PathRecord;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// One path's measurements around the time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub(crate) struct WitnessView {
    pub(crate) path: Uuid,
    pub(crate) relation: Relation,
    pub(crate) site: String,
    pub(crate) service: String,
    pub(crate) target: String,
    pub(crate) family: Family,
    pub(crate) method: Method,
    /// End of the worst minute around the time; absent when nothing was measured.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) until: Option<OffsetDateTime>,
    pub(crate) rounds: u32,
    pub(crate) end_sent: u32,
    pub(crate) end_lost: u32,
    pub(crate) end_delay_us: Option<u32>,
    pub(crate) usual_end_delay_us: Option<u32>,
    /// Headline of the finding; absent without one.
    pub(crate) finding: Option<String>,
}

/// What was measured there and then, beside its neighbours, with a verdict, as it is frozen.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Evidence {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) gathered_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) to: OffsetDateTime,
    /// The verdict.
    pub(crate) message: Message,
    pub(crate) witnesses: Vec<WitnessView>,
}

/// Frozen evidence with the words of its verdict.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct EvidenceView {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) gathered_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) to: OffsetDateTime,
    /// The verdict.
    pub(crate) message: MessageView,
    pub(crate) witnesses: Vec<WitnessView>,
}

impl Evidence {
    pub(crate) fn view(self, map: &OwnerMap) -> EvidenceView {
        let Self { gathered_at, from, to, message, witnesses } = self;
        EvidenceView {
            gathered_at,
            from,
            to,
            message: MessageView::of_one(message, map),
            witnesses,
        }
    }
}

pub(crate) fn listed(names: BTreeSet<&String>) -> String {
    let names: Vec<&str> = names.into_iter().map(String::as_str).collect();
    if names.is_empty() { "none".to_owned() } else { names.join(", ") }
}

pub(crate) fn view(
    relation: Relation,
    path: &PathRecord,
    assessment: Option<&Assessment>,
    map: &OwnerMap,
) -> WitnessView {
    let end = assessment.and_then(|assessment| assessment.hops.last());
    let finding = assessment.and_then(|assessment| assessment.finding.as_ref());
    WitnessView {
        path: path.id.as_uuid(),
        relation,
        site: path.site.clone(),
        service: path.service.clone(),
        target: path.target.clone(),
        family: path.family,
        method: path.method,
        until: assessment.map(|assessment| super::path::offset(assessment.until)),
        rounds: assessment.map_or(0, |assessment| assessment.rounds),
        end_sent: assessment.map_or(0, |assessment| assessment.end_sent),
        end_lost: assessment.map_or(0, |assessment| assessment.end_lost),
        end_delay_us: end.and_then(|hop| hop.delay_us).map(|us| us.as_micros()),
        usual_end_delay_us: end.and_then(|hop| hop.usual_delay_us).map(|us| us.as_micros()),
        finding: finding.map(|finding| {
            MessageView::of_one(messages::of_finding(finding), map).headline().to_owned()
        }),
    }
}

/// The evidence that was frozen with an incident.
pub(crate) fn frozen(record: &IncidentRecord) -> Result<Option<Evidence>, ApiError> {
    let evidence = record.evidence.clone().map(serde_json::from_value).transpose();
    evidence.map_err(|error| ApiError::Internal(Box::new(error)))
}
