//! `itinera recompute`.

use crate::args::RecomputeArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use itinera_analysis::Limits;
use itinera_service::recompute::recompute;
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
    let outcome = recompute(&store, Limits::default(), args.from, |commits| {
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
            "{} rounds in {} commits, engine {}:\n  recorded    {} findings, sha256 {}\n  \
             recomputed  {} findings, sha256 {}",
            outcome.rounds,
            outcome.commits,
            outcome.engine,
            outcome.recorded,
            outcome.recorded_sha256,
            outcome.recomputed,
            outcome.recomputed_sha256
        ))?;
    }
    if outcome.agrees() {
        return Ok(());
    }
    let first = outcome.differences.iter().map(|(path, window)| format!("{path} at {window}"));
    let first = first.collect::<Vec<_>>().join(", ");
    Err(Failure::say(Code::Differs, format!("stored findings and recomputation differ: {first}")))
}
