//! Codes by which agents join.

use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::http::StatusCode;
use itinera_model::join::JoinCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::ToSchema;

const LONGEST_S: u32 = 7 * 24 * 3_600;

/// What code is wanted.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct JoinCodeRequest {
    /// Name of a configured site.
    site: String,
    /// How long it opens, in seconds, 1 to 604,800.
    #[serde(default = "one_hour")]
    lifetime_s: u32,
}

const fn one_hour() -> u32 {
    3_600
}

/// A code, shown this once.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct JoinCodeView {
    code: String,
    site: String,
    #[serde(with = "time::serde::rfc3339")]
    expires_at: OffsetDateTime,
}

/// Makes a one-time join code for a site.
#[utoipa::path(post, path = "/join-codes", operation_id = "makeJoinCode",
    request_body = JoinCodeRequest, responses(
    (status = 201, body = JoinCodeView),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn make_join_code(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    body: Result<Json<JoinCodeRequest>, JsonRejection>,
) -> Result<(StatusCode, Json<JoinCodeView>), ApiError> {
    let Json(wanted) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    if !(1..=LONGEST_S).contains(&wanted.lifetime_s) {
        let text = format!("lifetime_s: {} is outside 1 to {LONGEST_S}", wanted.lifetime_s);
        return Err(ApiError::BadInput(text));
    }
    let sites = shared.store.sites().await?;
    let site = sites.iter().find(|site| site.name == wanted.site).ok_or_else(|| {
        let names: Vec<&str> = sites.iter().map(|site| site.name.as_str()).collect();
        let known = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
        ApiError::BadInput(format!("site: no site of this name is configured; known: {known}"))
    })?;
    let mut secret = [0; 16];
    let random = rustls::crypto::ring::default_provider().secure_random;
    random.fill(&mut secret).map_err(|_| ApiError::Internal("no randomness".into()))?;
    let code = shared.authority.join_code(secret);
    let now = OffsetDateTime::now_utc();
    let expires_at = now + Duration::seconds(wanted.lifetime_s.into());
    let digest = JoinCode::digest_of(&code.secret_text());
    shared.store.add_join_code(digest, site, now, expires_at, &by.name).await?;
    let view = JoinCodeView { code: code.to_string(), site: site.name.clone(), expires_at };
    Ok((StatusCode::CREATED, Json(view)))
}
