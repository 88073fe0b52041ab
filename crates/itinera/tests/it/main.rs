//! The real binary, with real PostgreSQL, in temporary directories.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "tests may fail loudly")]

mod accuracy;
mod backfill;
mod backup;
mod browser;
mod chaos;
mod cut_off;
mod demonstration;
mod diagnose;
mod events;
mod foreign;
mod help;
mod ingest;
mod live;
mod measuring;
mod notices;
mod outage;
mod planned_work;
mod poison;
mod processes;
mod refusals;
mod rules;
mod storm;
mod support;
mod survey;
mod two_services;
mod users;
