//! Composing notices: what a notice tells of its incident, and which receivers take it.

use super::incidents::{self, ItemParts};
use super::shelving::shelve_alarms;
use super::view::impact::ContractHolder;
use super::view::incident::{IncidentItem, paths_of};
use crate::context::Shared;
use crate::notices::content::NoticeContent;
use crate::problem::ApiError;
use itinera_model::id::ReceiverId;
use itinera_model::notice::{NoticeKind, Routed};
use itinera_store::{Composed, DueNotice, IncidentRecord, ReceiverRecord};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};

/// Notices composed at once.
const AT_ONCE: i64 = 100;
/// Shelves that have expired are looked for this far back.
const SHELVES: Duration = Duration::minutes(10);

/// Some notices could not be composed; they are composed later.
#[derive(Debug, thiserror::Error)]
#[error("{failed} of {due} notices could not be composed")]
pub(crate) struct ComposeError {
    failed: usize,
    due: usize,
    source: ApiError,
}

/// Composes the notices that are due. One that fails keeps no other from it.
pub(crate) async fn compose_notices(shared: Arc<Shared>) -> Result<(), ComposeError> {
    let one = |source: ApiError| ComposeError { failed: 1, due: 1, source };
    let store = &shared.store;
    let now = OffsetDateTime::now_utc();
    store.note_expired_shelves(now - SHELVES, now).await.map_err(|error| one(error.into()))?;
    let due = store.due_notices(now, AT_ONCE).await.map_err(|error| one(error.into()))?;
    if due.is_empty() {
        return Ok(());
    }
    // What planned work explains or quiet hours shelve is withdrawn. Where that fails, notices are sent.
    let applied = shelve_alarms(Arc::clone(&shared)).await;
    let due = store.due_notices(now, AT_ONCE).await.map_err(|error| one(error.into()))?;
    let receivers = store.receivers().await.map_err(|error| one(error.into()))?;
    let mut failed = Vec::new();
    for notice in &due {
        if let Err(error) = compose(&shared, notice, &receivers, now).await {
            failed.push(error);
        }
    }
    shared.change_added.notify_one();
    let count = failed.len();
    match failed.pop() {
        Some(source) => Err(ComposeError { failed: count, due: due.len(), source }),
        None => applied.map_err(one),
    }
}

async fn compose(
    shared: &Shared,
    notice: &DueNotice,
    receivers: &[ReceiverRecord],
    now: OffsetDateTime,
) -> Result<(), ApiError> {
    let record = match notice.incident {
        Some(incident) => shared.store.incident(incident).await?,
        None => None,
    };
    let (content, routed) = match &record {
        Some(record) => {
            let item = shown(shared, record).await?;
            let tags = shared.store.tags_of(&item.sites, &item.services).await?;
            let routed = notice.severity.map(|severity| Routed {
                kind: notice.kind,
                severity,
                sites: item.sites.clone(),
                services: item.services.clone(),
                tags,
                owners: item.owners.iter().map(|owner| owner.as_number()).collect(),
            });
            (of_incident(shared, notice, record, item), routed)
        }
        None => (of_test(shared, notice, receivers), None),
    };
    let takes = |it: &&ReceiverRecord| match (notice.receiver, &routed) {
        (Some(only), _) => it.id == only,
        (None, Some(routed)) => it.receiver.takes(routed, now.into()),
        (None, None) => false,
    };
    let takers: Vec<ReceiverId> = receivers.iter().filter(takes).map(|it| it.id).collect();
    let content = serde_json::to_value(content);
    let composed = Composed {
        id: notice.id,
        severity: notice.severity,
        content: content.map_err(|error| ApiError::Internal(Box::new(error)))?,
        receivers: takers,
    };
    Ok(shared.store.record_composed(&composed, now).await?)
}

/// The incident as lists show it.
async fn shown(shared: &Shared, record: &IncidentRecord) -> Result<IncidentItem, ApiError> {
    let parts = ItemParts::of(shared, std::slice::from_ref(record)).await?;
    let mut maps = shared.owner_maps().await?;
    incidents::item(&mut maps, record, &parts).await
}

/// Short number of the worst alarm, one that is open where there is any.
fn worst(record: &IncidentRecord) -> Option<i64> {
    let of_paths =
        record.alarms.iter().map(|it| (it.cleared_at.is_some(), it.alarm.severity, it.no));
    let of_events = record
        .faults
        .iter()
        .filter(|it| it.id == it.root)
        .filter_map(|it| Some((it.ended_at.is_some(), it.event.severity?, it.no)));
    of_paths.chain(of_events).min().map(|(.., no)| no)
}

fn of_incident(
    shared: &Shared,
    notice: &DueNotice,
    record: &IncidentRecord,
    item: IncidentItem,
) -> NoticeContent {
    let alarm = worst(record);
    let base = &shared.sending.base_url;
    let link = match alarm {
        Some(no) => format!("{base}/alarms?show=all&alarm={no}"),
        None => format!("{base}/incidents/{}", item.no),
    };
    NoticeContent {
        id: notice.id.as_uuid(),
        no: notice.no,
        kind: notice.kind,
        at: notice.at,
        severity: notice.severity.or(item.perceived_severity),
        headline: item.message.headline().to_owned(),
        contact: item.message.contact().map(str::to_owned),
        contract_holders: item.contract_holders.iter().map(ContractHolder::words).collect(),
        detail: item.message.detail().to_vec(),
        incident: Some(item.no),
        alarm,
        since: Some(item.since),
        sites: item.sites,
        services: item.services,
        paths: paths_of(record).len(),
        handled_by: item.handled_by,
        link,
    }
}

fn of_test(shared: &Shared, notice: &DueNotice, receivers: &[ReceiverRecord]) -> NoticeContent {
    let receiver = receivers.iter().find(|it| Some(it.id) == notice.receiver);
    let name = receiver.map_or("a removed receiver", |it| it.receiver.name.as_str());
    NoticeContent {
        id: notice.id.as_uuid(),
        no: notice.no,
        kind: NoticeKind::Test,
        at: notice.at,
        severity: None,
        headline: format!("Test of the receiver {name}"),
        contact: None,
        contract_holders: Vec::new(),
        detail: vec!["No alarm was raised. Notices of alarms arrive like this one.".to_owned()],
        incident: None,
        alarm: None,
        since: None,
        sites: Vec::new(),
        services: Vec::new(),
        paths: 0,
        handled_by: Vec::new(),
        link: format!("{}/notices", shared.sending.base_url),
    }
}
