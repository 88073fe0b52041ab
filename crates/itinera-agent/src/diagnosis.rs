//! The diagnosis: checks each step from this machine's own stack to a service, and continues
//! behind what is broken, since later steps still inform.

use crate::clock::machine_now;
use crate::host_facts::{Announcements, HostFactsSource};
use crate::link::{Link, LinkError, RawSockets};
use crate::simulated;
use crate::survey::{SurveyPlan, SurveyProgress, SurveyRound, survey};
use ipnet::IpNet;
use itinera_check::{Asker, Destination, Net, Patience, Roots, resolve};
use itinera_model::check::{Ask, AskName, CheckResult, Outcome, Step, Why};
use itinera_model::diagnosis::{AskResult, FromSource, Observations, StepKind};
use itinera_model::host_facts::Echoes;
use itinera_model::host_facts::HostFacts;
use itinera_model::path::{Family, Method};
use itinera_model::protocol::Pacing;
use itinera_model::quantile::median;
use itinera_model::round_set::RoundSet;
use itinera_model::unit::{HopLimit, Micros};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{mpsc, watch};
use uuid::Uuid;

/// How long a step may take, so that the whole stays under half a minute.
const STEP: Duration = Duration::from_secs(5);
const WHOLE: Duration = Duration::from_secs(14);
/// The hops are swept so often, once in so many milliseconds, with so many probes each.
const ROUNDS: u64 = 6;
const ROUND_MS: u32 = 2_000;
const PROBES: u8 = 2;
/// An answer that takes longer is as good as none.
const TIMEOUT_MS: u32 = 1_500;
/// Farther than any target.
const LAST_HOP: u8 = 32;
/// From each of several addresses of the machine so many rounds are sent, once in so many
/// milliseconds.
const MAX_SOURCES: usize = 3;
const SOURCE_ROUNDS: u64 = 3;
const SOURCE_ROUND_MS: u32 = 600;
/// A name that resolvers know not to exist (RFC 6761 section 6.4): a resolver that says so works.
const UNKNOWN_NAME: &str = "diagnosis.invalid";

/// Where the machine is, and how it sends.
#[derive(Debug, Clone)]
pub enum Place {
    /// On the kernel's network.
    Kernel {
        /// The interface that probes leave by; the kernel's choice where absent.
        interface: Option<String>,
        /// What switches announce, where that could be listened for.
        announced: Option<Announcements>,
    },
    /// In a simulated internet behind a loopback socket, with these addresses.
    Simulated(SocketAddr, Vec<IpAddr>),
}

/// What is to be reached.
#[derive(Debug, Clone)]
pub struct DiagnosisPlan {
    /// As it was given.
    pub target: String,
    /// By name or address.
    pub destination: Destination,
    /// Connection, TLS and application, nearest first.
    pub asks: Vec<Ask>,
    /// The CA certificates of the machine.
    pub roots: Arc<Roots>,
    /// Where it may go; anywhere when absent.
    pub within: Option<Arc<Vec<IpNet>>>,
}

/// How far it is.
#[derive(Debug, Clone)]
pub enum DiagnosisProgress {
    /// A step is being looked at.
    Looking(StepKind),
    /// A round of the sweep has ended: which, and of how many.
    Swept(u64, u64),
}

impl Place {
    async fn link(&self) -> Result<Link, LinkError> {
        match self {
            Self::Kernel { interface, .. } => match RawSockets::open(interface.as_deref()) {
                Err(LinkError::NotPermitted(_)) if interface.is_none() => Link::plain(),
                sockets => sockets.and_then(Link::raw),
            },
            Self::Simulated(simulation, addresses) => {
                Link::simulated(*simulation, addresses.clone()).await
            }
        }
    }

    pub(crate) fn host_facts(&self, sockets: bool) -> Option<HostFactsSource> {
        match self {
            Self::Kernel { announced, .. } => {
                Some(HostFactsSource::Kernel { sockets, announced: announced.clone() })
            }
            Self::Simulated(simulation, addresses) => {
                addresses.first().map(|own| HostFactsSource::Simulated(*simulation, *own))
            }
        }
    }

    /// A few echoes to the gateway, to know how far it is.
    pub(crate) async fn gateway_echoes(&self, address: IpAddr) -> Option<Echoes> {
        let plan = SurveyPlan {
            interval: Micros::from_millis(SOURCE_ROUND_MS),
            ..plan_of(None, address, 1, SOURCE_ROUNDS)
        };
        echoed(self, &plan).await
    }

    pub(crate) async fn net(&self) -> std::io::Result<Net> {
        match self {
            Self::Kernel { .. } => Ok(Net::Kernel { source: None }),
            Self::Simulated(simulation, addresses) => {
                simulated::stack(*simulation, addresses.clone()).await.map(Net::Stack)
            }
        }
    }
}

/// Runs a diagnosis.
///
/// # Errors
/// The kernel's word when there is not even a loopback socket to a simulation, `NotFound` when that
/// knows no such machine; whatever else fails is a finding.
///
/// # Cancel safety
/// When dropped, everything in progress is given up.
pub async fn diagnose(
    place: &Place,
    plan: &DiagnosisPlan,
    news: mpsc::Sender<DiagnosisProgress>,
) -> std::io::Result<Observations> {
    let begun = Instant::now();
    let began = machine_now();
    let say = async |kind| {
        let _gone = news.send(DiagnosisProgress::Looking(kind)).await;
    };
    say(StepKind::OwnStack).await;
    let own_stack = match place {
        Place::Kernel { .. } => Some(speaks_with_itself().await),
        Place::Simulated(..) => None,
    };
    say(StepKind::OwnLink).await;
    let host_facts = place.host_facts(false);
    let read = async || match &host_facts {
        Some(host_facts) => Some(host_facts.read().await),
        None => None,
    };
    let mut before = match (place, read().await) {
        // A simulation that tells nothing of its machine is not there.
        (Place::Simulated(simulation, _), seen @ (None | Some(Err(_)))) => {
            let error = seen.and_then(Result::err);
            let kind = error.map_or(std::io::ErrorKind::NotFound, |error| error.kind());
            let text = match kind {
                std::io::ErrorKind::TimedOut => "does not report host facts",
                _ => "knows no machine here",
            };
            let text = format!("the simulated internet at {simulation} {text}");
            return Err(std::io::Error::new(kind, text));
        }
        (_, before) => before.and_then(Result::ok),
    };
    let asker = Asker {
        net: place.net().await?,
        resolvers: before.as_ref().map_or_else(Vec::new, |host_facts| host_facts.resolvers.clone()),
        roots: Arc::clone(&plan.roots),
        patience: Patience { step: STEP, whole: WHOLE },
        within: plan.within.clone(),
    };
    say(StepKind::Resolvers).await;
    let (resolvers, names) = tokio::join!(alive(&asker), names(&asker, &plan.destination));
    let (name, address) = find(&asker, &plan.destination, names.as_ref()).await;
    if let (Some(before), Some(host_facts)) = (&mut before, &host_facts) {
        before.routes_used = host_facts.routes_to(address.as_slice()).await;
    }
    say(StepKind::FirstHops).await;
    let gateway = gateway_of(before.as_ref(), address);
    let swept_to = address.filter(|address| asker.may_go(*address));
    let (gateway, swept, asked, sources) = tokio::join!(
        echo(place, gateway),
        sweep(place, name.clone(), swept_to, &news),
        ask_all(&asker, plan, address),
        from_each(place, before.as_ref(), swept_to),
    );
    let (sweep, not_swept) = match swept {
        Ok(batch) => (batch, None),
        Err(reason) => (None, Some(reason)),
    };
    let after = read().await.and_then(Result::ok);
    Ok(Observations {
        target: plan.target.clone(),
        name,
        address,
        began,
        took_us: Micros::new(u32::try_from(begun.elapsed().as_micros()).unwrap_or(u32::MAX)),
        own_stack,
        before,
        after,
        gateway,
        resolvers,
        names,
        sweep,
        not_swept,
        asked,
        sources,
    })
}

/// An byte to ourselves and back.
async fn speaks_with_itself() -> bool {
    let speaking = async {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let mut out = TcpStream::connect(listener.local_addr()?).await?;
        let (mut back, _) = listener.accept().await?;
        out.write_all(&[42]).await?;
        back.read_u8().await
    };
    matches!(tokio::time::timeout(STEP, speaking).await, Ok(Ok(42)))
}

/// Asks every resolver something that it need not ask others.
async fn alive(asker: &Asker) -> Vec<itinera_model::check::Resolved> {
    let question = AskName::of(UNKNOWN_NAME.to_owned(), false);
    let mut answers = Vec::new();
    for resolver in asker.resolvers.iter().take(4) {
        answers.push(resolve(&asker.net, *resolver, &question, STEP / 2).await);
    }
    answers
}

async fn names(asker: &Asker, destination: &Destination) -> Option<CheckResult> {
    let Destination::Name(name, family) = destination else { return None };
    let ipv6 = *family == Some(Family::Ipv6);
    let question = AskName::of(name.clone(), ipv6);
    Some(asker.check(destination, &Ask::Name(question)).await)
}

/// The target's name and address: what the first resolver says, or else the machine's own files.
async fn find(
    asker: &Asker,
    destination: &Destination,
    names: Option<&CheckResult>,
) -> (Option<String>, Option<IpAddr>) {
    match destination {
        Destination::Address(address) => (None, Some(*address)),
        Destination::Name(name, _) => {
            let first = names.into_iter().flat_map(|names| &names.seen.resolved);
            let by_resolver = first.flat_map(|one| &one.addresses).next().copied();
            let address = match by_resolver {
                Some(address) => Some(address),
                None => asker.address_of(destination).await.ok(),
            };
            (Some(name.clone()), address)
        }
    }
}

fn gateway_of(host_facts: Option<&HostFacts>, address: Option<IpAddr>) -> Option<IpAddr> {
    let host_facts = host_facts?;
    match address {
        // The route to the own address has no gateway.
        Some(address) if host_facts.is_own(address) => None,
        Some(address) => host_facts.route_to(address)?.gateway,
        None => host_facts.gateway(false),
    }
}

/// Connection, TLS and application by the very address that was found.
async fn ask_all(asker: &Asker, plan: &DiagnosisPlan, address: Option<IpAddr>) -> Vec<AskResult> {
    let mut asked = Vec::new();
    for ask in &plan.asks {
        let result = match address {
            Some(address) => asker.check(&Destination::Address(address), ask).await,
            None => CheckResult::broke(Step::Name, Why::NoAddress),
        };
        let unreachable = matches!(
            result.outcome,
            Outcome::Broke { at: Step::Connect, why: Why::NoAnswer | Why::Unreachable }
        );
        asked.push(AskResult { ask: ask.clone(), result });
        if unreachable {
            // What cannot be connected to says no more to further questions.
            break;
        }
    }
    asked
}

/// Echo to the target from each of the machine's addresses, where it has several that could be
/// answered: one that is not has no return route.
async fn from_each(
    place: &Place,
    host_facts: Option<&HostFacts>,
    address: Option<IpAddr>,
) -> Vec<FromSource> {
    let (Some(host_facts), Some(address)) = (host_facts, address) else { return Vec::new() };
    let sources = host_facts.sources_for(address);
    if sources.len() < 2 || host_facts.is_own(address) {
        return Vec::new();
    }
    let mut answers = Vec::new();
    for source in sources.into_iter().take(MAX_SOURCES) {
        let plan = SurveyPlan {
            source: Some(source),
            hops: (HopLimit::LAST, HopLimit::LAST),
            interval: Micros::from_millis(SOURCE_ROUND_MS),
            ..plan_of(None, address, LAST_HOP, SOURCE_ROUNDS)
        };
        let Ok(rounds) = rounds_of(place, &plan, None).await else { continue };
        let hops = rounds.iter().flat_map(|round| &round.round.hops);
        answers.push(FromSource {
            source,
            sent: hops.clone().map(|hop| u32::from(hop.sent)).sum(),
            answered: hops.map(|hop| u32::from(hop.answers())).sum(),
        });
    }
    answers
}

fn plan_of(name: Option<String>, address: IpAddr, last_hop: u8, rounds: u64) -> SurveyPlan {
    SurveyPlan {
        name,
        address,
        source: None,
        method: Method::IcmpEcho,
        port: None,
        dscp: 0,
        size_bytes: 64,
        dont_fragment: false,
        hops: (HopLimit::FIRST, HopLimit::try_new(last_hop).unwrap_or(HopLimit::FIRST)),
        probes_per_hop: PROBES,
        interval: Micros::from_millis(ROUND_MS),
        timeout: Micros::from_millis(TIMEOUT_MS),
        rounds: Some(rounds),
        branches_error_ppm: None,
        mtu_up_to: None,
        pacing: Pacing::default(),
        capture: false,
        chance: Uuid::new_v4().as_u128(),
    }
}

async fn rounds_of(
    place: &Place,
    plan: &SurveyPlan,
    said: Option<&mpsc::Sender<DiagnosisProgress>>,
) -> Result<Vec<SurveyRound>, String> {
    let link = place.link().await.map_err(|error| error.to_string())?;
    let (news, mut heard) = mpsc::channel(64);
    let (_stop, stopped) = watch::channel(false);
    let surveying = survey(link, plan, news, stopped);
    let gathering = async {
        let mut rounds = Vec::new();
        while let Some(news) = heard.recv().await {
            if let SurveyProgress::Round(round) = news {
                rounds.push(*round);
                if let Some(said) = said {
                    let swept = DiagnosisProgress::Swept(rounds.len() as u64, ROUNDS);
                    let _gone = said.send(swept).await;
                }
            }
        }
        rounds
    };
    let (surveyed, rounds) = tokio::join!(surveying, gathering);
    surveyed.map(|_| rounds).map_err(|error| error.to_string())
}

/// Echo to the gateway, which is one hop away.
async fn echo(place: &Place, gateway: Option<IpAddr>) -> Option<Echoes> {
    echoed(place, &plan_of(None, gateway?, 1, 4)).await
}

async fn echoed(place: &Place, plan: &SurveyPlan) -> Option<Echoes> {
    let rounds = rounds_of(place, plan, None).await.ok()?;
    let hops = rounds.iter().filter_map(|round| round.round.hops.first());
    let delays = hops.clone().flat_map(|hop| hop.rtt.iter().copied());
    Some(Echoes {
        address: plan.address,
        sent: hops.clone().map(|hop| u32::from(hop.sent)).sum(),
        answered: hops.map(|hop| u32::from(hop.answers())).sum(),
        median_us: median(delays),
    })
}

async fn sweep(
    place: &Place,
    name: Option<String>,
    address: Option<IpAddr>,
    news: &mpsc::Sender<DiagnosisProgress>,
) -> Result<Option<RoundSet>, String> {
    let Some(address) = address else { return Ok(None) };
    let rounds = rounds_of(place, &plan_of(name, address, LAST_HOP, ROUNDS), Some(news)).await?;
    let mut sweep = RoundSet::default();
    for SurveyRound { round, flow, resolution, route, reading } in rounds {
        sweep.add(round, &flow, &resolution, &route, &reading);
    }
    Ok((!sweep.rounds.is_empty()).then_some(sweep))
}
