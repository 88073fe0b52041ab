//! SQL with its values, for what is written in bulk or read across tables.
//!
//! Every text and every JSON document that goes to the database passes [`recordable`]: PostgreSQL
//! refuses NUL in both, and one refused text would undo the whole transaction.

use itinera_model::text;
use sea_orm::{DbBackend, JsonValue, Statement, Value};
use std::borrow::Cow;

pub(crate) fn sql(text: &str, values: impl IntoIterator<Item = Value>) -> Statement {
    let values = values.into_iter().map(recordable);
    Statement::from_sql_and_values(DbBackend::Postgres, text, values)
}

/// The same value, with NUL in text and JSON escaped.
fn recordable(value: Value) -> Value {
    match value {
        Value::String(Some(text)) => Value::String(Some(recordable_text(text))),
        Value::Json(Some(json)) => Value::Json(Some(Box::new(recordable_json(*json)))),
        Value::Array(kind, Some(items)) => {
            let items = items.into_iter().map(recordable).collect();
            Value::Array(kind, Some(Box::new(items)))
        }
        other => other,
    }
}

fn recordable_text(text: String) -> String {
    match text::recordable(&text) {
        Cow::Borrowed(_) => text,
        Cow::Owned(escaped) => escaped,
    }
}

/// A JSON document with NUL in its texts and names escaped.
pub(crate) fn recordable_json(json: JsonValue) -> JsonValue {
    match json {
        JsonValue::String(text) => JsonValue::String(recordable_text(text)),
        JsonValue::Array(items) => items.into_iter().map(recordable_json).collect(),
        JsonValue::Object(fields) => fields
            .into_iter()
            .map(|(name, value)| (recordable_text(name), recordable_json(value)))
            .collect(),
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn no_value_takes_nul_to_the_database() {
        let arrays = vec!["a\0b".to_owned(), "c".to_owned()];
        let values = [
            Value::from("a\0b"),
            Value::from(json!({ "a\0": ["b\0", { "c": "\0" }, 1] })),
            Value::from(arrays),
        ];
        let taken: Vec<Value> = values.into_iter().map(recordable).collect();
        assert_eq!(taken[0], Value::from("a\\x00b"));
        let json = json!({ "a\\x00": ["b\\x00", { "c": "\\x00" }, 1] });
        assert_eq!(taken[1], Value::from(json));
        assert_eq!(taken[2], Value::from(vec!["a\\x00b".to_owned(), "c".to_owned()]));
    }
}
