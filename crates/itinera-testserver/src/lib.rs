//! Services of the simulated internet on real streams: test servers from a scenario accept
//! connections of hosts in user space, or of the kernel's loopback in tests, and speak TLS with
//! certificates that are right or wrong as the scenario says.
//!
//! What they say is `itinera-simnet`'s; this crate only carries it.
//!
//! Receivers of notices are here too: they keep what the service sends.

mod certificates;
pub mod receivers;
mod serving;

pub use certificates::{Authority, AuthorityError};
pub use serving::{Clock, serve_on_loopback, serve_on_stack};
