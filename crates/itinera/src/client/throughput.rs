//! `itinera throughput`: how much gets through between two agents.

use super::http::Client;
use super::show::{ABSENT, list, text_of, utc_of};
use crate::args::ThroughputArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// How often a measurement is asked for, and how long it may take.
const GLANCE: Duration = Duration::from_millis(500);
const PATIENCE: Duration = Duration::from_secs(310);

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    wanted: &ThroughputArgs,
) -> Result<(), Failure> {
    let Some((from, to)) = wanted.from.as_ref().zip(wanted.to.as_ref()) else {
        let items = client.get("/throughput").await?["items"].clone();
        return output.either(&items, |output| table(output, list(&items)));
    };
    let wanted = json!({
        "from": from, "to": to, "by": wanted.by, "seconds": wanted.seconds,
        "most_bytes": wanted.most_bytes, "rate_mbit_s": wanted.rate_mbit_s,
    });
    let made = client.post("/throughput", &wanted).await?;
    let begun = Instant::now();
    let done = loop {
        let items = client.get("/throughput").await?["items"].clone();
        let mine = list(&items).iter().find(|item| item["id"] == made["id"]).cloned();
        let mine = mine.unwrap_or(Value::Null);
        if mine["state"] != "waiting" || begun.elapsed() > PATIENCE {
            break mine;
        }
        tokio::time::sleep(GLANCE).await;
    };
    output.either(&done, |output| {
        output.sentence(done["note"]["text"].as_str().unwrap_or_default(), "")?;
        let carried = |field: &str| done[field].as_u64().map(|bytes| bytes as f64 / 1e6);
        match (carried("carried_in_bytes"), carried("carried_out_bytes")) {
            (Some(inward), Some(out)) => output.line(&format!(
                "During the measurement the sender's interfaces carried {inward:.1} MB in and {out:.1} MB out."
            )),
            _ => Ok(()),
        }
    })?;
    if done["state"] == "done" { Ok(()) } else { Err(Failure::found(Code::Failed as u8)) }
}

fn table(output: &Output, items: &[Value]) -> Result<(), Failure> {
    if items.is_empty() {
        return output.line(
            "Nothing was measured: itinera throughput --from SITE --to SITE, or [[throughput]] in \
             the configuration.",
        );
    }
    let mbit = |value: &Value| {
        value
            .as_u64()
            .map_or_else(|| ABSENT.to_owned(), |bits| format!("{:.1} Mb/s", bits as f64 / 1e6))
    };
    let rows = items.iter().map(|item| {
        vec![
            item["no"].to_string(),
            utc_of(&item["asked_at"]),
            text_of(&item["from"]),
            text_of(&item["to"]),
            text_of(&item["by"]),
            text_of(&item["state"]),
            mbit(&item["got_bit_s"]),
            mbit(&item["least_bit_s"]),
        ]
    });
    let head = ["no", "asked", "from", "to", "by", "state", "got through", "should at least"];
    output.table(&head, rows.collect())
}
