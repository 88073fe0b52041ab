//! Measurements of throughput as the API shows them.

use super::diagnosis::TaskState;
use itinera_model::throughput::{By, ThroughputWord};
use itinera_store::ThroughputRecord;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// A measurement of how much gets through.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ThroughputItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i64,
    pub(crate) from: String,
    pub(crate) to: String,
    /// `tcp` or `udp`.
    pub(crate) by: String,
    /// Limits: seconds, bytes and, for UDP, bits per second.
    pub(crate) seconds: u8,
    pub(crate) most_bytes: u64,
    pub(crate) rate_bit_s: Option<u64>,
    /// What should get through at least, in bits a second.
    pub(crate) least_bit_s: Option<u64>,
    /// Who wanted it; absent where the schedule did.
    pub(crate) user: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) asked_at: OffsetDateTime,
    pub(crate) state: TaskState,
    /// What came of it, in words.
    pub(crate) sentence: String,
    /// Bits a second that arrived.
    pub(crate) got_bit_s: Option<u64>,
    pub(crate) sent_bytes: Option<u64>,
    pub(crate) received_bytes: Option<u64>,
    /// Packets sent by UDP, and lost.
    pub(crate) packets: Option<u32>,
    pub(crate) lost: Option<u32>,
    /// Bytes that the sender's interfaces carried during the measurement, in and out.
    pub(crate) carried_in_bytes: Option<u64>,
    pub(crate) carried_out_bytes: Option<u64>,
}

pub(crate) fn mbit(bits: u64) -> String {
    #[allow(clippy::cast_precision_loss, reason = "for display")]
    let mbit = bits as f64 / 1e6;
    format!("{mbit:.1} Mb/s")
}

pub(crate) fn item(record: ThroughputRecord) -> ThroughputItem {
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
