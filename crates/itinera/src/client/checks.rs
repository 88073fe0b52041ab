//! `itinera checks`: what services answer.

use super::http::Client;
use super::show::{ABSENT, list, message_of, ms, text_of, utc_of};
use crate::args::NumberOrId;
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use itinera_model::check::Step;
use serde_json::Value;
use std::time::{Duration, Instant};

/// How often it is looked whether a result has come, and how long it may take.
const GLANCE: Duration = Duration::from_millis(500);
const PATIENCE: Duration = Duration::from_secs(60);

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    number: Option<NumberOrId>,
    now: bool,
) -> Result<(), Failure> {
    let Some(number) = number else {
        let checks = client.get("/checks").await?;
        return output.either(&checks["items"], |output| table(output, &checks["items"]));
    };
    let check =
        if now { asked_now(client, number).await? } else { client.get(&place(number)).await? };
    output.either(&check, |output| one(output, &check))
}

fn place(number: NumberOrId) -> String {
    format!("/checks/{number}")
}

/// Has a check asked at once, and waits for another result than the one there was.
async fn asked_now(client: &Client, number: NumberOrId) -> Result<Value, Failure> {
    let before = client.get(&place(number)).await?["at"].clone();
    client.post(&format!("/checks/{number}/now"), &Value::Null).await?;
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        let check = client.get(&place(number)).await?;
        if check["at"] != before {
            return Ok(check);
        }
        tokio::time::sleep(GLANCE).await;
    }
    let text =
        "the agent has not answered in a minute; `itinera agents` says when it was last heard";
    Err(Failure::say(Code::Failed, text))
}

fn us(value: &Value) -> Option<u32> {
    value.as_u64().and_then(|us| u32::try_from(us).ok())
}

fn span(value: &Value) -> String {
    us(value).map_or_else(|| ABSENT.to_owned(), ms)
}

/// A step as words.
fn step(step: &Value) -> String {
    let step: Option<Step> = serde_json::from_value(step.clone()).ok();
    step.map_or_else(|| ABSENT.to_owned(), |step| step.to_string())
}

/// The step that failed, and why; absent for a good result.
fn failure(result: &Value) -> Option<String> {
    let cause = result["cause"]["text"].as_str()?;
    Some(format!("{}: {cause}", step(&result["failed_at"])))
}

/// The check and its destination.
fn asks(check: &Value) -> String {
    let kind = text_of(&check["kind"]);
    let host = check["host"].as_str().map(|host| format!(" {host}")).unwrap_or_default();
    let port = check["port"].as_u64().map(|port| format!(" at {port}")).unwrap_or_default();
    let six = if check["family"] == "ipv6" { ", IPv6" } else { "" };
    format!("{kind}{host}{port}{six}")
}

fn table(output: &Output, checks: &Value) -> Result<(), Failure> {
    if list(checks).is_empty() {
        return output.line("No checks: add [[target.check]] entries to the configuration.");
    }
    let rows = list(checks).iter().map(|check| {
        vec![
            check["no"].to_string(),
            text_of(&check["site"]),
            text_of(&check["target"]),
            asks(check),
            text_of(&check["state"]),
            span(&check["took_us"]),
            failure(check).unwrap_or_default(),
        ]
    });
    output.table(&["check", "from", "to", "asks", "state", "time", "failed at"], rows.collect())
}

fn one(output: &Output, check: &Value) -> Result<(), Failure> {
    output.line(&plain(&format!(
        "Check {}: {} to {}, {}, every {} s",
        check["no"],
        text_of(&check["site"]),
        text_of(&check["target"]),
        asks(check),
        check["every_s"]
    )))?;
    if check["message"].is_null() {
        return output.line("It has no result yet.");
    }
    output.line(&format!("Result of {}", utc_of(&check["at"])))?;
    output.line("")?;
    message_of(output, &check["message"])?;
    if !check["event"].is_null() {
        message_of(output, &check["event"])?;
    }
    output.line("")?;
    if let Some(there) = check["spoke_to"].as_str() {
        output.line(&format!("spoke to    {}", plain(there)))?;
    }
    let phases: Vec<String> = list(&check["phases"])
        .iter()
        .map(|phase| format!("{} {}", step(&phase["step"]), span(&phase["took_us"])))
        .collect();
    if !phases.is_empty() {
        output.line(&format!("steps       {}", phases.join(", ")))?;
    }
    if let Some(version) = check["tls_version"].as_str() {
        output.line(&format!("TLS         {}", plain(version)))?;
    }
    for certificate in list(&check["certificates"]) {
        let (subject, until) =
            (text_of(&certificate["subject"]), utc_of(&certificate["not_after"]));
        output.line(&plain(&format!("certificate {subject}, until {until}")))?;
    }
    let web = &check["web"];
    if !web.is_null() {
        let rate = web["rate_bytes_per_s"].as_u64();
        let rate = rate.map(|rate| format!(", {} kB a second", rate / 1_000)).unwrap_or_default();
        let (version, status) = (text_of(&web["version"]), &web["status"]);
        let size = &web["size_bytes"];
        output.line(&format!("HTTP/{version}    status {status}, {size} bytes read{rate}"))?;
    }
    resolvers(output, check)?;
    resources(output, list(&web["resources"]))?;
    if let Some(said) = check["said"].as_str() {
        output.line("")?;
        output.line("The server said:")?;
        said.lines().take(20).try_for_each(|line| output.line(&format!("  {}", plain(line))))?;
    }
    results(output, list(&check["results"]))
}

fn resolvers(output: &Output, check: &Value) -> Result<(), Failure> {
    let resolved = list(&check["resolved"]);
    if resolved.is_empty() {
        return Ok(());
    }
    output.line("")?;
    let rows = resolved.iter().map(|one| {
        let addresses: Vec<String> = list(&one["addresses"]).iter().map(text_of).collect();
        let cause = one["cause"]["text"].as_str().map(str::to_owned);
        let answer = cause.unwrap_or_else(|| addresses.join(", "));
        let kept = one["ttl_s"].as_u64().map(|ttl| format!("{ttl} s")).unwrap_or_default();
        let authority = if one["authoritative"] == true { "yes" } else { "no" };
        vec![text_of(&one["resolver"]), answer, kept, authority.to_owned(), span(&one["took_us"])]
    });
    output.table(&["resolver", "answer", "TTL", "authoritative", "time"], rows.collect())
}

/// What a page refers to, as bars along the time it took.
fn resources(output: &Output, resources: &[Value]) -> Result<(), Failure> {
    const COLUMNS: u64 = 30;
    let ends =
        |one: &Value| one["begun_us"].as_u64().unwrap_or(0) + one["took_us"].as_u64().unwrap_or(0);
    let Some(longest) = resources.iter().map(ends).max().filter(|longest| *longest > 0) else {
        return Ok(());
    };
    output.line("")?;
    let column = |us: u64| usize::try_from(us * COLUMNS / longest).unwrap_or(0);
    let rows = resources.iter().map(|one| {
        let begun = one["begun_us"].as_u64().unwrap_or(0);
        let first = begun + one["first_byte_us"].as_u64().unwrap_or(0);
        let (from, middle, end) = (column(begun), column(first), column(ends(one)));
        let bar = format!(
            "{}{}{}",
            " ".repeat(from),
            "-".repeat(middle.saturating_sub(from)),
            "=".repeat(end.saturating_sub(middle).max(1))
        );
        let outcome = match (one["cause"]["text"].as_str(), one["status"].as_u64()) {
            (Some(cause), _) => cause.to_owned(),
            (None, Some(status)) => status.to_string(),
            (None, None) => ABSENT.to_owned(),
        };
        vec![
            text_of(&one["path"]),
            outcome,
            one["size_bytes"].to_string(),
            span(&one["took_us"]),
            bar,
        ]
    });
    let head = ["resource", "status", "bytes", "time", "- until the first byte, = transfer"];
    output.table(&head, rows.collect())
}

fn results(output: &Output, results: &[Value]) -> Result<(), Failure> {
    let bad = results.iter().filter(|result| result["good"] == false).count();
    output.line("")?;
    output.line(&format!("{bad} of the last {} results failed.", results.len()))?;
    let rows = results.iter().take(8).map(|result| {
        let outcome = failure(result).unwrap_or_else(|| "good".to_owned());
        vec![utc_of(&result["at"]), span(&result["took_us"]), outcome]
    });
    output.table(&["at", "duration", "result"], rows.collect())
}
