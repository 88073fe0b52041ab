//! JSON Schemas of what commands print.

use serde_json::{Map, Value, json};
use utoipa::ToSchema;

/// The JSON Schema (draft 2020-12) of a type.
pub(crate) fn of<T: ToSchema>(title: &str) -> Value {
    let mut parts = Vec::new();
    T::schemas(&mut parts);
    let parts: Map<String, Value> =
        parts.into_iter().map(|(name, part)| (name, json!(part))).collect();
    let mut whole = json!(T::schema());
    if let Some(fields) = whole.as_object_mut() {
        let dialect = "https://json-schema.org/draft/2020-12/schema";
        fields.insert("$schema".to_owned(), dialect.into());
        fields.insert("title".to_owned(), title.into());
        // Where the parts refer to each other.
        fields.insert("components".to_owned(), json!({ "schemas": parts }));
    }
    whole
}
