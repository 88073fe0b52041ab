//! The analyst's client: one call of the API per command, printed as a table or as it came.

pub(crate) mod alarms;
pub(crate) mod calendars;
pub(crate) mod checks;
mod conditions;
pub(crate) mod counts;
pub(crate) mod events;
pub(crate) mod follow;
pub(crate) mod hand_over;
pub(crate) mod history;
mod http;
pub(crate) mod incidents;
pub(crate) mod notices;
pub(crate) mod pairs;
pub(crate) mod rules;
pub(crate) mod set_aside;
pub(crate) mod show;
pub(crate) mod sign_in;
pub(crate) mod storage;
pub(crate) mod throughput;
mod view;
pub(crate) mod watches;

use crate::exit::{Code, Failure};
use crate::output::Output;
pub(crate) use http::Client;
use serde_json::Value;
use std::io::Read;
use std::path::Path;

pub(crate) async fn status(client: &Client, output: &Output) -> Result<(), Failure> {
    let value = client.get("/status").await?;
    output.either(&value, |output| show::status(output, &view::read(value.clone())?))
}

pub(crate) async fn agents(client: &Client, output: &Output) -> Result<(), Failure> {
    let value = client.get("/agents").await?;
    output.either(&value, |output| show::agents(output, &view::read(value.clone())?))
}

pub(crate) async fn paths(client: &Client, output: &Output) -> Result<(), Failure> {
    let items = client.all_pages("/paths?limit=500").await?;
    output.either(&items, |output| show::paths(output, &view::read::<Vec<_>>(items.clone())?))
}

pub(crate) async fn path(client: &Client, output: &Output, id: &str) -> Result<(), Failure> {
    let id = full_id(client, id).await?;
    let value = client.get(&format!("/paths/{id}")).await?;
    output.either(&value, |output| show::path(output, &view::read(value.clone())?))
}

/// A path's whole id from the end of it that tables show.
async fn full_id(client: &Client, id: &str) -> Result<String, Failure> {
    if id.parse::<uuid::Uuid>().is_ok() {
        return Ok(id.to_owned());
    }
    let items = client.all_pages("/paths?limit=500").await?;
    let ids = items.as_array().into_iter().flatten().filter_map(|item| item["id"].as_str());
    let wanted = id.to_ascii_lowercase();
    let matching: Vec<&str> =
        ids.filter(|known| !wanted.is_empty() && known.ends_with(&wanted)).collect();
    match matching.as_slice() {
        [one] => Ok((*one).to_owned()),
        [] => Err(Failure::say(
            Code::Refused,
            format!("no path's id ends in {id:?}; `itinera paths` lists them"),
        )),
        many => Err(Failure::say(
            Code::Refused,
            format!("{} paths' ids end in {id:?}; give more of it", many.len()),
        )),
    }
}

pub(crate) async fn import_owners(
    client: &Client,
    output: &Output,
    file: &Path,
    source: Option<&str>,
) -> Result<(), Failure> {
    let name = file.display().to_string();
    let mut body = Vec::new();
    let read = if name == "-" {
        std::io::stdin().lock().read_to_end(&mut body)
    } else {
        std::fs::File::open(file).and_then(|mut file| file.read_to_end(&mut body))
    };
    read.map_err(|e| Failure::new(Code::BadFile, e).context(format!("cannot read {name}")))?;
    let source = source.map_or_else(
        || {
            file.file_name()
                .map_or_else(|| name.clone(), |name| name.to_string_lossy().into_owned())
        },
        str::to_owned,
    );
    let value = client.import_owners(&source, body, None).await?;
    output.either(&value, |output| show::import(output, &view::read(value.clone())?))
}

/// The text in a file, or on standard input for `-`.
fn text_in(file: &Path) -> Result<String, Failure> {
    let name = file.display().to_string();
    let mut text = String::new();
    let read = match name.as_str() {
        "-" => std::io::stdin().lock().read_to_string(&mut text),
        _ => std::fs::File::open(file).and_then(|mut file| file.read_to_string(&mut text)),
    };
    read.map_err(|e| Failure::new(Code::BadFile, e).context(format!("cannot read {name}")))?;
    Ok(text)
}

pub(crate) async fn join_code(
    client: &Client,
    output: &Output,
    site: &str,
    lifetime_s: u32,
) -> Result<(), Failure> {
    let wanted = serde_json::json!({ "site": site, "lifetime_s": lifetime_s });
    let value: Value = client.post("/join-codes", &wanted).await?;
    output.either(&value, |output| show::join_code(output, &view::read(value.clone())?))
}
