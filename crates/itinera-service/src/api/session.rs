//! Signing in and out, and one's own password.

use super::users::{LONGEST_NAME, checked_password};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::{
    Actor, COOKIE, PASSWORD, digest, discard_first, hashed, is_password, new_secret,
};
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::http::StatusCode;
use axum::{Extension, Json};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use itinera_model::role::Role;
use itinera_store::{NewSession, UserChange};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;

/// How long a session lasts: a shift.
const LIFETIME: Duration = Duration::hours(12);

/// Name and password of a user.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    name: String,
    password: String,
}

/// The user of the session, if any.
#[derive(Debug, Default, Serialize, ToSchema)]
pub(crate) struct SessionView {
    /// Absent when no user is signed in.
    name: Option<String>,
    role: Option<Role>,
    /// What a page shows in the header `x-itinera-proof` with every change; absent for a token.
    proof: Option<String>,
}

fn session_cookie(value: String, lifetime: Duration, secure: bool) -> Cookie<'static> {
    Cookie::build((COOKIE, value))
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(lifetime)
        .secure(secure)
        .build()
}

/// Counts an attempt by a name before its password is looked at, so that attempts at one time are
/// counted too.
async fn count_attempt(shared: &Shared, name: &str) -> Result<(), ApiError> {
    match shared.store.count_sign_in(digest(name)).await? {
        Some(seconds) => Err(ApiError::TooManyAttempts(seconds)),
        None => Ok(()),
    }
}

/// Signs in: sets the session's cookie.
#[utoipa::path(post, path = "/session", operation_id = "signIn", request_body = SignIn,
    responses(
    (status = 201, body = SessionView),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn sign_in(
    State(shared): State<Arc<Shared>>,
    cookies: CookieJar,
    body: Result<Json<SignIn>, JsonRejection>,
) -> Result<(StatusCode, CookieJar, Json<SessionView>), ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    if asked.password.len() > 4 * PASSWORD.end() || asked.name.len() > 4 * LONGEST_NAME {
        return Err(ApiError::WrongPassword);
    }
    count_attempt(&shared, &asked.name).await?;
    let (user, hash) = shared.store.user_named(&asked.name).await?.unzip();
    let right = is_password(asked.password, hash).await?;
    let Some(user) = user.filter(|_| right) else {
        return Err(ApiError::WrongPassword);
    };
    shared.store.forget_sign_ins(digest(&asked.name)).await?;
    let (secret, csrf) = (new_secret()?, new_secret()?);
    let session = NewSession {
        secret_sha256: digest(&secret),
        user: user.id,
        csrf: csrf.clone(),
        expires_at: OffsetDateTime::now_utc() + LIFETIME,
    };
    shared.store.add_session(&session, &user.name).await?;
    let cookies = cookies.add(session_cookie(secret, LIFETIME, shared.behind_tls()));
    let view = SessionView { name: Some(user.name), role: Some(user.role), proof: Some(csrf) };
    Ok((StatusCode::CREATED, cookies, Json(view)))
}

/// The user of the session, if any.
#[utoipa::path(get, path = "/session", operation_id = "getSession", responses(
    (status = 200, body = SessionView),
))]
pub(crate) async fn session(actor: Option<Extension<Actor>>) -> Json<SessionView> {
    let view = actor.map(|Extension(actor)| SessionView {
        name: Some(actor.name),
        role: Some(actor.role),
        proof: actor.csrf,
    });
    Json(view.unwrap_or_default())
}

/// Signs out: ends the session and takes its cookie back.
#[utoipa::path(delete, path = "/session", operation_id = "signOut", responses(
    (status = 204, description = "Signed out"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn sign_out(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
    cookies: CookieJar,
) -> Result<(StatusCode, CookieJar), ApiError> {
    if let Some(secret) = cookies.get(COOKIE) {
        shared.store.end_session(digest(secret.value()), &actor.name).await?;
    }
    let none = session_cookie(String::new(), Duration::ZERO, shared.behind_tls());
    Ok((StatusCode::NO_CONTENT, cookies.add(none)))
}

/// A new password for the calling user.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PasswordRequest {
    old: String,
    new: String,
}

/// Changes one's own password; every session of one's own ends.
#[utoipa::path(put, path = "/session/password", operation_id = "changePassword",
    request_body = PasswordRequest, responses(
    (status = 204, description = "Changed; sign in again"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change_password(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
    body: Result<Json<PasswordRequest>, JsonRejection>,
) -> Result<StatusCode, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    count_attempt(&shared, &actor.name).await?;
    let hash = shared.store.user_named(&actor.name).await?.map(|(_, hash)| hash);
    if !is_password(asked.old, hash).await? {
        return Err(ApiError::WrongPassword);
    }
    shared.store.forget_sign_ins(digest(&actor.name)).await?;
    let password = hashed(checked_password(asked.new)?).await?;
    let change = UserChange { password: Some(password), ..UserChange::default() };
    shared.store.change_user(actor.user, &change, &actor.name).await?;
    discard_first(&shared.data);
    Ok(StatusCode::NO_CONTENT)
}
