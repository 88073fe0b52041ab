//! `itinera watches` and `itinera suppressions`.

use super::http::Client;
use super::incidents;
use super::show::{text_of, utc_of};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use clap::Subcommand;
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

/// Watches.
#[derive(Debug, Subcommand)]
pub(crate) enum WatchesCommand {
    /// List watches, newest first
    List,
    /// Measure a path more densely for a while
    Start {
        /// The path's id, or the end of it as `paths` shows
        path: String,
        /// From round to round, in seconds
        #[arg(long, default_value_t = 1.0, value_name = "SECONDS")]
        every: f64,
        /// How long, in minutes
        #[arg(long = "for", default_value_t = 60, value_name = "MINUTES")]
        minutes: u32,
        /// Until when, such as 2026-01-31T14:05:00Z
        #[arg(long, value_name = "TIME", conflicts_with = "minutes")]
        until: Option<String>,
        /// Why
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// Show one with what it has found
    Show {
        /// Its number
        number: i64,
    },
    /// Let one rest: the path is measured as usual
    Pause {
        /// Its number
        number: i64,
    },
    /// Let one go on
    Resume {
        /// Its number
        number: i64,
    },
    /// End one now
    End {
        /// Its number
        number: i64,
    },
    /// Make one part of an incident
    Attach {
        /// Its number
        number: i64,
        /// The incident's number
        #[arg(long, value_name = "NUMBER")]
        incident: i64,
    },
}

/// Suppressions.
#[derive(Debug, Subcommand)]
pub(crate) enum SuppressionsCommand {
    /// List those that last or are to come
    List,
    /// Measure nothing for a while: everywhere, from one site, or to one target
    Add {
        /// From this site only
        #[arg(long)]
        site: Option<String>,
        /// To this target only
        #[arg(long)]
        target: Option<String>,
        /// From when, such as 2026-01-31T14:05:00Z; now where absent
        #[arg(long, value_name = "TIME")]
        from: Option<String>,
        /// Until when
        #[arg(long, value_name = "TIME")]
        until: String,
        /// Why
        #[arg(long)]
        reason: String,
    },
    /// End one now, or before it begins
    Lift {
        /// Its number
        number: i64,
    },
}

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
            let watch = client.get(&format!("/watches/{}", id_of(client, number).await?)).await?;
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
    let place = format!("/watches/{}", id_of(client, number).await?);
    let watch = client.post(&place, &change).await?;
    output.either(&watch, |output| show(output, &watch))
}

/// A watch's id from the number that people say.
async fn id_of(client: &Client, number: i64) -> Result<String, Failure> {
    named(&client.all_pages("/watches?limit=500").await?, number).ok_or_else(|| {
        let text = format!("there is no watch {number}; `itinera watches list` shows all");
        Failure::say(Code::Refused, text)
    })
}

fn named(items: &Value, number: i64) -> Option<String> {
    let found = items.as_array()?.iter().find(|item| item["no"] == number)?;
    found["id"].as_str().map(str::to_owned)
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
        when.push_str(&format!(" {}: {reason}", text_of(&watch["person"])));
    }
    if let Some(incident) = watch["incident_no"].as_i64() {
        when.push_str(&format!(" Part of incident {incident}."));
    }
    output.sentence(&when, "  ")
}

fn show(output: &Output, watch: &Value) -> Result<(), Failure> {
    head(output, watch)?;
    let found = watch["found"]["sentences"].as_array();
    for sentence in found.into_iter().flatten().filter_map(Value::as_str) {
        output.sentence(sentence, "  ")?;
    }
    Ok(())
}

fn list(output: &Output, items: &Value) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        return output
            .line("Nothing has been watched yet; `itinera watches start PATH` begins one.");
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
            let listed = client.get("/suppressions").await?;
            let id = named(&listed["items"], number).ok_or_else(|| {
                let text = format!(
                    "no suppression {number} lasts; `itinera suppressions list` shows those that do"
                );
                Failure::say(Code::Refused, text)
            })?;
            client.delete(&format!("/suppressions/{id}")).await?;
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
    let (who, why) = (text_of(&one["person"]), text_of(&one["reason"]));
    output.sentence(&format!("{who}: {why}"), "  ")
}
