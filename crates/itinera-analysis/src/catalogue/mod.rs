//! The catalogue: the words of every message code.
//!
//! A message is rendered into a headline of at most 70 characters (effect, then place), a contact
//! line, and a detail of a few sentences with numbers, reasons and what to do next. No other
//! module builds sentences about findings, alarms, events or complaints.

mod checks;
mod complaint;
mod diagnosis;
mod host;
mod located;
#[cfg(test)]
mod note_tests;
mod notes;
mod overall;
mod own;
mod pair;
mod path;
#[cfg(test)]
mod step_tests;
#[cfg(test)]
mod tests;
mod text;

use itinera_model::alarm::AlarmState;
use itinera_model::message::Message;
use itinera_model::owner::OwnerMap;

pub use diagnosis::{conclusion, step};
pub use located::{confidence, place};
pub use notes::note;
pub use overall::overall;

/// Longest headline, in characters.
pub const MAX_HEADLINE: usize = 70;

/// What a message is rendered with.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// Owners of addresses, as they were at the time of the message.
    pub map: &'a OwnerMap,
    /// State of the fault.
    pub state: AlarmState,
    /// Sites that see the same.
    pub sites: &'a [String],
}

/// The words of a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Words {
    /// Effect, then place, in at most [`MAX_HEADLINE`] characters.
    pub headline: String,
    /// The owner to call, or what to check first; absent where there is nothing to do.
    pub contact: Option<String>,
    /// Numbers, reasons, and what to do next.
    pub detail: Vec<String>,
}

impl Words {
    fn new(headline: String, contact: Option<String>, detail: Vec<String>) -> Self {
        Self { headline, contact, detail }
    }

    /// All of it as sentences.
    pub fn sentences(self) -> Vec<String> {
        let headline = format!("{}.", self.headline);
        std::iter::once(headline).chain(self.detail).chain(self.contact).collect()
    }
}

/// Renders a message.
pub fn render(message: &Message, context: &Context<'_>) -> Words {
    let mut words = match message {
        Message::LossLocated(fault)
        | Message::DelayLocated(fault)
        | Message::BreakLocated(fault)
        | Message::MisroutingLocated(fault) => located::words(message, fault, context),
        Message::PathClean(counts) => path::clean(counts),
        Message::NoHopAnswers(counts) => path::no_hop_answers(counts),
        Message::TargetSilent(counts) => path::target_silent(counts),
        Message::NotMeasured => path::not_measured(),
        Message::HopsRateLimited(hops) => path::rate_limited(&hops.hops),
        Message::HopsSilent(hops) => path::silent(&hops.hops),
        Message::CheckSucceeded(success) => checks::succeeded(success),
        Message::CheckFailed(failure) => checks::failed_once(failure),
        Message::CheckMismatch(failure) => checks::mismatch(failure),
        Message::ServiceFailed(failure) => checks::failed(failure, context),
        Message::MtuBlackHole(loss) => checks::mtu_black_hole(loss, context),
        Message::NameUnresolved(failure) => checks::unresolved(failure, context),
        Message::DnsStale(answer) => checks::stale(answer, context),
        Message::DnsDisagree(answers) => checks::disagree(answers),
        Message::ServiceSlow(late) => checks::slow(late, context),
        Message::TransferSlow(slow) => checks::transfer_slow(slow, context),
        Message::ThroughputLow(low) => host::throughput_low(low),
        Message::PairLoss(loss) => pair::loss(loss),
        Message::PairUnreachable(pair) => pair::unreachable(pair),
        Message::ReceiveErrors(counts) => host::receive_errors(counts),
        Message::LinkSaturated(used) => host::link_saturated(used),
        Message::HostBusy(late) => host::busy(late),
        Message::AgentSilent(silent) => host::silent(silent),
        Message::HostFactsChanged(change) => host::changed(change),
        Message::LocalActionTaken(taken) => host::acted(taken),
        Message::RouteNotIntended(route) => host::route_not_intended(route),
        Message::JudgementBehind(backlog) => own::behind(backlog),
        Message::CommitsSetAside(commits) => own::set_aside(commits),
        Message::DutyFailing(failing) => own::duty(failing),
        Message::DiskLow(space) => own::disk_low(*space),
        Message::DiskFull(space) => own::disk_full(*space),
        Message::AgentsLate(agents) => own::agents_late(agents),
        Message::DeliveriesFailing(failing) => own::deliveries(failing),
        Message::ComplaintNotMeasured(facts)
        | Message::ComplaintNetworkClean(facts)
        | Message::ComplaintSite(facts)
        | Message::ComplaintService(facts)
        | Message::ComplaintSharedPart(facts) => complaint::words(message, facts, context),
        Message::NothingAttached => {
            Words::new("No alarm or event is attached".to_owned(), None, Vec::new())
        }
        Message::Recorded(recorded) => text::of_recorded(&recorded.words),
    };
    let prefix = match context.state {
        AlarmState::Open | AlarmState::NoData => "",
        AlarmState::Cleared | AlarmState::RecordedLate => "Cleared: ",
        AlarmState::Expired => "Expired: ",
    };
    words.headline.insert_str(0, prefix);
    words.headline = text::clipped(&words.headline, MAX_HEADLINE);
    words
}
