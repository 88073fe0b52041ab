//! Completions and manual pages, generated from the command line's own description.

use crate::args::Arguments;
use crate::exit::{Code, Failure};
use crate::output::Output;
use clap::CommandFactory;
use clap_complete::Shell;
use std::path::Path;

pub(crate) fn completions(shell: Shell, output: &Output) -> Result<(), Failure> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "itinera", &mut text);
    output.own_line(String::from_utf8_lossy(&text).trim_end())
}

/// Writes `itinera.1` and one page for each command (man-pages(7)).
pub(crate) fn write(directory: &Path, output: &Output) -> Result<(), Failure> {
    let name = directory.display().to_string();
    let failed = |error| {
        Failure::new(Code::Failed, error).context(format!("cannot write manual pages to {name}"))
    };
    std::fs::create_dir_all(directory).map_err(failed)?;
    clap_mangen::generate_to(Arguments::command(), directory).map_err(failed)?;
    output.line(&format!("Manual pages are in {name}; read one with: man -l {name}/itinera.1"))
}
