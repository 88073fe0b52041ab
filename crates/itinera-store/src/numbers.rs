//! Short numbers that people type instead of ids.

use crate::{Store, StoreError, rows};
use itinera_model::id::AgentId;
use sea_orm::entity::prelude::*;
use sea_orm::{ConnectionTrait, FromQueryResult};
use std::collections::BTreeMap;

/// What has a short number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Numbered {
    /// An alarm of paths; its series is that of events.
    Alarm,
    /// A check.
    Check,
    /// A diagnosis.
    Diagnosis,
    /// An event.
    Event,
    /// An incident.
    Incident,
    /// A pair of two-way measurement.
    Pair,
    /// A suppression.
    Suppression,
    /// A watch.
    Watch,
}

impl Numbered {
    const fn table(self) -> &'static str {
        match self {
            Self::Alarm | Self::Event => "alarm",
            Self::Check => "check_task",
            Self::Diagnosis => "diagnosis",
            Self::Incident => "incident",
            Self::Pair => "pair",
            Self::Suppression => "suppression",
            Self::Watch => "watch",
        }
    }
}

impl Store {
    /// The id of what has a short number; absent where nothing has it.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn id_of_number(
        &self,
        what: Numbered,
        number: i64,
    ) -> Result<Option<Uuid>, StoreError> {
        let select = format!("SELECT id FROM {} WHERE no = $1", what.table());
        rows::value(&self.db, &select, [number.into()]).await
    }
}

#[derive(FromQueryResult)]
struct NumberRow {
    id: Uuid,
    no: i32,
}

/// The internal numbers of what belongs to an agent, by id. `select` has columns `id` and `no`, and
/// the agent as its only value.
pub(crate) async fn numbers_by_id(
    db: &impl ConnectionTrait,
    select: &str,
    agent: AgentId,
) -> Result<BTreeMap<Uuid, i32>, StoreError> {
    let rows: Vec<NumberRow> = rows::all(db, select, [agent.as_uuid().into()]).await?;
    Ok(rows.into_iter().map(|row| (row.id, row.no)).collect())
}
