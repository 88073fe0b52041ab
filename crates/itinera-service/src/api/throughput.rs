//! How much gets through between two agents.

use super::diagnoses::TaskState;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use crate::throughput::order;
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::http::StatusCode;
use itinera_model::throughput::{By, MOST_SECONDS, ThroughputWord};
use itinera_store::{ThroughputRecord, ThroughputSpec};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// Measurements listed.
const MOST: i64 = 200;
/// Bytes that users may ask for at once: 200 MB.
const MOST_ASKED: u64 = 200_000_000;

/// A measurement of how much gets through.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ThroughputItem {
    id: Uuid,
    /// Its short number.
    no: i64,
    from: String,
    to: String,
    /// `tcp` or `udp`.
    by: String,
    /// Limits: seconds, bytes and, for UDP, bits per second.
    seconds: u8,
    most_bytes: u64,
    rate_bit_s: Option<u64>,
    /// What should get through at least, in bits a second.
    least_bit_s: Option<u64>,
    /// Who wanted it; absent where the schedule did.
    user: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    asked_at: OffsetDateTime,
    state: TaskState,
    /// What came of it, in words.
    sentence: String,
    /// Bits a second that arrived.
    got_bit_s: Option<u64>,
    sent_bytes: Option<u64>,
    received_bytes: Option<u64>,
    /// Packets sent by UDP, and lost.
    packets: Option<u32>,
    lost: Option<u32>,
    /// Bytes that the sender's interfaces carried during the measurement, in and out.
    carried_in_bytes: Option<u64>,
    carried_out_bytes: Option<u64>,
}

fn mbit(bits: u64) -> String {
    #[allow(clippy::cast_precision_loss, reason = "for display")]
    let mbit = bits as f64 / 1e6;
    format!("{mbit:.1} Mb/s")
}

fn item(record: ThroughputRecord) -> ThroughputItem {
    let spec = &record.spec;
    let late = record.not_after < OffsetDateTime::now_utc();
    let got_bit_s = record.rate_bit_s();
    let word = record.round.as_ref().map(|round| &round.word);
    let between = format!("from {} to {} by {}", record.from, record.to, spec.by);
    let (state, sentence) = match word {
        None if late => (TaskState::Late, "The agents did not measure in time.".to_owned()),
        None => (TaskState::Waiting, "Waiting for its turn, or running.".to_owned()),
        Some(ThroughputWord::Failed(why)) => {
            (TaskState::Failed, format!("Failed {between}: {why}."))
        }
        Some(ThroughputWord::Measured { packets, lost, .. }) => {
            let got = got_bit_s.map_or_else(|| "Too little to measure".to_owned(), mbit);
            let lost = match packets {
                0 => String::new(),
                packets => format!(", {lost} of {packets} packets lost"),
            };
            let least = spec.least_bit_s.zip(got_bit_s).map(|(least, got)| {
                let word = if got < least { "less than" } else { "at least" };
                format!("; {word} the limit of {}", mbit(least))
            });
            (
                TaskState::Done,
                format!("{got} arrived {between}{lost}{}.", least.unwrap_or_default()),
            )
        }
    };
    let (sent_bytes, received_bytes, packets, lost) = match word {
        Some(ThroughputWord::Measured { sent_bytes, received_bytes, packets, lost, .. }) => {
            (Some(*sent_bytes), Some(*received_bytes), Some(*packets), Some(*lost))
        }
        _ => (None, None, None, None),
    };
    let carried = record.round.as_ref().and_then(|round| round.carried_bytes);
    let by_udp = spec.by == By::Udp;
    ThroughputItem {
        id: record.id.as_uuid(),
        no: record.no,
        by: spec.by.to_string(),
        seconds: spec.seconds,
        most_bytes: spec.most_bytes,
        rate_bit_s: by_udp.then_some(spec.rate_bit_s),
        least_bit_s: spec.least_bit_s,
        from: record.from,
        to: record.to,
        user: record.user,
        asked_at: record.asked_at,
        state,
        sentence,
        got_bit_s,
        sent_bytes,
        received_bytes,
        packets: packets.filter(|_| by_udp),
        lost: lost.filter(|_| by_udp),
        carried_in_bytes: carried.map(|[inward, _]| inward),
        carried_out_bytes: carried.map(|[_, out]| out),
    }
}

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
