//! `itinera hand-over`: what one shift hands over to the next.

use super::http::Client;
use crate::args::HandOverArgs;
use crate::exit::{Code, Failure};
use crate::output::Output;
use time::format_description::well_known::Rfc3339;
use time::{Duration, OffsetDateTime, UtcOffset};

pub(crate) async fn run(
    client: &Client,
    output: &Output,
    HandOverArgs { since, hours }: HandOverArgs,
) -> Result<(), Failure> {
    let since = since.unwrap_or_else(|| OffsetDateTime::now_utc() - Duration::hours(hours.into()));
    let since = since.to_offset(UtcOffset::UTC).format(&Rfc3339);
    let since = since.map_err(|error| Failure::new(Code::Failed, error))?;
    let answer = client.get(&format!("/hand-over?since={since}")).await?;
    output.either(&answer, |output| output.part(answer["text"].as_str().unwrap_or_default()))
}
