//! The measuring program at a site: drives the probe engines on a link, spools what they give,
//! and speaks with the service.
//!
//! Its control opens no port; for two-way measurement it holds one UDP port, and answers there only
//! that has a ticket of the service. It knows the service by the key that its join code pinned, and is known by
//! a client certificate. What it has measured is on disk before it is uploaded, and stays there
//! until the service has acknowledged it.

mod agenda;
mod checking;
mod clock;
mod diagnosis;
mod driver;
mod exchange;
mod host_facts;
mod identity;
mod lateness;
mod limits;
mod link;
mod local_action;
mod measurement;
mod names;
mod pair_routes;
mod plan;
mod precise;
mod privilege;
mod probing;
mod run;
mod simulated;
mod spool;
mod survey;
mod sys;
#[cfg(test)]
mod testbed;
mod throughput;
mod ticket;
mod tls;
mod two_way;
mod upload;
mod wait;

pub use clock::ClockError;
pub use diagnosis::{DiagnosisPlan, DiagnosisProgress, Place, diagnose};
pub use driver::Captured;
pub use exchange::{Exchange, ExchangeError};
pub use host_facts::{Announcements, HostFactsSource};
pub use identity::{Identity, IdentityError};
pub use limits::{LimitsError, LocalLimits};
pub use link::simulated::{CLOSED, FRAME, Frame, SimulatedSocket, unix_nanos_now};
pub use link::{Incoming, Link, LinkError, PlainLink, RawLink, RawSockets, SendId};
pub use local_action::CutOffAction;
pub use privilege::{Ability, abilities, drop_capabilities, unit};
pub use run::{AgentConfig, AgentError, join, run, trial};
pub use spool::{Spool, SpoolError};
pub use survey::{Capture, SURVEYED, SurveyError, SurveyPlan, SurveyProgress, SurveyRound, survey};
