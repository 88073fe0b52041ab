//! Alarms (RFC 8632): raised when a limit is held over, cleared when its cause is gone.

use crate::finding::{Cause, FaultDirection, LossCounts, Place, Reason};
use crate::id::PathId;
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};

/// What an alarm is about. `EnumString` and `IntoStaticStr` read and write its name in the database.
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
)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum AlarmClass {
    /// A fault that paths show.
    Path,
    /// An event of an agent, a check or a route.
    Event,
    /// A fault of the service itself.
    Service,
}

impl AlarmClass {
    /// Its name in the database and in the API.
    pub fn name(self) -> &'static str {
        self.into()
    }
}

/// Kind of alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AlarmKind {
    /// A fixed limit was exceeded for long enough.
    LimitHeldOver,
}

/// Perceived severity (ITU-T X.733, RFC 8632).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Service-affecting, act at once.
    Critical,
    /// Service-affecting, act soon.
    Major,
    /// Not yet service-affecting.
    Minor,
}

/// What makes two alarms the same while open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct AlarmKey {
    /// Kind.
    pub kind: AlarmKind,
    /// Cause.
    pub cause: Cause,
    /// Place at fault.
    pub place: Place,
}

/// The limits that an alarm is raised by, and what has changed its severity.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppliedRules {
    /// Carried loss from which it is due, in parts per million.
    pub loss_ppm: u32,
    /// Added delay from which it is due.
    pub added_delay_us: Micros,
    /// The first rule that has one of its limits; absent where they are as configured.
    pub limits_by: Option<String>,
    /// The severity by its figures, where a rule decides it.
    pub by_figures: Option<Severity>,
    /// That rule.
    pub severity_by: Option<String>,
}

/// An alarm as the judgement keeps it while open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Alarm {
    /// Identity while open.
    pub key: AlarmKey,
    /// How bad.
    pub severity: Severity,
    /// Start of the first window over the limit.
    pub since: WallTime,
    /// When it was raised, by the service's clock.
    pub raised_at: WallTime,
    /// Best confidence seen, in parts per million.
    pub confidence_ppm: u32,
    /// Carried loss in parts per million: pooled over the newest windows of the paths that show it.
    pub loss_ppm: u32,
    /// What that is pooled from.
    #[serde(default)]
    pub loss_counts: LossCounts,
    /// Added delay: median over the newest windows of the paths that show it.
    pub added_delay_us: Micros,
    /// Direction of packets that have it, by the finding with the best confidence.
    #[serde(default)]
    pub direction: FaultDirection,
    /// Places that the paths which show it cannot tell from this one.
    #[serde(default)]
    pub indistinguishable: Vec<Place>,
    /// Reasons of that finding.
    #[serde(default)]
    pub reasons: Vec<Reason>,
    /// The highest that `loss_ppm` has been.
    pub worst_loss_ppm: u32,
    /// The highest that `added_delay_us` has been.
    pub worst_added_delay_us: Micros,
    /// The end of the newest measurements of the paths that show it, where none of them reports any
    /// more. An alarm that ends with this set has expired.
    #[serde(default)]
    pub no_data_since: Option<WallTime>,
    /// When it was recorded, where it was found only in measurements that came in late: it was
    /// never open.
    #[serde(default)]
    pub recorded_at: Option<WallTime>,
    /// The rules that apply to it; absent for alarms from before there were any.
    #[serde(default)]
    pub applied: Option<AppliedRules>,
    /// Paths that show it now; it clears when none does.
    pub showing: Vec<PathId>,
    /// Paths that have shown it, those included.
    pub paths: Vec<PathId>,
}

/// State of an alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AlarmState {
    /// Paths show it.
    Open,
    /// It is open, and none of its paths reports.
    NoData,
    /// It is over.
    Cleared,
    /// None of its paths has reported for too long.
    Expired,
    /// It was over when late measurements showed it.
    RecordedLate,
}

impl AlarmState {
    /// True where it is over.
    pub const fn is_over(self) -> bool {
        matches!(self, Self::Cleared | Self::Expired | Self::RecordedLate)
    }

    /// The state of what has cleared or not.
    pub const fn of_cleared(cleared: bool) -> Self {
        if cleared { Self::Cleared } else { Self::Open }
    }
}

impl Alarm {
    /// Its state, given whether it has ended.
    pub const fn state(&self, ended: bool) -> AlarmState {
        match (ended, self.no_data_since.is_some(), self.recorded_at.is_some()) {
            (false, false, _) => AlarmState::Open,
            (false, true, _) => AlarmState::NoData,
            (true, _, true) => AlarmState::RecordedLate,
            (true, false, false) => AlarmState::Cleared,
            (true, true, false) => AlarmState::Expired,
        }
    }
}

/// What judgement wants recorded about alarms.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum AlarmEffect {
    /// A new alarm.
    Raised(Alarm),
    /// An alarm that had cleared shortly before. Its key and the time at which it was first raised are as
    /// recorded.
    RaisedAgain {
        /// The alarm.
        alarm: Alarm,
        /// When, by the service's clock.
        at: WallTime,
    },
    /// An open alarm with other figures, paths or state.
    Changed {
        /// The alarm.
        alarm: Alarm,
        /// When, by the service's clock.
        at: WallTime,
    },
    /// A fault of the past that only late measurements show.
    Recorded {
        /// The alarm.
        alarm: Alarm,
        /// When the fault was over, by the measurements.
        cleared_at: WallTime,
    },
    /// An alarm of the past with other paths or times, by late measurements. Its key and the time at
    /// which it was raised are as recorded.
    Corrected {
        /// The alarm.
        alarm: Alarm,
        /// When it cleared.
        cleared_at: WallTime,
    },
    /// The end of an open alarm.
    Cleared {
        /// Which.
        key: AlarmKey,
        /// When, by the service's clock.
        at: WallTime,
    },
}

impl AlarmEffect {
    /// The alarm that it is about.
    pub const fn key(&self) -> AlarmKey {
        match self {
            Self::Raised(alarm)
            | Self::RaisedAgain { alarm, .. }
            | Self::Changed { alarm, .. }
            | Self::Recorded { alarm, .. }
            | Self::Corrected { alarm, .. } => alarm.key,
            Self::Cleared { key, .. } => *key,
        }
    }

    /// When it came to be, by the service's clock.
    pub fn at(&self) -> WallTime {
        match self {
            Self::Raised(alarm) => alarm.raised_at,
            Self::RaisedAgain { at, .. } | Self::Changed { at, .. } | Self::Cleared { at, .. } => {
                *at
            }
            Self::Recorded { alarm, cleared_at } | Self::Corrected { alarm, cleared_at } => {
                alarm.recorded_at.unwrap_or(*cleared_at)
            }
        }
    }
}
