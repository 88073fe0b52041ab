//! The measuring program at a site: drives the probe engines on a link, spools what they give,
//! and speaks with the service.
//!
//! It opens no port. It knows the service by the key that its join code pinned, and is known by
//! a client certificate. What it has measured is on disk before it is uploaded, and stays there
//! until the service has acknowledged it.

mod clock;
mod exchange;
mod identity;
mod link;
mod probing;
mod run;
mod spool;
mod sys;
mod tls;

pub use exchange::{Exchange, ExchangeError};
pub use identity::{Identity, IdentityError};
pub use link::{Link, LinkError};
pub use run::{AgentConfig, AgentError, join, run};
pub use spool::{Spool, SpoolError};
