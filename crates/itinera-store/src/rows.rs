//! Rows of statements as typed values: a struct with a field for each column, or one column.

use crate::StoreError;
use crate::statement::sql;
use sea_orm::{ConnectionTrait, FromQueryResult, TryGetable, Value};

/// Every row.
pub(crate) async fn all<T: FromQueryResult>(
    db: &impl ConnectionTrait,
    text: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Vec<T>, StoreError> {
    let rows = db.query_all_raw(sql(text, values)).await?;
    Ok(rows.iter().map(|row| T::from_query_result(row, "")).collect::<Result<_, _>>()?)
}

/// The first row.
pub(crate) async fn first<T: FromQueryResult>(
    db: &impl ConnectionTrait,
    text: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Option<T>, StoreError> {
    let row = db.query_one_raw(sql(text, values)).await?;
    Ok(row.map(|row| T::from_query_result(&row, "")).transpose()?)
}

/// The only column of every row.
pub(crate) async fn column<T: TryGetable>(
    db: &impl ConnectionTrait,
    text: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Vec<T>, StoreError> {
    let rows = db.query_all_raw(sql(text, values)).await?;
    Ok(rows.iter().map(|row| row.try_get_by_index(0)).collect::<Result<_, _>>()?)
}

/// The only column of the first row.
pub(crate) async fn value<T: TryGetable>(
    db: &impl ConnectionTrait,
    text: &str,
    values: impl IntoIterator<Item = Value>,
) -> Result<Option<T>, StoreError> {
    let row = db.query_one_raw(sql(text, values)).await?;
    Ok(row.map(|row| row.try_get_by_index(0)).transpose()?)
}
