//! Ranges of time, and the commands that show one.

use super::number_or_id::NumberOrId;
use crate::exit::{Code, Failure};
use clap::Args;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// A range of time. Of a list: what was open at some time in it.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct RangeArgs {
    /// Begin (RFC 3339), such as 2026-03-09T14:00:00Z
    #[arg(long, value_parser = time_of, value_name = "TIME")]
    from: Option<OffsetDateTime>,
    /// End (RFC 3339); now by default
    #[arg(long, value_parser = time_of, value_name = "TIME")]
    to: Option<OffsetDateTime>,
}

/// A time that something is shown of.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct AtArgs {
    /// Show what was so at this time (RFC 3339), such as 2026-03-09T14:00:00Z
    #[arg(long, value_parser = time_of, value_name = "TIME")]
    at: Option<OffsetDateTime>,
}

impl AtArgs {
    /// True where a time was given.
    pub(crate) const fn is_given(self) -> bool {
        self.at.is_some()
    }

    /// As the parameters of a query, with `?`.
    pub(crate) fn query(self) -> Result<String, Failure> {
        let Some(at) = self.at else { return Ok(String::new()) };
        Ok(format!("?{}", parameter("at", at)?))
    }
}

fn parameter(name: &str, at: OffsetDateTime) -> Result<String, Failure> {
    let at = at.to_offset(time::UtcOffset::UTC).format(&Rfc3339);
    Ok(format!("{name}={}", at.map_err(|error| Failure::new(Code::Failed, error))?))
}

impl RangeArgs {
    /// As parameters of a query, each after `&`.
    pub(crate) fn query(self) -> Result<String, Failure> {
        let mut query = String::new();
        for (name, at) in [("from", self.from), ("to", self.to)] {
            let Some(at) = at else { continue };
            query.push('&');
            query.push_str(&parameter(name, at)?);
        }
        Ok(query)
    }

    /// This range, or the one of so many days before its end where it has no begin.
    pub(crate) fn or_days(self, days: u16) -> Self {
        let to = self.to.unwrap_or_else(OffsetDateTime::now_utc);
        let from = self.from.unwrap_or_else(|| to - time::Duration::days(days.into()));
        Self { from: Some(from), to: Some(to) }
    }
}

/// Which events are shown.
#[derive(Debug, Args)]
pub(crate) struct EventsArgs {
    /// Number of the event as the list shows it, or its id
    pub(crate) number: Option<NumberOrId>,
    /// Show only events that have not ended
    #[arg(long, conflicts_with = "number")]
    pub(crate) lasting: bool,
    /// Show only events that are faults
    #[arg(long, conflicts_with = "number")]
    pub(crate) faults: bool,
    #[command(flatten)]
    pub(crate) during: RangeArgs,
}

/// Since when changes are handed over.
#[derive(Debug, Args)]
pub(crate) struct HandOverArgs {
    /// Show changes since this time (RFC 3339), such as 2026-03-09T14:00:00Z
    #[arg(long, value_parser = time_of, value_name = "TIME", conflicts_with = "hours")]
    pub(crate) since: Option<OffsetDateTime>,
    /// Show changes of so many hours
    #[arg(long, default_value_t = 8, value_parser = clap::value_parser!(u16).range(1..=744))]
    pub(crate) hours: u16,
}

/// What the history of a path or pair is shown of.
#[derive(Debug, Args)]
pub(crate) struct HistoryArgs {
    /// Id of a path, or its last characters as `paths` shows them
    #[arg(required_unless_present = "pair")]
    pub(crate) id: Option<String>,
    /// Number of a pair as `pairs` shows it, or its id, instead of a path
    #[arg(long, conflicts_with_all = ["id", "by_route"])]
    pub(crate) pair: Option<NumberOrId>,
    /// Range up to the end in days
    #[arg(long, default_value_t = 1, conflicts_with = "from",
        value_parser = clap::value_parser!(u16).range(1..=3_650))]
    pub(crate) days: u16,
    #[command(flatten)]
    pub(crate) range: RangeArgs,
    /// Compare the routes that the path took
    #[arg(long)]
    pub(crate) by_route: bool,
}

/// What counts are shown of. Without a begin the range is an hour.
#[derive(Debug, Args)]
pub(crate) struct CountsArgs {
    /// Id of the path, or its last characters as `paths` shows them
    #[arg(required_unless_present = "pair")]
    pub(crate) id: Option<String>,
    /// Number of a pair as `pairs` shows it, or its id
    #[arg(long, conflicts_with = "id")]
    pub(crate) pair: Option<NumberOrId>,
    #[command(flatten)]
    pub(crate) range: RangeArgs,
    /// Minutes of each step; the whole range is one step by default
    #[arg(long, value_parser = clap::value_parser!(u32).range(1..), value_name = "MINUTES")]
    pub(crate) step: Option<u32>,
}

pub(super) fn time_of(text: &str) -> Result<OffsetDateTime, String> {
    let wrong = |_| "a time is written as 2026-03-09T14:00:00Z".to_owned();
    OffsetDateTime::parse(text, &Rfc3339).map_err(wrong)
}
