//! `itinera alarms`: lists of alarms, and triage from the terminal.

use super::http::Client;
use super::{show, view};
use crate::args::{AlarmAction, AlarmsArgs, NumberOrId, ShownAlarms, SomeAlarms};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime};

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    AlarmsArgs { action, shown }: AlarmsArgs,
) -> Result<(), Failure> {
    match action {
        Some(action) => act(client, output, action).await,
        None => list(client, output, shown).await,
    }
}

async fn list(client: &Client, output: &Output, shown: ShownAlarms) -> Result<(), Failure> {
    let ShownAlarms { number, open, operator_state, severity, class, assignee, unassigned, during } =
        shown;
    if let Some(number) = number {
        let alarm = client.get(&format!("/alarms/{number}")).await?;
        return output.either(&alarm, |output| show::alarm(output, &view::read(alarm.clone())?));
    }
    let mut fields = vec![("limit", "500".to_owned()), ("open", open.to_string())];
    for (field, values) in
        [("operator_state", operator_state), ("severity", severity), ("class", class)]
    {
        if !values.is_empty() {
            fields.push((field, values.join(",")));
        }
    }
    fields.extend(assignee.map(|name| ("assignee", name)));
    if unassigned {
        fields.push(("unassigned", "true".to_owned()));
    }
    let place = format!("/alarms?{}{}", client.parameters(&fields), during.query()?);
    let items = client.all_pages(&place).await?;
    output
        .either(&items, |output| show::alarms(output, &view::read::<Vec<_>>(items.clone())?, open))
}

/// The request of an action.
async fn request(client: &Client, action: AlarmAction) -> Result<Value, Failure> {
    let named = |numbers: &[NumberOrId]| numbers.iter().map(NumberOrId::to_string).collect();
    let request = |SomeAlarms { numbers, text }: SomeAlarms, action: &str| {
        let alarms: Vec<String> = named(&numbers);
        json!({ "alarms": alarms, "action": action, "text": text })
    };
    Ok(match action {
        AlarmAction::Ack(of) => request(of, "acknowledge"),
        AlarmAction::Unack(of) => request(of, "unacknowledge"),
        AlarmAction::Unshelve(of) => request(of, "unshelve"),
        AlarmAction::Close(of) => request(of, "close"),
        AlarmAction::Reopen(of) => request(of, "reopen"),
        AlarmAction::Assign { of, to, me, .. } => {
            let mut request = request(of, "assign");
            if let Some(to) = to {
                request["to"] = to.into();
            } else if me {
                request["to"] = client.get("/session").await?["name"].take();
            }
            request
        }
        AlarmAction::Shelve { numbers, minutes, until, reason } => {
            let after =
                |minutes: u32| OffsetDateTime::now_utc() + Duration::minutes(minutes.into());
            let until = until.or_else(|| minutes.map(after)).map(|until| until.format(&Rfc3339));
            let until = until.transpose().map_err(|error| Failure::new(Code::Failed, error))?;
            let alarms: Vec<String> = named(&numbers);
            json!({ "alarms": alarms, "action": "shelve", "until": until, "text": reason })
        }
        AlarmAction::Attach { of, incident } => {
            let mut request = request(of, "attach");
            request["incident"] = incident.to_string().into();
            request
        }
    })
}

async fn act(client: &Client, output: &Output, action: AlarmAction) -> Result<(), Failure> {
    let request = request(client, action).await?;
    let outcomes = client.post("/alarms/actions", &request).await?;
    let items = outcomes["items"].as_array().map(Vec::as_slice).unwrap_or_default();
    output.either(&outcomes, |output| {
        items.iter().try_for_each(|item| {
            let what = match item["outcome"].as_str() {
                Some("done") => "done",
                Some("unchanged") => "unchanged, it was so before",
                _ => item["detail"].as_str().unwrap_or("refused"),
            };
            let alarm = item["alarm"].as_str().unwrap_or_default();
            output.line(&plain(&format!("Alarm {alarm}: {what}")))
        })
    })?;
    match items.iter().any(|item| item["outcome"] == "refused") {
        true => Err(Failure::found(Code::Refused as u8)),
        false => Ok(()),
    }
}
