//! `itinera history`: loss and delay of a path over time.

use super::show::{ABSENT, ms_of, utc_of};
use super::{Client, full_id};
use crate::exit::{Code, Failure};
use crate::output::Output;
use serde_json::Value;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    id: &str,
    days: u16,
) -> Result<(), Failure> {
    let id = full_id(client, id).await?;
    let to = OffsetDateTime::now_utc();
    let text =
        |at: OffsetDateTime| at.format(&Rfc3339).map_err(|error| Failure::new(Code::Failed, error));
    let (from, to) = (text(to - Duration::days(days.into()))?, text(to)?);
    let value = client.get(&format!("/paths/{id}/history?from={from}&to={to}")).await?;
    output.either(&value, |output| show(output, &value))
}

fn show(output: &Output, history: &Value) -> Result<(), Failure> {
    let points = history["points"].as_array().map(Vec::as_slice).unwrap_or_default();
    if points.is_empty() {
        return output.line("No measurements are summed up in this range.");
    }
    let minutes = history["span_s"].as_u64().unwrap_or(0) / 60;
    output.line(&format!("Each line sums up {minutes} minutes. Delays are round-trip, in ms."))?;
    let rows = points.iter().map(|point| {
        let loss = point["loss_ratio"].as_f64();
        vec![
            utc_of(&point["at"]),
            point["rounds"].to_string(),
            format!("{} of {}", point["lost"], point["sent"]),
            loss.map_or_else(|| ABSENT.to_owned(), |loss| format!("{:.1} %", loss * 100.0)),
            ms_of(&point["delay_p5_us"]),
            ms_of(&point["delay_p50_us"]),
            ms_of(&point["delay_p95_us"]),
        ]
    });
    let heads = ["from", "rounds", "lost", "loss", "5 %", "median", "95 %"];
    output.table(&heads, rows.collect())
}
