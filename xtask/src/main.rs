//! Developers' chores: `cargo xtask demo`, `cargo xtask test`, and their parts.

mod checks;
mod command;
mod cycles;
mod packages;
mod steps;
mod words;

use anyhow::{Context, Result, bail};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Command, ExitCode};

const HELP: &str = "cargo xtask CHORE

  demo [OPTIONS]  install what is missing, build, and run the demonstration until Ctrl-C;
                  options are those of `itinera demo` (--fresh, --seed N, --backfill-days N, --any-port)
  test            install what is missing and run everything that CI runs
  build           build console and binary
  api             write the OpenAPI description and the console's types
  gauges          print test ratio and long files; check directions of dependencies, import cycles, words
";

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let chore = arguments.next().unwrap_or_default();
    let rest: Vec<String> = arguments.collect();
    match run(&chore, &rest) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            command::say(&format!("xtask: {error:#}"));
            ExitCode::FAILURE
        }
    }
}

/// The root of the checkout that cargo runs this in, which may be another than it was built in.
fn root() -> Result<PathBuf> {
    let here = std::env::var_os("CARGO_MANIFEST_DIR").context("run this as `cargo xtask`")?;
    let here = PathBuf::from(here);
    Ok(here.parent().unwrap_or(&here).to_owned())
}

/// The service's binary: cargo puts it beside this one, wherever that is.
fn itinera() -> Result<PathBuf> {
    Ok(std::env::current_exe()?.with_file_name("itinera"))
}

fn run(chore: &str, rest: &[String]) -> Result<()> {
    let root = root()?;
    std::env::set_current_dir(&root).with_context(|| format!("cannot go to {}", root.display()))?;
    match chore {
        "demo" => demo(rest),
        "test" => steps::test(),
        "build" => steps::build_console().and_then(|()| steps::build_binary()),
        "api" => steps::write_api(),
        "gauges" => checks::gauges(),
        "" | "help" | "--help" | "-h" => {
            command::say(HELP);
            Ok(())
        }
        other => bail!("no chore {other:?}\n\n{HELP}"),
    }
}

fn demo(rest: &[String]) -> Result<()> {
    packages::ensure(&packages::DEMONSTRATION)?;
    steps::build_console()?;
    steps::build_binary()?;
    // In our place, so that Ctrl-C reaches it and nothing stands between.
    let itinera = itinera()?;
    let error = Command::new(&itinera).arg("demo").args(rest).exec();
    bail!("cannot run {}: {error}", itinera.display())
}
