//! Finished measurements of an agent, before they reach the spool.

use itinera_model::check::CheckRound;
use itinera_model::diagnosis::DiagnosisReport;
use itinera_model::host_facts::HostFactsRound;
use itinera_model::reading::Reading;
use itinera_model::round::Round;
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::throughput::ThroughputRound;
use itinera_model::two_way::{PairRoute, TwoWayRound};

/// A settled round with what it refers to.
#[derive(Debug, Clone)]
pub(crate) struct Measured {
    pub(crate) round: Round,
    pub(crate) flow: Flow,
    pub(crate) resolution: Resolution,
    pub(crate) route: Route,
    pub(crate) reading: Reading,
}

/// What was measured.
#[derive(Debug, Clone)]
pub(crate) enum Measurement {
    /// The hops of a path.
    Sweep(Box<Measured>),
    /// Both directions between agents.
    TwoWay(Box<TwoWayRound>),
    /// The route of a pair in the direction in which the agent sends.
    PairRoute(Box<PairRoute>),
    /// What a service answered.
    Check(Box<CheckRound>),
    /// Host facts of the agent.
    HostFacts(Box<HostFactsRound>),
    /// Progress of a diagnosis.
    Diagnosis(Box<DiagnosisReport>),
    /// How much got through.
    Throughput(Box<ThroughputRound>),
}

impl From<Measured> for Measurement {
    fn from(measured: Measured) -> Self {
        Self::Sweep(Box::new(measured))
    }
}

impl From<TwoWayRound> for Measurement {
    fn from(round: TwoWayRound) -> Self {
        Self::TwoWay(Box::new(round))
    }
}
