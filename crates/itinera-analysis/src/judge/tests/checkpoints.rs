//! Judgement that continues from a checkpoint, and stages of another version.

use super::*;
use itinera_model::alarm::{Alarm, AlarmKey};
use itinera_model::finding::Cause;

#[test]
fn a_judge_restored_from_checkpoints_continues_as_if_it_had_never_stopped() {
    let mut undisturbed = Judge::default();
    let mut updates = Vec::new();
    // Long enough for windows to be dropped that were stored.
    for (windows, lost) in [(0..40, 0), (40..43, 3), (43..260, 0), (260..263, 3)] {
        live(&mut undisturbed, windows, lost);
        updates.push(undisturbed.checkpoint());
    }
    assert!(updates.iter().any(|update| !update.dropped.is_empty()));
    let last = updates.last().unwrap();
    assert!(last.minutes.len() < 4, "only what differs: {}", last.minutes.len());
    let mut continued = restored(&stored(&updates));
    assert_eq!(live(&mut continued, 263..280, 3), live(&mut undisturbed, 263..280, 3));
}

/// As another version of a stage wrote it: what it says cannot be read.
fn make_foreign(checkpoint: &mut Checkpoint, stage: Stage) {
    let state = checkpoint.stages.iter_mut().find(|it| it.stage == stage.name()).unwrap();
    state.version += 1;
    state.content = vec![0xFF];
}

/// What a judge remembers of each minute, as it is stored.
fn minutes_in(judge: &Judge) -> BTreeMap<i64, Vec<u8>> {
    let path = judge.paths.values().next().unwrap();
    let minutes = path.minutes(i64::MIN..=i64::MAX).into_iter();
    minutes.map(|minute| (minute, path.windows.minute_bytes(minute).unwrap())).collect()
}

/// Takes all that was found in the windows of a checkpoint out of it.
fn forget_findings(checkpoint: &mut Checkpoint) {
    let mut judge = restored(checkpoint);
    for stored in &mut checkpoint.minutes {
        let history = judge.paths.get_mut(&stored.path).unwrap();
        history.windows.values_mut().for_each(|it| (it.found, it.flagged) = (false, false));
        stored.content = history.windows.minute_bytes(stored.minute).unwrap();
    }
}

#[test]
fn findings_of_another_version_are_made_again_with_the_clock_and_leave_the_others() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    assert_eq!(alarms(&live(&mut judge, 40..46, 3)), "r");
    let mut checkpoint = stored(&[judge.checkpoint()]);
    // The other version has found nothing anywhere.
    forget_findings(&mut checkpoint);
    make_foreign(&mut checkpoint, Stage::Findings);
    let mut continued = restored(&checkpoint);
    assert_eq!(continued.book().open().len(), 1, "alarms are as they were");
    assert_ne!(minutes_in(&continued), minutes_in(&judge), "what was found stands at first");
    let progress = Judge::stored_progress(&continued.checkpoint()).unwrap();
    assert_eq!((progress.done, progress.paths), (0, 1));
    // It continues after a restart.
    let mut continued = restored(&stored(&[checkpoint, continued.checkpoint()]));
    let effects = wait(&mut continued, 463..464);
    wait(&mut judge, 463..464);
    assert_eq!(minutes_in(&continued), minutes_in(&judge));
    assert_eq!(alarms(&effects), "");
    let judged = effects.iter().filter(|it| matches!(it, Effect::Assessed { .. })).count();
    assert_eq!(judged, 46, "each window has a finding of this version, or none");
    assert_eq!(Judge::stored_progress(&continued.checkpoint()), None);
    assert_eq!(live(&mut continued, 47..60, 3), live(&mut judge, 47..60, 3));
}

#[test]
fn alarms_of_another_version_are_made_from_the_windows_and_keep_what_was_recorded() {
    let mut judge = Judge::default();
    live(&mut judge, 0..40, 0);
    live(&mut judge, 40..46, 3);
    let mut checkpoint = stored(&[judge.checkpoint()]);
    make_foreign(&mut checkpoint, Stage::Alarms);
    let known = judge.book().open()[0].clone();
    let since = known.since.plus_micros(-3_600_000_000);
    let known = Alarm { since, worst_loss_ppm: 500_000, ..known };
    let gone = AlarmKey { cause: Cause::Delay, ..known.key };
    let gone = Alarm { key: gone, ..known.clone() };
    let open = vec![known.clone(), gone.clone()];
    let sources = RebuildSources { open, ..RebuildSources::default() };
    let (mut continued, effects) = Judge::restored(&checkpoint, sources).unwrap();
    let effects = effects.into_iter().map(Effect::Alarm).collect::<Vec<_>>();
    assert_eq!(alarms(&effects), "x", "the one that is not shown any more");
    assert_eq!(continued.book().open(), [known]);
    assert_eq!(alarms(&live(&mut continued, 46..60, 3)), "", "it is not raised again");
    let (_, effects) = Judge::restored(&checkpoint, RebuildSources::default()).unwrap();
    assert!(matches!(effects[..], [AlarmEffect::Raised(_)]), "none was recorded");
}

#[test]
fn windows_of_another_version_are_made_from_evidence_and_the_newest_rounds() {
    let mut judge = Judge::default();
    let mut effects = live(&mut judge, 0..40, 0);
    effects.extend(live(&mut judge, 40..46, 3));
    let mut checkpoint = stored(&[judge.checkpoint()]);
    make_foreign(&mut checkpoint, Stage::Windows);
    checkpoint.minutes.iter_mut().for_each(|minute| minute.content = vec![0xFF]);
    let published = effects.into_iter().filter_map(|effect| match effect {
        Effect::Evidence { subject: EvidenceSubject::Path(path), minute, content, .. } => {
            Some((path, minute, crate::PublishedMinute::from_bytes(&content?).unwrap()))
        }
        _ => None,
    });
    let minutes: Vec<_> = published.collect();
    let wanted = minutes_to_rebuild(&checkpoint);
    assert_eq!(wanted.len(), 8, "46 windows, of which the first four end a minute");
    let is_wanted = |path, minute| wanted.iter().any(|it| (it.path, it.minute) == (path, minute));
    assert!(minutes.iter().all(|(path, minute, _)| is_wanted(*path, *minute)));
    let from = rounds_to_rebuild(&checkpoint, &minutes).unwrap();
    let first = window_of(from) - START_S / 10;
    assert_eq!(first, 40, "the last minute of evidence ends there");
    let minutes_again = minutes.clone();
    let (mut continued, _) = continued_from(&checkpoint, minutes, Vec::new());
    wait(&mut continued, 463..464);
    wait(&mut judge, 463..464);
    assert_eq!(minutes_in(&continued), minutes_in(&judge), "and their findings with the clock");
    let rewritten = continued.checkpoint();
    assert_eq!(rewritten.minutes.len(), 8);
    assert_eq!(live(&mut continued, 47..60, 3), live(&mut judge, 47..60, 3));
    assert!(minutes_to_rebuild(&rewritten).is_empty());
    // Alarms of another version too: found in the windows, although nothing says where.
    make_foreign(&mut checkpoint, Stage::Alarms);
    let open = judge.book().open().to_vec();
    let (judge, changes) = continued_from(&checkpoint, minutes_again, open.clone());
    assert_eq!((judge.book().open(), &changes[..]), (&open[..], &[][..]));
    // Without evidence what cannot be read is dropped, so that the next version does not meet it.
    let (mut emptied, _) = Judge::restored(&checkpoint, RebuildSources::default()).unwrap();
    assert_eq!(emptied.checkpoint().dropped.len(), 8);
    assert_eq!(emptied.checkpoint().dropped.len(), 0);
}

/// A judge that continues with windows from these minutes and their newest rounds, and open alarms.
fn continued_from(
    checkpoint: &Checkpoint,
    minutes: Vec<(PathId, i64, crate::PublishedMinute)>,
    open: Vec<Alarm>,
) -> (Judge, Vec<AlarmEffect>) {
    let first = window_of(rounds_to_rebuild(checkpoint, &minutes).unwrap()) - START_S / 10;
    let hops = five_hops(3);
    let rounds = (first..46).map(|window| observation(window, &hops)).collect();
    let sources = RebuildSources { minutes, rounds, open, ..RebuildSources::default() };
    Judge::restored(checkpoint, sources).unwrap()
}

#[test]
fn a_damaged_state_is_an_error_that_names_its_stage() {
    let mut judge = Judge::default();
    live(&mut judge, 0..4, 0);
    let mut checkpoint = stored(&[judge.checkpoint()]);
    let seals = checkpoint.stages.iter_mut().find(|it| it.stage == Stage::Seals.name()).unwrap();
    seals.content.truncate(3);
    let damaged = Judge::restored(&checkpoint, RebuildSources::default());
    assert_eq!(damaged.map(drop).unwrap_err().stage, Stage::Seals);
}
