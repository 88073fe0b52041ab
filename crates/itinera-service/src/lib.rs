//! The service: takes in what agents measured, judges it, and shows it to users.
//!
//! Two listeners: one for users and programs (HTTP API, console, metrics), one for agents
//! (TLS with client certificates). Judgement follows the log of commits under a fenced
//! lease, so that it says the same whether it ran through or was killed in between.

mod agent_api;
pub mod api;
mod authority;
pub mod backfill;
pub mod backup;
mod calendar;
mod clock;
pub mod config;
mod console;
mod context;
mod correlation;
pub mod delivering;
mod disk;
mod duty;
mod engine;
pub mod evidence;
mod inventory;
mod live;
mod metrics;
mod notices;
pub mod owner_csv;
mod past;
mod problem;
mod rebuild;
pub mod recompute;
mod runner;
pub mod secret_file;
mod self_alarms;
mod server;
mod sign_in;
mod storage;
mod supervise;
#[cfg(test)]
mod testing;
mod throughput;
mod timed_listener;
mod tls_listener;
mod trial;
mod two_way;
mod unpacking;
mod watches;

pub use config::{Config, ConfigError, ThroughputRule};
pub use server::{Service, ServiceError};
pub use sign_in::FirstError;
