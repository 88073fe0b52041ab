//! `itinera pairs`: two-way measurement between agents.

use super::http::Client;
use super::show::{ABSENT, ms, text_of};
use crate::args::{AtArgs, NumberOrId};
use crate::exit::Failure;
use crate::output::{Output, plain};
use serde_json::Value;

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    number: Option<NumberOrId>,
    voice_s: Option<u32>,
    at: AtArgs,
) -> Result<(), Failure> {
    let Some(number) = number else {
        let listed = client.get(&format!("/pairs{}", at.query()?)).await?;
        let items = &listed["items"];
        return output.either(items, |output| list(output, items, at.is_given()));
    };
    let pair = match voice_s {
        Some(for_s) => {
            let wanted = serde_json::json!({ "for_s": for_s });
            client.post(&format!("/pairs/{number}/voice"), &wanted).await?
        }
        None => client.get(&format!("/pairs/{number}{}", at.query()?)).await?,
    };
    output.either(&pair, |output| show(output, &pair))
}

fn between(pair: &Value) -> String {
    format!("{} and {}", text_of(&pair["near"]), text_of(&pair["far"]))
}

fn micros(value: &Value) -> Option<u32> {
    value.as_u64().and_then(|us| u32::try_from(us).ok())
}

/// Lost, of how many.
fn lost(direction: &Value) -> String {
    let known =
        direction["arrived"].as_u64().unwrap_or(0) + direction["lost"].as_u64().unwrap_or(0);
    direction["loss_ratio"]
        .as_f64()
        .map_or_else(|| ABSENT.to_owned(), |ratio| format!("{:.1} % of {known}", ratio * 100.0))
}

/// The bounds of the smallest delay.
fn delay(direction: &Value) -> String {
    match (micros(&direction["delay_least_us"]), micros(&direction["delay_most_us"])) {
        (Some(least), Some(most)) => format!("{} to {}", ms(least), ms(most)),
        _ => ABSENT.to_owned(),
    }
}

fn shown(value: &Value) -> String {
    micros(value).map_or_else(|| ABSENT.to_owned(), ms)
}

fn list(output: &Output, items: &Value, of_the_past: bool) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() && of_the_past {
        return output.line("No agents measured each other in the ten minutes before that time.");
    }
    if items.is_empty() {
        return output.line(
            "No agents measure each other: that needs two agents at different sites, and \
             `two_way_partners` above 0 in the schedule.",
        );
    }
    let row = |pair: &Value| {
        let (forward, return_) = (&pair["forward"], &pair["return"]);
        vec![
            pair["no"].to_string(),
            plain(&between(pair)),
            text_of(&pair["family"]),
            lost(forward),
            lost(return_),
            shown(&forward["variation_us"]),
            shown(&return_["variation_us"]),
            shown(&pair["round_trip_us"]),
        ]
    };
    let columns = [
        "no",
        "between",
        "family",
        "loss forward",
        "loss return",
        "PDV forward",
        "PDV return",
        "round trip",
    ];
    output.table(&columns, items.iter().map(row).collect())?;
    output.line("")?;
    output.sentence(
        "Last ten minutes. Forward is from the first site to the second. PDV is delay variation: \
         the 95th percentile above the minimum (RFC 5481). `itinera pairs NUMBER` shows one pair.",
        "",
    )
}

fn show(output: &Output, pair: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "{}. {}, {}: {} to {}",
        pair["no"],
        between(pair),
        text_of(&pair["family"]),
        text_of(&pair["near_address"]),
        text_of(&pair["far_address"])
    )))?;
    output.notes(&pair["notes"], "  ")?;
    output.notes(&pair["voice"]["notes"], "  ")?;
    if !pair["voice_until"].is_null() {
        let until = super::show::utc_of(&pair["voice_until"]);
        output.line(&format!("  Voice-like stream until {until}; ratings follow."))?;
    }
    output.line("")?;
    let row = |name: &str, direction: &Value| {
        let number =
            |value: &Value| value.as_u64().map_or_else(|| ABSENT.to_owned(), |n| n.to_string());
        vec![
            name.to_owned(),
            lost(direction),
            delay(direction),
            shown(&direction["variation_us"]),
            number(&direction["reordered"]),
            number(&direction["duplicated"]),
            number(&direction["dscp"]),
            number(&direction["hops"]),
        ]
    };
    let columns =
        ["direction", "loss", "minimum delay", "PDV", "reordered", "duplicated", "DSCP", "hops"];
    let rows = vec![row("forward", &pair["forward"]), row("return", &pair["return"])];
    output.table(&columns, rows)?;
    routes(output, pair)?;
    output.line("")?;
    if let (Some(offset), Some(error)) =
        (pair["clock_offset_us"].as_i64(), micros(&pair["clock_offset_error_us"]))
    {
        let ahead = if offset < 0 { "behind" } else { "ahead" };
        let by = u32::try_from(offset.unsigned_abs()).unwrap_or(u32::MAX);
        let drift = match (pair["clock_drift_ppb"].as_i64(), micros(&pair["clock_drift_error_ppb"]))
        {
            (Some(drift), Some(within)) => {
                format!(", drifting by {} ppm ± {}", drift as f64 / 1e3, f64::from(within) / 1e3)
            }
            _ => String::new(),
        };
        let far = text_of(&pair["far"]);
        output.sentence(
            &format!("The clock at {far} is {} {ahead} (± {}){drift}.", ms(by), ms(error)),
            "",
        )?;
    }
    Ok(())
}

/// The route of each direction, hop by hop.
fn routes(output: &Output, pair: &Value) -> Result<(), Failure> {
    for (direction, from, to) in [("forward", "near", "far"), ("return", "far", "near")] {
        let route = &pair[format!("{direction}_route")];
        let Some(hops) = route["hops"].as_array() else { continue };
        let (from, to) = (text_of(&pair[from]), text_of(&pair[to]));
        let at = super::show::utc_of(&route["at"]);
        output.line("")?;
        output.line(&plain(&format!("Route from {from} to {to}, measured {at}:")))?;
        let row = |hop: &Value| {
            let owner = match hop["owner"]["name"].as_str() {
                Some(name) => plain(name),
                None if hop["private"] == true => "private".to_owned(),
                None => ABSENT.to_owned(),
            };
            let address = hop["address"].as_str().map_or_else(|| "no answer".to_owned(), plain);
            vec![hop["hop"].to_string(), address, owner]
        };
        output.table(&["hop", "address", "owner"], hops.iter().map(row).collect())?;
    }
    if pair["forward_route"].is_null() && pair["return_route"].is_null() {
        output.line("")?;
        output.line("No route between the agents was reported in the two hours before.")?;
    }
    Ok(())
}
