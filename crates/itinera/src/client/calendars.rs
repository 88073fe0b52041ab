//! `itinera calendars` and `itinera planned-work`.

use super::http::Client;
use super::show::{names_of, text_of, utc_of};
use crate::args::{CalendarsCommand, PlannedWorkArgs};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;

pub(crate) async fn calendars(
    client: &Client,
    output: &Output,
    command: CalendarsCommand,
) -> Result<(), Failure> {
    match command {
        CalendarsCommand::List => {
            let items = client.get("/calendars").await?["items"].take();
            output.either(&items, |output| list(output, &items))
        }
        CalendarsCommand::Save { name, file, url, site, owner, zone } => {
            let content = file.as_deref().map(super::text_in).transpose()?;
            let asked = json!({ "content": content, "url": url, "site": site, "owner": owner,
                "zone": zone });
            let saved = client.put(&place(client, &name), &asked).await?;
            output.either(&saved, |output| shown(output, &saved))
        }
        CalendarsCommand::Remove { name } => {
            client.delete(&place(client, &name)).await?;
            output.either(&json!({ "removed": name }), |output| {
                output.line(&plain(&format!("{name} is removed.")))
            })
        }
    }
}

/// The place of a calendar, its name encoded.
fn place(client: &Client, name: &str) -> String {
    let encoded = client.parameters(&[("", name.to_owned())]);
    // A query writes a space as a plus, a path does not.
    format!("/calendars/{}", encoded.trim_start_matches('=').replace('+', "%20"))
}

fn shown(output: &Output, saved: &Value) -> Result<(), Failure> {
    let occurrences = saved["occurrences"].as_i64().unwrap_or(0);
    output.line(&plain(&format!("{}: {occurrences} planned.", text_of(&saved["name"]))))?;
    let refused = saved["refused"].as_array().map(Vec::as_slice).unwrap_or_default();
    for reason in refused {
        output.sentence(&format!("Left out: {}.", text_of(reason)), "  ")?;
    }
    Ok(())
}

fn list(output: &Output, items: &Value) -> Result<(), Failure> {
    let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        let text = "No calendars: no work is planned. `itinera calendars save` saves one.";
        return output.line(text);
    }
    for item in items {
        let source = item["url"].as_str().unwrap_or("a file");
        output.line(&plain(&format!(
            "{}: {} planned, from {source}, {}",
            text_of(&item["name"]),
            item["occurrences"],
            utc_of(&item["fetched_at"])
        )))?;
        let site = item["site"].as_str().map(|site| format!("site {site}"));
        let owner = item["owner"].as_i64().map(|owner| format!("owner AS {owner}"));
        let of: Vec<String> = site.into_iter().chain(owner).collect();
        if !of.is_empty() {
            let words = format!("Where an event names none: {}.", of.join(", "));
            output.sentence(&words, "  ")?;
        }
        if let Some(error) = item["error"].as_str() {
            output.sentence(&format!("Not fetched since: {error}."), "  ")?;
        }
    }
    Ok(())
}

pub(crate) async fn planned_work(
    client: &Client,
    output: &Output,
    PlannedWorkArgs { from, to }: PlannedWorkArgs,
) -> Result<(), Failure> {
    let mut fields = Vec::new();
    for (field, time) in [("from", from), ("to", to)] {
        if let Some(time) = time {
            let text = time.format(&Rfc3339).map_err(|e| Failure::new(Code::Failed, e))?;
            fields.push((field, text));
        }
    }
    let place = format!("/planned-work?{}", client.parameters(&fields));
    let items = client.get(&place).await?["items"].take();
    output.either(&items, |output| {
        let items = items.as_array().map(Vec::as_slice).unwrap_or_default();
        if items.is_empty() {
            return output.line("No work is planned in this range.");
        }
        items.iter().try_for_each(|item| work(output, item))
    })
}

fn work(output: &Output, item: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "{} to {}: {}",
        utc_of(&item["starts_at"]),
        utc_of(&item["ends_at"]),
        text_of(&item["summary"])
    )))?;
    let owners = item["owners"].as_array().into_iter().flatten();
    let mut of = names_of(&item["sites"]);
    of.extend(owners.map(|owner| format!("AS {owner}")));
    let explained = item["explained"].as_array().into_iter().flatten();
    let explained: Vec<String> = explained.map(Value::to_string).collect();
    let explained = match &explained[..] {
        [] => "explains no alarm".to_owned(),
        [one] => format!("explains alarm {one}"),
        several => format!("explains alarms {}", several.join(", ")),
    };
    let calendar = text_of(&item["calendar"]);
    output.sentence(&format!("{}; calendar {calendar}; {explained}", of.join(", ")), "  ")
}
