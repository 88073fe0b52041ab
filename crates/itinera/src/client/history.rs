//! `itinera history`: loss and delay of a path, its member routes or a pair over time.

use super::show::{ABSENT, list, loss_of, ms_of, utc_of};
use super::{Client, full_id};
use crate::args::HistoryArgs;
use crate::exit::Failure;
use crate::output::{Output, plain};
use serde_json::Value;

const NOTHING: &str = "No measurements are summed up in this range.";

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    args: &HistoryArgs,
) -> Result<(), Failure> {
    let range = args.range.or_days(args.days).query()?;
    if let Some(pair) = &args.pair {
        let value = client.get(&format!("/pairs/{pair}/history?{range}")).await?;
        return output.either(&value, |output| show_pair(output, &value));
    }
    let id = full_id(client, args.id.as_deref().unwrap_or_default()).await?;
    let by_route = args.by_route;
    let place = format!("/paths/{id}/history?by_route={by_route}{range}");
    let value = client.get(&place).await?;
    output.either(
        &value,
        |output| {
            if by_route { show_routes(output, &value) } else { show(output, &value) }
        },
    )
}

/// Loss and delay of a point or a sum.
fn measured(of: &Value) -> [String; 6] {
    [
        of["rounds"].to_string(),
        format!("{} of {}", of["lost"], of["sent"]),
        loss_of(&of["loss_ratio"]),
        ms_of(&of["delay_p5_us"]),
        ms_of(&of["delay_p50_us"]),
        ms_of(&of["delay_p95_us"]),
    ]
}

fn each_line(output: &Output, history: &Value, delays: &str) -> Result<(), Failure> {
    let minutes = history["span_s"].as_u64().unwrap_or(0) / 60;
    output.line(&format!("Each line sums up {minutes} minutes. {delays}"))
}

fn show(output: &Output, history: &Value) -> Result<(), Failure> {
    let points = list(&history["points"]);
    if points.is_empty() {
        return output.line(NOTHING);
    }
    each_line(output, history, "Delays are round-trip, in ms.")?;
    let row = |point: &Value| [vec![utc_of(&point["at"])], measured(point).to_vec()].concat();
    let heads = ["from", "rounds", "lost", "loss", "5 %", "median", "95 %"];
    output.table(&heads, points.iter().map(row).collect())
}

/// The first digits of a route's identity, as `counts` shows it.
fn name_of(route: &Value) -> String {
    let identity = route["route"].as_str().map(|identity| identity.get(..8).unwrap_or(identity));
    identity.unwrap_or("not told apart").to_owned()
}

/// Routes beside each other: what each gave, and the hops in which they differ.
fn show_routes(output: &Output, history: &Value) -> Result<(), Failure> {
    let routes = list(&history["routes"]);
    if routes.is_empty() {
        return output.line(NOTHING);
    }
    let minutes = history["span_s"].as_u64().unwrap_or(0) / 60;
    output.line(&format!(
        "Sums over the range, by route; times to {minutes} minutes. Delays are round-trip, in ms."
    ))?;
    let rows = routes.iter().map(|route| {
        let points = list(&route["points"]);
        let time = |point: Option<&Value>| point.map_or_else(String::new, |it| utc_of(&it["at"]));
        let times = vec![time(points.first()), time(points.last())];
        [vec![name_of(route)], measured(&route["sum"]).to_vec(), times].concat()
    });
    let heads =
        ["route", "rounds", "lost", "loss", "5 %", "median", "95 %", "first seen", "last seen"];
    output.table(&heads, rows.collect())?;
    let known: Vec<(String, &[Value])> = routes
        .iter()
        .filter(|route| !route["route"].is_null())
        .map(|route| (name_of(route), list(&route["addresses"])))
        .collect();
    if known.len() < 2 {
        return Ok(());
    }
    let hops = known.iter().map(|(_, addresses)| addresses.len()).max().unwrap_or(0);
    let address = |addresses: &[Value], hop: usize| match addresses.get(hop) {
        None => String::new(),
        Some(address) => plain(address.as_str().unwrap_or("no answer")).to_string(),
    };
    let differing = (0..hops).filter_map(|hop| {
        let all: Vec<String> = known.iter().map(|(_, of)| address(of, hop)).collect();
        let differs = all.iter().any(|one| *one != all[0]);
        differs.then(|| [vec![(hop + 1).to_string()], all].concat())
    });
    let differing: Vec<Vec<String>> = differing.collect();
    output.line("\nHops in which the routes differ:")?;
    let names = known.iter().map(|(name, _)| name.clone());
    let heads: Vec<String> = std::iter::once("hop".to_owned()).chain(names).collect();
    let heads: Vec<&str> = heads.iter().map(String::as_str).collect();
    output.table(&heads, differing)
}

fn show_pair(output: &Output, history: &Value) -> Result<(), Failure> {
    let points = list(&history["points"]);
    if points.is_empty() {
        return output.line(NOTHING);
    }
    let site = |nth: usize| plain(history["sites"][nth].as_str().unwrap_or(ABSENT)).to_string();
    output.line(&format!("forward: {} to {}.", site(0), site(1)))?;
    each_line(output, history, "Variation is the median of the rounds, in ms.")?;
    let rows = points.iter().map(|point| {
        let [forward, back] = ["forward", "return"].map(|name| &point[name]);
        let lost = |of: &Value| {
            let count = |name: &str| of[name].as_u64().unwrap_or(0);
            format!("{} of {}", count("lost"), count("lost") + count("arrived"))
        };
        vec![
            utc_of(&point["at"]),
            point["rounds"].to_string(),
            lost(forward),
            loss_of(&forward["loss_ratio"]),
            ms_of(&forward["variation_p50_us"]),
            lost(back),
            loss_of(&back["loss_ratio"]),
            ms_of(&back["variation_p50_us"]),
            point["undetermined"].to_string(),
        ]
    });
    let heads = [
        "from",
        "rounds",
        "forward lost",
        "loss",
        "variation",
        "return lost",
        "loss",
        "variation",
        "undetermined",
    ];
    output.table(&heads, rows.collect())
}
