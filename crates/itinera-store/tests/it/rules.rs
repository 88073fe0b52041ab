//! Rules of alarms, and views that users save.

use super::review::{Judging, alarm};
use super::*;
use itinera_model::audit::Action;
use itinera_model::role::Role;
use itinera_model::rule::{Rule, RuleLimits};
use itinera_model::unit::Ratio;
use itinera_store::{RulesChanged, SavedView};

fn rule(name: &str, ppm: u32) -> Rule {
    let limits = RuleLimits { loss_ratio: Some(Ratio::from_ppm(ppm)), ..RuleLimits::default() };
    Rule { name: name.to_owned(), limits, ..Rule::default() }
}

#[tokio::test]
async fn rules_are_kept_in_versions_and_audited_and_a_change_of_an_old_version_is_refused() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = OffsetDateTime::now_utc().replace_nanosecond(0).unwrap();
    let first = store.rules(None).await.unwrap().unwrap();
    assert_eq!((first.version, first.at, first.rules), (0, None, Vec::new()));
    let strict = [rule("Voice", 5_000)];
    let by = |text| ("ailsa", text, now);
    assert_eq!(store.save_rules(&strict, Some(0), by("voice is strict")).await.unwrap(), 1);
    let stale = store.save_rules(&[], Some(0), by("")).await;
    assert!(matches!(stale, Err(StoreError::Rules(RulesChanged { now: 1 }))), "{stale:?}");
    assert_eq!(store.save_rules(&[rule("Voice", 10_000)], Some(1), by("")).await.unwrap(), 2);
    let old = store.rules(Some(1)).await.unwrap().unwrap();
    assert_eq!(
        (&old.rules[..], old.text.as_str(), old.at),
        (&strict[..], "voice is strict", Some(now))
    );
    assert_eq!(store.rules(Some(3)).await.unwrap(), None);
    let versions = store.rule_versions(10).await.unwrap();
    assert_eq!(versions.iter().map(|it| it.version).collect::<Vec<_>>(), [2, 1]);
    assert_eq!(store.rules(None).await.unwrap().as_ref(), versions.first());
    let audit = store.audit_entries(None, 10).await.unwrap();
    assert_eq!((audit[0].action, audit[0].object.as_str()), (Action::RulesSaved, "version 2"));
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn an_alarm_is_shelved_once_for_the_end_of_quiet_hours() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut judging = Judging::begin(&store).await;
    judging.write(&store, vec![AlarmEffect::Raised(alarm(1))], true).await;
    let root = store.alarms(Lasting::OPEN, 10).await.unwrap()[0].id.as_uuid();
    let end = OffsetDateTime::now_utc().replace_nanosecond(0).unwrap();
    assert!(store.record_quiet(root, "Night", end).await.unwrap());
    assert!(!store.record_quiet(root, "Night", end).await.unwrap());
    let next = end + Duration::days(1);
    assert!(store.record_quiet(root, "Night", next).await.unwrap(), "the next night");
    let known = [end, next].map(async |at| store.any_quiet_after(at).await.unwrap());
    let [before, after] = known;
    assert_eq!((before.await, after.await), (true, false));
    assert_eq!(store.quiet_alarms(vec![root]).await.unwrap()[&root], next);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn a_user_has_views_of_their_own() {
    let Fixture { cluster, store, _data } = fixture().await;
    let ailsa = store.add_user("ailsa", Role::Analyst, "hash", "test").await.unwrap().id;
    let bran = store.add_user("bran", Role::Viewer, "hash", "test").await.unwrap().id;
    let view = |name: &str, query: &str| SavedView { name: name.into(), query: query.into() };
    assert!(store.save_view(ailsa, &view("Night", "severity=critical")).await.unwrap());
    assert!(store.save_view(ailsa, &view("Night", "severity=major")).await.unwrap());
    assert!(store.save_view(bran, &view("Night", "show=all")).await.unwrap());
    assert_eq!(store.saved_views(ailsa).await.unwrap(), [view("Night", "severity=major")]);
    assert!(store.remove_view(ailsa, "Night").await.unwrap());
    assert!(!store.remove_view(ailsa, "Night").await.unwrap());
    assert_eq!(store.saved_views(bran).await.unwrap().len(), 1);
    for number in 0..itinera_store::MAX_VIEWS {
        assert!(store.save_view(ailsa, &view(&number.to_string(), "")).await.unwrap());
    }
    assert!(!store.save_view(ailsa, &view("more", "")).await.unwrap());
    assert!(store.save_view(ailsa, &view("1", "show=all")).await.unwrap(), "one that is there");
    cluster.stop().await.unwrap();
}
