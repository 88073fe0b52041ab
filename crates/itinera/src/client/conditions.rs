//! Conditions of routes and rules in words.

use super::show::{list, names_of, text_of};
use crate::exit::{Code, Failure};
use serde_json::{Value, json};

/// Sites, services, tags and owners that are selected, each where there is any.
pub(super) fn selected(of: &Value) -> Vec<String> {
    let mut parts = Vec::new();
    for (field, name) in [("sites", "site"), ("services", "service"), ("tags", "tag")] {
        let names = names_of(&of[field]);
        if !names.is_empty() {
            parts.push(format!("{name} {}", names.join(", ")));
        }
    }
    let owners: Vec<String> = list(&of["owners"]).iter().map(|it| format!("AS {it}")).collect();
    if !owners.is_empty() {
        parts.push(format!("owner {}", owners.join(", ")));
    }
    parts
}

/// Hours of the week, where there are any.
pub(super) fn hours(hours: &Value) -> Option<String> {
    let hours = hours.as_object()?;
    let days = match names_of(hours.get("days")?) {
        days if days.is_empty() => "every day".to_owned(),
        days => days.join(", "),
    };
    let text = |field: &str| hours.get(field).map(text_of).unwrap_or_default();
    let (from, to, zone) = (text("from"), text("to"), text("zone"));
    Some(match from == to {
        true => format!("{days}, all day, {zone}"),
        false => format!("{days} {from} to {to} {zone}"),
    })
}

/// Hours from `FROM-TO`, as a field of the API. `option` is named where they cannot be read.
pub(super) fn given_hours(
    option: &str,
    text: &str,
    (days, zone): (&[String], Option<&str>),
) -> Result<Value, Failure> {
    let bad =
        || Failure::say(Code::Refused, format!("{option}: FROM-TO is needed, as 08:00-17:00"));
    let (from, to) = text.split_once('-').ok_or_else(bad)?;
    Ok(json!({ "from": from, "to": to, "days": days, "zone": zone }))
}
