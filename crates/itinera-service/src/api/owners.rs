//! Imports of owner maps as CSV (RFC 4180).

use super::ValidQuery;
use crate::context::Shared;
use crate::owner_csv::{self, OwnerCsv, RefusedLine};
use crate::problem::{ApiError, Problem};
use crate::sign_in::Actor;
use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::StatusCode;
use itinera_store::NewImport;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Lines that were not taken are named up to this many.
const NAMED: usize = 50;

/// Where an owner map comes from, and since when it is true.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct About {
    /// Name of the source.
    #[serde(default = "unnamed")]
    source: String,
    /// When it became true (RFC 3339); now where absent.
    #[serde(default, with = "time::serde::rfc3339::option")]
    valid_from: Option<OffsetDateTime>,
}

fn unnamed() -> String {
    "unnamed".to_owned()
}

/// The outcome of an import.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ImportView {
    id: Uuid,
    /// Lines taken.
    accepted: usize,
    /// Lines not taken.
    refused: usize,
    /// The first fifty of them.
    refused_lines: Vec<RefusedLine>,
    #[serde(with = "time::serde::rfc3339")]
    valid_from: OffsetDateTime,
}

/// Imports an owner map; earlier ones stay for earlier times.
#[utoipa::path(post, path = "/owner-maps", operation_id = "importOwners", params(About),
    request_body(content = String, content_type = "text/csv"), responses(
    (status = 201, body = ImportView),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn import_owners(
    State(shared): State<Arc<Shared>>,
    by: Actor,
    ValidQuery(about): ValidQuery<About>,
    body: Bytes,
) -> Result<(StatusCode, Json<ImportView>), ApiError> {
    let OwnerCsv { entries, refused } = owner_csv::read(&body).map_err(ApiError::BadInput)?;
    if entries.is_empty() {
        let first = refused.first();
        let why = first.map_or_else(
            || "it has no lines".to_owned(),
            |first| {
                format!("no line can be read, the first: line {}: {}", first.line, first.reason)
            },
        );
        return Err(ApiError::BadInput(format!("nothing imported: {why}")));
    }
    let accepted = entries.len();
    let new = NewImport {
        source: about.source.chars().filter(|c| !c.is_control()).take(200).collect(),
        sha256: Sha256::digest(&body).into(),
        valid_from: about.valid_from.unwrap_or_else(OffsetDateTime::now_utc),
        entries,
    };
    let import = shared.store.import_owners(new, &by.name).await?;
    let view = ImportView {
        id: import.id,
        accepted,
        refused: refused.len(),
        refused_lines: refused.into_iter().take(NAMED).collect(),
        valid_from: import.valid_from,
    };
    Ok((StatusCode::CREATED, Json(view)))
}
