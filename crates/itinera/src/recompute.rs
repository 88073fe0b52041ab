//! `itinera recompute`.

use crate::args::RecomputeArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use itinera_service::recompute::{Compared, recompute};
use itinera_store::Store;
use itinera_store::cluster::Cluster;
use std::io::{IsTerminal, Write};

pub(crate) async fn run(args: &RecomputeArgs, output: &Output) -> Result<(), Failure> {
    let url = match (&args.of.database, &args.of.data) {
        (Some(url), _) => url.clone(),
        (None, Some(data)) => Cluster::url_in(data),
        (None, None) => return Err(Failure::say(Code::Failed, "--database or --data is needed")),
    };
    let store = Store::open(&url).await.map_err(|error| {
        Failure::new(Code::Unreachable, error)
            .context("cannot open the database; is the service running?")
    })?;
    let terminal = std::io::stderr().is_terminal();
    let outcome = recompute(&store, args.from, |commits| {
        if terminal {
            let _unseen = write!(std::io::stderr(), "\r{commits} commits read");
        }
    });
    let outcome = outcome.await.map_err(|error| Failure::new(Code::Failed, error))?;
    if terminal {
        let _unseen = writeln!(std::io::stderr());
    }
    if output.is_json() {
        output.json(&outcome)?;
    } else {
        output.line(&format!(
            "{} rounds in {} commits, judged again by engine {}:",
            outcome.rounds, outcome.commits, outcome.engine
        ))?;
        output.line("          recorded  recomputed")?;
        let kinds = [
            ("findings", &outcome.findings),
            ("alarms", &outcome.alarms),
            ("events", &outcome.events),
        ];
        for (name, it) in kinds {
            output.line(&format!(
                "{name:8}  {:>8}  {:>10}  {}",
                it.recorded,
                it.recomputed,
                verdict(it)
            ))?;
        }
    }
    if outcome.agrees() {
        return Ok(());
    }
    let all = [outcome.findings, outcome.alarms, outcome.events];
    let first = all.into_iter().flat_map(|it| it.differences).take(10).collect::<Vec<_>>();
    let text = format!("what is recorded and what was recomputed differ: {}", first.join("; "));
    Err(Failure::say(Code::Differs, text))
}

fn verdict(it: &Compared) -> String {
    let short = |sha256: &str| sha256.get(..12).unwrap_or(sha256).to_owned();
    if it.agrees() {
        format!("equal, SHA-256 {}", short(&it.recorded_sha256))
    } else {
        format!("SHA-256 {} and {}", short(&it.recorded_sha256), short(&it.recomputed_sha256))
    }
}
