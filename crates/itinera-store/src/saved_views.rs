//! Views of alarms that users saved, each for that user.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use itinera_model::id::UserId;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;

/// Views of one user at most.
pub const MAX_VIEWS: u64 = 50;

/// A saved view.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct SavedView {
    /// Its name.
    pub name: String,
    /// What it shows: the parameters of the page's address.
    pub query: String,
}

impl Store {
    /// The views of a user, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn saved_views(&self, user: UserId) -> Result<Vec<SavedView>, StoreError> {
        let select = "SELECT name, query FROM saved_view WHERE user_id = $1 ORDER BY name";
        rows::all(&self.db, select, [user.as_uuid().into()]).await
    }

    /// Saves a view under its name, in place of an earlier one; false where the user has too many.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn save_view(&self, user: UserId, view: &SavedView) -> Result<bool, StoreError> {
        let upsert = "INSERT INTO saved_view (user_id, name, query) SELECT $1, $2, $3 \
             WHERE (SELECT count(*) FROM saved_view WHERE user_id = $1 AND name <> $2) < $4 \
             ON CONFLICT (user_id, name) DO UPDATE SET query = excluded.query";
        let values: [Value; 4] = [
            user.as_uuid().into(),
            view.name.clone().into(),
            view.query.clone().into(),
            i64::try_from(MAX_VIEWS).unwrap_or(i64::MAX).into(),
        ];
        Ok(self.db.execute_raw(sql(upsert, values)).await?.rows_affected() == 1)
    }

    /// Removes a view; false where none of the user has the name.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn remove_view(&self, user: UserId, name: &str) -> Result<bool, StoreError> {
        let delete = "DELETE FROM saved_view WHERE user_id = $1 AND name = $2";
        let values: [Value; 2] = [user.as_uuid().into(), name.into()];
        Ok(self.db.execute_raw(sql(delete, values)).await?.rows_affected() == 1)
    }
}
