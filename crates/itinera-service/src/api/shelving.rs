//! Alarms that the service shelves by itself: planned work explains them, or they were raised in quiet hours.

use super::planned_work::apply_planned_work;
use super::quiet_hours::apply_quiet_hours;
use crate::context::Shared;
use crate::problem::ApiError;
use std::sync::Arc;

/// Shelves open alarms that planned work explains, and those of quiet hours.
pub(crate) async fn shelve_alarms(shared: Arc<Shared>) -> Result<(), ApiError> {
    apply_planned_work(&shared).await?;
    apply_quiet_hours(&shared).await
}
