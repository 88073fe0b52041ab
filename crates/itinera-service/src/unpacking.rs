//! Unpacks batches of agents within limits of memory and of turns.

use crate::problem::ApiError;
use axum::body::Bytes;
use itinera_model::batch::Batch;
use itinera_model::codec::decode;
use itinera_model::id::AgentId;
use std::collections::BTreeMap;
use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::Semaphore;

/// Bytes that a batch may unpack to.
const MAX_UNPACKED: u64 = 32 << 20;
/// Batches unpacked at one time, by all agents and by one: an agent that has much to catch up on
/// leaves turns to the others.
const UNPACKING: usize = 4;
const UNPACKING_BY_ONE: usize = 1;
/// The longest window of zstd (RFC 8878 section 3.1.1.1.2) that is allocated for a batch: 8 MiB.
const WINDOW_LOG: u32 = 23;

/// Turns to unpack and decode batches, off the async threads.
#[derive(Debug)]
pub(crate) struct Unpacking {
    all: Semaphore,
    by_agent: Mutex<BTreeMap<AgentId, Arc<Semaphore>>>,
}

impl Default for Unpacking {
    fn default() -> Self {
        Self { all: Semaphore::new(UNPACKING), by_agent: Mutex::default() }
    }
}

impl Unpacking {
    /// Decodes a batch in the agent's turn.
    pub(crate) async fn unpack(
        &self,
        agent: AgentId,
        body: Bytes,
    ) -> Result<(Batch, u64), ApiError> {
        let own = {
            let mut by_agent = self.by_agent.lock().unwrap_or_else(PoisonError::into_inner);
            by_agent.retain(|_, turns| Arc::strong_count(turns) > 1);
            let new = || Arc::new(Semaphore::new(UNPACKING_BY_ONE));
            Arc::clone(by_agent.entry(agent).or_insert_with(new))
        };
        let internal = |error: Box<dyn std::error::Error + Send + Sync>| ApiError::Internal(error);
        let _own = own.acquire().await.map_err(|error| internal(error.into()))?;
        let _turn = self.all.acquire().await.map_err(|error| internal(error.into()))?;
        let work = tokio::task::spawn_blocking(move || unpack(&body));
        work.await.map_err(|error| internal(error.into()))?
    }
}

/// The batch, and its size unpacked in bytes.
fn unpack(body: &[u8]) -> Result<(Batch, u64), ApiError> {
    let damaged = |what: &dyn std::fmt::Display| ApiError::DamagedBatch(format!("batch: {what}"));
    let mut decoder = zstd::Decoder::new(body).map_err(|error| damaged(&error))?;
    decoder.window_log_max(WINDOW_LOG).map_err(|error| damaged(&error))?;
    let mut octets = Vec::new();
    let read = decoder.take(MAX_UNPACKED + 1).read_to_end(&mut octets);
    read.map_err(|error| damaged(&error))?;
    if octets.len() as u64 > MAX_UNPACKED {
        return Err(damaged(&format!("unpacks to more than {MAX_UNPACKED} bytes")));
    }
    let batch: Batch = decode(&octets).map_err(|error| damaged(&error))?;
    batch.check().map_err(|error| damaged(&error))?;
    Ok((batch, octets.len() as u64))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn a_batch_that_would_take_too_much_memory_is_refused() {
        let code = |error: ApiError| matches!(error, ApiError::DamagedBatch(_));
        let packed = |octets: &[u8], log| {
            let mut encoder = zstd::Encoder::new(Vec::new(), 1).unwrap();
            encoder.window_log(log).unwrap();
            encoder.write_all(octets).unwrap();
            encoder.finish().unwrap()
        };
        assert!(code(unpack(&packed(&[0; 100], 27)).unwrap_err()), "a window of 128 MiB");
        let much = vec![0; usize::try_from(MAX_UNPACKED).unwrap() + 1];
        assert!(code(unpack(&packed(&much, 20)).unwrap_err()), "more than it may be");
        assert!(code(unpack(&packed(b"x", 20)).unwrap_err()), "no batch");
    }
}
