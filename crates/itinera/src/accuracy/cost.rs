//! Measures what drawing and candidates cost on this machine.

use itinera_lab::accuracy::{Cost, Job, Meter, costs};
use std::time::Instant;

/// Windows that are drawn for it: ten minutes.
const WINDOWS: u64 = 60;

/// What drawing the world of a job costs, and each candidate in it.
pub(super) fn measured(job: &Job, candidates: &[String]) -> Vec<Cost> {
    let begun = Instant::now();
    let now = || begun.elapsed().as_secs_f64();
    costs(job, WINDOWS, candidates, Meter { now: &now, resident: &resident })
}

/// Bytes of memory that this process holds; nothing where the kernel does not tell.
fn resident() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    let kilobytes = line.and_then(|line| line.split_whitespace().next()?.parse::<f64>().ok());
    kilobytes.unwrap_or_default() * 1_024.0
}
