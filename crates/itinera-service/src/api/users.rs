//! Users, tokens, and the audit of changes.

use super::ValidQuery;
use super::view::user::{AuditItem, TokenItem, UserItem};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::{Actor, PASSWORD, digest, hashed, new_token};
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use itinera_model::id::{TokenId, UserId};
use itinera_model::role::Role;
use itinera_store::{NewToken, UserChange};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// Characters of a user's name.
pub(super) const LONGEST_NAME: usize = 60;
/// How long a token may last.
const LONGEST_DAYS: u16 = 366;

/// All users, by name.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Users {
    items: Vec<UserItem>,
}

/// All users, by name.
#[utoipa::path(get, path = "/users", operation_id = "getUsers", responses(
    (status = 200, body = Users),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn users(State(shared): State<Arc<Shared>>) -> Result<Json<Users>, ApiError> {
    let items = shared.store.users().await?.into_iter().map(UserItem::from).collect();
    Ok(Json(Users { items }))
}

/// The users that alarms can be assigned to.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Assignees {
    /// Names, in order.
    items: Vec<String>,
}

/// The active analysts and administrators, by name: alarms can be assigned to them.
#[utoipa::path(get, path = "/assignees", operation_id = "getAssignees", responses(
    (status = 200, body = Assignees),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn assignees(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<Assignees>, ApiError> {
    let users = shared.store.users().await?.into_iter();
    let can_act = users.filter(|user| user.active && user.role >= Role::Analyst);
    Ok(Json(Assignees { items: can_act.map(|user| user.name).collect() }))
}

/// A user to add.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct UserRequest {
    name: String,
    role: Role,
    /// 10 to 200 characters.
    password: String,
}

pub(super) fn checked_name(name: &str, longest: usize) -> Result<&str, ApiError> {
    let name = name.trim();
    let fits = (1..=longest).contains(&name.chars().count());
    if fits && !name.chars().any(char::is_control) {
        return Ok(name);
    }
    Err(ApiError::BadInput(format!("name: 1 to {longest} visible characters are needed")))
}

pub(super) fn checked_password(password: String) -> Result<String, ApiError> {
    if PASSWORD.contains(&password.chars().count()) {
        return Ok(password);
    }
    let (least, most) = (PASSWORD.start(), PASSWORD.end());
    Err(ApiError::BadInput(format!("password: {least} to {most} characters are needed")))
}

/// Adds a user.
#[utoipa::path(post, path = "/users", operation_id = "addUser", request_body = UserRequest,
    responses(
    (status = 201, body = UserItem),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn add_user(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<UserRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<UserItem>), ApiError> {
    let Json(new) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let name = checked_name(&new.name, LONGEST_NAME)?;
    let password = hashed(checked_password(new.password)?).await?;
    let record = shared.store.add_user(name, new.role, &password, &by.name).await?;
    Ok((StatusCode::CREATED, Json(record.into())))
}

/// What is to change about a user; absent fields stay.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct UserPatch {
    role: Option<Role>,
    active: Option<bool>,
    password: Option<String>,
}

/// Changes a user. A new password, or disabling the user, ends all sessions of the user.
#[utoipa::path(patch, path = "/users/{id}", operation_id = "changeUser",
    params(("id" = String, Path, description = "The user's id")),
    request_body = UserPatch, responses(
    (status = 200, body = UserItem),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change_user(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    Path(id): Path<String>,
    body: Result<Json<UserPatch>, JsonRejection>,
) -> Result<Json<UserItem>, ApiError> {
    let Json(patch) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let id: UserId = id.parse().map_err(|_| ApiError::unknown_id(&id))?;
    let password = match patch.password {
        Some(password) => Some(hashed(checked_password(password)?).await?),
        None => None,
    };
    let change = UserChange { role: patch.role, active: patch.active, password };
    Ok(Json(shared.store.change_user(id, &change, &by.name).await?.into()))
}

/// Tokens, newest first.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Tokens {
    items: Vec<TokenItem>,
}

/// The user's own tokens, newest first; all tokens for an administrator.
#[utoipa::path(get, path = "/tokens", operation_id = "getTokens", responses(
    (status = 200, body = Tokens),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn tokens(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
) -> Result<Json<Tokens>, ApiError> {
    let items = shared.store.tokens(reach(&actor)).await?;
    Ok(Json(Tokens { items: items.into_iter().map(TokenItem::from).collect() }))
}

/// The user that tokens are limited to; none for an administrator, who sees all.
fn reach(actor: &Actor) -> Option<UserId> {
    (actor.role < Role::Administrator).then_some(actor.user)
}

/// What token is wanted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TokenRequest {
    /// What it is for.
    name: String,
    /// Highest role of its requests; absent for the user's own role.
    role: Option<Role>,
    /// How long it is valid, 1 to 366 days.
    #[serde(default = "thirty")]
    lifetime_days: u16,
}

const fn thirty() -> u16 {
    30
}

/// A token with its secret, shown this once.
#[derive(Serialize, ToSchema)]
pub(crate) struct TokenMade {
    #[serde(flatten)]
    item: TokenItem,
    /// Sent in the header `Authorization: Bearer`.
    token: String,
}

/// Makes a token for the calling user.
#[utoipa::path(post, path = "/tokens", operation_id = "makeToken", request_body = TokenRequest,
    responses(
    (status = 201, body = TokenMade),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn make_token(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
    body: Result<Json<TokenRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<TokenMade>), ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let name = checked_name(&wanted.name, 100)?.to_owned();
    let role = wanted.role.unwrap_or(actor.role);
    if role > actor.role {
        return Err(ApiError::NotAllowed { needed: role, has: actor.role });
    }
    if !(1..=LONGEST_DAYS).contains(&wanted.lifetime_days) {
        let days = wanted.lifetime_days;
        let text = format!("lifetime_days: {days} is outside 1 to {LONGEST_DAYS}");
        return Err(ApiError::BadInput(text));
    }
    let token = new_token()?;
    let new = NewToken {
        secret_sha256: digest(&token),
        user: actor.user,
        name,
        role,
        expires_at: OffsetDateTime::now_utc() + Duration::days(wanted.lifetime_days.into()),
    };
    let record = shared.store.add_token(&new, &actor.name).await?;
    Ok((StatusCode::CREATED, Json(TokenMade { item: record.into(), token })))
}

/// Revokes a token.
#[utoipa::path(delete, path = "/tokens/{id}", operation_id = "revokeToken",
    params(("id" = String, Path, description = "The token's id")), responses(
    (status = 204, description = "The token is revoked"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn revoke_token(
    State(shared): State<Arc<Shared>>,
    actor: Actor,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let token: TokenId = id.parse().map_err(|_| ApiError::unknown_id(&id))?;
    let revoked = shared.store.revoke_token(token, reach(&actor), &actor.name).await?;
    if revoked { Ok(StatusCode::NO_CONTENT) } else { Err(ApiError::unknown_id(&id)) }
}

/// A page of the audit.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Audit {
    items: Vec<AuditItem>,
    /// What to ask the next page with; absent on the last one.
    next: Option<String>,
}

/// Which page of the audit.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AuditPage {
    /// The `next` of the page before; absent for the first page.
    after: Option<i64>,
    /// Items on a page, 1 to 500.
    #[serde(default = "hundred")]
    limit: u16,
}

const fn hundred() -> u16 {
    100
}

/// Changes made by users, newest first.
#[utoipa::path(get, path = "/audit", operation_id = "getAudit", params(AuditPage), responses(
    (status = 200, body = Audit),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn audit(
    State(shared): State<Arc<Shared>>,
    ValidQuery(page): ValidQuery<AuditPage>,
) -> Result<Json<Audit>, ApiError> {
    let limit = super::checked_limit(page.limit)?;
    let records = shared.store.audit_entries(page.after, i64::from(limit)).await?;
    let full = records.len() == usize::from(limit);
    let next = records.last().filter(|_| full).map(|last| last.no.to_string());
    Ok(Json(Audit { items: records.into_iter().map(AuditItem::from).collect(), next }))
}
