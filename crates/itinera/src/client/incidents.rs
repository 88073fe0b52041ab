//! `itinera incidents`: review from the terminal.

use super::http::Client;
use super::notices;
use super::show::{ABSENT, message_of, names, names_of, or_absent, span, text_of, utc_of};
use crate::args::{IncidentsCommand, NumberOrId};
use crate::exit::Failure;
use crate::output::{Output, plain};
use serde_json::{Value, json};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    command: IncidentsCommand,
) -> Result<(), Failure> {
    let incident = match command {
        IncidentsCommand::List { open, during } => {
            let place = format!("/incidents?limit=500&open={open}{}", during.query()?);
            let items = client.all_pages(&place).await?;
            return output.either(&items, |output| list(output, &items, open));
        }
        IncidentsCommand::Show { number } => client.get(&format!("/incidents/{number}")).await?,
        IncidentsCommand::Open { site, service, about, words } => {
            let complaint =
                json!({ "site": site, "service": service, "about": about, "words": words });
            client.post("/incidents", &complaint).await?
        }
        IncidentsCommand::Notify { number, receiver } => {
            return notices::request(client, output, &number.to_string(), &receiver).await;
        }
        IncidentsCommand::Note { number, text } => {
            let place = format!("/incidents/{number}/notes");
            client.post(&place, &json!({ "text": text })).await?
        }
        IncidentsCommand::Close { number, words } => {
            let place = format!("/incidents/{number}/close");
            client.post(&place, &json!({ "text": words })).await?
        }
        IncidentsCommand::Reopen { number } => {
            let place = format!("/incidents/{number}/reopen");
            client.post(&place, &json!({})).await?
        }
    };
    output.either(&incident, |output| show(output, &incident))
}

/// The id of an incident from its short number.
pub(crate) async fn id_of(client: &Client, number: NumberOrId) -> Result<String, Failure> {
    let incident = client.get(&format!("/incidents/{number}")).await?;
    Ok(text_of(&incident["id"]))
}

fn when(incident: &Value) -> String {
    let time = |field: &str| {
        incident[field].as_str().and_then(|text| OffsetDateTime::parse(text, &Rfc3339).ok())
    };
    time("since").map_or_else(|| ABSENT.to_owned(), |since| span(since, time("closed_at")))
}

fn list(output: &Output, items: &Value, open: bool) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        let text = if open { "No incident is open." } else { "No incidents." };
        return output.line(text);
    }
    for incident in items {
        let severity = incident["perceived_severity"].as_str().unwrap_or("complaint");
        output.entry(
            &format!(
                "{:<4}  {severity:<9}  {}",
                incident["no"].as_i64().unwrap_or(0),
                text_of(&incident["message"]["headline"])
            ),
            &format!(
                "{}, {}{}{}",
                text_of(&incident["state"]),
                when(incident),
                names(&names_of(&incident["sites"]), "sites"),
                names(&names_of(&incident["services"]), "services")
            ),
        )?;
    }
    Ok(())
}

fn head(output: &Output, incident: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "Incident {}, {}, {}",
        incident["no"],
        text_of(&incident["state"]),
        when(incident)
    )))?;
    output.line("")?;
    message_of(output, &incident["message"])?;
    let (sites, services) = (names_of(&incident["sites"]), names_of(&incident["services"]));
    if !sites.is_empty() {
        let touched = format!("Sites: {}. Services: {}.", sites.join(", "), services.join(", "));
        output.sentence(&touched, "  ")?;
    }
    for holder in incident["contract_holders"].as_array().into_iter().flatten() {
        let (name, contact) = (text_of(&holder["name"]), text_of(&holder["contact"]));
        let sites = names_of(&holder["sites"]).join(", ");
        output.sentence(&format!("Contract of {sites}: {name}, {contact}."), "  ")?;
    }
    Ok(())
}

fn show(output: &Output, incident: &Value) -> Result<(), Failure> {
    head(output, incident)?;
    for diagnosis in incident["diagnoses"].as_array().into_iter().flatten() {
        let (site, target) = (text_of(&diagnosis["site"]), text_of(&diagnosis["target"]));
        output.line("")?;
        output.sentence(&format!("Diagnosis from {site} to {target}:"), "")?;
        match diagnosis["conclusion"].as_object() {
            Some(_) => message_of(output, &diagnosis["conclusion"])?,
            None => output.sentence(&text_of(&diagnosis["progress"]), "  ")?,
        }
    }
    output.line("\nTimeline:")?;
    for event in incident["events"].as_array().into_iter().flatten() {
        let what = match &event["action"] {
            Value::Null => format!("{}, {}", text_of(&event["user"]), text_of(&event["kind"])),
            action => {
                let no = or_absent(event["alarm_no"].as_i64(), |no| no.to_string());
                format!("alarm {no} {}", text_of(&action["words"]))
            }
        };
        output.line(&plain(&format!("  {}  {what}", utc_of(&event["at"]))))?;
        if let (Some(text), true) = (event["text"].as_str(), event["action"].is_null()) {
            output.sentence(text, "    ")?;
        }
    }
    Ok(())
}
