//! Looks at how the service stands, and raises and clears its alarms about itself. While the database is away
//! none can be recorded: `/readyz` and `/metrics` tell of that.

use crate::context::Shared;
use crate::correlation::ByCause;
use crate::duty::Duty;
use itinera_analysis::self_alarm::Health;
use itinera_model::note::Note;
use itinera_model::owner::OwnerMap;
use itinera_model::self_alarm::{Backlog, LateAgents, SetAsideCommits};
use itinera_store::{HealthCounts, StoreError};
use std::sync::{Arc, PoisonError};
use std::time::Instant;

/// Looks, and records what follows.
///
/// # Errors
/// [`StoreError::Database`].
pub(crate) async fn look(shared: Arc<Shared>) -> Result<(), StoreError> {
    let counts = shared.store.health().await?;
    let disk = shared.watermarks.note(*shared.disk.borrow());
    let health = Health {
        duties: failing_duties(&shared.duties.not_done(Instant::now())),
        receivers: shared.store.failing_receivers().await?,
        ..of_counts(counts, disk)
    };
    let open = shared.store.open_self_alarms().await?;
    let now = shared.clock.now();
    let effects = {
        let mut watch = shared.self_watch.lock().unwrap_or_else(PoisonError::into_inner);
        watch.look(&health, &open, now.into())
    };
    if effects.is_empty() {
        return Ok(());
    }
    // Its alarms have no place, and so no owner.
    let map = OwnerMap::default();
    shared.store.record_self_alarms(&effects, now, &mut ByCause::new(&map)).await?;
    shared.change_added.notify_one();
    Ok(())
}

/// The names of duties that are not done, without the one that looks.
fn failing_duties(not_done: &[Duty]) -> Vec<String> {
    let named = not_done.iter().filter(|duty| **duty != Duty::SelfAlarms);
    named.map(|duty| duty.word().to_owned()).collect()
}

fn of_counts(counts: HealthCounts, disk: Option<Note>) -> Health {
    let number = |count: i64| u32::try_from(count).unwrap_or_default();
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "whole seconds, limited to what the type holds"
    )]
    let seconds = counts.oldest_unjudged_s.clamp(0.0, f64::from(u32::MAX)) as u32;
    let (disk_low, disk_full) = match disk {
        Some(Note::DiskLow(space)) => (Some(space), None),
        Some(Note::DiskFull(space)) => (None, Some(space)),
        _ => (None, None),
    };
    Health {
        backlog: Some(Backlog {
            commits: counts.unjudged_commits.try_into().unwrap_or(0),
            seconds,
        }),
        set_aside: Some(SetAsideCommits {
            commits: counts.set_aside_commits.try_into().unwrap_or(0),
            error: counts.set_aside_error.unwrap_or_default(),
        }),
        disk_low,
        disk_full,
        agents: Some(LateAgents {
            late: number(counts.agents_late),
            agents: number(counts.agents),
        }),
        ..Health::default()
    }
}
