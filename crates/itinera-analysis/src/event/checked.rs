//! What results of checks say.

use super::addresses_on;
use super::{CheckFacts, Observed, Paths, Watcher, path_state};
use itinera_model::alarm::Severity;
use itinera_model::check::{Ask, CheckResult, Outcome, Resolved, Step, Why};
use itinera_model::diagnosis::Part;
use itinera_model::event::{EventEffect, EventKey, EventKind};
use itinera_model::message::{
    CheckFailure, CheckSuccess, DifferentAnswers, Elsewhere, LargePacketLoss, LateAnswer, Message,
    NameFailure, PathState, ResolverAnswer, SlowTransfer, StaleAnswer,
};
use itinera_model::quantile::median;
use itinera_model::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::net::IpAddr;

/// Good results that say what is usual.
const LEARNED: usize = 20;
/// Fewer say nothing.
const ENOUGH: usize = 4;
/// A first byte is late when it takes longer than this over the usual, and than so many times it.
const LATE_US: u32 = 1_000_000;
const LATE_TIMES: u32 = 4;
/// Content comes slowly when its rate is less than the usual one divided by this.
const SLOW_SHARE: u64 = 4;
/// Before anything is learned: bytes per second under which a transfer is slow.
const SLOW_RATE: u64 = 64 * 1_024;
/// A service that fails where a name of its leads astray waits so many results more for that to be
/// said.
const DEFERRED: u32 = 6;

/// What is remembered of a check.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Memory {
    ever_good: bool,
    /// How the newest result ended, for comparing with other sites.
    good_now: bool,
    first_byte_us: VecDeque<u32>,
    rates: VecDeque<u64>,
    /// Of a DNS query: resolvers that disagree, and since when.
    at_odds_since: Option<WallTime>,
    /// The name asked for, or asked by, and what is asked, to compare with others.
    name: Option<String>,
    about: String,
    deferred: u32,
}

/// The median of what was learned, once that is enough.
fn usual_of<T: Copy + Ord>(learned: &VecDeque<T>) -> Option<T> {
    (learned.len() >= ENOUGH).then(|| median(learned.iter().copied()))?
}

fn keep<T>(values: &mut VecDeque<T>, value: T) {
    values.push_back(value);
    if values.len() > LEARNED {
        values.pop_front();
    }
}

/// What one result is a symptom of.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Symptom {
    /// It broke.
    Broken(Step, Why),
    /// Full-sized packets are lost.
    Large,
    /// A name does not resolve, at this resolver.
    Unresolved(Option<IpAddr>, Why),
    /// Resolvers are at odds: the one that is wrong by authority, and both answers.
    Stale { resolver: IpAddr, gives: Vec<IpAddr>, authority: IpAddr, says: Vec<IpAddr> },
    /// Resolvers are at odds, and none has authority.
    Disagree,
    /// The first byte is late: it took, and usually takes.
    Late(u32, Option<u32>),
    /// Content comes slowly: bytes a second now and usually.
    Slow(u64, Option<u64>),
}

impl Symptom {
    const fn kind(&self) -> EventKind {
        match self {
            Self::Broken(..) => EventKind::ServiceFailed,
            Self::Large => EventKind::MtuBlackHole,
            Self::Unresolved(..) => EventKind::NameUnresolved,
            Self::Stale { .. } => EventKind::DnsStale,
            Self::Disagree => EventKind::DnsDisagree,
            Self::Late(..) => EventKind::ServiceSlow,
            Self::Slow(..) => EventKind::TransferSlow,
        }
    }

    /// True where a fault of the path to the server can cause it.
    const fn may_come_from_the_path(&self) -> bool {
        matches!(
            self,
            Self::Broken(_, Why::NoAnswer | Why::Unfinished | Why::Unreachable)
                | Self::Broken(_, Why::Reset | Why::Closed)
                | Self::Late(..)
                | Self::Slow(..)
                | Self::Unresolved(..)
                | Self::Large
        )
    }
}

/// Kinds of event that a check can tell of.
const KINDS: [EventKind; 8] = [
    EventKind::CheckMismatch,
    EventKind::NameUnresolved,
    EventKind::DnsDisagree,
    EventKind::DnsStale,
    EventKind::ServiceFailed,
    EventKind::ServiceSlow,
    EventKind::TransferSlow,
    EventKind::MtuBlackHole,
];

/// The symptom of resolvers without an address in common. Where one is authoritative, the others
/// are stale.
fn at_odds(resolved: &[Resolved]) -> Symptom {
    let authority = resolved.iter().find(|one| one.authoritative && one.why.is_none());
    let Some(authority) = authority else { return Symptom::Disagree };
    let apart = |one: &&Resolved| {
        one.why.is_none() && one.addresses.iter().all(|it| !authority.addresses.contains(it))
    };
    match resolved.iter().find(apart) {
        Some(stale) => Symptom::Stale {
            resolver: stale.resolver,
            gives: stale.addresses.clone(),
            authority: authority.resolver,
            says: authority.addresses.clone(),
        },
        None => Symptom::Disagree,
    }
}

/// Steps of an answer that wait for the agent's own program, one after the other, at most: each may
/// be as late as it.
const STEPS: u32 = 20;
/// A program that is this late makes each round trip of a transfer longer by about as much again as
/// a usual one takes, and the transfer slower in that measure.
const ROUND_TRIP_US: u32 = 10_000;

/// At this usual lateness a check may fail because the agent had no processor. Its failure is not
/// evidence against the service.
const TOO_LATE_US: u32 = 100_000;

/// What a result shows, beyond what the agent's own lateness explains.
fn symptom(memory: &Memory, result: &CheckResult, late_us: u32) -> Option<Symptom> {
    match result.outcome {
        Outcome::Broke { why: Why::Disagree, .. } => Some(at_odds(&result.seen.resolved)),
        Outcome::Broke { at: Step::Name, why } => {
            let who = result.seen.resolved.iter().find(|one| one.why == Some(why));
            Some(Symptom::Unresolved(who.map(|one| one.resolver), why))
        }
        Outcome::Broke { why: Why::LargeLost, .. } => Some(Symptom::Large),
        Outcome::Broke { why: Why::NotAllowed, .. } => None,
        Outcome::Broke { at, why } => Some(Symptom::Broken(at, why)),
        Outcome::Good => {
            let usual = usual_of(&memory.first_byte_us);
            let first_byte = result.took(Step::FirstByte).map(|took| took.as_micros());
            let limit = usual.map_or(LATE_US.saturating_mul(2), |usual| {
                usual.saturating_add(LATE_US).max(usual.saturating_mul(LATE_TIMES))
            });
            let limit = limit.saturating_add(late_us.saturating_mul(STEPS));
            if let Some(late) = first_byte.filter(|took| *took > limit) {
                return Some(Symptom::Late(late, usual));
            }
            let usual = usual_of(&memory.rates);
            let limit = usual.map_or(SLOW_RATE, |usual| usual / SLOW_SHARE);
            let limit = limit * u64::from(ROUND_TRIP_US) / u64::from(ROUND_TRIP_US + late_us);
            let rate = result.seen.web.as_ref().and_then(|web| web.rate_bytes_per_s);
            rate.filter(|rate| *rate < limit).map(|rate| Symptom::Slow(rate, usual))
        }
    }
}

impl Watcher {
    pub(super) fn on_checked(
        &mut self,
        check: &CheckFacts,
        at: WallTime,
        (result, late_us): (&CheckResult, u32),
        paths: &Paths<'_>,
        now: WallTime,
    ) -> Vec<EventEffect> {
        if late_us >= TOO_LATE_US && result.outcome != Outcome::Good {
            return Vec::new();
        }
        let memory = self.checks.entry(check.id).or_default();
        let seen = symptom(memory, result, late_us);
        memory.learn(check, result, seen.as_ref(), late_us, at);
        let assessment = result.spoke_to.and_then(|there| paths(check.agent, there.ip()));
        let path = path_state(assessment);
        let key = |kind| EventKey { kind, agent: check.agent, subject: check.id.to_string() };
        let sight = seen.and_then(|seen| {
            let sight = self.sight(check, result, &seen, path, at)?;
            let passes = assessment.filter(|_| seen.may_come_from_the_path());
            let route = passes.map(addresses_on).unwrap_or_default();
            Some(Observed { route, ..sight })
        });
        self.settle(KINDS.map(key).to_vec(), sight, at, now)
    }

    /// What a symptom is taken for; nothing while something else may explain it better.
    fn sight(
        &mut self,
        check: &CheckFacts,
        result: &CheckResult,
        seen: &Symptom,
        path: PathState,
        at: WallTime,
    ) -> Option<Observed> {
        let memory = self.checks.get(&check.id)?;
        let ever_good = memory.ever_good;
        let misfit = matches!(seen, Symptom::Broken(..)) && !ever_good;
        let kind = if misfit { EventKind::CheckMismatch } else { seen.kind() };
        let by_network = matches!(path, PathState::Faulty { .. }) && seen.may_come_from_the_path();
        match seen {
            // A change takes as long to get around as answers may be kept.
            Symptom::Stale { .. } | Symptom::Disagree => {
                let since = memory.at_odds_since.unwrap_or(at);
                let kept = result.seen.resolved.iter().filter_map(|one| one.ttl_s).max();
                let kept_us = i64::from(kept.unwrap_or(0)) * 1_000_000;
                if at.micros_since(since) < kept_us {
                    return None;
                }
            }
            Symptom::Broken(Step::Connect, _) if self.is_led_astray(check) => {
                let memory = self.checks.get_mut(&check.id)?;
                memory.deferred = memory.deferred.saturating_add(1);
                if memory.deferred <= DEFERRED {
                    return None;
                }
            }
            _ => {}
        }
        let led_astray =
            matches!(seen, Symptom::Broken(Step::Connect, _)) && self.is_led_astray(check);
        let elsewhere = self.elsewhere(check);
        let path = match path {
            PathState::Faulty { sent, lost, .. } => {
                PathState::Faulty { sent, lost, explains: by_network }
            }
            other => other,
        };
        let report = CheckReport { check, result, path, elsewhere, wrong_address: led_astray };
        let severity = match kind {
            EventKind::CheckMismatch => None,
            // What leads astray has an alarm of its own.
            _ if by_network || led_astray => None,
            EventKind::ServiceSlow | EventKind::TransferSlow | EventKind::DnsDisagree => {
                Some(Severity::Minor)
            }
            _ => Some(Severity::Major),
        };
        let (part, group, message) = report.of(seen, misfit);
        let part = if by_network { Part::Network } else { part };
        Some(Observed {
            key: EventKey { kind, agent: check.agent, subject: check.id.to_string() },
            part,
            severity,
            group,
            message,
            service: Some(check.service.clone()),
            check: Some(check.id),
            own_addresses: Vec::new(),
            route: Vec::new(),
            hold: u32::from(check.raise_after.max(1)),
        })
    }

    /// A name by which this check goes leads somewhere else than it should, at the same agent.
    fn is_led_astray(&self, check: &CheckFacts) -> bool {
        let Some(name) = &check.host else { return false };
        let stale = self.lasting.iter().any(|event| {
            event.key.kind == EventKind::DnsStale
                && event.key.agent == check.agent
                && event.group.starts_with(&format!("stale:{name}:"))
        });
        let about = format!("{}:name:{name}", check.agent);
        let at_odds = self.checks.values().any(|other| {
            other.at_odds_since.is_some()
                && other.name.as_ref() == Some(name)
                && other.about == about
        });
        stale || at_odds
    }

    /// The same check from other sites.
    fn elsewhere(&self, check: &CheckFacts) -> Elsewhere {
        let about = check.about();
        let same = self.checks.iter().filter(|(id, it)| **id != check.id && it.about == about);
        let count = |sites: usize| u32::try_from(sites).unwrap_or(u32::MAX);
        Elsewhere {
            sites: count(same.clone().count()),
            working: count(same.filter(|(_, it)| it.good_now).count()),
        }
    }
}

/// What a message about a check is made of.
struct CheckReport<'a> {
    check: &'a CheckFacts,
    result: &'a CheckResult,
    path: PathState,
    elsewhere: Elsewhere,
    /// A resolver of the site returns a wrong address for the server.
    wrong_address: bool,
}

impl CheckReport<'_> {
    /// The part at fault for a symptom, its group of one cause, and its message.
    fn of(&self, seen: &Symptom, misfit: bool) -> (Part, String, Message) {
        let target = &self.check.target;
        let name = self.check.name().unwrap_or_default();
        match seen {
            Symptom::Broken(step, why) if misfit => {
                let message = Message::CheckMismatch(self.failure(*step, *why));
                (Part::Service, format!("misfit:{}", self.check.id), message)
            }
            Symptom::Broken(step, why) => {
                let message = Message::ServiceFailed(self.failure(*step, *why));
                (Part::Service, format!("service:{target}:{step}:{why}"), message)
            }
            Symptom::Large => (Part::Network, format!("large:{target}"), self.large()),
            Symptom::Unresolved(by, why) => {
                let group = match by {
                    Some(by) => format!("resolver:{by}:{why}"),
                    None => format!("name:{name}:{why}"),
                };
                (Part::Names, group, self.unresolved(*by, *why))
            }
            Symptom::Stale { resolver, gives, authority, says } => {
                let message = Message::DnsStale(StaleAnswer {
                    name: name.to_owned(),
                    site: self.check.site.clone(),
                    resolver: *resolver,
                    returned: gives.clone(),
                    authority: *authority,
                    current: says.clone(),
                });
                (Part::Names, format!("stale:{name}:{resolver}"), message)
            }
            Symptom::Disagree => (Part::Names, format!("disagree:{name}"), self.disagree()),
            Symptom::Late(took, usual) => {
                (Part::Service, format!("late:{target}"), self.late(*took, *usual))
            }
            Symptom::Slow(rate, usual) => {
                (Part::Service, format!("slow:{target}"), self.slow(*rate, *usual))
            }
        }
    }

    fn failure(&self, step: Step, why: Why) -> CheckFailure {
        let status = self.result.seen.web.as_ref().and_then(|web| web.status);
        CheckFailure {
            target: self.check.target.clone(),
            site: self.check.site.clone(),
            server: self.result.spoke_to,
            check: self.check.ask.kind(),
            step,
            why,
            status: status.filter(|_| why == Why::Status),
            wrong_address: self.wrong_address,
            path: self.path,
            elsewhere: self.elsewhere,
        }
    }

    fn large(&self) -> Message {
        Message::MtuBlackHole(LargePacketLoss {
            target: self.check.target.clone(),
            site: self.check.site.clone(),
            server: self.result.spoke_to,
            path: self.path,
            elsewhere: self.elsewhere,
        })
    }

    fn unresolved(&self, resolver: Option<IpAddr>, why: Why) -> Message {
        Message::NameUnresolved(NameFailure {
            name: self.check.name().unwrap_or_default().to_owned(),
            site: self.check.site.clone(),
            resolver,
            why,
        })
    }

    fn disagree(&self) -> Message {
        let answers = self.result.seen.resolved.iter().map(|one| ResolverAnswer {
            resolver: one.resolver,
            addresses: one.addresses.clone(),
            why: one.why,
        });
        Message::DnsDisagree(DifferentAnswers {
            name: self.check.name().unwrap_or_default().to_owned(),
            site: self.check.site.clone(),
            answers: answers.collect(),
        })
    }

    fn late(&self, first_byte_us: u32, usual_us: Option<u32>) -> Message {
        Message::ServiceSlow(LateAnswer {
            target: self.check.target.clone(),
            site: self.check.site.clone(),
            first_byte_us,
            usual_us,
            connect_us: self.result.took(Step::Connect).map(|took| took.as_micros()),
            path: self.path,
            elsewhere: self.elsewhere,
        })
    }

    fn slow(&self, bytes_per_s: u64, usual_bytes_per_s: Option<u64>) -> Message {
        Message::TransferSlow(SlowTransfer {
            target: self.check.target.clone(),
            site: self.check.site.clone(),
            bytes_per_s,
            usual_bytes_per_s,
            first_byte_us: self.result.took(Step::FirstByte).map(|took| took.as_micros()),
            path: self.path,
        })
    }
}

/// The message of one result.
pub(super) fn of_result(check: &CheckFacts, result: &CheckResult, path: PathState) -> Message {
    match result.outcome {
        Outcome::Good => {
            let web = result.seen.web.as_ref();
            let name = match &check.ask {
                Ask::Name(question) => Some(question.name.clone()),
                _ => None,
            };
            let first = result.seen.resolved.first().filter(|_| name.is_some());
            Message::CheckSucceeded(CheckSuccess {
                target: check.target.clone(),
                took_us: result.took_in_all().as_micros(),
                status: web.and_then(|web| web.status),
                bytes_per_s: web.and_then(|web| web.rate_bytes_per_s),
                addresses: first.map(|one| one.addresses.clone()).unwrap_or_default(),
                name,
                path,
            })
        }
        Outcome::Broke { at, why } => {
            let elsewhere = Elsewhere::default();
            let report = CheckReport { check, result, path, elsewhere, wrong_address: false };
            Message::CheckFailed(report.failure(at, why))
        }
    }
}

impl Memory {
    /// Of a check that is known to have succeeded, and nothing else.
    pub(super) fn of_working() -> Self {
        Self { ever_good: true, ..Self::default() }
    }

    fn learn(
        &mut self,
        check: &CheckFacts,
        result: &CheckResult,
        seen: Option<&Symptom>,
        late_us: u32,
        at: WallTime,
    ) {
        self.name = check.name().map(str::to_owned);
        self.about = check.about();
        self.good_now = result.outcome == Outcome::Good;
        self.ever_good |= self.good_now;
        match seen {
            Some(Symptom::Stale { .. } | Symptom::Disagree) => {
                self.at_odds_since.get_or_insert(at);
            }
            _ => self.at_odds_since = None,
        }
        if seen.is_none() {
            self.deferred = 0;
        }
        if seen.is_none() && late_us < ROUND_TRIP_US {
            // A fault is not learned as usual.
            if let Some(took) = result.took(Step::FirstByte) {
                keep(&mut self.first_byte_us, took.as_micros());
            }
            if let Some(rate) = result.seen.web.as_ref().and_then(|web| web.rate_bytes_per_s) {
                keep(&mut self.rates, rate);
            }
        }
    }
}

impl CheckFacts {
    /// The name that is asked for, or asked by.
    pub(super) fn name(&self) -> Option<&str> {
        match &self.ask {
            Ask::Name(question) => Some(&question.name),
            _ => self.host.as_deref(),
        }
    }

    /// The check, for all agents; DNS queries belong to each agent, since their resolvers
    /// are others.
    fn about(&self) -> String {
        match &self.ask {
            Ask::Name(question) => format!("{}:name:{}", self.agent, question.name),
            ask => format!("{}:{}", self.target, ask.id()),
        }
    }
}
