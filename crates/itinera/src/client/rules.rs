//! `itinera rules`: rules of alarms, read, tried on the past, and saved.

use super::conditions;
use super::http::Client;
use super::show::{limit_share, list, names_of, text_of, utc_of};
use crate::args::{RulesChange, RulesCommand, SetRuleArgs};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use itinera_model::rule::{self, Rule};
use serde::Deserialize;
use serde_json::{Value, json};
use std::path::Path;

/// A file of rules: what `itinera rules show --format json` prints, or the rules alone.
#[derive(Debug, Deserialize)]
struct RulesFile {
    /// The version that was changed; absent for the newest.
    version: Option<i64>,
    rules: Vec<Rule>,
}

/// Reads rules from a file and checks them.
fn rules_in(file: &Path) -> Result<RulesFile, Failure> {
    let text = super::text_in(file)?;
    let name = file.display();
    let bad = |reason: String| Failure::say(Code::BadFile, format!("{name}: {reason}"));
    let is_toml = file.extension().is_some_and(|it| it.eq_ignore_ascii_case("toml"));
    let read: RulesFile = match is_toml {
        true => toml::from_str(&text).map_err(|error| {
            let offset = error.span().map_or(0, |span| span.start).min(text.len());
            let line = text.as_bytes()[..offset].iter().filter(|byte| **byte == b'\n').count() + 1;
            bad(format!("line {line}: {}", error.message()))
        })?,
        false => serde_json::from_str(&text).map_err(|error| bad(error.to_string()))?,
    };
    rule::check(&read.rules).map_err(bad)?;
    Ok(read)
}

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    command: RulesCommand,
) -> Result<(), Failure> {
    match command {
        RulesCommand::Show { version } => {
            let rules = client.get(&place_of(version)).await?;
            output.either(&rules, |output| show(output, &rules))
        }
        RulesCommand::Versions => {
            let items = client.get("/rules/versions").await?["items"].take();
            output.either(&items, |output| versions(output, &items))
        }
        RulesCommand::Try { file, days } => {
            try_rules(client, output, &json!(rules_in(&file)?.rules), days).await
        }
        RulesCommand::Save { file, change } => {
            let RulesFile { version, rules } = rules_in(&file)?;
            save(client, output, (version, json!(rules)), change).await
        }
        RulesCommand::Set(args) => set(client, output, *args).await,
        RulesCommand::Remove { name, change } => {
            let known = client.get("/rules").await?;
            let kept = list(&known["rules"]).iter().filter(|rule| rule["name"] != *name);
            let kept: Vec<&Value> = kept.collect();
            if kept.len() == list(&known["rules"]).len() {
                let text = format!("no rule is called {name:?}; `itinera rules show` lists them");
                return Err(Failure::say(Code::Refused, text));
            }
            save(client, output, (known["version"].as_i64(), json!(kept)), change).await
        }
        RulesCommand::Restore { version, change } => {
            let rules = client.get(&place_of(Some(version))).await?["rules"].take();
            save(client, output, (None, rules), change).await
        }
    }
}

fn place_of(version: Option<i64>) -> String {
    version.map_or_else(|| "/rules".to_owned(), |version| format!("/rules?version={version}"))
}

/// The rule that options ask for.
fn asked(args: &SetRuleArgs) -> Result<Value, Failure> {
    let least = args.least.as_ref().map(|severity| {
        json!([{ "severity": severity, "sites": args.from_sites, "services": args.from_services,
            "paths": args.from_paths }])
    });
    let quiet = match &args.quiet {
        Some(hours) => {
            let when = (&args.days[..], args.zone.as_deref());
            let hours = conditions::given_hours("--quiet", hours, when)?;
            json!({ "hours": hours, "most": args.quiet_most })
        }
        None => Value::Null,
    };
    Ok(json!({
        "name": args.name, "sites": args.site, "services": args.service, "tags": args.tag,
        "owners": args.owner,
        "limits": { "loss_ratio": args.loss, "added_delay_ms": args.added_delay,
            "confidence": args.confidence, "hold_windows": args.hold, "clear_windows": args.clear },
        "severity": { "least": least.unwrap_or_else(|| json!([])), "most": args.most },
        "quiet": quiet,
    }))
}

/// Adds a rule, or replaces the one of its name, and saves or tries all.
async fn set(client: &Client, output: &Output, args: SetRuleArgs) -> Result<(), Failure> {
    let rule = asked(&args)?;
    let known = client.get("/rules").await?;
    let mut rules = list(&known["rules"]).to_vec();
    let at = rules.iter().position(|it| it["name"] == args.name);
    match at {
        Some(at) if args.first => drop(rules.remove(at)),
        Some(at) => rules[at] = rule.clone(),
        None => {}
    }
    if args.first {
        rules.insert(0, rule);
    } else if at.is_none() {
        rules.push(rule);
    }
    match args.only_try {
        Some(days) => try_rules(client, output, &json!(rules), days).await,
        None => save(client, output, (known["version"].as_i64(), json!(rules)), args.change).await,
    }
}

async fn try_rules(
    client: &Client,
    output: &Output,
    rules: &Value,
    days: u16,
) -> Result<(), Failure> {
    let asked = json!({ "rules": rules, "days": days });
    let result = client.post("/rules/trial", &asked).await?;
    output.either(&result, |output| tried(output, &result))
}

/// Saves rules that are a change of a version, or of the newest.
async fn save(
    client: &Client,
    output: &Output,
    (version, rules): (Option<i64>, Value),
    RulesChange { text }: RulesChange,
) -> Result<(), Failure> {
    let version = match version {
        Some(version) => version,
        None => client.get("/rules").await?["version"].as_i64().unwrap_or_default(),
    };
    let asked = json!({ "rules": rules, "text": text });
    let saved = client.put_version("/rules", version, &asked).await?;
    output.either(&saved, |output| {
        let words = "is saved. It applies within a minute";
        let (now, before) = (&saved["version"], version);
        output.line(&format!("Version {now} {words}. `itinera rules restore {before}` undoes it."))
    })
}

fn severity_words(severity: &Value) -> Option<String> {
    let step = |step: &Value| {
        let counts = [("sites", "site"), ("services", "service"), ("paths", "path")];
        let counts = counts.iter().filter_map(|(field, name)| {
            let count = step[field].as_u64()?;
            Some(format!("{count} {name}{}", if count == 1 { "" } else { "s" }))
        });
        let counts: Vec<String> = counts.collect();
        let from = match counts.is_empty() {
            true => String::new(),
            false => format!(" from {}", counts.join(" and ")),
        };
        format!("at least {}{from}", text_of(&step["severity"]))
    };
    let mut parts: Vec<String> = list(&severity["least"]).iter().map(step).collect();
    parts.extend(severity["most"].as_str().map(|most| format!("at most {most}")));
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// Limits in words, each where there is one.
fn limit_words(limits: &Value) -> Option<String> {
    let ratio = |field: &str| limits[field].as_f64().map(limit_share);
    let seconds = |field: &str| limits[field].as_u64().map(|windows| windows * 10);
    let parts = [
        ratio("loss_ratio").map(|loss| format!("{loss} loss")),
        limits["added_delay_ms"].as_u64().map(|ms| format!("{ms} ms added delay")),
        ratio("confidence").map(|confidence| format!("confidence {confidence}")),
        seconds("hold_windows").map(|s| format!("held over {s} s")),
        seconds("clear_windows").map(|s| format!("clear after {s} s")),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

fn show(output: &Output, shown: &Value) -> Result<(), Failure> {
    let rules = list(&shown["rules"]);
    match shown["at"].as_str() {
        None => output.line("No rules are saved: alarms go by the configured limits.")?,
        Some(_) => {
            let (version, user) = (&shown["version"], text_of(&shown["user"]));
            let text = match shown["text"].as_str() {
                Some(text) if !text.is_empty() => format!(": {text}"),
                _ => String::new(),
            };
            let at = utc_of(&shown["at"]);
            output.sentence(&format!("Version {version}, {at}, {user}{text}"), "")?;
        }
    }
    for (index, rule) in rules.iter().enumerate() {
        output.line(&plain(&format!("{} {}", index + 1, text_of(&rule["name"]))))?;
        let selected = conditions::selected(rule);
        let of = if selected.is_empty() { "all paths".to_owned() } else { selected.join("; ") };
        output.sentence(&format!("For {of}"), "  ")?;
        if let Some(words) = limit_words(&rule["limits"]) {
            output.sentence(&format!("Limits: {words}"), "  ")?;
        }
        if let Some(words) = severity_words(&rule["severity"]) {
            output.sentence(&format!("Severity: {words}"), "  ")?;
        }
        if let Some(words) = conditions::hours(&rule["quiet"]["hours"]) {
            let most = rule["quiet"]["most"].as_str();
            let most = most.map(|most| format!(", up to {most}")).unwrap_or_default();
            output.sentence(&format!("Quiet hours: {words}{most}"), "  ")?;
        }
    }
    let configured = limit_words(&shown["configured"]).unwrap_or_default();
    output.sentence(&format!("Where no rule has others: {configured}."), "")
}

fn versions(output: &Output, items: &Value) -> Result<(), Failure> {
    if list(items).is_empty() {
        return output.line("No version is saved. `itinera rules save` saves one.");
    }
    for item in list(items) {
        let (at, user) = (utc_of(&item["at"]), text_of(&item["user"]));
        let head = format!("{} {at} {user} {}", item["version"], text_of(&item["text"]));
        let names = names_of(&item["rules"]).join(", ");
        output.entry(head.trim_end(), if names.is_empty() { "no rules" } else { &names })?;
    }
    Ok(())
}

/// Counts of alarms in words.
fn count_words(counts: &Value) -> String {
    let count = |field: &str| counts[field].as_u64().unwrap_or(0);
    let alarms = count("alarms");
    if alarms == 0 {
        return "no alarm".to_owned();
    }
    let by = ["critical", "major", "minor"].map(|severity| (severity, count(severity)));
    let by = by.iter().filter(|(_, count)| *count > 0);
    let by: Vec<String> = by.map(|(severity, count)| format!("{count} {severity}")).collect();
    let quiet = match count("quiet") {
        0 => String::new(),
        quiet => format!(", {quiet} in quiet hours"),
    };
    let noun = if alarms == 1 { "alarm" } else { "alarms" };
    format!("{alarms} {noun} ({}{quiet})", by.join(", "))
}

fn tried(output: &Output, result: &Value) -> Result<(), Failure> {
    let days = result["days"].as_u64().unwrap_or_default();
    let days = if days == 1 { "day".to_owned() } else { format!("{days} days") };
    output.sentence(
        &format!(
            "These rules would have raised {} in the last {days}.",
            count_words(&result["tried"])
        ),
        "",
    )?;
    output.sentence(
        &format!(
            "The rules in force, on the same {} findings: {}.",
            result["findings"],
            count_words(&result["in_force"])
        ),
        "",
    )?;
    output
        .sentence("Only alarms of paths are tried. Windows without a finding count as calm.", "")?;
    for item in list(&result["items"]) {
        let by = match item["raised_by"].as_str() {
            Some("only-tried") => "new     ",
            Some("only-in-force") => "gone    ",
            Some("other-severity") => "severity",
            _ => "same    ",
        };
        let head = format!(
            "{by} {} {:8} {}",
            utc_of(&item["since"]),
            text_of(&item["severity"]),
            text_of(&item["headline"])
        );
        let times = item["times_raised"].as_u64().filter(|times| *times > 1);
        let rest = [
            Some(names_of(&item["sites"]).join(", ")).filter(|sites| !sites.is_empty()),
            times.map(|times| format!("raised {times} times")),
            item["limits_by"].as_str().map(|rule| format!("limits of rule {rule:?}")),
            item["severity_by"].as_str().map(|rule| format!("severity by rule {rule:?}")),
            item["quiet_by"].as_str().map(|rule| format!("quiet by rule {rule:?}")),
        ];
        output.entry(&head, &rest.into_iter().flatten().collect::<Vec<_>>().join("; "))?;
    }
    match result["more"].as_u64() {
        Some(more) if more > 0 => output.line(&format!("{more} more alarms are not listed.")),
        _ => Ok(()),
    }
}
