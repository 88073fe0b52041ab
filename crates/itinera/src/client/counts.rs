//! `itinera counts`: probes, answers and delays of a path by hop, or of a pair by direction.

use super::show::{ABSENT, list, loss_of, ms_of, text_of, utc_of};
use super::{Client, full_id};
use crate::args::CountsArgs;
use crate::exit::Failure;
use crate::output::{Output, plain};
use serde_json::Value;

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    args: &CountsArgs,
) -> Result<(), Failure> {
    let mut query = args.range.query()?;
    if let Some(minutes) = args.step {
        query.push_str(&format!("&step_s={}", u64::from(minutes) * 60));
    }
    if let Some(pair) = &args.pair {
        let value = client.get(&format!("/pairs/{pair}/counts?{query}")).await?;
        return output.either(&value, |output| show_pair(output, &value));
    }
    let id = full_id(client, args.id.as_deref().unwrap_or_default()).await?;
    let value = client.get(&format!("/paths/{id}/counts?{query}")).await?;
    output.either(&value, |output| show_path(output, &value))
}

const NOTHING: &str =
    "No measurements in this range. The newest minute appears about half a minute after its end.";

fn show_pair(output: &Output, counts: &Value) -> Result<(), Failure> {
    let steps = list(&counts["steps"]);
    if steps.is_empty() {
        return output.line(NOTHING);
    }
    let site = |nth: usize| plain(counts["sites"][nth].as_str().unwrap_or(ABSENT)).to_string();
    output.line(&format!("forward: {} to {}. Delays in ms.", site(0), site(1)))?;
    let rows = steps.iter().flat_map(|step| {
        ["forward", "return"].map(|name| {
            let direction = &step[name];
            let number = |field: &str| direction[field].as_u64().unwrap_or(0);
            let bounds = list(&direction["floor_us"]);
            let floor = match bounds {
                [low, high] => format!("{} to {}", ms_of(low), ms_of(high)),
                _ => ABSENT.to_owned(),
            };
            vec![
                utc_of(&step["at"]),
                name.to_owned(),
                format!("{} of {}", number("lost"), number("lost") + number("arrived")),
                loss_of(&direction["loss_ratio"]),
                step["undetermined"].to_string(),
                floor,
                ms_of(&direction["variation_us"]),
                number("reordered").to_string(),
            ]
        })
    });
    let heads = [
        "from",
        "direction",
        "lost",
        "loss",
        "undetermined",
        "smallest delay",
        "variation",
        "reordered",
    ];
    output.table(&heads, rows.collect())
}

/// What is counted of a hop beside loss, where there is anything.
fn other(hop: &Value) -> String {
    let count = |name: &str, word: &str| {
        let count = hop[name].as_u64().filter(|count| *count > 0)?;
        Some(format!("{count} {word}"))
    };
    let refused: u64 = list(&hop["unreachable"]).iter().filter_map(|it| it["count"].as_u64()).sum();
    let refused = (refused > 0).then(|| format!("{refused} unreachable"));
    let all = [count("late", "late"), count("left_out", "left out"), refused];
    all.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

fn row(hop: &Value) -> Vec<String> {
    let owner = match hop["owner"]["name"].as_str() {
        None if hop["private"].as_bool() == Some(true) => "private".to_owned(),
        name => name.unwrap_or(ABSENT).to_owned(),
    };
    vec![
        hop["hop"].to_string(),
        text_of(&hop["address"]),
        owner,
        format!("{} of {}", hop["lost"], hop["sent"]),
        loss_of(&hop["loss_ratio"]),
        ms_of(&hop["delay_p5_us"]),
        ms_of(&hop["delay_p50_us"]),
        ms_of(&hop["delay_p95_us"]),
        other(hop),
    ]
}

fn show_path(output: &Output, counts: &Value) -> Result<(), Failure> {
    let steps = list(&counts["steps"]);
    if steps.is_empty() {
        return output.line(NOTHING);
    }
    output.line("Unanswered probes and round-trip delays in ms, by hop.")?;
    for step in steps {
        for route in list(&step["routes"]) {
            output.line("")?;
            output.line(&format!(
                "From {}: {} rounds in {} min, flows: {}, route: {}",
                utc_of(&step["at"]),
                route["rounds"],
                step["minutes"],
                route["flows"],
                route["route"].as_str().unwrap_or(ABSENT).get(..8).unwrap_or(ABSENT),
            ))?;
            let heads =
                ["hop", "address", "owner", "unanswered", "share", "5 %", "median", "95 %", "also"];
            output.table(&heads, list(&route["hops"]).iter().map(row).collect())?;
        }
    }
    Ok(())
}
