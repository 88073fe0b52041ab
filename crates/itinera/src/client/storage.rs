//! `itinera storage`: room on the disk.

use super::Client;
use crate::exit::Failure;
use crate::output::{Output, plain};
use indicatif::DecimalBytes;
use serde_json::Value;

/// Tables shown; the rest is small.
const SHOWN: usize = 8;
/// Ten years: longer says nothing.
const LONG_DAYS: f64 = 3_650.0;

pub(crate) async fn run(client: &Client, output: &Output) -> Result<(), Failure> {
    let value = client.get("/storage").await?;
    output.either(&value, |output| show(output, &value))
}

fn size(value: &Value) -> Option<String> {
    value.as_u64().map(|bytes| DecimalBytes(bytes).to_string())
}

fn growth(value: &Value) -> String {
    match value.as_i64() {
        None => "growth is known after six hours".to_owned(),
        Some(bytes) if bytes < 0 => "does not grow".to_owned(),
        Some(bytes) => format!("grows by {} a day", DecimalBytes(bytes.unsigned_abs())),
    }
}

fn full(value: &Value) -> String {
    match value.as_f64() {
        None => String::new(),
        Some(days) if days > LONG_DAYS => ", full in more than ten years".to_owned(),
        Some(days) => format!(", full in {days:.0} days"),
    }
}

fn show(output: &Output, storage: &Value) -> Result<(), Failure> {
    let bytes = size(&storage["bytes"]).unwrap_or_default();
    output.line(&format!("database   {bytes}, {}", growth(&storage["growth_bytes_per_day"])))?;
    match size(&storage["free_bytes"]) {
        Some(free) => {
            let full = full(&storage["full_in_days"]);
            output.line(&format!("disk       {free} free{full}"))?;
        }
        None => output.line("disk       not known: [disk] database_mb says how large a database elsewhere may become")?,
    }
    if let Some(note) = storage["note"]["text"].as_str() {
        output.line(&format!("           {}", plain(note)))?;
    }
    let days = |field: &str| storage[field].as_u64().unwrap_or(0);
    output.line(&format!(
        "kept       rounds {} days, findings and evidence {} days, rollups {} days, incidents and audit for ever",
        days("rounds_days"),
        days("findings_days"),
        days("rollups_days")
    ))?;
    output.line("")?;
    let tables = storage["tables"].as_array().map(Vec::as_slice).unwrap_or_default();
    let rows = tables.iter().take(SHOWN).map(|table| {
        let name = plain(table["name"].as_str().unwrap_or_default()).to_string();
        vec![name, size(&table["bytes"]).unwrap_or_default()]
    });
    output.table(&["table", "size"], rows.collect())
}
