//! Alarms as recorded.

use crate::entity::alarm;
use crate::{Store, StoreError};
use itinera_model::alarm::Alarm;
use itinera_model::id::{AlarmId, IncidentId};
use sea_orm::entity::prelude::*;
use sea_orm::{ExprTrait, QueryOrder, QuerySelect};
use time::OffsetDateTime;

/// An alarm as recorded.
#[derive(Debug, Clone, PartialEq)]
pub struct AlarmRecord {
    /// Its id.
    pub id: AlarmId,
    /// Its short number.
    pub no: i64,
    /// The alarm.
    pub alarm: Alarm,
    /// When it cleared; absent while open.
    pub cleared_at: Option<OffsetDateTime>,
    /// The incident that it belongs to; absent for alarms from before there were any.
    pub incident: Option<IncidentId>,
}

impl Store {
    /// One alarm; absent when nothing has this id.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarm(&self, id: AlarmId) -> Result<Option<AlarmRecord>, StoreError> {
        let row = alarm::Entity::find_by_id(id.as_uuid()).one(&self.db).await?;
        row.map(alarm_record).transpose()
    }

    /// Alarms, newest first, at most `limit`, those before `before` in that order.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn alarms(
        &self,
        open_only: bool,
        before: Option<(OffsetDateTime, AlarmId)>,
        limit: u64,
    ) -> Result<Vec<AlarmRecord>, StoreError> {
        let mut query = alarm::Entity::find()
            .order_by_desc(alarm::Column::RaisedAt)
            .order_by_desc(alarm::Column::Id)
            .limit(limit);
        if open_only {
            query = query.filter(alarm::Column::ClearedAt.is_null());
        }
        if let Some((at, id)) = before {
            let same_time = alarm::Column::RaisedAt.eq(at);
            let earlier = alarm::Column::RaisedAt.lt(at);
            query = query.filter(earlier.or(same_time.and(alarm::Column::Id.lt(id.as_uuid()))));
        }
        let rows = query.all(&self.db).await?;
        rows.into_iter().map(alarm_record).collect()
    }
}

pub(crate) fn alarm_record(row: alarm::Model) -> Result<AlarmRecord, StoreError> {
    let alarm = serde_json::from_value(row.body);
    Ok(AlarmRecord {
        id: AlarmId::from_uuid(row.id),
        no: row.no,
        alarm: alarm.map_err(|_| StoreError::corrupt("alarm"))?,
        cleared_at: row.cleared_at,
        incident: row.incident_id.map(IncidentId::from_uuid),
    })
}
