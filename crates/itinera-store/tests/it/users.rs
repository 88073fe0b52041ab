//! Users, sessions, tokens and their audit.

use super::{Fixture, fixture};
use itinera_model::role::Role;
use itinera_store::cluster::Cluster;
use itinera_store::{NewSession, NewToken, Store, StoreError, UserChange, UserRefused};
use time::{Duration, OffsetDateTime};

fn refused(error: &StoreError, why: UserRefused) {
    assert!(matches!(error, StoreError::User(known) if *known == why), "{error}");
}

#[tokio::test]
async fn there_is_always_an_administrator_and_a_name_is_taken_once() {
    let Fixture { cluster, store, _data } = fixture().await;
    let ailsa = store.add_user("ailsa", Role::Administrator, "h", "first start").await.unwrap();
    let again = store.add_user("ailsa", Role::Viewer, "h", "ailsa").await.unwrap_err();
    refused(&again, UserRefused::Taken);
    let leave = UserChange { active: Some(false), ..UserChange::default() };
    let last = store.change_user(ailsa.id, &leave, "ailsa").await.unwrap_err();
    refused(&last, UserRefused::LastAdministrator);
    let demote = UserChange { role: Some(Role::Viewer), ..UserChange::default() };
    let last = store.change_user(ailsa.id, &demote, "ailsa").await.unwrap_err();
    refused(&last, UserRefused::LastAdministrator);
    let bran = store.add_user("bran", Role::Administrator, "h", "ailsa").await.unwrap();
    let changed = store.change_user(ailsa.id, &leave, "bran").await.unwrap();
    assert!(!changed.active);
    assert_eq!(store.user_named("ailsa").await.unwrap(), None);
    assert_eq!(store.users().await.unwrap().len(), 2);
    let done: Vec<_> = store.audit_entries(None, 10).await.unwrap();
    let done: Vec<_> = done.iter().map(|e| (e.user.as_str(), e.action.name())).collect();
    assert_eq!(
        done,
        [("bran", "user-changed"), ("ailsa", "user-added"), ("first start", "user-added")]
    );
    assert_eq!(bran.role, Role::Administrator);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn sessions_and_tokens_are_valid_until_they_end_or_their_user_is_disabled() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = OffsetDateTime::now_utc();
    store.add_user("ailsa", Role::Administrator, "h", "first start").await.unwrap();
    let bran = store.add_user("bran", Role::Analyst, "h", "ailsa").await.unwrap();
    let session = |secret, hours| NewSession {
        secret_sha256: [secret; 32],
        user: bran.id,
        csrf: "proof".into(),
        expires_at: now + Duration::hours(hours),
    };
    store.add_session(&session(1, 1), "bran").await.unwrap();
    store.add_session(&session(2, -1), "bran").await.unwrap();
    store.add_session(&session(3, 1), "bran").await.unwrap();
    let known = store.session([1; 32]).await.unwrap().unwrap();
    assert_eq!((known.role, known.csrf.as_deref()), (Role::Analyst, Some("proof")));
    assert_eq!(store.session([2; 32]).await.unwrap(), None, "its time is over");
    store.end_session([3; 32], "bran").await.unwrap();
    assert_eq!(store.session([3; 32]).await.unwrap(), None, "signed out");

    let token = |secret, role, days| NewToken {
        secret_sha256: [secret; 32],
        user: bran.id,
        name: "script".into(),
        role,
        expires_at: now + Duration::days(days),
    };
    let wide = store.add_token(&token(4, Role::Administrator, 1), "bran").await.unwrap();
    store.add_token(&token(5, Role::Viewer, -1), "bran").await.unwrap();
    let known = store.token([4; 32]).await.unwrap().unwrap();
    assert_eq!((known.role, known.csrf), (Role::Analyst, None), "no more than its user may do");
    assert_eq!(store.token([5; 32]).await.unwrap(), None, "its time is over");
    assert!(store.tokens(Some(bran.id)).await.unwrap()[1].used_at.is_some());
    assert!(store.revoke_token(wide.id, Some(bran.id), "bran").await.unwrap());
    assert!(!store.revoke_token(wide.id, None, "bran").await.unwrap(), "only once");
    assert_eq!(store.token([4; 32]).await.unwrap(), None);

    store.add_token(&token(6, Role::Viewer, 1), "bran").await.unwrap();
    let leave = UserChange { active: Some(false), ..UserChange::default() };
    store.change_user(bran.id, &leave, "ailsa").await.unwrap();
    assert_eq!(store.session([1; 32]).await.unwrap(), None);
    assert_eq!(store.token([6; 32]).await.unwrap(), None);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn attempts_to_sign_in_are_counted_for_all_processes() {
    let Fixture { cluster, store, _data } = fixture().await;
    let other = Store::open(&Cluster::url_in(_data.path())).await.unwrap();
    for attempt in 0..8 {
        let at = if attempt % 2 == 0 { &store } else { &other };
        assert_eq!(at.count_sign_in([1; 32]).await.unwrap(), None, "{attempt}");
    }
    let wait = other.count_sign_in([1; 32]).await.unwrap().unwrap();
    assert!((290..=300).contains(&wait), "{wait}");
    assert_eq!(store.count_sign_in([2; 32]).await.unwrap(), None, "another name");
    store.forget_sign_ins([1; 32]).await.unwrap();
    assert_eq!(other.count_sign_in([1; 32]).await.unwrap(), None);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn attempts_at_one_time_are_counted_one_after_the_other() {
    let Fixture { cluster, store, _data } = fixture().await;
    let mut attempts = tokio::task::JoinSet::new();
    for _ in 0..20 {
        let store = store.clone();
        attempts.spawn(async move { store.count_sign_in([1; 32]).await });
    }
    let waits = attempts.join_all().await;
    assert_eq!(waits.into_iter().filter(|wait| wait.as_ref().unwrap().is_none()).count(), 8);
    cluster.stop().await.unwrap();
}
