//! Short numbers that people type instead of ids.

use crate::statement::sql;
use crate::{Store, StoreError};
use sea_orm::entity::prelude::*;

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
            Self::Alarm => "alarm",
            Self::Check => "check_task",
            Self::Diagnosis => "diagnosis",
            Self::Event => "event",
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
        let row = self.db.query_one_raw(sql(&select, [number.into()])).await?;
        Ok(row.map(|row| row.try_get("", "id")).transpose()?)
    }
}
