//! One path measured once, with no service: the engines one after the other, with progress reports.

#[cfg(test)]
mod tests;

use crate::clock::AgentClock;
use crate::driver::{Captured, Driver, DriverEvent, EngineKey};
use crate::link::{Link, PORTS};
use crate::probing::MAX_FLOWS;
use itinera_model::ensemble::RouteEnsemble;
use itinera_model::id::{BootId, PathId};
use itinera_model::path::Method;
use itinera_model::path_mtu::PathMtu;
use itinera_model::protocol::Pacing;
use itinera_model::reading::Reading;
use itinera_model::round::Round;
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{HopLimit, Micros};
use itinera_probe::{
    Branches, BranchesConfig, Engine, HopSweep, Input, MtuConfig, MtuSearch, ProbeSpec, Sweep,
    SweepConfig,
};
use itinera_wire::Addresses;
use std::net::IpAddr;
use std::sync::Arc;
use tokio::sync::{mpsc, watch};
use uuid::Uuid;

/// Wait for an answer while a question is asked at a time.
const QUESTION_WAIT: Micros = Micros::from_millis(1_000);
/// The smallest packet that an MTU search begins with, over IPv4 and IPv6.
const MTU_FLOOR: u16 = 80;
/// Packets kept in a record at most.
const MAX_CAPTURED: usize = 200_000;

/// What is to be measured.
#[derive(Debug, Clone)]
pub struct SurveyPlan {
    /// The target's name; absent where it is given by address.
    pub name: Option<String>,
    /// Its address.
    pub address: IpAddr,
    /// The address that probes leave from; the kernel's choice where absent.
    pub source: Option<IpAddr>,
    /// Probe method.
    pub method: Method,
    /// Port of UDP and TCP probes.
    pub port: Option<u16>,
    /// Differentiated services code point.
    pub dscp: u8,
    /// Length of the IP packet in bytes.
    pub size_bytes: u16,
    /// Forbid routers to cut probes into fragments.
    pub dont_fragment: bool,
    /// First and last hop limit.
    pub hops: (HopLimit, HopLimit),
    /// Probes for each hop in a round.
    pub probes_per_hop: u8,
    /// From round to round.
    pub interval: Micros,
    /// The longest wait for an answer.
    pub timeout: Micros,
    /// Rounds; until stopped where absent.
    pub rounds: Option<u64>,
    /// Enumerate member routes first, with this chance in parts per million to miss one.
    pub branches_error_ppm: Option<u32>,
    /// Search for the MTU, up to this size in bytes.
    pub mtu_up_to: Option<u16>,
    /// Budgets.
    pub pacing: Pacing,
    /// Keep probes and answers.
    pub capture: bool,
    /// Where chance begins: flows and identities. Two surveys with the same use the same flows.
    pub chance: u128,
}

/// A settled round with everything it refers to.
#[derive(Debug, Clone)]
pub struct SurveyRound {
    /// The round.
    pub round: Round,
    /// Its flow.
    pub flow: Flow,
    /// What the name stood for.
    pub resolution: Resolution,
    /// Its route.
    pub route: Route,
    /// Further content of the answers.
    pub reading: Reading,
}

/// What was kept of a survey, where that was asked for.
#[derive(Debug, Clone, Default)]
pub struct Capture {
    /// Probes and answers.
    pub packets: Vec<Captured>,
    /// How much later than due the engine was served each time, in microseconds.
    pub lateness_us: Vec<u32>,
}

/// Progress.
#[derive(Debug, Clone)]
pub enum SurveyProgress {
    /// Member routes are looked for: the hop in question, and probes sent.
    Branching(u8, u32),
    /// They were found.
    Branches(RouteEnsemble),
    /// The MTU is looked for: what arrives, and what does not.
    Sizing(Option<u16>, Option<u16>),
    /// It was found.
    Mtu(PathMtu),
    /// A round was settled.
    Round(Box<SurveyRound>),
}

/// Why nothing can be measured.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SurveyError {
    /// The kernel knows no route there.
    #[error("no route to {0}")]
    NoRoute(IpAddr, #[source] std::io::Error),
    /// Two versions of IP.
    #[error("{0} cannot send to {1}: two versions of IP")]
    TwoVersions(IpAddr, IpAddr),
    /// No port to knock at.
    #[error("tcp-syn needs a port to knock at: give --port")]
    NoPort,
    /// A method that needs more privilege than there is.
    #[error(
        "{0} needs raw sockets: run as root, or grant them with `setcap cap_net_raw+ep` on this program"
    )]
    Privilege(Method),
    /// A setting out of bounds.
    #[error(transparent)]
    Sweep(#[from] itinera_probe::SweepConfigError),
    /// A setting out of bounds.
    #[error(transparent)]
    Branches(#[from] itinera_probe::BranchesConfigError),
    /// A setting out of bounds.
    #[error(transparent)]
    Mtu(#[from] itinera_probe::MtuConfigError),
}

/// The path's name in a survey, which has but one.
pub const SURVEYED: PathId = PathId::from_uuid(Uuid::nil());

/// Measures as planned until done or told to stop; gives what was kept.
///
/// # Errors
/// [`SurveyError`] before anything is sent; what happens to packets is a measurement.
pub async fn survey(
    link: Link,
    plan: &SurveyPlan,
    news: mpsc::Sender<SurveyProgress>,
    stop: watch::Receiver<bool>,
) -> Result<Capture, SurveyError> {
    let source = match plan.source {
        Some(source) => source,
        None => link
            .source_for(plan.address)
            .map_err(|error| SurveyError::NoRoute(plan.address, error))?,
    };
    if !link.can(plan.method) {
        return Err(SurveyError::Privilege(plan.method));
    }
    let addresses = Addresses::try_new(source, plan.address)
        .ok_or(SurveyError::TwoVersions(source, plan.address))?;
    let chance = plan.chance;
    let clock = Arc::new(AgentClock::new(BootId::from_uuid(Uuid::now_v7())));
    let mut surveyor = Surveyor {
        driver: Driver::new(Arc::new(link), clock, &plan.pacing),
        probe: probe_of(plan, addresses, chance)?,
        plan,
        first_port: port_of(chance),
        seed: u64::try_from(chance >> 64).unwrap_or_default(),
        news,
        stop,
        next_key: 0,
    };
    // Every setting is checked before anything is sent.
    surveyor.sweep(Vec::new())?;
    if plan.capture {
        surveyor.driver.capture(MAX_CAPTURED);
    }
    surveyor.run().await?;
    let (packets, lateness_us) = surveyor.driver.take_captured();
    Ok(Capture { packets, lateness_us })
}

/// The flow's own port, with room for others behind it.
fn port_of(chance: u128) -> u16 {
    let room = PORTS.end - PORTS.start - MAX_FLOWS;
    PORTS.start + u16::try_from(chance % u128::from(room)).unwrap_or_default()
}

fn probe_of(
    plan: &SurveyPlan,
    addresses: Addresses,
    chance: u128,
) -> Result<ProbeSpec, SurveyError> {
    let [.., a, b] = chance.to_be_bytes();
    let constant = u16::from_be_bytes([a, b]).clamp(1, 0xfffe);
    Ok(ProbeSpec {
        addresses,
        method: plan.method,
        destination_port: match (plan.method, plan.port) {
            (Method::IcmpEcho, _) => constant,
            (Method::Udp, port) => port.unwrap_or(crate::probing::UDP_PORT),
            (Method::TcpSyn, port) => port.ok_or(SurveyError::NoPort)?,
        },
        port_answers: plan.port.is_some(),
        dscp: plan.dscp,
        size_bytes: plan.size_bytes,
        dont_fragment: plan.dont_fragment,
        secret: constant,
    })
}

struct Surveyor<'a> {
    driver: Driver,
    plan: &'a SurveyPlan,
    probe: ProbeSpec,
    first_port: u16,
    seed: u64,
    news: mpsc::Sender<SurveyProgress>,
    stop: watch::Receiver<bool>,
    next_key: EngineKey,
}

impl Surveyor<'_> {
    async fn run(&mut self) -> Result<(), SurveyError> {
        let mut flows = Vec::new();
        if let Some(error_ppm) = self.plan.branches_error_ppm {
            flows = self.enumerate(error_ppm).await?;
        }
        if let Some(largest) = self.plan.mtu_up_to {
            self.find_mtu(largest).await?;
        }
        self.measure(flows).await
    }

    fn sweep(&self, mut flows: Vec<u16>) -> Result<HopSweep, SurveyError> {
        if flows.is_empty() {
            flows.push(self.first_port);
        }
        let config = SweepConfig {
            probe: self.probe.clone(),
            source_ports: flows,
            interval: self.plan.interval,
            probes_per_hop: self.plan.probes_per_hop,
            timeout: self.plan.timeout,
            first_hop: self.plan.hops.0,
            last_hop: self.plan.hops.1,
            full_every: 1,
            rounds: self.plan.rounds,
            seed: self.seed,
        };
        let now = self.driver.clock().now();
        Ok(HopSweep::new(config, now)?.at_once(now))
    }

    /// Gives the flows that show every member.
    async fn enumerate(&mut self, error_ppm: u32) -> Result<Vec<u16>, SurveyError> {
        let config = BranchesConfig {
            probe: self.probe.clone(),
            first_port: self.first_port,
            max_flows: MAX_FLOWS,
            error_ppm,
            timeout: QUESTION_WAIT.min(self.plan.timeout),
            gap: Micros::from_millis(5),
            last_hop: self.plan.hops.1,
            seed: self.seed,
        };
        let mut engine = Branches::new(config, self.driver.clock().now())?;
        let key = self.key();
        let mut said = (0, 0);
        while self.step(key, &mut engine).await {
            let progress = engine.progress();
            if progress.0 != said.0 {
                said = progress;
                self.tell(SurveyProgress::Branching(progress.0, progress.1)).await;
            }
        }
        let Some(found) = engine.poll_event() else {
            return Ok(Vec::new());
        };
        let flows = found.one_flow_each(itinera_probe::sweep::MAX_FLOWS);
        self.tell(SurveyProgress::Branches(found)).await;
        Ok(flows)
    }

    async fn find_mtu(&mut self, largest_bytes: u16) -> Result<(), SurveyError> {
        let config = MtuConfig {
            probe: ProbeSpec { size_bytes: MTU_FLOOR, ..self.probe.clone() },
            source_port: self.first_port,
            largest_bytes,
            timeout: QUESTION_WAIT.min(self.plan.timeout),
            last_hop: self.plan.hops.1,
        };
        let mut engine = MtuSearch::new(config, self.driver.clock().now())?;
        let key = self.key();
        let mut said = (None, None);
        while self.step(key, &mut engine).await {
            let progress = engine.progress();
            if progress != said {
                said = progress;
                self.tell(SurveyProgress::Sizing(progress.0, progress.1)).await;
            }
        }
        if let Some(found) = engine.poll_event() {
            self.tell(SurveyProgress::Mtu(found)).await;
        }
        Ok(())
    }

    async fn measure(&mut self, flows: Vec<u16>) -> Result<(), SurveyError> {
        let mut engine = self.sweep(flows)?;
        let key = self.key();
        loop {
            let goes_on = self.step(key, &mut engine).await;
            while let Some(sweep) = engine.poll_event() {
                let round = self.round_of(key, sweep);
                self.tell(SurveyProgress::Round(Box::new(round))).await;
            }
            if !goes_on {
                return Ok(());
            }
        }
    }

    fn round_of(&mut self, key: EngineKey, sweep: Sweep) -> SurveyRound {
        let resolution = Resolution { name: self.plan.name.clone(), address: self.plan.address };
        let stamps = self.driver.stamp_source(key);
        let round = Round {
            path: SURVEYED,
            number: sweep.number,
            clocks: self.driver.clock().clocks_at(sweep.started),
            flow: sweep.flow.id(),
            resolution: resolution.id(),
            route: sweep.route.id(),
            reading: Some(sweep.reading.id()),
            reached_at: sweep.reached_at,
            stamps,
            lateness: Some(self.driver.clock().lateness_since(sweep.started)),
            hops: sweep.hops,
        };
        let Sweep { flow, route, reading, .. } = sweep;
        SurveyRound { round, flow, resolution, route, reading }
    }

    const fn key(&mut self) -> EngineKey {
        self.next_key += 1;
        self.next_key
    }

    /// Lets an engine do what it wants to next, or ends it when told to stop; false when it has
    /// come to rest.
    async fn step(&mut self, key: EngineKey, engine: &mut dyn Engine) -> bool {
        self.driver.serve(key, engine);
        for (of, token, stamp) in self.driver.late_stamps() {
            if of == key {
                engine.handle(stamp, Input::Sent { token, stamp });
            }
        }
        let Some(deadline) = engine.poll_deadline() else {
            return false;
        };
        let mut stop = self.stop.clone();
        tokio::select! {
            occurred = self.driver.wait(Some(deadline)) => {
                if let DriverEvent::Received = occurred {
                    self.driver.deliver(engine);
                }
                true
            }
            _ = stop.wait_for(|stop| *stop) => {
                engine.handle(self.driver.clock().now(), Input::Stop);
                false
            }
        }
    }

    /// The measurement continues when the receiver of its progress is gone.
    async fn tell(&self, news: SurveyProgress) {
        let _gone = self.news.send(news).await;
    }
}
