//! Delivering notices: each delivery is claimed, attempted and recorded.

use crate::context::Shared;
use crate::duty::Duty;
use crate::notices::attempt::{Answer, SendError, kept};
use itinera_model::notice::pause_after;
use itinera_store::{Attempt, Claim, StoreError};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use time::OffsetDateTime;
use tokio::task::{self, JoinSet};
use uuid::Uuid;

/// Deliveries that one process attempts at one time, each to another receiver.
const AT_ONCE: usize = 16;
/// How long an attempt may take; another process may make the next after the claim has expired.
const LIMIT: Duration = Duration::from_secs(60);
const CLAIM: Duration = Duration::from_secs(90);
/// How often deliveries are looked for.
const LOOK: Duration = Duration::from_secs(1);

/// What is recorded of an attempt. `spread` is any number.
fn recorded(
    outcome: Result<Answer, SendError>,
    attempts: u32,
    spread: u64,
    now: OffsetDateTime,
) -> Attempt {
    let error = match outcome {
        Ok(Answer::None) => return Attempt::Sent { answer: None },
        Ok(Answer::Words(words)) => return Attempt::Sent { answer: Some(words) },
        Err(error) => error,
    };
    let pause = match error.permanent {
        true => None,
        false => pause_after(attempts, error.asked, spread),
    };
    match pause {
        Some(pause) => Attempt::Again { reason: error.reason, at: now + pause },
        None => Attempt::Failed { reason: error.reason },
    }
}

async fn attempt(shared: Arc<Shared>, claim: Claim) -> Result<(), StoreError> {
    let sending = tokio::time::timeout(LIMIT, shared.sending.send(&claim)).await;
    let outcome = sending.unwrap_or_else(|_| {
        Err(SendError::passing(format!("no answer within {} s", LIMIT.as_secs())))
    });
    if let Err(error) = &outcome {
        let (receiver, notice) = (kept(&claim.receiver.name), claim.notice_no);
        tracing::warn!(receiver, notice, "a notice is not delivered: {}", error.reason);
    }
    let spread = claim.id.as_u64_pair().1;
    let attempt = recorded(outcome, claim.attempts + 1, spread, OffsetDateTime::now_utc());
    shared.store.record_attempt(claim.id, &attempt).await?;
    shared.change_added.notify_one();
    Ok(())
}

/// Sends what is due, to one receiver after another, for as long as the service runs.
pub(crate) async fn deliver(shared: Arc<Shared>) {
    // Receivers by the task that sends to them.
    let mut busy: HashMap<task::Id, Uuid> = HashMap::new();
    let mut sending: JoinSet<Result<(), StoreError>> = JoinSet::new();
    loop {
        let free = i64::try_from(AT_ONCE.saturating_sub(busy.len())).unwrap_or(0);
        let busy_now = busy.values().copied().collect();
        match shared.store.claim_deliveries(busy_now, CLAIM, free).await {
            Ok(claims) => {
                shared.duties.done(Duty::Deliveries);
                for claim in claims {
                    let receiver = claim.receiver_id.as_uuid();
                    let task = sending.spawn(attempt(Arc::clone(&shared), claim));
                    busy.insert(task.id(), receiver);
                }
            }
            Err(error) => shared.duties.failed(Duty::Deliveries, &error),
        }
        let ended = tokio::select! {
            ended = sending.join_next_with_id(), if !sending.is_empty() => ended,
            () = tokio::time::sleep(LOOK) => None,
        };
        match ended {
            Some(Ok((task, recorded))) => {
                busy.remove(&task);
                if let Err(error) = recorded {
                    shared.duties.failed(Duty::Deliveries, &error);
                }
            }
            // The claim expires: another attempt is made.
            Some(Err(error)) => {
                tracing::error!(%error, "an attempt to send a notice panicked");
                busy.remove(&error.id());
            }
            None => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_attempt_is_sent_tried_again_or_given_up() {
        let now = OffsetDateTime::UNIX_EPOCH;
        let failed = |error: SendError, attempts| recorded(Err(error), attempts, 0, now);
        assert_eq!(recorded(Ok(Answer::None), 1, 0, now), Attempt::Sent { answer: None });
        let answer = Some("200 OK: restarted".to_owned());
        let words = Answer::Words("200 OK: restarted".to_owned());
        assert_eq!(recorded(Ok(words), 1, 0, now), Attempt::Sent { answer });
        let reason = || "greylisted".to_owned();
        let again =
            |seconds| Attempt::Again { reason: reason(), at: now + Duration::from_secs(seconds) };
        assert_eq!(failed(SendError::passing(reason()), 1), again(5));
        let asked =
            SendError { asked: Some(Duration::from_secs(90)), ..SendError::passing(reason()) };
        assert_eq!(failed(asked, 1), again(90));
        let given_up = Attempt::Failed { reason: reason() };
        assert_eq!(failed(SendError::permanent(reason()), 1), given_up);
        assert_eq!(failed(SendError::passing(reason()), 15), given_up);
    }
}
