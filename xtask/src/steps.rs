//! Named steps, each said before it runs and timed after it.

use crate::command::{command, output_of, run, run_in, say};
use crate::{checks, packages};
use anyhow::{Context, Result, bail};
use std::fs;
use std::path::Path;
use std::time::{Instant, SystemTime};

fn step(name: &str, work: impl FnOnce() -> Result<()>) -> Result<()> {
    say(&format!("== {name}"));
    let begun = Instant::now();
    work().with_context(|| name.to_owned())?;
    say(&format!("== {name}: {:.0} s", begun.elapsed().as_secs_f64()));
    Ok(())
}

fn newest_change(path: &Path) -> SystemTime {
    let own = fs::metadata(path).and_then(|meta| meta.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
    let inner = fs::read_dir(path).into_iter().flatten().flatten();
    inner.map(|entry| newest_change(&entry.path())).fold(own, SystemTime::max)
}

/// Installs the console's packages as its lock file says, unless that was done already.
fn console_packages() -> Result<()> {
    let done = Path::new("console/node_modules/.package-lock.json");
    if done.exists() && newest_change(done) >= newest_change(Path::new("console/package-lock.json"))
    {
        return Ok(());
    }
    step("console packages", || {
        run_in("console", "npm", &["ci", "--no-fund", "--no-audit", "--loglevel=error"])
    })
}

/// Builds the console, unless it is newer than everything it is built from.
pub(crate) fn build_console() -> Result<()> {
    console_packages()?;
    let built = newest_change(Path::new("console/dist/index.html"));
    let sources = ["src", "public", "index.html", "package-lock.json", "vite.config.ts"];
    let sources = sources.map(|source| newest_change(&Path::new("console").join(source)));
    if sources.into_iter().all(|source| source <= built) {
        return Ok(());
    }
    step("console build", || npm_run("build"))
}

fn npm_run(script: &str) -> Result<()> {
    run_in("console", "npm", &["run", "--silent", "--loglevel=error", script])
}

pub(crate) fn build_binary() -> Result<()> {
    step("binary (a first build takes some minutes)", || {
        run("cargo", &["build", "--package", "itinera"])
    })
}

/// Everything CI runs, cheapest first.
pub(crate) fn test() -> Result<()> {
    packages::ensure(&packages::TESTS)?;
    step("format", || run("cargo", &["fmt", "--all", "--check"]))?;
    step("gauges", checks::gauges)?;
    console_packages()?;
    for script in ["types", "lint", "test"] {
        step(&format!("console {script}"), || npm_run(script))?;
    }
    build_console()?;
    step("clippy", || {
        run(
            "cargo",
            &["clippy", "--workspace", "--all-targets", "--quiet", "--", "--deny", "warnings"],
        )
    })?;
    step("docs", || {
        let status = command(
            "cargo",
            &["doc", "--workspace", "--no-deps", "--document-private-items", "--quiet"],
        )
        .env("RUSTDOCFLAGS", "--deny warnings")
        .status()?;
        if status.success() { Ok(()) } else { bail!("cargo doc: {status}") }
    })?;
    // The binary as the tests need it: built apart, with other features, most of it would be
    // compiled twice.
    step("build for tests", || run("cargo", &["test", "--workspace", "--quiet", "--no-run"]))?;
    step("API description", api_has_not_drifted)?;
    // A bench that has stopped working is noticed; what it measures needs the long form.
    step("benches in short form", || {
        let mut arguments = vec!["bench", "--workspace", "--profile", "dev"];
        arguments.extend(BENCHES.iter().flat_map(|bench| ["--bench", bench]));
        run("cargo", &[arguments, vec!["--", "--smoke"]].concat())
    })?;
    step("tests", || run("cargo", &["test", "--workspace", "--no-fail-fast"]))
}

const BENCHES: [&str; 10] = [
    "accuracy",
    "busy_service",
    "compaction",
    "evidence",
    "history",
    "ingest",
    "judging",
    "probing",
    "storm",
    "virtual_time",
];
const DESCRIPTION: &str = "console/openapi.json";
const TYPES: &str = "console/src/api/schema.d.ts";

fn described() -> Result<Vec<u8>> {
    let itinera = crate::itinera()?;
    output_of(itinera.to_str().context("a path that is text")?, &["api-description"])
}

pub(crate) fn write_api() -> Result<()> {
    console_packages()?;
    build_binary()?;
    fs::write(DESCRIPTION, described()?)?;
    npm_run("api-types")
}

/// The description that is checked in must be the program's, and the console's types must be
/// made from it.
fn api_has_not_drifted() -> Result<()> {
    if fs::read(DESCRIPTION)? != described()? {
        bail!("{DESCRIPTION} is not what this program serves; run `cargo xtask api`");
    }
    let before = fs::read(TYPES)?;
    npm_run("api-types")?;
    if fs::read(TYPES)? != before {
        bail!("{TYPES} was not made from {DESCRIPTION}; it has been written anew");
    }
    Ok(())
}
