//! The real binary, with real PostgreSQL, in temporary directories.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "tests may fail loudly")]

mod accuracy;
mod browser;
mod demonstration;
mod foreign;
mod happened;
mod help;
mod ingest;
mod live;
mod measuring;
mod outage;
mod outward;
mod people;
mod poison;
mod processes;
mod refusals;
mod support;
mod survey;
