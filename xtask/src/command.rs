//! Runs programs and prints lines.

use anyhow::{Context, Result, bail};
use std::io::Write;
use std::process::{Command, Stdio};

pub(crate) fn say(text: &str) {
    // The reader of the output may have closed it.
    let _written = writeln!(std::io::stdout(), "{text}");
}

pub(crate) fn command(program: &str, arguments: &[&str]) -> Command {
    let mut command = Command::new(program);
    command.args(arguments).env("DEBIAN_FRONTEND", "noninteractive").stdin(Stdio::null());
    command
}

pub(crate) fn run(program: &str, arguments: &[&str]) -> Result<()> {
    run_in(".", program, arguments)
}

pub(crate) fn run_in(directory: &str, program: &str, arguments: &[&str]) -> Result<()> {
    let line = format!("{program} {}", arguments.join(" "));
    let status = command(program, arguments).current_dir(directory).status();
    let status = status.with_context(|| format!("cannot run {line}"))?;
    if status.success() { Ok(()) } else { bail!("{line}: {status}") }
}

/// Runs a program and shows its output only when it fails.
pub(crate) fn run_quietly(program: &str, arguments: &[&str]) -> Result<()> {
    let output = command(program, arguments).output();
    let output = output.with_context(|| format!("cannot run {program}"))?;
    if output.status.success() {
        return Ok(());
    }
    let said = [output.stdout, output.stderr].concat();
    bail!(
        "{program} {}: {}\n{}",
        arguments.join(" "),
        output.status,
        String::from_utf8_lossy(&said)
    )
}

pub(crate) fn output_of(program: &str, arguments: &[&str]) -> Result<Vec<u8>> {
    let output = command(program, arguments).stderr(Stdio::inherit()).output();
    let output = output.with_context(|| format!("cannot run {program}"))?;
    if !output.status.success() {
        bail!("{program} {}: {}", arguments.join(" "), output.status);
    }
    Ok(output.stdout)
}
