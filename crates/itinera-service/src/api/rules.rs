//! Rules of alarms: read, tried on the past, and saved in versions.

use super::ValidQuery;
use super::view::rules::{RuleVersionItem, RulesView, TrialResult};
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use crate::trial::try_rules;
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use itinera_model::rule::{self, Rule};
use itinera_store::RuleVersion;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::sync::Arc;
use time::{Duration, OffsetDateTime};
use utoipa::{IntoParams, ToSchema};

/// Versions that are listed.
const LISTED: i64 = 100;
/// Days of a trial, at most: findings are kept as long.
const MOST_DAYS: u16 = 90;

/// Which version of the rules.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct WhichVersion {
    /// Its number; the newest where it is absent.
    version: Option<i64>,
}

/// An answer with the version as entity tag (RFC 9110, section 8.8.3).
fn tagged(rules: RuleVersion, configured: itinera_analysis::Limits) -> Response {
    let tag = format!("\"{}\"", rules.version);
    ([(header::ETAG, tag)], Json(RulesView::new(rules, configured))).into_response()
}

/// The rules of alarms in order, of the newest version or another. The entity tag is the version.
#[utoipa::path(get, path = "/rules", operation_id = "getRules", params(WhichVersion), responses(
    (status = 200, body = RulesView),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn rules(
    State(shared): State<Arc<Shared>>,
    ValidQuery(which): ValidQuery<WhichVersion>,
) -> Result<Response, ApiError> {
    let found = shared.store.rules(which.version).await?;
    let unknown = || ApiError::unknown_id(&which.version.unwrap_or_default().to_string());
    Ok(tagged(found.ok_or_else(unknown)?, shared.limits))
}

/// Versions of the rules, newest first.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RuleVersions {
    items: Vec<RuleVersionItem>,
}

/// The last 100 versions of the rules, newest first.
#[utoipa::path(get, path = "/rules/versions", operation_id = "getRuleVersions", responses(
    (status = 200, body = RuleVersions),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn versions(
    State(shared): State<Arc<Shared>>,
) -> Result<Json<RuleVersions>, ApiError> {
    let versions = shared.store.rule_versions(LISTED).await?.into_iter();
    Ok(Json(RuleVersions { items: versions.map(RuleVersionItem::from).collect() }))
}

/// Refuses rules that cannot be used, or that name what is not there.
async fn checked(shared: &Shared, rules: Vec<Rule>) -> Result<Vec<Rule>, ApiError> {
    rule::check(&rules).map_err(ApiError::BadInput)?;
    let store = &shared.store;
    let sites: BTreeSet<String> = store.sites().await?.into_iter().map(|it| it.name).collect();
    let targets = store.targets().await?.into_iter().map(|it| it.spec);
    let services: BTreeSet<String> =
        targets.map(|it| if it.service.is_empty() { it.name } else { it.service }).collect();
    let tags: BTreeSet<String> = store.tags().await?.into_iter().map(|it| it.tag).collect();
    for (index, rule) in rules.iter().enumerate() {
        for (field, wanted, known, what) in [
            ("sites", &rule.sites, &sites, "configured site"),
            ("services", &rule.services, &services, "service of a target"),
            ("tags", &rule.tags, &tags, "tag of a site or service"),
        ] {
            if let Some(name) = wanted.iter().find(|name| !known.contains(*name)) {
                let (number, of) = (index + 1, rule.name.trim());
                let reason = format!("rule {number} {of:?}: {field}: {name:?} is no {what}");
                return Err(ApiError::BadInput(reason));
            }
        }
    }
    let trimmed = |rule: Rule| Rule { name: rule.name.trim().to_owned(), ..rule };
    Ok(rules.into_iter().map(trimmed).collect())
}

/// Rules to save.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RulesRequest {
    /// All rules, in order.
    rules: Vec<Rule>,
    /// What is changed, and why.
    #[serde(default)]
    text: String,
}

/// The version that a change is based on, by the precondition of a request; nothing for any version.
fn precondition(headers: &HeaderMap) -> Result<Option<i64>, ApiError> {
    let given = headers.get(header::IF_MATCH).ok_or(ApiError::NoPrecondition)?;
    let text = given.to_str().unwrap_or_default().trim();
    if text == "*" {
        return Ok(None);
    }
    let version = text.trim_matches('"').parse();
    version.map(Some).map_err(|_| ApiError::BadInput(format!("If-Match: {text:?} is no version")))
}

/// Saves all rules as the next version. `If-Match` has the version that was changed, such as `"7"`: where
/// another user has saved one since, nothing is saved. They apply within a minute.
#[utoipa::path(put, path = "/rules", operation_id = "saveRules", request_body = RulesRequest,
    params(("If-Match" = String, Header, description = "Entity tag of the version that was changed; `*` for any")),
    responses(
    (status = 200, body = RulesView),
    (status = 412, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 428, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn save(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    headers: HeaderMap,
    body: Result<Json<RulesRequest>, JsonRejection>,
) -> Result<Response, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    let based_on = precondition(&headers)?;
    let text = super::checked_text("text", &asked.text, 0)?;
    let rules = checked(&shared, asked.rules).await?;
    let saving = (by.name.as_str(), text.as_str(), OffsetDateTime::now_utc());
    let version = shared.store.save_rules(&rules, based_on, saving).await?;
    shared.rules_version.send_replace(version);
    let saved = shared.store.rules(Some(version)).await?;
    let saved = saved.ok_or_else(|| ApiError::unknown_id(&version.to_string()))?;
    Ok(tagged(saved, shared.limits))
}

/// Rules to try.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TrialRequest {
    /// All rules, in order.
    rules: Vec<Rule>,
    /// Days up to now, 1 to 90.
    #[serde(default = "a_week")]
    days: u16,
}

const fn a_week() -> u16 {
    7
}

/// Tries rules on the findings of the last days, beside the rules in force: which alarms of paths they would
/// have raised. Nothing is saved.
#[utoipa::path(post, path = "/rules/trial", operation_id = "tryRules", request_body = TrialRequest,
    responses(
    (status = 200, body = TrialResult),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn trial(
    State(shared): State<Arc<Shared>>,
    body: Result<Json<TrialRequest>, JsonRejection>,
) -> Result<Json<TrialResult>, ApiError> {
    let Json(asked) = body.map_err(|rejection| ApiError::BadInput(rejection.body_text()))?;
    if !(1..=MOST_DAYS).contains(&asked.days) {
        return Err(ApiError::BadInput(format!(
            "days: {} is outside 1 to {MOST_DAYS}",
            asked.days
        )));
    }
    let rules = checked(&shared, asked.rules).await?;
    let in_force = shared.store.rules_in_force().await?;
    let to = shared.clock.now();
    let range = (to - Duration::days(asked.days.into()), to);
    let tried = try_rules(&shared, rules, in_force, range).await?;
    Ok(Json(TrialResult::new(&tried, asked.days, range)))
}
