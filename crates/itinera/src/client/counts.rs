//! `itinera counts`: probes, answers and delays of a path by hop.

use super::show::{ABSENT, ms_of, text_of, utc_of};
use super::{Client, full_id};
use crate::exit::{Code, Failure};
use crate::output::Output;
use serde_json::Value;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Which counts.
pub(crate) struct Asked {
    /// Begin and end; an hour up to now where absent.
    pub(crate) from: Option<OffsetDateTime>,
    pub(crate) to: Option<OffsetDateTime>,
    /// Minutes of each step; the whole range is one where absent.
    pub(crate) step: Option<u32>,
}

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    id: &str,
    asked: Asked,
) -> Result<(), Failure> {
    let id = full_id(client, id).await?;
    let mut query = Vec::new();
    for (name, at) in [("from", asked.from), ("to", asked.to)] {
        let Some(at) = at else { continue };
        let at = at.to_offset(time::UtcOffset::UTC).format(&Rfc3339);
        query.push(format!("{name}={}", at.map_err(|error| Failure::new(Code::Failed, error))?));
    }
    query.extend(asked.step.map(|minutes| format!("step_s={}", u64::from(minutes) * 60)));
    let value = client.get(&format!("/paths/{id}/counts?{}", query.join("&"))).await?;
    output.either(&value, |output| show(output, &value))
}

fn list(value: &Value) -> &[Value] {
    value.as_array().map(Vec::as_slice).unwrap_or_default()
}

/// What is counted of a hop beside loss, where there is anything.
fn other(hop: &Value) -> String {
    let count = |name: &str, word: &str| {
        let count = hop[name].as_u64().filter(|count| *count > 0)?;
        Some(format!("{count} {word}"))
    };
    let refused: u64 = list(&hop["unreachable"]).iter().filter_map(|it| it["count"].as_u64()).sum();
    let refused = (refused > 0).then(|| format!("{refused} unreachable"));
    let all = [count("late", "late"), count("left_out", "left out"), refused];
    all.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

fn row(hop: &Value) -> Vec<String> {
    let owner = match hop["owner"]["name"].as_str() {
        None if hop["private"].as_bool() == Some(true) => "private".to_owned(),
        name => name.unwrap_or(ABSENT).to_owned(),
    };
    let loss = hop["loss_ratio"].as_f64();
    vec![
        hop["hop"].to_string(),
        text_of(&hop["address"]),
        owner,
        format!("{} of {}", hop["lost"], hop["sent"]),
        loss.map_or_else(|| ABSENT.to_owned(), |loss| format!("{:.1} %", loss * 100.0)),
        ms_of(&hop["delay_p5_us"]),
        ms_of(&hop["delay_p50_us"]),
        ms_of(&hop["delay_p95_us"]),
        other(hop),
    ]
}

fn show(output: &Output, counts: &Value) -> Result<(), Failure> {
    let steps = list(&counts["steps"]);
    if steps.is_empty() {
        return output.line(
            "No measurements in this range. The newest minute appears about half a minute after its end.",
        );
    }
    output.line("Unanswered probes and round-trip delays in ms, by hop.")?;
    for step in steps {
        for route in list(&step["routes"]) {
            output.line("")?;
            output.line(&format!(
                "From {}: {} rounds in {} minutes, {} flows, route {}",
                utc_of(&step["at"]),
                route["rounds"],
                step["minutes"],
                route["flows"],
                route["route"].as_str().unwrap_or(ABSENT).get(..8).unwrap_or(ABSENT),
            ))?;
            let heads =
                ["hop", "address", "owner", "unanswered", "share", "5 %", "median", "95 %", "also"];
            output.table(&heads, list(&route["hops"]).iter().map(row).collect())?;
        }
    }
    Ok(())
}
