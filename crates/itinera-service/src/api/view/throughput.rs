//! Measurements of throughput as the API shows them.

use super::diagnosis::TaskState;
use super::message::NoteView;
use itinera_model::note::{FailedThroughput, MeasuredThroughput, Note};
use itinera_model::owner::OwnerMap;
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
    /// Protocol.
    pub(crate) by: By,
    /// Limits: seconds, bytes and, for UDP, bits per second.
    pub(crate) seconds: u8,
    pub(crate) most_bytes: u64,
    pub(crate) rate_bit_s: Option<u64>,
    /// What should get through at least, in bits a second.
    pub(crate) least_bit_s: Option<u64>,
    /// The user; absent for the schedule.
    pub(crate) user: Option<String>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) asked_at: OffsetDateTime,
    pub(crate) state: TaskState,
    /// Its result.
    pub(crate) note: NoteView,
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

pub(crate) fn item(record: ThroughputRecord) -> ThroughputItem {
    let spec = &record.spec;
    let late = record.not_after < OffsetDateTime::now_utc();
    let got_bit_s = record.rate_bit_s();
    let word = record.round.as_ref().map(|round| &round.word);
    let (from, to, by) = (record.from.clone(), record.to.clone(), spec.by);
    let (state, note) = match word {
        None if late => (TaskState::Late, Note::ThroughputLate),
        None => (TaskState::Waiting, Note::ThroughputWaiting),
        Some(ThroughputWord::Failed(cause)) => {
            let cause = cause.clone();
            let failed = FailedThroughput { from, to, by, cause };
            (TaskState::Failed, Note::ThroughputFailed(failed))
        }
        Some(ThroughputWord::Measured { packets, lost, .. }) => {
            let measured = MeasuredThroughput {
                from,
                to,
                by,
                rate_bit_s: got_bit_s,
                least_bit_s: spec.least_bit_s,
                packets: *packets,
                lost: *lost,
            };
            (TaskState::Done, Note::ThroughputMeasured(measured))
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
        by: spec.by,
        seconds: spec.seconds,
        most_bytes: spec.most_bytes,
        rate_bit_s: by_udp.then_some(spec.rate_bit_s),
        least_bit_s: spec.least_bit_s,
        from: record.from,
        to: record.to,
        user: record.user,
        asked_at: record.asked_at,
        state,
        note: NoteView::new(note, &OwnerMap::default()),
        got_bit_s,
        sent_bytes,
        received_bytes,
        packets: packets.filter(|_| by_udp),
        lost: lost.filter(|_| by_udp),
        carried_in_bytes: carried.map(|[inward, _]| inward),
        carried_out_bytes: carried.map(|[_, out]| out),
    }
}
