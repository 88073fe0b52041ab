//! `itinera receivers` and `itinera notices`.

use super::conditions;
use super::http::Client;
use super::show::{list, names_of, text_of, utc_of};
use crate::args::{NewReceiverArgs, NoticesCommand, ReceiversCommand};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::{Value, json};
use std::path::Path;
use std::time::{Duration, Instant};

/// How long a test waits for its result.
const TEST_LIMIT: Duration = Duration::from_secs(90);

pub(crate) async fn receivers(
    client: &Client,
    output: &Output,
    command: ReceiversCommand,
) -> Result<(), Failure> {
    match command {
        ReceiversCommand::List => {
            let items = client.get("/receivers").await?["items"].take();
            output.either(&items, |output| list_receivers(output, list(&items)))
        }
        ReceiversCommand::Add(new) => {
            let made = client.post("/receivers", &requested(*new)?).await?;
            output.either(&made, |output| receiver(output, &made))
        }
        ReceiversCommand::Change { name, file, new_secret } => {
            let id = id_of(client, &name).await?;
            let place = format!("/receivers/{id}?new_secret={new_secret}");
            let changed = client.put(&place, &written(&read_json(&file)?)).await?;
            output.either(&changed, |output| receiver(output, &changed))
        }
        ReceiversCommand::Enable { name } => enable(client, output, &name, true).await,
        ReceiversCommand::Disable { name } => enable(client, output, &name, false).await,
        ReceiversCommand::Remove { name } => {
            let id = id_of(client, &name).await?;
            client.delete(&format!("/receivers/{id}")).await?;
            output.either(&json!({ "removed": id }), |output| {
                output.line(&plain(&format!("{name} is removed.")))
            })
        }
        ReceiversCommand::Test { name } => test(client, output, &name).await,
    }
}

fn read_json(file: &Path) -> Result<Value, Failure> {
    serde_json::from_str(&super::text_in(file)?).map_err(|error| {
        let text = format!("{} is no JSON", file.display());
        Failure::new(Code::BadFile, error).context(text)
    })
}

/// What can be written of a receiver that was read.
fn written(receiver: &Value) -> Value {
    let mut receiver = receiver.clone();
    if let Some(fields) = receiver.as_object_mut() {
        for read_only in ["id", "made_at", "made_by", "secret"] {
            fields.remove(read_only);
        }
    }
    receiver
}

fn requested(new: NewReceiverArgs) -> Result<Value, Failure> {
    if let Some(file) = &new.file {
        return Ok(written(&read_json(file)?));
    }
    let mut receiver = json!({ "name": new.name });
    let mut set = |field: &str, value: Value| receiver[field] = value;
    if let Some(url) = new.webhook {
        set("channel", "webhook".into());
        set("url", url.into());
    } else if let Some(url) = new.action {
        set("channel", "action".into());
        set("url", url.into());
        set("per_hour", new.per_hour.into());
    } else if let Some(syslog) = new.syslog {
        let bad = || Failure::say(Code::Refused, "--syslog: HOST:PORT is needed");
        let (host, port) = syslog.rsplit_once(':').ok_or_else(bad)?;
        set("channel", "syslog".into());
        set("host", host.into());
        set("port", port.parse::<u16>().map_err(|_| bad())?.into());
        set("transport", new.transport.into());
    } else {
        set("channel", "mail".into());
        set("to", new.mail.into());
    }
    let mut route = json!({
        "severity": new.severity, "sites": new.site, "services": new.service, "tags": new.tag,
    });
    if let Some(hours) = new.hours {
        let when = (&new.days[..], new.zone.as_deref());
        route["hours"] = conditions::given_hours("--hours", &hours, when)?;
    }
    receiver["routes"] = json!([route]);
    Ok(receiver)
}

async fn find(client: &Client, name: &str) -> Result<Value, Failure> {
    let items = client.get("/receivers").await?["items"].take();
    let found = list(&items).iter().find(|it| it["name"] == name || it["id"] == name).cloned();
    found.ok_or_else(|| {
        let text = format!("no receiver is called {name:?}; `itinera receivers list` lists them");
        Failure::say(Code::Refused, text)
    })
}

async fn id_of(client: &Client, name: &str) -> Result<String, Failure> {
    Ok(text_of(&find(client, name).await?["id"]))
}

async fn enable(
    client: &Client,
    output: &Output,
    name: &str,
    enabled: bool,
) -> Result<(), Failure> {
    let known = find(client, name).await?;
    let mut changed = written(&known);
    changed["enabled"] = enabled.into();
    let place = format!("/receivers/{}", text_of(&known["id"]));
    let changed = client.put(&place, &changed).await?;
    output.either(&changed, |output| receiver(output, &changed))
}

/// Sends a test notice and waits until it is delivered or given up, or its first attempt failed.
async fn test(client: &Client, output: &Output, name: &str) -> Result<(), Failure> {
    let id = id_of(client, name).await?;
    let made = client.post(&format!("/receivers/{id}/test"), &json!({})).await?;
    let number = made["notice"].as_i64().unwrap_or_default();
    let begun = Instant::now();
    loop {
        let notice = notice(client, number).await?;
        let delivery = &notice["deliveries"][0];
        let tried = delivery["attempts"].as_i64().unwrap_or(0) > 0;
        if tried || delivery["state"] == "skipped" || begun.elapsed() > TEST_LIMIT {
            output.either(&notice, |output| one(output, &notice))?;
            return match delivery["state"].as_str() {
                Some("sent") => Ok(()),
                _ => Err(Failure::say(Code::Failed, "the test notice was not delivered")),
            };
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

fn list_receivers(output: &Output, items: &[Value]) -> Result<(), Failure> {
    if items.is_empty() {
        let text = "No receivers: notices go nowhere. `itinera receivers add` adds one.";
        return output.line(text);
    }
    items.iter().try_for_each(|item| receiver(output, item))
}

fn texts(list: &Value) -> String {
    names_of(list).join(", ")
}

fn route_words(route: &Value) -> String {
    let mut parts = Vec::new();
    if let Some(severity) = route["severity"].as_str() {
        parts.push(format!("severity {severity} or higher"));
    }
    if !list(&route["kinds"]).is_empty() {
        parts.push(format!("kind {}", texts(&route["kinds"])));
    }
    parts.extend(conditions::selected(route));
    parts.extend(conditions::hours(&route["hours"]));
    if parts.is_empty() { "every notice".to_owned() } else { parts.join("; ") }
}

fn receiver(output: &Output, item: &Value) -> Result<(), Failure> {
    let to = match item["channel"].as_str() {
        Some("mail") => texts(&item["to"]),
        Some("syslog") => format!(
            "{}:{} by {}",
            text_of(&item["host"]),
            item["port"],
            text_of(&item["transport"])
        ),
        Some("action") => {
            format!("{}, {} an hour at most", text_of(&item["url"]), item["per_hour"])
        }
        _ => text_of(&item["url"]),
    };
    let disabled = if item["enabled"] == false { " (disabled)" } else { "" };
    output.line(&plain(&format!(
        "{}{disabled}: {} to {to}",
        text_of(&item["name"]),
        text_of(&item["channel"])
    )))?;
    let routes = list(&item["routes"]);
    if routes.is_empty() {
        output.sentence("Only notices that a user asks for: it has no route.", "  ")?;
    }
    for route in routes {
        output.sentence(&route_words(route), "  ")?;
    }
    match item["secret"].as_str() {
        Some(secret) => {
            output.sentence("Requests are signed with this secret, shown only now:", "  ")?;
            output.line(&format!("  {}", plain(secret)))
        }
        None => Ok(()),
    }
}

pub(crate) async fn notices(
    client: &Client,
    output: &Output,
    command: NoticesCommand,
) -> Result<(), Failure> {
    match command {
        NoticesCommand::List { state, incident, limit } => {
            let mut fields = vec![("limit", limit.to_string())];
            fields.extend(state.map(|state| ("state", state)));
            fields.extend(incident.map(|incident| ("incident", incident.to_string())));
            let place = format!("/notices?{}", client.parameters(&fields));
            let items = client.get(&place).await?["items"].take();
            output.either(&items, |output| match list(&items) {
                [] => output.line("No notices."),
                items => items.iter().try_for_each(|item| one(output, item)),
            })
        }
        NoticesCommand::Show { number } => {
            let notice = notice(client, number).await?;
            output.either(&notice, |output| {
                one(output, &notice)?;
                let text = notice["text"].as_str().unwrap_or("Not composed yet.");
                output.line("")?;
                text.lines().try_for_each(|line| output.line(&plain(line)))
            })
        }
        NoticesCommand::Retry { notice, receiver } => {
            let asked = json!({ "notice": notice, "receiver": receiver });
            let retried = client.post("/notices/retry", &asked).await?;
            output.either(&retried, |output| match retried["deliveries"].as_i64() {
                Some(0) | None => output.line("No delivery was given up."),
                Some(1) => output.line("1 delivery is tried again."),
                Some(count) => output.line(&format!("{count} deliveries are tried again.")),
            })
        }
    }
}

/// Asks for a notice about an incident.
pub(crate) async fn request(
    client: &Client,
    output: &Output,
    incident: &str,
    receiver: &str,
) -> Result<(), Failure> {
    let place = format!("/incidents/{incident}/notices");
    let made = client.post(&place, &json!({ "receiver": receiver })).await?;
    output.either(&made, |output| {
        let words = format!("Notice {} to {receiver} is sent.", made["notice"]);
        output.line(&plain(&words))
    })
}

async fn notice(client: &Client, number: i64) -> Result<Value, Failure> {
    let place = format!("/notices?limit=1&after={}", number.saturating_add(1));
    let answer = client.get(&place).await?;
    let found = &answer["items"][0];
    match found["no"].as_i64() {
        Some(no) if no == number => Ok(found.clone()),
        _ => Err(Failure::say(Code::Refused, format!("no notice has the number {number}"))),
    }
}

/// Times without their date, which the head of the notice has.
fn one(output: &Output, notice: &Value) -> Result<(), Failure> {
    let incident = notice["incident"].as_i64().map(|no| format!(", incident {no}"));
    output.line(&plain(&format!(
        "{}. {}{}: {}",
        notice["no"],
        utc_of(&notice["at"]),
        incident.unwrap_or_default(),
        notice["subject"].as_str().unwrap_or("waits for the whole fault to show")
    )))?;
    let deliveries = list(&notice["deliveries"]);
    if deliveries.is_empty() && notice["subject"].is_string() {
        output.sentence("No receiver takes it.", "  ")?;
    }
    for delivery in deliveries {
        let mut words = format!(
            "{} by {}: {}",
            text_of(&delivery["receiver"]),
            text_of(&delivery["channel"]),
            text_of(&delivery["state"])
        );
        if let Some(reason) = delivery["reason"].as_str() {
            words.push_str(&format!(", {reason}"));
        }
        if let Some(answer) = delivery["answer"].as_str() {
            words.push_str(&format!(", it answered {answer}"));
        }
        match (delivery["attempts"].as_i64(), delivery["next_at"].as_str()) {
            (Some(attempts @ 1..), Some(_)) => words.push_str(&format!(
                "; attempt {} at {}",
                attempts + 1,
                utc_of(&delivery["next_at"])
            )),
            (Some(attempts @ 2..), None) => words.push_str(&format!("; {attempts} attempts")),
            _ => {}
        }
        output.sentence(&words, "  ")?;
    }
    Ok(())
}
