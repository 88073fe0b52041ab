//! What was measured around the time of a complaint, gathered once and then frozen.

use super::message::MessageView;
use crate::context::Shared;
use crate::past;
use crate::problem::ApiError;
use itinera_analysis::complaint::{self, Witness};
use itinera_analysis::messages;
use itinera_analysis::watch::worst;
use itinera_model::finding::Assessment;
use itinera_model::id::PathId;
use itinera_model::message::{Message, Relation};
use itinera_model::owner::OwnerMap;
use itinera_model::path::{Family, Method};
use itinera_store::{IncidentRecord, PathRecord};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;
use uuid::Uuid;

/// Users do not know the exact minute: measurements within this time of it count.
const AROUND: Duration = Duration::minutes(5);
/// Paths known by name.
const MOST_PATHS: i64 = 5_000;
/// Paths of one relation that are evaluated: more would take longer than a user waits.
const MOST_WITNESSES: usize = 60;

/// One path's measurements around the time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub(crate) struct WitnessView {
    path: Uuid,
    relation: Relation,
    site: String,
    service: String,
    target: String,
    family: Family,
    method: Method,
    /// End of the worst minute around the time; absent when nothing was measured.
    #[serde(with = "time::serde::rfc3339::option")]
    until: Option<OffsetDateTime>,
    rounds: u32,
    end_sent: u32,
    end_lost: u32,
    end_delay_us: Option<u32>,
    usual_end_delay_us: Option<u32>,
    /// Headline of the finding; absent without one.
    finding: Option<String>,
}

/// What was measured there and then, beside its neighbours, with a verdict, as it is frozen.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Evidence {
    #[serde(with = "time::serde::rfc3339")]
    gathered_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// The verdict.
    pub(super) message: Message,
    witnesses: Vec<WitnessView>,
}

/// Frozen evidence with the words of its verdict.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct EvidenceView {
    #[serde(with = "time::serde::rfc3339")]
    gathered_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    to: OffsetDateTime,
    /// The verdict.
    message: MessageView,
    witnesses: Vec<WitnessView>,
}

impl Evidence {
    pub(super) fn view(self, map: &OwnerMap) -> EvidenceView {
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

/// The evidence that was frozen with an incident.
pub(super) fn frozen(record: &IncidentRecord) -> Result<Option<Evidence>, ApiError> {
    let evidence = record.evidence.clone().map(serde_json::from_value).transpose();
    evidence.map_err(|error| ApiError::Internal(Box::new(error)))
}

fn listed(names: BTreeSet<&String>) -> String {
    let names: Vec<&str> = names.into_iter().map(String::as_str).collect();
    if names.is_empty() { "none".to_owned() } else { names.join(", ") }
}

/// Gathers what was measured around a time from a site to a service and beside it.
pub(super) async fn gather(
    shared: &Shared,
    site: &str,
    service: &str,
    about: OffsetDateTime,
) -> Result<Evidence, ApiError> {
    let all = shared.store.paths(None, MOST_PATHS).await?;
    if !all.iter().any(|path| path.site == site) {
        let known = listed(all.iter().map(|path| &path.site).collect());
        return Err(ApiError::BadInput(format!(
            "site: no path begins at {site:?}; known: {known}"
        )));
    }
    if !all.iter().any(|path| path.service == service) {
        let known = listed(all.iter().map(|path| &path.service).collect());
        let text = format!("service: no path serves {service:?}; known: {known}");
        return Err(ApiError::BadInput(text));
    }
    let related = |path: PathRecord| {
        let relation = match (path.site == site, path.service == service) {
            (true, true) => Relation::Own,
            (true, false) => Relation::SameSite,
            (false, true) => Relation::SameService,
            (false, false) => return None,
        };
        Some((relation, path))
    };
    let mut related: Vec<(Relation, PathRecord)> = all.into_iter().filter_map(related).collect();
    related.sort_by(|a, b| (a.0, &a.1.site, &a.1.service).cmp(&(b.0, &b.1.site, &b.1.service)));
    let mut seen = [0; 3];
    related.retain(|(relation, _)| {
        let count = &mut seen[*relation as usize];
        *count += 1;
        *count <= MOST_WITNESSES
    });
    let ids: Vec<PathId> = related.iter().map(|(_, path)| path.id).collect();
    let (from, to) = (about - AROUND, about + AROUND);
    let mut assessed = past::assessments(&shared.store, &ids, from, to).await?;
    let (map, _) = shared.owner_map_at(about).await?;
    let mut witnesses = Vec::new();
    let mut views = Vec::new();
    for (relation, path) in related {
        let assessment = assessed.remove(&path.id).and_then(worst);
        views.push(view(relation, &path, assessment.as_ref(), &map));
        witnesses.push(Witness { relation, assessment });
    }
    Ok(Evidence {
        gathered_at: OffsetDateTime::now_utc(),
        from,
        to,
        message: complaint::verdict(site, service, &witnesses),
        witnesses: views,
    })
}

fn view(
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
        until: assessment.map(|assessment| super::view::offset(assessment.until)),
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
