//! Receivers of notices, and what was sent to them.

use super::numbers::resolve;
use super::view::notice::{NoticeItem, ReceiverItem};
use super::{ValidQuery, checked_limit, default_limit};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::{Actor, new_secret};
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_model::id::{IncidentId, ReceiverId};
use itinera_model::notice::{DeliveryState, Receiver};
use itinera_store::{MAX_RECEIVERS, NoticeQuery, Numbered, Retried};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};

/// Characters of a receiver's name.
const LONGEST_NAME: usize = 60;
/// Routes of a receiver, at most.
const MAX_ROUTES: usize = 50;

/// Receivers by name.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Receivers {
    items: Vec<ReceiverItem>,
}

/// The receivers of notices, by name.
#[utoipa::path(get, path = "/receivers", operation_id = "getReceivers", responses(
    (status = 200, body = Receivers),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn receivers(
    State(shared): State<Arc<Shared>>,
    by: Actor,
) -> Result<Json<Receivers>, ApiError> {
    let receivers = shared.store.receivers().await?.into_iter();
    let items = receivers.map(|record| ReceiverItem::new(record, by.role)).collect();
    Ok(Json(Receivers { items }))
}

fn checked(shared: &Shared, mut receiver: Receiver) -> Result<Receiver, ApiError> {
    receiver.name = super::users::checked_name(&receiver.name, LONGEST_NAME)?.to_owned();
    if receiver.routes.len() > MAX_ROUTES {
        return Err(ApiError::BadInput(format!("routes: {MAX_ROUTES} at most")));
    }
    shared.sending.check(&receiver).map_err(ApiError::BadInput)?;
    Ok(receiver)
}

/// The receiver that a text names: by its id, or by its name.
async fn receiver_of(shared: &Shared, text: &str) -> Result<ReceiverId, ApiError> {
    let receivers = shared.store.receivers().await?;
    let found = receivers.iter().find(|it| it.receiver.name == text || it.id.to_string() == text);
    found.map(|it| it.id).ok_or_else(|| ApiError::unknown_id(text))
}

/// Adds a receiver. The answer has the secret that signs requests to a webhook or action: it is shown only
/// here.
#[utoipa::path(post, path = "/receivers", operation_id = "addReceiver", request_body = Receiver,
    responses(
    (status = 201, body = ReceiverItem),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn add_receiver(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<Receiver>, JsonRejection>,
) -> Result<(StatusCode, Json<ReceiverItem>), ApiError> {
    let Json(receiver) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let receiver = checked(&shared, receiver)?;
    if shared.store.receivers().await?.len() >= MAX_RECEIVERS {
        return Err(ApiError::BadInput(format!("{MAX_RECEIVERS} receivers at most")));
    }
    let secret = receiver.channel.is_signed().then(new_secret).transpose()?;
    let record = shared.store.add_receiver(&receiver, secret.as_deref(), &by.name).await?;
    let item = ReceiverItem::new(record, by.role).with_secret(secret);
    Ok((StatusCode::CREATED, Json(item)))
}

/// How a receiver is changed.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ReceiverChange {
    /// Make a new secret; the old one signs nothing any more.
    #[serde(default)]
    new_secret: bool,
}

/// Replaces a receiver. A webhook or action keeps its secret unless a new one is asked for; one that had
/// none gets one.
#[utoipa::path(put, path = "/receivers/{id}", operation_id = "changeReceiver",
    params(("id" = String, Path, description = "The receiver's id or name"), ReceiverChange),
    request_body = Receiver, responses(
    (status = 200, body = ReceiverItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change_receiver(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    ValidQuery(how): ValidQuery<ReceiverChange>,
    body: Result<Json<Receiver>, JsonRejection>,
) -> Result<Json<ReceiverItem>, ApiError> {
    let Json(receiver) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let receiver = checked(&shared, receiver)?;
    let id = receiver_of(&shared, &id).await?;
    let secret = receiver.channel.is_signed().then(new_secret).transpose()?;
    let changed = shared.store.change_receiver(id, &receiver, secret, how.new_secret, &by.name);
    let (record, secret) = changed.await?;
    Ok(Json(ReceiverItem::new(record, by.role).with_secret(secret)))
}

/// Removes a receiver. What waits for it is not sent.
#[utoipa::path(delete, path = "/receivers/{id}", operation_id = "removeReceiver",
    params(("id" = String, Path, description = "The receiver's id or name")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove_receiver(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let id = receiver_of(&shared, &id).await?;
    shared.store.remove_receiver(id, &by.name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A notice that was asked for.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RequestedNotice {
    /// Its short number.
    notice: i64,
}

/// Sends a test notice to a receiver, whatever its routes.
#[utoipa::path(post, path = "/receivers/{id}/test", operation_id = "testReceiver",
    params(("id" = String, Path, description = "The receiver's id or name")), responses(
    (status = 202, body = RequestedNotice),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn test_receiver(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
) -> Result<(StatusCode, Json<RequestedNotice>), ApiError> {
    let id = receiver_of(&shared, &id).await?;
    let (_, notice) = shared.store.test_receiver(id, &by.name).await?;
    Ok((StatusCode::ACCEPTED, Json(RequestedNotice { notice })))
}

/// The receiver that is told of an incident.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NoticeRequest {
    /// Its name or id.
    receiver: String,
}

/// Sends a notice about an incident to a receiver, whatever its routes. An action acts.
#[utoipa::path(post, path = "/incidents/{id}/notices", operation_id = "requestNotice",
    params(("id" = String, Path, description = "The incident's id or short number")),
    request_body = NoticeRequest, responses(
    (status = 202, body = RequestedNotice),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn request_notice(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<NoticeRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<RequestedNotice>), ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let incident = IncidentId::from_uuid(resolve(&shared.store, Numbered::Incident, &id).await?);
    if shared.store.incident(incident).await?.is_none() {
        return Err(ApiError::unknown_id(&id));
    }
    let receiver = receiver_of(&shared, &asked.receiver).await?;
    let (_, notice) = shared.store.request_notice(receiver, incident, &by.name).await?;
    Ok((StatusCode::ACCEPTED, Json(RequestedNotice { notice })))
}

/// A page of notices.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Notices {
    items: Vec<NoticeItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which notices.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct NoticeFilter {
    /// Only those with a delivery in this state.
    state: Option<DeliveryState>,
    /// Only those about this incident: its id or short number.
    incident: Option<String>,
    /// The `next` of the page before; absent for the first page.
    after: Option<String>,
    /// Items on a page, 1 to 500.
    #[serde(default = "default_limit")]
    limit: u16,
}

/// Notices with their deliveries, newest first.
#[utoipa::path(get, path = "/notices", operation_id = "getNotices", params(NoticeFilter), responses(
    (status = 200, body = Notices),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn notices(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<NoticeFilter>,
) -> Result<Json<Notices>, ApiError> {
    let limit = usize::from(checked_limit(which.limit)?);
    let bad = |_| ApiError::BadInput("after: not the `next` of an earlier page".to_owned());
    let before = which.after.as_deref().map(str::parse).transpose().map_err(bad)?;
    let incident = match &which.incident {
        Some(text) => Some(resolve(&shared.store, Numbered::Incident, text).await?),
        None => None,
    };
    let query =
        NoticeQuery { state: which.state, incident: incident.map(IncidentId::from_uuid), before };
    let mut records = shared.store.notices(query, i64::from(which.limit) + 1).await?;
    let more = records.len() > limit;
    records.truncate(limit);
    let items: Vec<NoticeItem> = records.into_iter().map(NoticeItem::from).collect();
    let next = items.last().filter(|_| more).map(|last| last.no.to_string());
    Ok(Json(Notices { items, next }))
}

/// Which deliveries that were given up are tried again: all where nothing is named.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RetryRequest {
    /// Only those of the notice of this number.
    notice: Option<i64>,
    /// Only those to this receiver, by name or id.
    receiver: Option<String>,
}

/// Deliveries that are tried again.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RetriedDeliveries {
    deliveries: u64,
}

/// Tries deliveries again that were given up.
#[utoipa::path(post, path = "/notices/retry", operation_id = "retryDeliveries",
    request_body = RetryRequest, responses(
    (status = 200, body = RetriedDeliveries),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn retry(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<RetryRequest>, JsonRejection>,
) -> Result<Json<RetriedDeliveries>, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let receiver = match &asked.receiver {
        Some(text) => Some(receiver_of(&shared, text).await?),
        None => None,
    };
    let which = Retried { notice: asked.notice, receiver };
    let deliveries = shared.store.retry_deliveries(which, &by.name).await?;
    Ok(Json(RetriedDeliveries { deliveries }))
}
