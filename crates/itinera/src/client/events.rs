//! `itinera events` and `itinera host-facts`.

use super::http::Client;
use super::show::{ABSENT, list, message_of, or_absent, per_cent, span, text_of, utc_of};
use crate::args::{AtArgs, EventsArgs};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::Value;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Events in one list.
const SHOWN: usize = 50;

pub(crate) async fn events(
    client: &Client,
    output: &Output,
    EventsArgs { number, lasting, faults, during }: EventsArgs,
) -> Result<(), Failure> {
    if let Some(number) = number {
        let event = client.get(&format!("/events/{number}")).await?;
        return output.either(&event, |output| show_event(output, &event));
    }
    let during = during.query()?;
    let place = format!("/events?limit=500&lasting={lasting}&faults={faults}{during}");
    if output.is_json() {
        let all = client.all_pages(&place).await?;
        return output.json(&all);
    }
    let page = client.get(&place).await?;
    let items = list(&page["items"]);
    if items.is_empty() {
        return output.line(if lasting { "No event is open." } else { "No events." });
    }
    for event in items.iter().take(SHOWN) {
        let incident = event["incident_no"].as_i64();
        output.entry(
            &format!(
                "{:<4}  {:<8}  {}",
                event["no"].as_i64().unwrap_or(0),
                event["perceived_severity"].as_str().unwrap_or("info"),
                text_of(&event["message"]["headline"])
            ),
            &format!(
                "{}; {}{}",
                when(event),
                text_of(&event["site"]),
                incident.map_or_else(String::new, |no| format!("; incident {no}"))
            ),
        )?;
    }
    if items.len() > SHOWN || !page["next"].is_null() {
        output.line("There are more: --format json gives all of them.")?;
    }
    Ok(())
}

/// When an event began and how long it lasted; the time alone for a momentary one.
fn when(event: &Value) -> String {
    let time = |field: &str| {
        event[field].as_str().and_then(|text| OffsetDateTime::parse(text, &Rfc3339).ok())
    };
    match time("since") {
        Some(_) if event["ended_at"] == event["raised_at"] => utc_of(&event["since"]),
        Some(since) => span(since, time("ended_at")),
        None => ABSENT.to_owned(),
    }
}

fn show_event(output: &Output, event: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "Event {}, {}, {}, {}",
        event["no"],
        event["perceived_severity"].as_str().unwrap_or("info"),
        text_of(&event["site"]),
        when(event)
    )))?;
    output.line("")?;
    message_of(output, &event["message"])?;
    output.line("")?;
    output.line(&plain(&format!("code      {}", text_of(&event["kind"]))))?;
    output.line(&plain(&format!("at fault  {}", text_of(&event["part"]))))?;
    let incident = event["incident_no"].as_i64();
    output.line(&format!("incident  {}", or_absent(incident, |no| no.to_string())))
}

pub(crate) async fn host_facts(
    client: &Client,
    output: &Output,
    site: &str,
    at: AtArgs,
) -> Result<(), Failure> {
    let agents = client.get("/agents").await?;
    let here: Vec<&Value> =
        list(&agents["items"]).iter().filter(|agent| agent["site"] == site).collect();
    let newest = here.iter().max_by_key(|agent| agent["last_batch_at"].as_str());
    let id = newest.and_then(|agent| agent["id"].as_str()).ok_or_else(|| {
        let text = format!("no agent is at {site:?}; `itinera agents` lists them");
        Failure::say(Code::Refused, text)
    })?;
    let host_facts = client.get(&format!("/agents/{id}/host-facts{}", at.query()?)).await?;
    output.either(&host_facts, |output| {
        if at.is_given() && host_facts["at"].is_null() {
            return output.line("No host facts were reported in the day before that time.");
        }
        show(output, &host_facts)
    })
}

fn bits(value: &Value) -> String {
    match value.as_u64() {
        None => ABSENT.to_owned(),
        Some(bits @ 0..1_000_000) => format!("{:.1} kb/s", bits as f64 / 1e3),
        Some(bits) => format!("{:.1} Mb/s", bits as f64 / 1e6),
    }
}

/// A share of what there is, where little is not nothing.
fn used(value: &Value) -> String {
    match value.as_f64() {
        Some(ratio) if ratio > 0.0 && ratio < 0.01 => "under 1 %".to_owned(),
        Some(ratio) => per_cent(ratio),
        None => ABSENT.to_owned(),
    }
}

fn count(value: &Value) -> String {
    value.as_u64().map_or_else(|| ABSENT.to_owned(), |count| count.to_string())
}

fn joined(value: &Value) -> String {
    let all: Vec<String> = list(value).iter().map(text_of).collect();
    if all.is_empty() { ABSENT.to_owned() } else { all.join(", ") }
}

fn show(output: &Output, host_facts: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "Host facts of {} at {}, as of {}",
        text_of(&host_facts["host_name"]),
        text_of(&host_facts["site"]),
        utc_of(&host_facts["at"])
    )))?;
    output.line("")?;
    output.notes(&host_facts["notes"], "")?;
    if !list(&host_facts["notes"]).is_empty() {
        output.line("")?;
    }
    let rows = list(&host_facts["interfaces"]).iter().map(|one| {
        let state = match (one["up"] == true, one["carrier"] == true) {
            (false, _) => "off",
            (true, false) => "no carrier",
            (true, true) => "up",
        };
        let speed = one["speed_mbit_s"].as_u64().map(|mbit| format!("{mbit} Mb/s"));
        let duplex = one["duplex"].as_str().map(|duplex| format!(", {duplex} duplex"));
        let speed = speed.map(|speed| format!("{speed}{}", duplex.unwrap_or_default()));
        vec![
            text_of(&one["name"]),
            text_of(&one["medium"]),
            state.to_owned(),
            speed.unwrap_or_else(|| ABSENT.to_owned()),
            joined(&one["addresses"]),
            bits(&one["in_bits_per_s"]),
            bits(&one["out_bits_per_s"]),
            used(&one["utilisation_ratio"]),
            count(&one["damaged"]),
            count(&one["discarded"]),
        ]
    });
    let head = [
        "interface",
        "is",
        "state",
        "negotiated",
        "addresses",
        "in",
        "out",
        "of its speed",
        "damaged",
        "discarded",
    ];
    output.table(&head, rows.collect())?;
    output.line("")?;
    output.line(&plain(&format!("resolvers  {}", joined(&host_facts["resolvers"]))))?;
    let rows = list(&host_facts["gateways"]).iter().map(|one| {
        let delay = one["delay_us"].as_u64().map(|us| format!("{:.1} ms", us as f64 / 1e3));
        vec![
            text_of(&one["address"]),
            text_of(&one["interface"]),
            utc_of(&one["first_at"]),
            utc_of(&one["last_at"]),
            delay.unwrap_or_else(|| ABSENT.to_owned()),
            if one["in_use"] == true { "in use" } else { "" }.to_owned(),
        ]
    });
    output.line("")?;
    output.table(
        &["gateway, last day", "by", "first used", "last used", "median", ""],
        rows.collect(),
    )?;
    neighbours(output, host_facts)
}

/// Its neighbours, and its open sockets if they may be listed.
fn neighbours(output: &Output, host_facts: &Value) -> Result<(), Failure> {
    let rows = list(&host_facts["neighbours"]).iter().map(|one| {
        let hardware = text_of(&one["hardware_address"]);
        vec![text_of(&one["address"]), hardware, text_of(&one["interface"])]
    });
    output.line("")?;
    output.table(&["neighbour", "hardware address", "on"], rows.collect())?;
    let rows = list(&host_facts["routes"]).iter().map(|one| {
        let gateway = one["gateway"].as_str().unwrap_or("on the link").to_owned();
        vec![text_of(&one["to"]), gateway, text_of(&one["interface"]), one["metric"].to_string()]
    });
    output.line("")?;
    output.table(&["route to", "by", "interface", "metric"], rows.collect())?;
    let rows = list(&host_facts["leases"]).iter().map(|one| {
        let lifetime = one["lifetime_s"].as_u64().map(|seconds| format!("{seconds} s"));
        let lifetime = lifetime.unwrap_or_else(|| ABSENT.to_owned());
        vec![text_of(&one["interface"]), text_of(&one["server"]), lifetime]
    });
    output.line("")?;
    output.table(&["lease for", "from", "lasts"], rows.collect())?;
    let sockets = &host_facts["sockets"];
    if sockets.is_null() {
        output.line("")?;
        return output.line(
            "Open sockets are not listed: the agent's limits file would have to say sockets = true.",
        );
    }
    let rows = list(sockets).iter().map(|one| {
        let peer = one["peer"].as_str().unwrap_or("listens").to_owned();
        vec![text_of(&one["protocol"]), text_of(&one["local"]), peer]
    });
    output.line("")?;
    output.table(&["socket", "own end", "other end"], rows.collect())
}
