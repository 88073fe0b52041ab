//! Ids and short numbers in paths of the API: both name the same thing.

use crate::problem::ApiError;
use itinera_store::{Numbered, Store};
use uuid::Uuid;

/// The id that a text names: an id as it is, or a short number.
///
/// # Errors
/// "unknown id" for a text that is neither, and for a number that nothing has.
pub(super) async fn resolve(store: &Store, what: Numbered, text: &str) -> Result<Uuid, ApiError> {
    let unknown = || ApiError::unknown_id(text);
    match text.parse::<i64>() {
        Ok(number) => store.id_of_number(what, number).await?.ok_or_else(unknown),
        Err(_) => text.parse().map_err(|_| unknown()),
    }
}
