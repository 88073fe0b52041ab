//! Notices: what is said of incidents outside the product, to which receivers, and when.

use crate::alarm::Severity;
use crate::hours::Hours;
use crate::unit::WallTime;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What a notice says of its incident. `EnumString` and `IntoStaticStr` read and write its name in the
/// database.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum NoticeKind {
    /// Its first alarm was raised.
    Raised,
    /// The severity of its alarms rose.
    Worsened,
    /// Alarms were raised again after it had cleared.
    RaisedAgain,
    /// Each of its alarms has cleared.
    Cleared,
    /// A user asked for the notice.
    Requested,
    /// A test of a receiver, about no incident.
    Test,
    /// A kind that this version of the service does not know.
    Unknown,
}

impl NoticeKind {
    /// The kind of a name in the database.
    pub fn of(name: &str) -> Self {
        name.parse().unwrap_or(Self::Unknown)
    }

    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// State of the delivery of a notice to a receiver. `EnumString` and `IntoStaticStr` read and write its
/// name in the database.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum DeliveryState {
    /// It is sent soon, perhaps again.
    Waiting,
    /// The receiver has accepted it.
    Sent,
    /// It is not sent any more: the receiver refused it, or every attempt failed.
    Failed,
    /// It is not sent, for a reason that it has.
    Skipped,
    /// A state that this version of the service does not know.
    Unknown,
}

impl DeliveryState {
    /// The state of a name in the database.
    pub fn of(name: &str) -> Self {
        name.parse().unwrap_or(Self::Unknown)
    }

    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// How the alarms of an incident are, as far as notices go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// One is open that no operator has shelved or closed; the highest severity of those.
    Open(Severity),
    /// Open, but each is shelved or closed by an operator.
    SetAside,
    /// Each has cleared.
    Over,
}

/// What notices have said of an incident, or are about to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Said {
    /// Nothing.
    #[default]
    Nothing,
    /// It is open with this severity, the highest so far.
    Open(Severity),
    /// It has cleared; the highest severity before that.
    Cleared(Severity),
}

/// What changes about the notices of an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoticeStep {
    /// What notices have said then.
    pub said: Said,
    /// The notice that waits is not sent.
    pub withdraw: bool,
    /// A notice of this kind is sent.
    pub add: Option<NoticeKind>,
}

impl Said {
    /// What changes about the notices of an incident with alarms that are `now` so. `waiting` is the kind
    /// of its notice that is not composed yet, of which there is at most one. Nothing where nothing
    /// changes.
    pub fn step(self, now: Standing, waiting: Option<NoticeKind>) -> Option<NoticeStep> {
        use NoticeKind::{Cleared, Raised, RaisedAgain, Worsened};
        let step = |said, withdraw, add| Some(NoticeStep { said, withdraw, add });
        match (self, now, waiting) {
            (Self::Nothing, Standing::Open(severity), _) => {
                step(Self::Open(severity), false, Some(Raised))
            }
            (Self::Open(before), Standing::Open(severity), waiting) if severity < before => {
                // A notice that waits says it when it is composed.
                step(Self::Open(severity), false, waiting.is_none().then_some(Worsened))
            }
            (Self::Open(_), Standing::Over | Standing::SetAside, Some(Raised)) => {
                step(Self::Nothing, true, None)
            }
            (Self::Open(before), Standing::Over | Standing::SetAside, Some(RaisedAgain)) => {
                step(Self::Cleared(before), true, None)
            }
            (Self::Open(before), Standing::Over, waiting) => {
                step(Self::Cleared(before), waiting.is_some(), Some(Cleared))
            }
            (Self::Cleared(before), Standing::Open(severity), Some(Cleared)) => {
                let worse = (severity < before).then_some(Worsened);
                step(Self::Open(severity.min(before)), true, worse)
            }
            (Self::Cleared(_), Standing::Open(severity), _) => {
                step(Self::Open(severity), false, Some(RaisedAgain))
            }
            (Self::Nothing | Self::Open(_) | Self::Cleared(_), ..) => None,
        }
    }
}

/// How long a notice waits, so that it names all paths of the fault.
const GATHERING: Duration = Duration::from_secs(10);
/// How long the notice of clearing waits at first; the fault may return.
const SETTLING: Duration = Duration::from_secs(120);
const LONGEST_SETTLING: Duration = Duration::from_secs(1_800);
/// Judgement that is behind catches up about ten times as fast as time goes.
const CATCH_UP: u32 = 10;
const LONGEST_CATCH_UP: Duration = Duration::from_secs(600);

/// How long a notice waits before it is composed. `behind` is the distance from the change to now, and
/// `cleared_before` counts the notices of clearing of this incident within two hours: one that flaps is
/// said to have cleared ever later.
pub fn wait(kind: NoticeKind, behind: Duration, cleared_before: u32) -> Duration {
    let settled = match kind {
        NoticeKind::Cleared => {
            SETTLING.saturating_mul(2_u32.saturating_pow(cleared_before)).min(LONGEST_SETTLING)
        }
        _ => GATHERING,
    };
    settled + (behind / CATCH_UP).min(LONGEST_CATCH_UP)
}

/// Which notices go to a receiver. Each condition that is given must hold; an empty list is none.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Route {
    /// Least severity.
    pub severity: Option<Severity>,
    /// What the notice says. Where empty, everything; for an action, that alarms were raised.
    pub kinds: Vec<NoticeKind>,
    /// One of these sites shows it.
    pub sites: Vec<String>,
    /// It touches one of these services.
    pub services: Vec<String>,
    /// One of its sites or services has one of these tags.
    pub tags: Vec<String>,
    /// An owner at fault has one of these AS numbers.
    pub owners: Vec<u32>,
    /// It is sent within these hours.
    pub hours: Option<Hours>,
}

/// What routes ask about a notice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Routed {
    /// What it says.
    pub kind: NoticeKind,
    /// Severity of its incident.
    pub severity: Severity,
    /// Sites that show the fault.
    pub sites: Vec<String>,
    /// Services that it touches.
    pub services: Vec<String>,
    /// Tags of those sites and services.
    pub tags: Vec<String>,
    /// AS numbers of the owners at fault.
    pub owners: Vec<u32>,
}

fn meet<T: PartialEq>(wanted: &[T], present: &[T]) -> bool {
    wanted.is_empty() || wanted.iter().any(|it| present.contains(it))
}

impl Route {
    /// Whether a notice takes this route at a time.
    pub fn takes(&self, notice: &Routed, at: WallTime) -> bool {
        self.severity.is_none_or(|least| notice.severity <= least)
            && meet(&self.kinds, &[notice.kind])
            && meet(&self.sites, &notice.sites)
            && meet(&self.services, &notice.services)
            && meet(&self.tags, &notice.tags)
            && meet(&self.owners, &notice.owners)
            && self.hours.as_ref().is_none_or(|hours| hours.hold(at))
    }
}

/// Transport of syslog messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum SyslogTransport {
    /// One datagram each, unacknowledged (RFC 5426).
    Udp,
    /// With a byte count, over TCP (RFC 6587, section 3.4.1).
    Tcp,
    /// With a byte count, over TLS (RFC 5425).
    Tls,
}

/// How notices reach a receiver.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "channel", rename_all = "lowercase", deny_unknown_fields)]
pub enum Channel {
    /// An HTTP request with a CloudEvent, signed.
    Webhook {
        /// `https:` or `http:` URL.
        url: String,
    },
    /// The same, to a program that acts on the network. Its answer is recorded.
    Action {
        /// `https:` or `http:` URL.
        url: String,
        /// Requests within an hour, at most.
        per_hour: u16,
    },
    /// An e-mail message.
    Mail {
        /// Addresses.
        to: Vec<String>,
    },
    /// A syslog message (RFC 5424).
    Syslog {
        /// Name or address of the host.
        host: String,
        /// Port.
        port: u16,
        /// Transport.
        transport: SyslogTransport,
    },
}

impl Channel {
    /// Whether requests on it are signed with a secret.
    pub const fn is_signed(&self) -> bool {
        matches!(self, Self::Webhook { .. } | Self::Action { .. })
    }

    /// Name of the channel in the API.
    pub const fn name(&self) -> &'static str {
        match self {
            Self::Webhook { .. } => "webhook",
            Self::Action { .. } => "action",
            Self::Mail { .. } => "mail",
            Self::Syslog { .. } => "syslog",
        }
    }
}

/// A receiver of notices.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Receiver {
    /// Name, unique.
    pub name: String,
    /// Notices are sent to it.
    #[serde(default = "enabled")]
    pub enabled: bool,
    /// How they reach it.
    #[serde(flatten)]
    pub channel: Channel,
    /// Notices that take one of these routes are sent. Without a route, only those that a user asks for.
    #[serde(default)]
    pub routes: Vec<Route>,
}

const fn enabled() -> bool {
    true
}

impl Receiver {
    /// Whether a notice goes to it at a time.
    pub fn takes(&self, notice: &Routed, at: WallTime) -> bool {
        let acts = matches!(self.channel, Channel::Action { .. });
        let asks = matches!(notice.kind, NoticeKind::Raised | NoticeKind::RaisedAgain);
        self.enabled
            && self
                .routes
                .iter()
                .any(|route| route.takes(notice, at) && (asks || !acts || !route.kinds.is_empty()))
    }
}

/// Pauses after failed attempts, in seconds, before they are spread: about eight hours in all.
const PAUSES_S: [u32; 14] =
    [5, 15, 45, 120, 300, 600, 900, 1_800, 1_800, 3_600, 3_600, 3_600, 5_400, 5_400];
/// Longest pause that a receiver may ask for.
const LONGEST_ASKED: Duration = Duration::from_secs(3_600);

/// The pause after so many failed attempts, from 1; nothing where no other attempt is made. `asked` is the
/// pause that the receiver asks for. `spread` is any number: it lengthens the pause by up to a quarter, so
/// that what failed together is not tried together.
pub fn pause_after(attempts: u32, asked: Option<Duration>, spread: u64) -> Option<Duration> {
    let index = usize::try_from(attempts.checked_sub(1)?).ok()?;
    let pause = Duration::from_secs((*PAUSES_S.get(index)?).into());
    let longer = pause * u32::try_from(spread % 256).unwrap_or(0) / 1_024;
    Some((pause + longer).max(asked.unwrap_or_default().min(LONGEST_ASKED)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use strum::VariantArray;
    use time::format_description::well_known::Rfc3339;

    #[test]
    fn kinds_and_states_have_one_name_in_the_database_and_in_the_api() {
        for kind in NoticeKind::VARIANTS {
            assert_eq!(serde_json::json!(kind), kind.name());
            assert_eq!(NoticeKind::of(kind.name()), *kind);
        }
        for state in DeliveryState::VARIANTS {
            assert_eq!(serde_json::json!(state), state.name());
            assert_eq!(DeliveryState::of(state.name()), *state);
        }
        assert_eq!(NoticeKind::of("painted"), NoticeKind::Unknown);
        assert_eq!(DeliveryState::of("painted"), DeliveryState::Unknown);
    }

    /// A name, a story, and the kinds that are sent.
    type Case = (&'static str, &'static [(Standing, bool)], &'static [NoticeKind]);

    /// Plays a story: standings, each with whether the waiting notice is composed before the next. Gives
    /// the kinds that were sent.
    fn sent(story: &[(Standing, bool)]) -> Vec<NoticeKind> {
        let (mut said, mut waiting, mut sent) = (Said::Nothing, None, Vec::new());
        for (now, composed) in story {
            if let Some(step) = said.step(*now, waiting) {
                said = step.said;
                if step.withdraw {
                    waiting = None;
                }
                if step.add.is_some() {
                    assert_eq!(waiting, None, "at most one waits");
                    waiting = step.add;
                }
            }
            if *composed {
                sent.extend(waiting.take());
            }
        }
        sent
    }

    #[test]
    fn a_notice_says_what_is_new_and_nothing_that_passed_unsaid() {
        use NoticeKind::{Cleared, Raised, RaisedAgain, Worsened};
        use Severity::{Critical, Major, Minor};
        use Standing::{Open, Over, SetAside};
        let cases: [Case; 12] = [
            ("plain", &[(Open(Major), true), (Over, true)], &[Raised, Cleared]),
            ("short", &[(Open(Major), false), (Over, true)], &[]),
            (
                "short, then real",
                &[(Open(Major), false), (Over, true), (Open(Major), true)],
                &[Raised],
            ),
            ("worse", &[(Open(Minor), true), (Open(Critical), true)], &[Raised, Worsened]),
            ("worse at once", &[(Open(Minor), false), (Open(Critical), true)], &[Raised]),
            (
                "milder",
                &[(Open(Critical), true), (Open(Minor), true), (Open(Critical), true)],
                &[Raised],
            ),
            ("flaps", &[(Open(Major), true), (Over, false), (Open(Major), true)], &[Raised]),
            (
                "returns worse",
                &[(Open(Major), true), (Over, false), (Open(Critical), true)],
                &[Raised, Worsened],
            ),
            (
                "returns",
                &[(Open(Major), true), (Over, true), (Open(Minor), true)],
                &[Raised, Cleared, RaisedAgain],
            ),
            (
                "returns for a moment",
                &[(Open(Major), true), (Over, true), (Open(Minor), false), (Over, true)],
                &[Raised, Cleared],
            ),
            (
                "shelved at once, then not",
                &[(Open(Major), false), (SetAside, true), (Open(Major), true)],
                &[Raised],
            ),
            (
                "shelved later",
                &[(Open(Major), true), (SetAside, true), (Over, true)],
                &[Raised, Cleared],
            ),
        ];
        for (name, story, expected) in cases {
            assert_eq!(sent(story), expected, "{name}");
        }
        assert_eq!(sent(&[(Over, true), (SetAside, true)]), [], "never open");
    }

    #[test]
    fn what_flaps_is_said_to_have_cleared_ever_later_and_judgement_behind_waits() {
        let now = Duration::ZERO;
        let cleared = |before| wait(NoticeKind::Cleared, now, before).as_secs();
        assert_eq!([0, 1, 2, 3, 4, 40].map(cleared), [120, 240, 480, 960, 1_800, 1_800]);
        let raised = |behind| wait(NoticeKind::Raised, Duration::from_secs(behind), 7).as_secs();
        assert_eq!([0, 300, 86_400].map(raised), [10, 40, 610]);
    }

    fn at(text: &str) -> WallTime {
        WallTime::from(time::OffsetDateTime::parse(text, &Rfc3339).unwrap())
    }

    fn notice() -> Routed {
        Routed {
            kind: NoticeKind::Raised,
            severity: Severity::Major,
            sites: vec!["Dunverra".to_owned(), "Eskerry".to_owned()],
            services: vec!["Gate Scanning".to_owned()],
            tags: vec!["harbour".to_owned()],
            owners: vec![64_500],
        }
    }

    #[test]
    fn a_route_takes_what_meets_each_of_its_conditions() {
        let names = |names: &[&str]| names.iter().map(|&it| it.to_owned()).collect::<Vec<_>>();
        let any = Route::default;
        let morning = Hours {
            days: Vec::new(),
            from: "08:00".to_owned(),
            to: "09:00".to_owned(),
            zone: "Europe/London".to_owned(),
        };
        let cases = [
            (any(), true),
            (Route { severity: Some(Severity::Critical), ..any() }, false),
            (Route { severity: Some(Severity::Minor), ..any() }, true),
            (Route { kinds: vec![NoticeKind::Cleared], ..any() }, false),
            (Route { sites: names(&["Ferrish Holm", "Eskerry"]), ..any() }, true),
            (Route { services: names(&["Bridge Voice"]), ..any() }, false),
            (
                Route { tags: names(&["harbour"]), services: names(&["Bridge Voice"]), ..any() },
                false,
            ),
            (Route { tags: names(&["harbour"]), owners: vec![64_500], ..any() }, true),
            (Route { hours: Some(morning), ..any() }, false),
        ];
        let noon = at("2026-12-07T12:00:00Z");
        for (route, takes) in cases {
            assert_eq!(route.takes(&notice(), noon), takes, "{route:?}");
        }
    }

    #[test]
    fn an_action_is_asked_for_when_alarms_are_raised_and_no_receiver_takes_notices_without_a_route()
    {
        let noon = at("2026-12-07T12:00:00Z");
        let url = "https://actions.corriven.example/uplink".to_owned();
        let receiver = |channel: Channel, routes: Vec<Route>| Receiver {
            name: "Uplink".to_owned(),
            enabled: true,
            channel,
            routes,
        };
        let cleared = Routed { kind: NoticeKind::Cleared, ..notice() };
        let action = Channel::Action { url: url.clone(), per_hour: 2 };
        let acts = receiver(action.clone(), vec![Route::default()]);
        assert_eq!((acts.takes(&notice(), noon), acts.takes(&cleared, noon)), (true, false));
        let on_clear = Route { kinds: vec![NoticeKind::Cleared], ..Route::default() };
        assert!(receiver(action, vec![on_clear]).takes(&cleared, noon), "where it is wanted");
        let webhook = Channel::Webhook { url };
        assert!(receiver(webhook.clone(), vec![Route::default()]).takes(&cleared, noon));
        assert!(!receiver(webhook.clone(), Vec::new()).takes(&notice(), noon));
        let disabled = Receiver { enabled: false, ..receiver(webhook, vec![Route::default()]) };
        assert!(!disabled.takes(&notice(), noon));
    }

    #[test]
    fn a_receiver_is_written_as_one_object() {
        let text = r#"{ "name": "Duty desk", "channel": "mail", "to": ["duty@corriven.example"],
            "routes": [{ "severity": "major", "hours": { "from": "08:00", "to": "17:00",
            "zone": "Europe/London", "days": ["monday"] } }] }"#;
        let receiver: Receiver = serde_json::from_str(text).unwrap();
        assert!(receiver.enabled);
        assert_eq!(receiver.channel.name(), "mail");
        assert_eq!(receiver.routes[0].severity, Some(Severity::Major));
        let again = serde_json::to_value(&receiver).unwrap();
        assert_eq!(serde_json::from_value::<Receiver>(again).unwrap(), receiver);
        for odd in [
            r#"{ "name": "A", "channel": "mail", "to": [], "routes": [{ "sevrity": 1 }] }"#,
            r#"{ "name": "A", "channel": "mail", "to": [], "enabld": false }"#,
            r#"{ "name": "A", "channel": "pigeon", "to": [] }"#,
        ] {
            assert!(serde_json::from_str::<Receiver>(odd).is_err(), "{odd}");
        }
    }

    #[test]
    fn pauses_grow_are_spread_and_end() {
        let seconds = |attempts| pause_after(attempts, None, 0).map(|it| it.as_secs());
        assert_eq!([0, 1, 2, 14, 15].map(seconds), [None, Some(5), Some(15), Some(5_400), None]);
        let spread = pause_after(4, None, 255).unwrap();
        assert!(spread > Duration::from_secs(149) && spread < Duration::from_secs(150));
        let asked = |seconds| pause_after(1, Some(Duration::from_secs(seconds)), 0).unwrap();
        assert_eq!([60, 1, 90_000].map(|it| asked(it).as_secs()), [60, 5, 3_600]);
        let all: u32 = PAUSES_S.iter().sum();
        assert!((8 * 3_600 - 3_600..9 * 3_600).contains(&all), "{all} s");
    }
}
