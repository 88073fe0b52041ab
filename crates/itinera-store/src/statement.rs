//! SQL with its values, for what is written in bulk or read across tables.

use sea_orm::{DbBackend, Statement, Value};

pub(crate) fn sql(text: &str, values: impl IntoIterator<Item = Value>) -> Statement {
    Statement::from_sql_and_values(DbBackend::Postgres, text, values)
}
