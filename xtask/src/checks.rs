//! Gauges over the source: dependencies between crates, lengths of files, share of tests, import
//! cycles, words.

use crate::command::say;
use crate::cycles::cycles;
use crate::words::words;
use anyhow::{Context, Result, bail};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Which of our crates a crate may use outside its tests. ARCHITECTURE.md has the reasons.
const ARROWS: [(&str, &[&str]); 15] = [
    ("itinera-model", &[]),
    ("itinera-wire", &[]),
    ("itinera-probe", &["itinera-model", "itinera-wire"]),
    ("itinera-analysis", &["itinera-model"]),
    ("itinera-simnet", &["itinera-model", "itinera-wire"]),
    ("itinera-candidates", &["itinera-model", "itinera-analysis"]),
    (
        "itinera-lab",
        &[
            "itinera-model",
            "itinera-wire",
            "itinera-probe",
            "itinera-analysis",
            "itinera-candidates",
            "itinera-simnet",
        ],
    ),
    ("itinera-stack", &[]),
    ("itinera-check", &["itinera-model", "itinera-stack"]),
    ("itinera-testserver", &["itinera-model", "itinera-simnet", "itinera-stack"]),
    (
        "itinera-agent",
        &["itinera-model", "itinera-wire", "itinera-probe", "itinera-stack", "itinera-check"],
    ),
    ("itinera-store", &["itinera-model"]),
    ("itinera-service", &["itinera-model", "itinera-analysis", "itinera-store"]),
    (
        "itinera",
        &[
            "itinera-model",
            "itinera-analysis",
            "itinera-simnet",
            "itinera-lab",
            "itinera-stack",
            "itinera-check",
            "itinera-testserver",
            "itinera-agent",
            "itinera-store",
            "itinera-service",
        ],
    ),
    ("xtask", &[]),
];

/// Truth must not leak into judgement, not even in tests of either.
const STRANGERS: [(&str, &str); 5] = [
    ("itinera-analysis", "itinera-simnet"),
    ("itinera-simnet", "itinera-analysis"),
    ("itinera-candidates", "itinera-simnet"),
    ("itinera-candidates", "itinera-lab"),
    ("itinera-analysis", "itinera-lab"),
];

const LONG: usize = 600;
const TOO_LONG: usize = 1_000;

pub(crate) fn gauges() -> Result<()> {
    directions()?;
    let files = sources()?;
    let mut too_long = Vec::new();
    for (path, text) in &files {
        let lines = text.lines().count();
        if lines > TOO_LONG {
            too_long.push(path.display().to_string());
        } else if lines > LONG {
            say(&format!("long: {} has {lines} lines", path.display()));
        }
    }
    if !too_long.is_empty() {
        bail!("over {TOO_LONG} lines: {}", too_long.join(", "));
    }
    ratio(&files);
    cycles(&files)?;
    words(&files)
}

fn directions() -> Result<()> {
    let output = Command::new("cargo")
        .args(["metadata", "--format-version=1", "--no-deps", "--offline"])
        .output()
        .context("cannot run cargo metadata")?;
    if !output.status.success() {
        bail!("cargo metadata: {}", String::from_utf8_lossy(&output.stderr));
    }
    let metadata: Value = serde_json::from_slice(&output.stdout)?;
    let allowed: BTreeMap<&str, &[&str]> = ARROWS.into_iter().collect();
    let mut wrong = Vec::new();
    for package in metadata["packages"].as_array().into_iter().flatten() {
        let name = package["name"].as_str().unwrap_or_default();
        let Some(may_use) = allowed.get(name) else {
            wrong.push(format!("{name} has no place in the table of arrows"));
            continue;
        };
        for dependency in package["dependencies"].as_array().into_iter().flatten() {
            let used = dependency["name"].as_str().unwrap_or_default();
            let ours = allowed.contains_key(used);
            let for_tests = dependency["kind"] == "dev";
            let strangers = STRANGERS.contains(&(name, used));
            if strangers || (ours && !for_tests && !may_use.contains(&used)) {
                wrong.push(format!("{name} may not use {used}"));
            }
        }
    }
    if wrong.is_empty() { Ok(()) } else { bail!("{}", wrong.join("; ")) }
}

fn sources() -> Result<Vec<(PathBuf, String)>> {
    let mut files = Vec::new();
    for place in ["crates", "xtask/src", "console/src"] {
        collect(Path::new(place), &mut files)?;
    }
    Ok(files)
}

fn collect(path: &Path, files: &mut Vec<(PathBuf, String)>) -> Result<()> {
    if path.is_dir() {
        for entry in fs::read_dir(path)? {
            collect(&entry?.path(), files)?;
        }
    } else if path.extension().is_some_and(|e| e == "rs" || e == "ts" || e == "tsx")
        && !path.ends_with("schema.d.ts")
    {
        files.push((path.to_owned(), fs::read_to_string(path)?));
    }
    Ok(())
}

/// Lines with code on them: neither blank nor only comment.
fn code_lines(text: &str) -> usize {
    text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with("//")).count()
}

/// Prints test lines over product lines; says when it leaves 0.20 to 0.40.
fn ratio(files: &[(PathBuf, String)]) {
    let (mut tests, mut product) = (0, 0);
    for (path, text) in files {
        let whole = path.components().any(|part| part.as_os_str() == "tests")
            || path.file_stem().is_some_and(|stem| stem == "tests")
            || path.to_string_lossy().contains(".test.");
        let inner = text.find("#[cfg(test)]\nmod tests {").map_or("", |start| &text[start..]);
        let inside = if whole { code_lines(text) } else { code_lines(inner) };
        tests += inside;
        product += code_lines(text) - inside;
    }
    #[allow(clippy::cast_precision_loss, reason = "line counts")]
    let ratio = tests as f64 / product.max(1) as f64;
    say(&format!("tests {tests} lines, product {product} lines, ratio {ratio:.2}"));
    if !(0.20..=0.40).contains(&ratio) {
        say("the ratio is outside 0.20 to 0.40");
    }
}
