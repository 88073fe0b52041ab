//! Asks services by their own protocols, as their users' programs do, and says how far that got:
//! names, connections, TLS, HTTP and pages, mail, and servers that speak first.
//!
//! The protocols are those of well-known libraries; what this crate adds is that each step is
//! timed by itself, that causes which look alike to a user are kept apart, and that nothing a
//! server says costs more than a fixed measure of time and memory. It asks over the kernel's
//! sockets, or over a host of the simulated internet ([`Net`]).

mod first_bytes;
mod lines;
mod names;
mod net;
mod page;
mod tls;
mod web;

pub use names::resolve;
pub use net::{Both, Connection, Datagrams, Listener, Net};
pub use tls::Roots;

use ipnet::IpNet;
use itinera_model::check::{Ask, CheckDetails, CheckResult, Outcome, Phase, Step, Why};
use itinera_model::unit::Micros;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Where to connect: an address, or a name to resolve first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Destination {
    /// At this address.
    Address(IpAddr),
    /// Wherever this name leads now, over this version of IP where one is wanted.
    Name(String, Option<itinera_model::path::Family>),
}

/// How long to wait.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Patience {
    /// For each step.
    pub step: Duration,
    /// For a check in all.
    pub whole: Duration,
}

impl Default for Patience {
    /// How long users wait before they give up, and three times that for a whole page.
    fn default() -> Self {
        Self { step: Duration::from_secs(5), whole: Duration::from_secs(15) }
    }
}

/// Everything that checks are asked with.
#[derive(Debug, Clone)]
pub struct Asker {
    /// Over what.
    pub net: Net,
    /// The machine's resolvers, in its order.
    pub resolvers: Vec<IpAddr>,
    /// Trusted CA certificates.
    pub roots: Arc<Roots>,
    /// How long it waits.
    pub patience: Patience,
    /// Where it may go; anywhere when absent.
    pub within: Option<Arc<Vec<IpNet>>>,
}

/// A check in progress: what it has done, so that a step's end by time loses nothing.
#[derive(Debug)]
pub(crate) struct CheckProgress {
    pub(crate) phases: Vec<Phase>,
    pub(crate) spoke_to: Option<SocketAddr>,
    pub(crate) seen: CheckDetails,
}

/// Where and how a check broke.
pub(crate) type Break = (Step, Why);

impl CheckProgress {
    fn new() -> Self {
        Self { phases: Vec::new(), spoke_to: None, seen: CheckDetails::default() }
    }

    /// A step is done: it took the time since `begun`.
    pub(crate) fn done(&mut self, step: Step, begun: Instant) {
        self.phases.push(phase(step, begun));
    }
}

/// A step that took the time since `begun`.
pub(crate) fn phase(step: Step, begun: Instant) -> Phase {
    Phase { step, took_us: since(begun) }
}

/// The time since, as a span.
pub(crate) fn since(begun: Instant) -> Micros {
    Micros::new(u32::try_from(begun.elapsed().as_micros()).unwrap_or(u32::MAX))
}

impl Asker {
    /// Asks, and tells what came of it. Takes no longer than its patience for the whole.
    ///
    /// # Cancel safety
    /// When dropped, connections are closed and nothing is reported.
    pub async fn check(&self, destination: &Destination, ask: &Ask) -> CheckResult {
        let mut course = CheckProgress::new();
        let course_of = &mut course;
        let asked = Box::pin(async move {
            match ask {
                Ask::Name(question) => self.names(question, course_of).await,
                Ask::Connect { port } => self.open(destination, *port, course_of).await.map(drop),
                Ask::Tls { port, name } => self.tls_only(destination, *port, name, course_of).await,
                Ask::Web(question) => self.web(destination, question, course_of).await,
                Ask::Mail { port } => self.mail(destination, *port, course_of).await,
                Ask::Greeting { protocol, port } => {
                    self.greeting(destination, *protocol, *port, course_of).await
                }
            }
        });
        let outcome = match tokio::time::timeout(self.patience.whole, asked).await {
            Ok(Ok(())) => Outcome::Good,
            Ok(Err((at, why))) => Outcome::Broke { at, why },
            Err(_) => {
                // The steps before the one that did not end are known.
                let last = course.phases.last().map_or(Step::Name, |phase| phase.step);
                let next = Step::ALL.into_iter().find(|step| *step > last);
                Outcome::Broke { at: next.unwrap_or(last), why: Why::Unfinished }
            }
        };
        let CheckProgress { phases, spoke_to, seen, .. } = course;
        CheckResult { outcome, spoke_to, phases, seen }
    }

    /// The address that a target has for this machine's programs.
    ///
    /// # Errors
    /// Why its name gives none.
    pub async fn address_of(&self, destination: &Destination) -> Result<IpAddr, Why> {
        match destination {
            Destination::Address(address) => Ok(*address),
            Destination::Name(name, family) => self.look_up(name, *family).await,
        }
    }

    /// Whether its site lets it speak with this address.
    pub fn may_go(&self, address: IpAddr) -> bool {
        self.within.as_ref().is_none_or(|within| within.iter().any(|net| net.contains(&address)))
    }

    /// The address to speak to, by name where need be.
    pub(crate) async fn find(
        &self,
        destination: &Destination,
        port: u16,
        course: &mut CheckProgress,
    ) -> Result<SocketAddr, Break> {
        let begun = Instant::now();
        let address = self.address_of(destination).await.map_err(|why| (Step::Name, why))?;
        if !self.may_go(address) {
            return Err((Step::Connect, Why::NotAllowed));
        }
        if let Destination::Name(..) = destination {
            course.done(Step::Name, begun);
        }
        let there = SocketAddr::new(address, port);
        course.spoke_to = Some(there);
        Ok(there)
    }

    /// An open connection.
    pub(crate) async fn open(
        &self,
        destination: &Destination,
        port: u16,
        course: &mut CheckProgress,
    ) -> Result<Connection, Break> {
        let there = self.find(destination, port, course).await?;
        self.open_at(there, course).await
    }

    /// An open connection to where has been found.
    pub(crate) async fn open_at(
        &self,
        there: SocketAddr,
        course: &mut CheckProgress,
    ) -> Result<Connection, Break> {
        let begun = Instant::now();
        let opening = tokio::time::timeout(self.patience.step, self.net.connect(there)).await;
        let connection = match opening {
            Err(_) => return Err((Step::Connect, Why::NoAnswer)),
            Ok(Err(error)) => return Err((Step::Connect, net::why_not_open(&error))),
            Ok(Ok(connection)) => connection,
        };
        course.done(Step::Connect, begun);
        Ok(connection)
    }

    /// The name by which a target is known to its server, where it has one.
    pub(crate) fn name_of(destination: &Destination) -> Option<&str> {
        match destination {
            Destination::Address(_) => None,
            Destination::Name(name, _) => Some(name),
        }
    }
}

/// Foreign text no longer than is kept, cut where a character ends.
pub(crate) fn kept(text: &str) -> String {
    let mut end = text.len().min(itinera_model::check::MAX_TEXT);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    text[..end].to_owned()
}
