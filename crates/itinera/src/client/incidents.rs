//! `itinera incidents`: review from the terminal.

use super::http::Client;
use super::show::{text_of, utc_of};
use crate::args::IncidentsCommand;
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::{Value, json};

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    command: IncidentsCommand,
) -> Result<(), Failure> {
    let incident = match command {
        IncidentsCommand::List { open } => {
            let items = client.all_pages(&format!("/incidents?limit=500&open={open}")).await?;
            return output.either(&items, |output| list(output, &items, open));
        }
        IncidentsCommand::Show { number } => {
            client.get(&format!("/incidents/{}", id_of(client, number).await?)).await?
        }
        IncidentsCommand::Open { site, service, about, words } => {
            let complaint =
                json!({ "site": site, "service": service, "about": about, "words": words });
            client.post("/incidents", &complaint).await?
        }
        IncidentsCommand::Note { number, text } => {
            let place = format!("/incidents/{}/notes", id_of(client, number).await?);
            client.post(&place, &json!({ "text": text })).await?
        }
        IncidentsCommand::Close { number, words } => {
            let place = format!("/incidents/{}/close", id_of(client, number).await?);
            client.post(&place, &json!({ "text": words })).await?
        }
        IncidentsCommand::Reopen { number } => {
            let place = format!("/incidents/{}/reopen", id_of(client, number).await?);
            client.post(&place, &json!({})).await?
        }
    };
    output.either(&incident, |output| show(output, &incident))
}

/// The id of an incident from its short number.
pub(crate) async fn id_of(client: &Client, number: i64) -> Result<String, Failure> {
    let items = client.all_pages("/incidents?limit=500").await?;
    let found = items.as_array().into_iter().flatten().find(|item| item["no"] == number);
    found.and_then(|item| item["id"].as_str()).map(str::to_owned).ok_or_else(|| {
        let text = format!("there is no incident {number}; `itinera incidents list` shows all");
        Failure::say(Code::Refused, text)
    })
}

fn words(names: &Value) -> String {
    let names = names.as_array().into_iter().flatten().filter_map(Value::as_str);
    names.collect::<Vec<_>>().join(", ")
}

fn head(output: &Output, incident: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "{}. {}, since {}",
        incident["no"],
        text_of(&incident["state"]),
        utc_of(&incident["since"])
    )))?;
    output.sentence(incident["sentence"].as_str().unwrap_or_default(), "  ")?;
    let (sites, services) = (words(&incident["sites"]), words(&incident["services"]));
    if !sites.is_empty() {
        output.sentence(&format!("From {sites}; touches {services}."), "  ")?;
    }
    for owner in incident["owners"].as_array().into_iter().flatten() {
        let call = format!("Call {} ({}).", text_of(&owner["name"]), text_of(&owner["contact"]));
        output.sentence(&call, "  ")?;
    }
    Ok(())
}

fn list(output: &Output, items: &Value, open: bool) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        let text = if open { "No incident is open." } else { "There has been no incident." };
        return output.line(text);
    }
    for (index, incident) in items.iter().enumerate() {
        if index > 0 {
            output.line("")?;
        }
        head(output, incident)?;
    }
    Ok(())
}

fn show(output: &Output, incident: &Value) -> Result<(), Failure> {
    head(output, incident)?;
    if let Some(said) = incident["evidence"]["sentences"].as_array() {
        output.line("\nMeasured there and then:")?;
        for sentence in said.iter().skip(1).filter_map(Value::as_str) {
            output.sentence(sentence, "  ")?;
        }
    }
    for diagnosis in incident["diagnoses"].as_array().into_iter().flatten() {
        let (site, target) = (text_of(&diagnosis["site"]), text_of(&diagnosis["target"]));
        output.line("")?;
        output.sentence(&format!("Diagnosis from {site} to {target}:"), "")?;
        let said = diagnosis["sentence"].as_str().or_else(|| diagnosis["progress"].as_str());
        output.sentence(said.unwrap_or_default(), "  ")?;
    }
    output.line("\nTimeline:")?;
    for event in incident["events"].as_array().into_iter().flatten() {
        let (who, what) = (text_of(&event["user"]), text_of(&event["kind"]));
        output.line(&plain(&format!("  {}  {who}, {what}", utc_of(&event["at"]))))?;
        if let Some(text) = event["text"].as_str() {
            output.sentence(text, "    ")?;
        }
    }
    Ok(())
}
