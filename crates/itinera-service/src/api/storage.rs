//! Room on the disk.

use super::view::message::NoteView;
use crate::context::Shared;
use crate::problem::{ApiError, Problem};
use axum::Json;
use axum::extract::State;
use itinera_model::owner::OwnerMap;
use serde::Serialize;
use std::sync::Arc;
use utoipa::ToSchema;

/// Room on the disk, and how long measurements are kept.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Storage {
    /// Bytes of the database.
    bytes: i64,
    /// Bytes a day by which it has grown in the last week; absent in the first six hours.
    growth_bytes_per_day: Option<i64>,
    /// Bytes by which it may grow: on the disk of the private cluster, and to `[disk] database_mb`; absent for
    /// a database elsewhere without that setting.
    free_bytes: Option<u64>,
    /// Days until the disk is full at this growth; absent where it is unknown or nothing grows.
    full_in_days: Option<f64>,
    /// Days for which rounds, host facts and results of checks are kept.
    rounds_days: u16,
    /// Days for which findings of paths, rollups of five minutes, and events without an incident are kept.
    findings_days: u16,
    /// Days for which rollups of hours and days are kept.
    rollups_days: u16,
    /// What waits because there is little room; absent where there is enough.
    note: Option<NoteView>,
    /// Tables with their indexes, the largest first.
    tables: Vec<StoredTable>,
}

/// A table of the database.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct StoredTable {
    name: String,
    bytes: i64,
}

/// Room on the disk, and how long measurements are kept.
#[utoipa::path(get, path = "/storage", operation_id = "getStorage", responses(
    (status = 200, body = Storage),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn storage(State(shared): State<Arc<Shared>>) -> Result<Json<Storage>, ApiError> {
    let state = shared.storage().await?;
    let full_in_days = state.full_in_days();
    let note = shared.watermarks.note(*shared.disk.borrow());
    let tables = state.size.tables.into_iter();
    Ok(Json(Storage {
        bytes: state.size.bytes,
        growth_bytes_per_day: state.size.growth_per_day,
        free_bytes: state.free_bytes,
        full_in_days,
        rounds_days: shared.retention.rounds_days,
        findings_days: shared.retention.findings_days,
        rollups_days: shared.retention.rollups_days,
        note: note.map(|note| NoteView::new(note, &OwnerMap::default())),
        tables: tables.map(|it| StoredTable { name: it.name, bytes: it.bytes }).collect(),
    }))
}
