//! The fixed settings of a hop sweep.

use crate::packet::{ProbeSpec, ProbeSpecError};
use itinera_model::unit::{HopLimit, Micros};

/// Flows that one sweep takes in turn at most.
pub const MAX_FLOWS: usize = 16;

/// Settings of one hop sweep: one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SweepConfig {
    /// What its probes look like.
    pub probe: ProbeSpec,
    /// Source port or ICMP identifier by flow, 1..=16 of them. Rounds take them in turn: all
    /// probes of a round belong to one flow.
    pub source_ports: Vec<u16>,
    /// From the start of one round to the next, before a jitter of a tenth in either direction.
    pub interval: Micros,
    /// Probes for each hop in a round, 1..=16.
    pub probes_per_hop: u8,
    /// The longest wait for an answer; after what the path has taught, less.
    pub timeout: Micros,
    /// The first hop limit tried.
    pub first_hop: HopLimit,
    /// The last hop limit tried.
    pub last_hop: HopLimit,
    /// Of so many rounds one sweeps all hops, at least 1; the others probe the target alone, and
    /// the next is a whole one as soon as something is lost.
    pub full_every: u8,
    /// Rounds to make; for ever where absent.
    pub rounds: Option<u64>,
    /// Where chance begins.
    pub seed: u64,
}

/// Why a configuration cannot be driven.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SweepConfigError {
    /// About its probes.
    #[error(transparent)]
    Probe(#[from] ProbeSpecError),
    /// Probes per hop outside 1..=16.
    #[error("probes per hop {0} is outside 1..=16")]
    ProbesPerHop(u8),
    /// No flow, or more than 16.
    #[error("{0} flows, which is outside 1..=16")]
    Flows(usize),
    /// An interval under 100 ms.
    #[error("interval {0} is under 100 ms")]
    Interval(Micros),
    /// A timeout of zero or over 10 s.
    #[error("timeout {0} is outside 1 ms to 10 s")]
    Timeout(Micros),
    /// The first hop limit lies behind the last.
    #[error("the first hop limit {0} lies behind the last, {1}")]
    Hops(u8, u8),
    /// No round is ever whole.
    #[error("one of 0 rounds cannot be whole")]
    FullEvery,
}

impl SweepConfig {
    /// Checks every bound.
    ///
    /// # Errors
    /// [`SweepConfigError`] naming the first field out of bounds.
    pub fn check(&self) -> Result<(), SweepConfigError> {
        self.probe.check()?;
        let (first, last) = (self.first_hop.as_u8(), self.last_hop.as_u8());
        if !(1..=16).contains(&self.probes_per_hop) {
            Err(SweepConfigError::ProbesPerHop(self.probes_per_hop))
        } else if !(1..=MAX_FLOWS).contains(&self.source_ports.len()) {
            Err(SweepConfigError::Flows(self.source_ports.len()))
        } else if self.interval < Micros::from_millis(100) {
            Err(SweepConfigError::Interval(self.interval))
        } else if !(1_000..=10_000_000).contains(&self.timeout.as_micros()) {
            Err(SweepConfigError::Timeout(self.timeout))
        } else if first > last {
            Err(SweepConfigError::Hops(first, last))
        } else if self.full_every == 0 {
            Err(SweepConfigError::FullEvery)
        } else {
            Ok(())
        }
    }
}
