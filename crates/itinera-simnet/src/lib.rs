//! A simulated internet from a scenario file: forwarding with balancing and other return routes,
//! loss in bursts, queues, the misleading answers of hops (silence, rate limiting, slow answers, tunnels,
//! translated addresses), timed faults with labelled truth.
//!
//! This crate promises no sockets, no clock and no chance of its own: whole IP packets, ticks
//! and a seed come in; packets and the next deadline come out. The same scenario, seed and
//! inputs give the same outputs, in virtual time as fast as the machine can, or in real time
//! when a driver waits for each deadline.

mod answering;
pub mod closed_form;
mod engine;
mod flow;
mod host_facts;
mod life;
mod line;
mod noise;
mod routing;
mod scenario;
pub mod service;
mod time;
mod translate;
mod world;
pub mod worlds;

pub use engine::{Delivery, Refused, Simnet};
pub use life::fault_spell;
pub use noise::Noise;
pub use scenario::{Scenario, ScenarioError, TlsHabit};
pub use service::Service;
pub use world::{Endpoint, Truth, TruthCause};
