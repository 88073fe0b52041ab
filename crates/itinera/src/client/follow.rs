//! `itinera follow`: what happens, as it happens.

use super::http::Client;
use super::show::utc_of;
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use crate::signals::stop_requested;
use console::style;
use eventsource_stream::{Event, Eventsource};
use futures_util::{Stream, StreamExt};
use indicatif::{ProgressBar, ProgressStyle};
use itinera_model::incident::TimelineKind;
use itinera_model::triage::OperatorAction;
use serde_json::{Value, json};
use std::io::IsTerminal;
use std::time::{Duration, Instant};

/// How often the line at the bottom changes at most.
const STATUS: Duration = Duration::from_secs(1);
/// How long to wait before coming again when the stream has ended.
const AGAIN: Duration = Duration::from_secs(2);

/// Where lines go: above a status line on a terminal, plainly elsewhere.
struct Screen {
    output: Output,
    bar: Option<ProgressBar>,
    changed_at: Option<Instant>,
}

impl Screen {
    fn new(output: Output) -> Self {
        let bar = (std::io::stdout().is_terminal() && !output.is_json()).then(|| {
            let bar = ProgressBar::new_spinner();
            if let Ok(style) = ProgressStyle::with_template("{spinner} {wide_msg}") {
                bar.set_style(style);
            }
            bar.enable_steady_tick(Duration::from_millis(250));
            bar
        });
        Self { output, bar, changed_at: None }
    }

    fn line(&self, text: &str) -> Result<(), Failure> {
        match &self.bar {
            Some(bar) => bar.suspend(|| self.output.own_line(text)),
            None => self.output.own_line(text),
        }
    }

    /// What occurred, in words or as it came.
    fn occurred(&self, value: &Value, words: impl FnOnce() -> String) -> Result<(), Failure> {
        if self.output.is_json() { self.output.json_line(value) } else { self.line(&words()) }
    }

    /// Shows the counts in the line at the bottom, not more often than one can read.
    async fn status(&mut self, client: &Client) -> Result<(), Failure> {
        let Some(bar) = &self.bar else { return Ok(()) };
        if self.changed_at.is_some_and(|at| at.elapsed() < STATUS) {
            return Ok(());
        }
        self.changed_at = Some(Instant::now());
        let status = client.get("/status").await?;
        let count = |field: &str| status[field].as_i64().unwrap_or(0);
        bar.set_message(format!(
            "{} agents ({} late), {} paths, {} rounds; {} incidents and {} alarms open. Press Ctrl-C to stop.",
            count("agents"),
            count("agents_late"),
            count("paths"),
            count("rounds"),
            count("open_incidents"),
            count("open_alarms"),
        ));
        Ok(())
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}

/// Follows changes until stopped.
pub(crate) async fn follow(client: &Client, output: &Output) -> Result<(), Failure> {
    let status = client.get("/status").await?;
    if output.is_json() {
        output.json_line(&json!({ "event": "status", "status": status }))?;
    } else {
        output.sentence(status["sentence"].as_str().unwrap_or_default(), "")?;
    }
    let mut screen = Screen::new(*output);
    let stop = stop_requested(false);
    tokio::pin!(stop);
    let mut last = None;
    loop {
        let round = until_it_ends(client, &mut screen, &mut last);
        tokio::select! {
            ended = round => match ended {
                // The service is away or has ended the stream: it is asked again.
                Ok(()) => {}
                Err(failure) if failure.is_unreachable() => {
                    screen.line("The service cannot be reached; trying again.")?;
                }
                Err(failure) => return Err(failure),
            },
            stopped = &mut stop => return stopped.map_err(Failure::from),
        }
        tokio::select! {
            () = tokio::time::sleep(AGAIN) => {}
            stopped = &mut stop => return stopped.map_err(Failure::from),
        }
    }
}

/// One stream from where the one before ended.
async fn until_it_ends(
    client: &Client,
    screen: &mut Screen,
    last: &mut Option<String>,
) -> Result<(), Failure> {
    screen.status(client).await?;
    let mut events = std::pin::pin!(stream(client, last.as_deref()).await?);
    while let Some(event) = events.next().await {
        let Ok(event) = event else { return Ok(()) };
        *last = Some(event.id.clone());
        on_event(client, screen, &event).await?;
        screen.status(client).await?;
    }
    Ok(())
}

async fn stream(
    client: &Client,
    last: Option<&str>,
) -> Result<impl Stream<Item = Result<Event, ()>> + use<>, Failure> {
    let response = client.live(last).await?;
    Ok(response.bytes_stream().eventsource().map(|event| event.map_err(drop)))
}

async fn on_event(client: &Client, screen: &Screen, event: &Event) -> Result<(), Failure> {
    let body: Value = serde_json::from_str(&event.data).map_err(|error| {
        Failure::new(Code::Failed, error).context("the change feed cannot be read")
    })?;
    let what = body["what"].as_str().unwrap_or_default();
    let id = body["id"].as_str().unwrap_or_default();
    match (event.event.as_str(), what) {
        ("missed", _) => screen.occurred(&json!({ "event": "missed" }), || {
            "Some changes were missed. `itinera incidents list --open` shows open incidents."
                .to_owned()
        }),
        // Changes of figures are many; the line at the bottom and the console show them.
        ("alarm", "raised" | "raised-again" | "cleared") => {
            let alarm = client.get(&format!("/alarms/{id}")).await?;
            let value = json!({ "event": "alarm", "what": what, "alarm": alarm });
            screen.occurred(&value, || alarm_line(what, &alarm))
        }
        ("alarm", action) if OperatorAction::of(action) != OperatorAction::Unknown => {
            let alarm = client.get(&format!("/alarms/{id}")).await?;
            let value = json!({ "event": "alarm", "what": what, "alarm": alarm });
            screen.occurred(&value, || action_line(&alarm))
        }
        ("event", "occurred" | "began" | "ended") => {
            let event = client.get(&format!("/events/{id}")).await?;
            let value = json!({ "event": "event", "what": what, "occurred": event });
            screen.occurred(&value, || event_line(what, &event))
        }
        ("incident", _) if is_by_users(TimelineKind::of(what)) => {
            let incident = client.get(&format!("/incidents/{id}")).await?;
            let value = json!({ "event": "incident", "what": what, "incident": incident });
            screen.occurred(&value, || incident_line(what, &incident))
        }
        _ => Ok(()),
    }
}

/// True for an entry that opens an incident or that a user made: alarms and events have lines of
/// their own.
const fn is_by_users(kind: TimelineKind) -> bool {
    use TimelineKind::{Closed, Note, Opened, Reopened};
    matches!(kind, Opened | Note | Closed | Reopened)
}

fn alarm_line(what: &str, alarm: &Value) -> String {
    let (at, word) = match what {
        "raised" => (&alarm["raised_at"], style("alarm raised  ").red().bold()),
        "raised-again" => {
            let history = alarm["history"].as_array().map_or(&[][..], Vec::as_slice);
            let at = history.last().map_or(&alarm["raised_at"], |last| &last["at"]);
            (at, style("raised again  ").red().bold())
        }
        _ => (&alarm["cleared_at"], style("alarm cleared ").green()),
    };
    let sentence = plain(alarm["message"]["headline"].as_str().unwrap_or_default());
    format!("{}  {word}  {sentence}", utc_of(at))
}

fn action_line(alarm: &Value) -> String {
    let done = alarm["actions"].as_array().and_then(|done| done.last()).unwrap_or(&Value::Null);
    let word = style(format!("alarm {:<8}", alarm["no"].as_i64().unwrap_or(0))).bold();
    let words = plain(done["words"].as_str().unwrap_or_default());
    format!("{}  {word}  {words}", utc_of(&done["at"]))
}

fn event_line(what: &str, event: &Value) -> String {
    let (at, word) = match (what, event["perceived_severity"].is_null()) {
        ("ended", _) => (&event["ended_at"], style("over          ").green()),
        (_, false) => (&event["raised_at"], style("fault         ").red().bold()),
        (_, true) => (&event["raised_at"], style("event         ").dim()),
    };
    let sentence = plain(event["message"]["headline"].as_str().unwrap_or_default());
    format!("{}  {word}  {sentence}", utc_of(at))
}

fn incident_line(what: &str, incident: &Value) -> String {
    let events = incident["events"].as_array().map(Vec::as_slice).unwrap_or_default();
    let latest = events.iter().rfind(|event| event["kind"] == what).unwrap_or(&Value::Null);
    let no = incident["no"].as_i64().unwrap_or(0);
    let text = latest["text"].as_str().or_else(|| incident["message"]["headline"].as_str());
    let text = plain(text.unwrap_or_default());
    let who = plain(latest["user"].as_str().unwrap_or_default());
    let word = style(format!("incident {no}    ")).bold();
    format!("{}  {word}  {who}, {what}: {text}", utc_of(&latest["at"]))
}
