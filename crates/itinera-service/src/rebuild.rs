//! What windows of judgement are rebuilt from where another version wrote those of the checkpoint.

use itinera_analysis::{PublishedMinute, minutes_to_rebuild, rounds_to_rebuild};
use itinera_model::checkpoint::Checkpoint;
use itinera_model::id::PathId;
use itinera_store::{LogEntry, Store, StoreError};
use std::collections::BTreeMap;

/// Paths of which evidence is read at once.
const PATHS_AT_ONCE: usize = 500;
/// Entries of the log that are read at once.
const ENTRIES_AT_ONCE: i64 = 64;

/// Published evidence of the minutes with windows to be rebuilt. What cannot be read is left out, and
/// said.
pub(crate) async fn minutes(
    store: &Store,
    checkpoint: &Checkpoint,
) -> Result<Vec<(PathId, i64, PublishedMinute)>, StoreError> {
    let mut by_path: BTreeMap<PathId, Vec<i64>> = BTreeMap::new();
    for stored in minutes_to_rebuild(checkpoint) {
        by_path.entry(stored.path).or_default().push(stored.minute);
    }
    let wanted: Vec<(PathId, Vec<i64>)> = by_path.into_iter().collect();
    let mut minutes = Vec::new();
    for some in wanted.chunks(PATHS_AT_ONCE) {
        let done = minutes.len();
        tracing::info!(minutes = done, paths = wanted.len(), "reading evidence of windows");
        let keys = some.iter().flat_map(|(path, of_path)| of_path.iter().map(|it| (*path, *it)));
        for (path, minute, content) in store.published_minutes(&keys.collect::<Vec<_>>()).await? {
            match PublishedMinute::from_bytes(&content) {
                Ok(published) => minutes.push((path, minute, published)),
                Err(error) => {
                    let error = &error as &dyn std::error::Error;
                    tracing::error!(error, %path, minute, "evidence left out");
                }
            }
        }
    }
    Ok(minutes)
}

/// Entries of the log up to the `cursor` with the newest rounds of windows to be rebuilt, of which
/// there is no evidence yet.
pub(crate) async fn newest_entries(
    store: &Store,
    checkpoint: &Checkpoint,
    minutes: &[(PathId, i64, PublishedMinute)],
    cursor: i64,
) -> Result<Vec<LogEntry>, StoreError> {
    if minutes_to_rebuild(checkpoint).is_empty() {
        return Ok(Vec::new());
    }
    let Some(from) = rounds_to_rebuild(checkpoint, minutes) else { return Ok(Vec::new()) };
    let mut last = store.last_commit_before(from, cursor).await?;
    let mut reader = store.log_reader();
    let mut entries = Vec::new();
    while last < cursor {
        let next = reader.between((last, cursor), ENTRIES_AT_ONCE).await?;
        last = next.last().map_or(cursor, |entry| entry.commit_no);
        entries.extend(next);
    }
    Ok(entries)
}

#[cfg(test)]
mod tests {
    use crate::backfill::Backfill;
    use crate::engine::Engine;
    use crate::testing;
    use itinera_analysis::{Effect, Stage};
    use itinera_model::checkpoint::StoredMinute;
    use itinera_store::{LogContent, LogEntry};
    use std::collections::BTreeMap;
    use time::{Duration, OffsetDateTime};

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn windows_of_another_version_come_from_evidence_and_the_log() {
        let data = tempfile::tempdir().unwrap();
        let config = testing::config(data.path());
        let midnight = OffsetDateTime::now_utc().date().midnight().assume_utc();
        let begin = midnight - Duration::minutes(15);
        let mut backfill = Backfill::open(&config, begin, |_| ()).await.unwrap();
        let store = backfill.store().clone();
        let (agent, paths) = testing::join(&store, begin).await;
        let mut measure = async |seq: u32| {
            let at = begin + Duration::seconds(i64::from(seq) * 10 + 5);
            let batch = testing::batch(agent, &paths, seq.into(), at);
            backfill.step(at, &[batch]).await.unwrap();
        };
        // The first commit of a day makes a checkpoint of what was before.
        for seq in 0..=90 {
            measure(seq).await;
        }
        let memory = store.judge_memory().await.unwrap();
        let at_midnight = &memory.checkpoint.minutes;
        assert!(at_midnight.len() >= 2 * 15, "{}", at_midnight.len());
        measure(91).await;
        let contents = |minutes: &[StoredMinute]| {
            let content = minutes.iter().map(|it| ((it.path, it.minute), it.content.clone()));
            content.collect::<BTreeMap<_, _>>()
        };
        let mut foreign = memory.clone();
        let stages = &mut foreign.checkpoint.stages;
        let windows = stages.iter_mut().find(|it| it.stage == Stage::Windows.name()).unwrap();
        windows.version += 1;
        foreign.checkpoint.minutes.iter_mut().for_each(|minute| minute.content = vec![0xFF]);
        let (mut whole, _) = Engine::restored(&store, memory.clone()).await.unwrap();
        let (mut rebuilt, alarms) = Engine::restored(&store, foreign).await.unwrap();
        assert_eq!(alarms, []);
        let clock = || LogEntry {
            commit_no: memory.cursor,
            received_at: midnight.into(),
            content: LogContent::Clock,
        };
        let effects = rebuilt.step(vec![clock()]).await.unwrap();
        let judged = effects.iter().filter(|it| matches!(it, Effect::Assessed { .. })).count();
        assert!(judged >= 2 * 90, "each window has a finding again, or none: {judged}");
        whole.step(vec![clock()]).await.unwrap();
        let rewritten = rebuilt.checkpoint().await.unwrap();
        let (now, before) = (contents(&rewritten.minutes), contents(at_midnight));
        let differing = before.iter().find(|(key, content)| now.get(key) != Some(content));
        assert_eq!((now.len(), differing.map(|it| it.0)), (before.len(), None));
        // What comes next is judged alike.
        let mut reader = store.log_reader();
        let next = reader.after(memory.cursor, 64).await.unwrap();
        assert!(next.iter().any(|entry| entry.report().is_some()));
        let effects = whole.step(next.clone()).await.unwrap();
        assert_eq!(rebuilt.step(next).await.unwrap(), effects);
        backfill.close().await.unwrap();
    }
}
