//! Events in sentences.

use super::{CheckFacts, Leg};
use itinera_model::check::{Ask, CheckResult, Outcome, Step, Why};
use itinera_model::event::Event;
use itinera_model::unit::Micros;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// What a sentence is made of.
pub(super) struct CheckReport<'a> {
    pub(super) check: &'a CheckFacts,
    pub(super) result: &'a CheckResult,
    pub(super) leg: Leg,
    /// Of the other sites that ask the same: how many get a good answer, and of how many.
    pub(super) elsewhere: (usize, usize),
    pub(super) ever_good: bool,
    pub(super) led_astray: bool,
    /// What is lost on the path explains it.
    pub(super) by_network: bool,
}

pub(super) fn listed(addresses: &[IpAddr]) -> String {
    let text: Vec<String> = addresses.iter().map(ToString::to_string).collect();
    if text.is_empty() { "nothing".to_owned() } else { text.join(", ") }
}

/// Bytes per second, as text.
fn rate_words(rate: u64) -> String {
    match rate {
        0..10_000 => format!("{:.1} kB a second", rate as f64 / 1e3),
        10_000..1_000_000 => format!("{} kB a second", rate / 1_000),
        _ => format!("{:.1} MB a second", rate as f64 / 1e6),
    }
}

impl CheckReport<'_> {
    fn there(&self) -> String {
        self.result.spoke_to.map_or_else(String::new, |there| format!(" at {there}"))
    }

    /// Whether it is the network.
    fn leg(&self) -> String {
        match self.leg {
            Leg::Clean(sent, lost) => {
                format!("The path there is clean ({lost} of {sent} probes lost): not the network.")
            }
            Leg::Bad(sent, lost) if self.by_network => format!(
                "The path there is not clean ({lost} of {sent} probes lost): it follows from that."
            ),
            Leg::Bad(sent, lost) => format!(
                "The path there is not clean either ({lost} of {sent} probes lost), which does not \
                 explain it."
            ),
            Leg::Unknown => "Nothing is known of the path there.".to_owned(),
        }
    }

    fn elsewhere(&self) -> String {
        match self.elsewhere {
            (_, 0) => String::new(),
            (good, all) if good == all && matches!(self.leg, Leg::Bad(..)) => {
                format!(" From all {all} other sites it works.")
            }
            (good, all) if good == all => {
                format!(" From all {all} other sites it works: look at this site's way or name.")
            }
            (0, all) => format!(" From none of the {all} other sites does it work."),
            (good, all) => format!(" From {good} of {all} other sites it works."),
        }
    }

    pub(super) fn broken(&self, step: Step, why: Why) -> String {
        let CheckFacts { target, site, .. } = self.check;
        let status = self.result.seen.web.as_ref().and_then(|web| web.status);
        let status = status.filter(|_| why == Why::Status).map(|status| format!(" ({status})"));
        let status = status.unwrap_or_default();
        let said = format!(
            "{target}{} does not work from {site}: at {step}, {why}{status}.",
            self.there()
        );
        if self.led_astray {
            return format!("{said} Its name leads there by a resolver that is behind: see that.");
        }
        format!("{said} {}{}", self.leg(), self.elsewhere())
    }

    pub(super) fn misfit(&self, step: Step, why: Why) -> String {
        let CheckFacts { target, site, ask, .. } = self.check;
        debug_assert!(!self.ever_good, "a misfit never worked");
        format!(
            "The check of {target}{} from {site} ({}) has never worked: at {step}, {why}. Check and \
             server do not fit; this is no outage.",
            self.there(),
            ask.kind(),
        )
    }

    pub(super) fn large(&self) -> String {
        let CheckFacts { target, site, .. } = self.check;
        let small = match self.leg {
            Leg::Clean(sent, lost) => {
                format!("Small probes pass ({lost} of {sent} lost) and short commands are answered")
            }
            _ => "Short commands are answered".to_owned(),
        };
        format!(
            "Full-sized packets from {site} do not reach {target}{}, so large mails hang. {small}: \
             somewhere on the way packets over its MTU are dropped without a word (RFC 2923 \
             section 2.1).{}",
            self.there(),
            self.elsewhere()
        )
    }

    pub(super) fn unresolved(&self, who: Option<IpAddr>, why: Why) -> String {
        let (name, site) = (self.check.name().unwrap_or("the name"), &self.check.site);
        let who = who.map_or_else(|| "its resolvers".to_owned(), |who| format!("resolver {who}"));
        let rest = match why {
            Why::NoSuchName | Why::NoAddress => "",
            _ => " Programs that ask it wait for nothing.",
        };
        format!("{name} does not resolve at {site}, by {who}: {why}.{rest}")
    }

    pub(super) fn stale(
        &self,
        resolver: IpAddr,
        gives: &[IpAddr],
        authority: IpAddr,
        says: &[IpAddr],
    ) -> String {
        let (name, site) = (self.check.name().unwrap_or("the name"), &self.check.site);
        format!(
            "Resolver {resolver} goes on giving {site} the old address of {name}: {}, where \
             {authority} says with authority {}. Names resolve promptly and lead to where the \
             service is no more: not the network. Have the resolver's memory cleared, or ask \
             another one.",
            listed(gives),
            listed(says)
        )
    }

    pub(super) fn disagree(&self) -> String {
        let (name, site) = (self.check.name().unwrap_or("the name"), &self.check.site);
        let said = self.result.seen.resolved.iter();
        let said: Vec<String> = said
            .map(|one| match one.why {
                None => format!("{} says {}", one.resolver, listed(&one.addresses)),
                Some(why) => format!("{}: {why}", one.resolver),
            })
            .collect();
        format!(
            "Resolvers of {site} give different addresses for {name}, and none of them has \
             authority: {}.",
            said.join("; ")
        )
    }

    pub(super) fn late(&self, took_us: u32, usual_us: Option<u32>) -> String {
        let CheckFacts { target, site, .. } = self.check;
        let usual =
            usual_us.map_or_else(String::new, |usual| format!(", usually {}", Micros::new(usual)));
        let opened = self.result.took(Step::Connect);
        let opened = opened
            .map_or_else(String::new, |took| format!(", though the connection opened in {took}"));
        format!(
            "{target} thinks long: its first octet came to {site} after {}{usual}{opened}. {}{}",
            Micros::new(took_us),
            self.leg(),
            self.elsewhere()
        )
    }

    pub(super) fn slow(&self, rate: u64, usual: Option<u64>) -> String {
        let CheckFacts { target, site, .. } = self.check;
        let usual =
            usual.map_or_else(String::new, |usual| format!(", usually {}", rate_words(usual)));
        let first = self.result.took(Step::FirstByte);
        let first = first
            .map_or_else(String::new, |took| format!(", though the first octet came after {took}"));
        let whose = match self.leg {
            Leg::Clean(..) => " The server's own transfer is slow.",
            _ => "",
        };
        format!(
            "The content of {target} comes slowly to {site}: {}{usual}{first}. {}{whose}",
            rate_words(rate),
            self.leg(),
        )
    }
}

/// What an incident of events says: its first event that lasts, and from how many sites the same
/// is seen. `events` are given with their sites and whether each is over; nothing is said of none.
pub fn headline(events: &[(&Event, &str, bool)]) -> Option<String> {
    let lasting = events.iter().filter(|(.., over)| !over);
    let (first, site, over) = lasting
        .min_by_key(|(event, ..)| (event.severity, event.since))
        .or_else(|| events.iter().min_by_key(|(event, ..)| (event.severity, event.since)))?;
    let others: BTreeSet<&str> = events
        .iter()
        .filter(|(event, at, _)| event.group == first.group && at != site)
        .map(|(_, at, _)| *at)
        .collect();
    let also = if others.is_empty() {
        String::new()
    } else {
        let names: Vec<&str> = others.into_iter().collect();
        format!(" The same from {}.", names.join(", "))
    };
    let over = if *over { "It is over. " } else { "" };
    Some(format!("{over}{}{also}", first.words))
}

/// What one result says, in a sentence, with what is known of the path it took.
pub(super) fn of_result(check: &CheckFacts, result: &CheckResult, leg: Leg) -> String {
    let CheckFacts { target, .. } = check;
    let in_all = result.took_in_all();
    let said = match result.outcome {
        Outcome::Good => {
            let web = result.seen.web.as_ref();
            let status = web.and_then(|web| web.status);
            let status = status.map_or_else(String::new, |status| format!(", status {status}"));
            let rate = web.and_then(|web| web.rate_bytes_per_s);
            let rate = rate.map_or_else(String::new, |rate| format!(", {}", rate_words(rate)));
            let name = match &check.ask {
                Ask::Name(question) => {
                    let first = result.seen.resolved.first();
                    let addresses = first.map_or(&[][..], |one| one.addresses.as_slice());
                    format!(": {} is {}", question.name, listed(addresses))
                }
                _ => String::new(),
            };
            format!("{target} answers as it should, in {in_all}{status}{rate}{name}.")
        }
        Outcome::Broke { at, why } => format!("{target} breaks at {at}: {why}."),
    };
    let leg = match leg {
        Leg::Clean(sent, lost) => {
            format!(" The path there is clean: {lost} of {sent} probes lost.")
        }
        Leg::Bad(sent, lost) => {
            format!(" The path there is not clean: {lost} of {sent} probes lost.")
        }
        Leg::Unknown => String::new(),
    };
    format!("{said}{leg}")
}
