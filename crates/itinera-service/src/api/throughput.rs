//! How much gets through between two agents.

use super::view::throughput::{ThroughputItem, item};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use crate::throughput::order;
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::http::StatusCode;
use itinera_model::throughput::{By, MOST_SECONDS};
use itinera_store::ThroughputSpec;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;

/// Measurements listed.
const MOST: i64 = 200;
/// Bytes that users may ask for at once: 200 MB.
const MOST_ASKED: u64 = 200_000_000;

/// Measurements, newest first.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Throughputs {
    items: Vec<ThroughputItem>,
}

/// Measurements of how much gets through, the newest 200 first.
#[utoipa::path(get, path = "/throughput", operation_id = "getThroughput", responses(
    (status = 200, body = Throughputs),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn throughput(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<Throughputs>, ApiError> {
    let records = shared.store.throughput(MOST).await?;
    Ok(Json(Throughputs { items: records.into_iter().map(item).collect() }))
}

/// What is to be measured.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ThroughputRequest {
    /// Name of the site that sends.
    from: String,
    /// Name of the site that receives.
    to: String,
    /// `tcp` or `udp`.
    #[serde(default = "tcp")]
    by: String,
    /// At most so long, 1 to 30.
    #[serde(default = "usual_seconds")]
    seconds: u8,
    /// Most bytes to send.
    #[serde(default = "usual_bytes")]
    most_bytes: u64,
    /// Rate of UDP, in megabits a second, up to 1,000.
    #[serde(default = "usual_rate")]
    rate_mbit_s: u32,
}

fn tcp() -> String {
    "tcp".to_owned()
}

const fn usual_seconds() -> u8 {
    5
}

const fn usual_bytes() -> u64 {
    20_000_000
}

const fn usual_rate() -> u32 {
    5
}

/// Has two agents measure how much gets through between them, within bounds.
#[utoipa::path(post, path = "/throughput", operation_id = "measureThroughput",
    request_body = ThroughputRequest, responses(
    (status = 201, body = ThroughputItem),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn measure(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<ThroughputRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<ThroughputItem>), ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let bad = |text: String| Err(ApiError::BadInput(text));
    let protocol = match wanted.by.as_str() {
        "tcp" => By::Tcp,
        "udp" => By::Udp,
        other => return bad(format!("by: {other:?} is neither tcp nor udp")),
    };
    if !(1..=MOST_SECONDS).contains(&wanted.seconds) {
        return bad(format!("seconds: {} is outside 1 to {MOST_SECONDS}", wanted.seconds));
    }
    if !(10_000..=MOST_ASKED).contains(&wanted.most_bytes) {
        return bad(format!("most_bytes: {} is outside 10,000 to {MOST_ASKED}", wanted.most_bytes));
    }
    if !(1..=1_000).contains(&wanted.rate_mbit_s) {
        return bad(format!("rate_mbit_s: {} is outside 1 to 1,000", wanted.rate_mbit_s));
    }
    let spec = ThroughputSpec {
        by: protocol,
        seconds: wanted.seconds,
        most_bytes: wanted.most_bytes,
        rate_bit_s: u64::from(wanted.rate_mbit_s) * 1_000_000,
        least_bit_s: None,
        raise_after: 1,
    };
    let id = order(&shared, (&wanted.from, &wanted.to), &spec, Some(&by.name)).await?;
    let records = shared.store.throughput(MOST).await?;
    let made = records.into_iter().find(|record| record.id == id);
    let made = made.ok_or_else(|| ApiError::unknown_id(&id.to_string()))?;
    Ok((StatusCode::CREATED, Json(item(made))))
}
