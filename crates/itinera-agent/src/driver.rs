//! Drives engines on a link: sends what they want, gives them what comes in, with the best
//! stamps there are.

use crate::clock::AgentClock;
use crate::link::{Incoming, Link, SendId};
use crate::precise::PreciseTimer;
use itinera_model::protocol::Pacing;
use itinera_model::round::StampSource;
use itinera_model::unit::Tick;
use itinera_probe::{About, Budget, Engine, Input, Token};
use itinera_wire::{Addresses, IpHeader};
use std::collections::{BTreeMap, VecDeque};
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

const LONGEST_PACKET: usize = 65_535;
/// Packets that may wait for the kernel's stamp; it gives them at once or not at all.
const MAX_AWAITED: usize = 1_024;

/// Names an engine to the driver.
pub(crate) type EngineKey = u64;

/// What a wait ended with.
pub(crate) enum DriverEvent {
    /// Something came in; [`Driver::deliver`] gives it to engines.
    Received,
    /// The deadline, or nothing of use.
    Woken,
}

/// A packet as it went out or came in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Captured {
    /// Nanoseconds since 1970 by the machine's clock.
    pub unix_nanos: i128,
    /// It is one of ours.
    pub outgoing: bool,
    /// The packet. The IP header of one that came in without is rebuilt from what the kernel
    /// gives.
    pub packet: Vec<u8>,
}

/// The driver of one link.
pub(crate) struct Driver {
    link: Arc<Link>,
    clock: Arc<AgentClock>,
    /// Absent where the kernel gives none; the runtime's own is used then.
    timer: Option<PreciseTimer>,
    budget: Budget,
    buffer: Vec<u8>,
    outgoing: Vec<u8>,
    received: Option<(Incoming, Tick)>,
    /// Sent packets without a transmit stamp yet, over IPv4 and over IPv6.
    awaited: [VecDeque<(SendId, EngineKey, Token)>; 2],
    stamps: Vec<(SendId, i128)>,
    late_stamps: Vec<(EngineKey, Token, Tick)>,
    /// Packets since an engine's last round that have only the program's stamp.
    unstamped: BTreeMap<EngineKey, u64>,
    /// Packets that came in with only the program's stamp, since the start; their engine is not
    /// known, so they count against every engine.
    unstamped_received: u64,
    /// How many of them each engine was given.
    reported_received: BTreeMap<EngineKey, u64>,
    captured: Option<Vec<Captured>>,
    /// How late engines were served, in microseconds, while packets are kept.
    lateness_us: Vec<u32>,
    capture_max: usize,
}

impl Driver {
    pub(crate) fn new(link: Arc<Link>, clock: Arc<AgentClock>, pacing: &Pacing) -> Self {
        Self {
            link,
            clock,
            timer: PreciseTimer::new().ok(),
            budget: Budget::new(pacing),
            buffer: vec![0; LONGEST_PACKET],
            outgoing: Vec::new(),
            received: None,
            awaited: [VecDeque::new(), VecDeque::new()],
            stamps: Vec::new(),
            late_stamps: Vec::new(),
            unstamped: BTreeMap::new(),
            unstamped_received: 0,
            reported_received: BTreeMap::new(),
            captured: None,
            lateness_us: Vec::new(),
            capture_max: 0,
        }
    }

    pub(crate) fn link(&self) -> &Link {
        &self.link
    }

    pub(crate) fn clock(&self) -> &AgentClock {
        &self.clock
    }

    pub(crate) fn pace(&mut self, pacing: &Pacing) {
        self.budget.set(pacing);
    }

    /// Keeps probes and answers from now on, at most so many.
    pub(crate) fn capture(&mut self, max: usize) {
        self.captured = Some(Vec::new());
        self.capture_max = max;
    }

    /// What was kept, and how late engines were served meanwhile, in microseconds.
    pub(crate) fn take_captured(&mut self) -> (Vec<Captured>, Vec<u32>) {
        (self.captured.take().unwrap_or_default(), std::mem::take(&mut self.lateness_us))
    }

    /// Waits for a packet or for the deadline.
    ///
    /// # Cancel safety
    /// Safe: what has been received is given by the next call of [`Self::deliver`], or was not
    /// received yet.
    pub(crate) async fn wait(&mut self, deadline: Option<Tick>) -> DriverEvent {
        let wait = async {
            match deadline {
                Some(tick) => {
                    let instant = self.clock.instant(tick);
                    match &self.timer {
                        Some(timer) => timer.until(instant).await,
                        None => tokio::time::sleep_until(instant.into()).await,
                    }
                }
                None => std::future::pending().await,
            }
        };
        let received = tokio::select! {
            received = self.link.receive(&mut self.buffer) => received,
            () = wait => return DriverEvent::Woken,
        };
        self.on_received(received).await
    }

    /// Receives one packet more, if it is there already.
    pub(crate) async fn receive_more(&mut self) -> bool {
        let received = {
            let mut receiving = std::pin::pin!(self.link.receive(&mut self.buffer));
            std::future::poll_fn(|context| match receiving.as_mut().poll(context) {
                Poll::Ready(received) => Poll::Ready(Some(received)),
                Poll::Pending => Poll::Ready(None),
            })
            .await
        };
        match received {
            Some(Ok(came)) => {
                matches!(self.on_received(Ok(came)).await, DriverEvent::Received)
            }
            Some(Err(_)) | None => false,
        }
    }

    async fn on_received(&mut self, received: io::Result<Incoming>) -> DriverEvent {
        match received {
            Ok(came) => {
                let links = came.stamp().and_then(|at| self.clock.tick_of(at));
                match links {
                    Some(stamp) => self.clock.on_read(stamp, came.link_us()),
                    None => self.unstamped_received += 1,
                }
                self.received = Some((came, links.unwrap_or_else(|| self.clock.now())));
                DriverEvent::Received
            }
            // A simulation that is not there yet answers with an ICMP error of its own.
            Err(error) => {
                tracing::debug!(%error, "nothing received");
                tokio::time::sleep(Duration::from_millis(20)).await;
                DriverEvent::Woken
            }
        }
    }

    /// The engines that a packet may concern.
    pub(crate) fn about(&self) -> Option<About> {
        self.received.and_then(|(came, stamp)| About::of(&self.input(came, stamp)))
    }

    fn input(&self, came: Incoming, stamp: Tick) -> Input<'_> {
        match came {
            Incoming::Packet { length, .. } => {
                Input::Datagram { stamp, packet: &self.buffer[..length] }
            }
            Incoming::Payload { length, protocol, from, hop_limit, traffic_class, .. } => {
                let payload = &self.buffer[..length];
                Input::Payload { stamp, protocol, from, hop_limit, traffic_class, payload }
            }
            Incoming::Report { length, protocol, port, from, hop_limit, report, .. } => {
                let transport = &self.buffer[..length];
                Input::Report { stamp, from, hop_limit, report, protocol, port, transport }
            }
        }
    }

    /// Gives an engine what has come in; true when it answers one of its packets.
    pub(crate) fn deliver(&mut self, engine: &mut dyn Engine) -> bool {
        let Some((came, stamp)) = self.received else {
            return false;
        };
        let is_answer = engine.handle(self.clock.now(), self.input(came, stamp));
        if is_answer && let Some(packet) = self.whole_packet(came, engine.destination()) {
            self.keep(false, stamp, packet);
        }
        is_answer
    }

    /// The packet that came in, with its IPv6 header rebuilt where the kernel took it off.
    fn whole_packet(&self, came: Incoming, destination: IpAddr) -> Option<Vec<u8>> {
        self.captured.as_ref()?;
        match came {
            Incoming::Packet { length, .. } => Some(self.buffer[..length].to_vec()),
            Incoming::Payload { length, protocol, from, hop_limit, .. } => {
                let own = self.link.source_for(destination).ok()?;
                let between = Addresses::try_new(from, own)?;
                let mut packet = Vec::new();
                IpHeader::new(between, protocol, hop_limit.unwrap_or(0), 0, 0, 0)
                    .emit(&self.buffer[..length], &mut packet);
                Some(packet)
            }
            // The message itself is not given: nothing true could be kept.
            Incoming::Report { .. } => None,
        }
    }

    fn keep(&mut self, outgoing: bool, at: Tick, packet: Vec<u8>) {
        let unix_nanos = self.clock.unix_nanos_of(at);
        if let Some(captured) = &mut self.captured
            && captured.len() < self.capture_max
        {
            captured.push(Captured { unix_nanos, outgoing, packet });
        }
    }

    /// Lets an engine do what is due.
    pub(crate) fn serve(&mut self, key: EngineKey, engine: &mut dyn Engine) {
        let now = self.clock.now();
        if self.budget.takes_turns() {
            self.budget.set_epoch(self.clock.service_us_at_zero());
        }
        if let Some(due) = engine.poll_deadline().filter(|due| *due <= now) {
            self.clock.on_timer(due);
            if self.captured.is_some() && self.lateness_us.len() < self.capture_max {
                self.lateness_us.push(now.since(due).as_micros());
            }
            engine.handle(now, Input::Deadline);
        }
        let mut outgoing = std::mem::take(&mut self.outgoing);
        let mut sent = false;
        while let Some(token) =
            engine.poll_transmit(self.clock.now(), &mut self.budget, &mut outgoing)
        {
            let destination = engine.destination();
            let (stamp, unix_nanos) = self.clock.both_now();
            match self.link.send(&outgoing, destination, unix_nanos) {
                Ok(id) => {
                    sent = true;
                    engine.handle(stamp, Input::Sent { token, stamp });
                    self.on_sent(key, token, id);
                    if self.captured.is_some() {
                        self.keep(true, stamp, outgoing.clone());
                    }
                }
                Err(error) => {
                    tracing::debug!(%error, %destination, "a probe could not leave");
                    engine.handle(stamp, Input::NotSent { token });
                }
            }
        }
        self.outgoing = outgoing;
        if sent {
            self.take_stamps();
            self.late_stamps.retain(|(of, token, stamp)| {
                let mine = *of == key;
                if mine {
                    engine.handle(*stamp, Input::Sent { token: *token, stamp: *stamp });
                }
                !mine
            });
        }
    }

    fn on_sent(&mut self, key: EngineKey, token: Token, id: Option<SendId>) {
        *self.unstamped.entry(key).or_default() += 1;
        if let Some(id) = id {
            let awaited = &mut self.awaited[usize::from(id.is_six())];
            if awaited.len() >= MAX_AWAITED {
                awaited.pop_front();
            }
            awaited.push_back((id, key, token));
        }
    }

    /// Takes the kernel's stamps of what has left, from the sockets that owe one.
    fn take_stamps(&mut self) {
        let owed = [0, 1].map(|six: usize| !self.awaited[six].is_empty());
        if owed == [false, false] {
            return;
        }
        self.link.sent_stamps(owed, &mut self.stamps);
        for (id, at) in std::mem::take(&mut self.stamps) {
            let awaited = &mut self.awaited[usize::from(id.is_six())];
            let Some(index) = awaited.iter().position(|(awaited, ..)| *awaited == id) else {
                continue;
            };
            if let Some((_, key, token)) = awaited.remove(index)
                && let Some(tick) = self.clock.tick_of(at)
            {
                self.late_stamps.push((key, token, tick));
                if let Some(count) = self.unstamped.get_mut(&key) {
                    *count = count.saturating_sub(1);
                }
            }
        }
    }

    /// Stamps that came after the engine had been served, for the caller to hand on.
    pub(crate) fn late_stamps(&mut self) -> Vec<(EngineKey, Token, Tick)> {
        self.take_stamps();
        std::mem::take(&mut self.late_stamps)
    }

    /// Where the stamps of an engine's packets came from since it was asked last.
    pub(crate) fn stamp_source(&mut self, key: EngineKey) -> StampSource {
        let sent = self.unstamped.insert(key, 0).unwrap_or(0);
        let reported = self.reported_received.insert(key, self.unstamped_received).unwrap_or(0);
        let all_received = reported == self.unstamped_received;
        match self.link.as_ref() {
            Link::Raw(_) if sent == 0 && all_received => StampSource::Kernel,
            Link::Simulated { .. } if all_received => StampSource::Virtual,
            Link::Raw(_) | Link::Plain(_) | Link::Simulated { .. } => StampSource::Program,
        }
    }

    /// Forgets an engine.
    pub(crate) fn forget(&mut self, key: EngineKey) {
        self.unstamped.remove(&key);
        self.reported_received.remove(&key);
        self.awaited.iter_mut().for_each(|awaited| awaited.retain(|(_, of, _)| *of != key));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::BootId;
    use uuid::Uuid;

    #[tokio::test]
    async fn a_packet_without_the_kernels_stamp_counts_once_against_every_engine() {
        let link = Link::simulated("127.0.0.1:9".parse().unwrap(), Vec::new()).await.unwrap();
        let clock = Arc::new(AgentClock::new(BootId::from_uuid(Uuid::nil())));
        let mut driver = Driver::new(Arc::new(link), clock, &Pacing::default());
        assert_eq!(driver.stamp_source(1), StampSource::Virtual);
        let came = Incoming::Packet { length: 0, stamp: None, link_us: 0 };
        driver.on_received(Ok(came)).await;
        for key in [1, 2] {
            assert_eq!(driver.stamp_source(key), StampSource::Program, "engine {key}");
        }
        for key in [1, 2] {
            assert_eq!(driver.stamp_source(key), StampSource::Virtual, "engine {key} once told");
        }
    }
}
