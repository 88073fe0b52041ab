//! `itinera watches` and `itinera suppressions`.

use super::http::Client;
use super::incidents;
use super::show::{text_of, utc_of};
use crate::args::{SuppressionsCommand, WatchesCommand};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

pub(crate) async fn watches(
    client: &Client,
    output: &Output,
    command: WatchesCommand,
) -> Result<(), Failure> {
    let (number, change) = match command {
        WatchesCommand::List => {
            let items = client.all_pages("/watches?limit=500").await?;
            return output.either(&items, |output| list(output, &items));
        }
        WatchesCommand::Start { path, every, minutes, until, reason } => {
            let ends_at = match until {
                Some(until) => until,
                None => (OffsetDateTime::now_utc() + Duration::minutes(minutes.into()))
                    .format(&Rfc3339)
                    .map_err(|error| Failure::new(Code::Failed, error))?,
            };
            let path = super::full_id(client, &path).await?;
            #[allow(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "float to integer casts saturate, and the service checks the bounds"
            )]
            let interval_ms = (every * 1e3).round() as u32;
            let wanted = json!({ "path": path, "interval_ms": interval_ms, "ends_at": ends_at,
                "reason": reason });
            let watch = client.post("/watches", &wanted).await?;
            return output.either(&watch, |output| show(output, &watch));
        }
        WatchesCommand::Show { number } => {
            let watch = client.get(&format!("/watches/{number}")).await?;
            return output.either(&watch, |output| show(output, &watch));
        }
        WatchesCommand::Pause { number } => (number, json!({ "do": "pause" })),
        WatchesCommand::Resume { number } => (number, json!({ "do": "resume" })),
        WatchesCommand::End { number } => (number, json!({ "do": "end" })),
        WatchesCommand::Attach { number, incident } => {
            let incident = incidents::id_of(client, incident).await?;
            (number, json!({ "do": "attach", "incident": incident }))
        }
    };
    let place = format!("/watches/{number}");
    let watch = client.post(&place, &change).await?;
    output.either(&watch, |output| show(output, &watch))
}

fn head(output: &Output, watch: &Value) -> Result<(), Failure> {
    let every = watch["interval_ms"].as_f64().unwrap_or(0.0) / 1e3;
    output.line(&plain(&format!(
        "{}. {}: {} to {} by {} over {}, each {every} s",
        watch["no"],
        text_of(&watch["state"]),
        text_of(&watch["site"]),
        text_of(&watch["target"]),
        text_of(&watch["method"]),
        text_of(&watch["family"]),
    )))?;
    let mut when =
        format!("From {} until {}.", utc_of(&watch["begins_at"]), utc_of(&watch["ends_at"]));
    if let Some(reason) = watch["reason"].as_str().filter(|reason| !reason.is_empty()) {
        when.push_str(&format!(" {}: {reason}", text_of(&watch["user"])));
    }
    if let Some(incident) = watch["incident_no"].as_i64() {
        when.push_str(&format!(" Part of incident {incident}."));
    }
    output.sentence(&when, "  ")
}

fn show(output: &Output, watch: &Value) -> Result<(), Failure> {
    head(output, watch)?;
    output.notes(&watch["found"]["notes"], "  ")
}

fn list(output: &Output, items: &Value) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        return output.line("No watches yet; `itinera watches start PATH` starts one.");
    }
    items.iter().try_for_each(|watch| show(output, watch))
}

pub(crate) async fn suppressions(
    client: &Client,
    output: &Output,
    command: SuppressionsCommand,
) -> Result<(), Failure> {
    match command {
        SuppressionsCommand::List => {}
        SuppressionsCommand::Add { site, target, from, until, reason } => {
            let wanted = json!({ "site": site, "target": target, "from": from, "until": until,
                "reason": reason });
            let made = client.post("/suppressions", &wanted).await?;
            return output.either(&made, |output| suppression(output, &made));
        }
        SuppressionsCommand::Lift { number } => {
            client.delete(&format!("/suppressions/{number}")).await?;
        }
    }
    let items = client.get("/suppressions").await?["items"].take();
    output.either(&items, |output| {
        let all = items.as_array().map(Vec::as_slice).unwrap_or_default();
        if all.is_empty() {
            return output.line("Nothing is suppressed: everything scheduled is measured.");
        }
        all.iter().try_for_each(|one| suppression(output, one))
    })
}

fn suppression(output: &Output, one: &Value) -> Result<(), Failure> {
    let (site, target) = (one["site"].as_str(), one["target"].as_str());
    let what = match (site, target) {
        (None, None) => "nothing is measured at all".to_owned(),
        (Some(site), None) => format!("nothing is measured from {site}"),
        (None, Some(target)) => format!("nothing is measured to {target}"),
        (Some(site), Some(target)) => format!("nothing is measured from {site} to {target}"),
    };
    let (from, until) = (utc_of(&one["from"]), utc_of(&one["until"]));
    output.sentence(&format!("{}. From {from} until {until} {what}.", one["no"]), "")?;
    let (who, why) = (text_of(&one["user"]), text_of(&one["reason"]));
    output.sentence(&format!("{who}: {why}"), "  ")
}
