//! `itinera set-aside`: commits that could not be judged.

use super::Client;
use super::show::{text_of, utc_of};
use crate::args::SetAsideCommand;
use crate::exit::Failure;
use crate::output::Output;
use serde_json::{Value, json};

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    command: SetAsideCommand,
) -> Result<(), Failure> {
    match command {
        SetAsideCommand::List => {
            let value = client.get("/set-aside").await?;
            output.either(&value, |output| show(output, &value))
        }
        SetAsideCommand::Retry { commit } => {
            client.post(&format!("/set-aside/{commit}/retry"), &json!({})).await?;
            if output.is_json() {
                return output.json(&json!({ "commit_no": commit, "retry": true }));
            }
            output.line(&format!(
                "Commit {commit} is judged again within a few seconds; `itinera set-aside list` \
                 shows whether it could be."
            ))
        }
    }
}

fn show(output: &Output, set_aside: &Value) -> Result<(), Failure> {
    let items = set_aside["items"].as_array().map(Vec::as_slice).unwrap_or_default();
    if items.is_empty() {
        return output.line("Every commit could be judged.");
    }
    let rows = items.iter().map(|item| {
        let state = if item["retry"] == true { "is tried again" } else { "left out" };
        vec![
            item["commit_no"].to_string(),
            text_of(&item["site"]),
            item["rounds"].to_string(),
            utc_of(&item["at"]),
            state.to_owned(),
            text_of(&item["error"]),
        ]
    });
    output.table(&["commit", "site", "rounds", "set aside", "state", "error"], rows.collect())
}
