//! People, sessions, tokens and their audit.

use super::{Fixture, fixture};
use itinera_model::role::Role;
use itinera_store::{NewSession, NewToken, PersonChange, PersonRefused, StoreError};
use time::{Duration, OffsetDateTime};

fn refused(error: &StoreError, why: PersonRefused) {
    assert!(matches!(error, StoreError::Person(known) if *known == why), "{error}");
}

#[tokio::test]
async fn there_is_always_an_administrator_and_a_name_is_taken_once() {
    let Fixture { cluster, store, _data } = fixture().await;
    let ailsa = store.add_person("ailsa", Role::Administrator, "h", "first start").await.unwrap();
    let again = store.add_person("ailsa", Role::Viewer, "h", "ailsa").await.unwrap_err();
    refused(&again, PersonRefused::Taken);
    let leave = PersonChange { active: Some(false), ..PersonChange::default() };
    let last = store.change_person(ailsa.id, &leave, "ailsa").await.unwrap_err();
    refused(&last, PersonRefused::LastAdministrator);
    let demote = PersonChange { role: Some(Role::Viewer), ..PersonChange::default() };
    let last = store.change_person(ailsa.id, &demote, "ailsa").await.unwrap_err();
    refused(&last, PersonRefused::LastAdministrator);
    let bran = store.add_person("bran", Role::Administrator, "h", "ailsa").await.unwrap();
    let changed = store.change_person(ailsa.id, &leave, "bran").await.unwrap();
    assert!(!changed.active);
    assert_eq!(store.person_named("ailsa").await.unwrap(), None);
    assert_eq!(store.people().await.unwrap().len(), 2);
    let done: Vec<_> = store.audit_entries(None, 10).await.unwrap();
    let done: Vec<_> = done.iter().map(|e| (e.person.as_str(), e.action.as_str())).collect();
    assert_eq!(
        done,
        [("bran", "person-changed"), ("ailsa", "person-added"), ("first start", "person-added")]
    );
    assert_eq!(bran.role, Role::Administrator);
    cluster.stop().await.unwrap();
}

#[tokio::test]
async fn sessions_and_tokens_open_until_they_end_or_their_person_may_not_come_in() {
    let Fixture { cluster, store, _data } = fixture().await;
    let now = OffsetDateTime::now_utc();
    store.add_person("ailsa", Role::Administrator, "h", "first start").await.unwrap();
    let bran = store.add_person("bran", Role::Analyst, "h", "ailsa").await.unwrap();
    let session = |secret, hours| NewSession {
        secret_sha256: [secret; 32],
        person: bran.id,
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
        person: bran.id,
        name: "script".into(),
        role,
        expires_at: now + Duration::days(days),
    };
    let wide = store.add_token(&token(4, Role::Administrator, 1), "bran").await.unwrap();
    store.add_token(&token(5, Role::Viewer, -1), "bran").await.unwrap();
    let known = store.token([4; 32]).await.unwrap().unwrap();
    assert_eq!((known.role, known.csrf), (Role::Analyst, None), "no more than its person may do");
    assert_eq!(store.token([5; 32]).await.unwrap(), None, "its time is over");
    assert!(store.tokens(Some(bran.id)).await.unwrap()[1].used_at.is_some());
    assert!(store.revoke_token(wide.id, Some(bran.id), "bran").await.unwrap());
    assert!(!store.revoke_token(wide.id, None, "bran").await.unwrap(), "only once");
    assert_eq!(store.token([4; 32]).await.unwrap(), None);

    store.add_token(&token(6, Role::Viewer, 1), "bran").await.unwrap();
    let leave = PersonChange { active: Some(false), ..PersonChange::default() };
    store.change_person(bran.id, &leave, "ailsa").await.unwrap();
    assert_eq!(store.session([1; 32]).await.unwrap(), None);
    assert_eq!(store.token([6; 32]).await.unwrap(), None);
    cluster.stop().await.unwrap();
}
