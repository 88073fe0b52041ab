//! Checks and their results as the API shows them.

use super::message::MessageView;
use super::path::offset;
use itinera_model::check::{AskKind, CheckResult, Outcome, Step, Why};
use itinera_model::path::Family;
use itinera_store::CheckedAt;
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// Why a step failed: a code and its words.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct CauseView {
    code: Why,
    text: String,
}

impl From<Why> for CauseView {
    fn from(code: Why) -> Self {
        Self { code, text: code.to_string() }
    }
}

/// How long a step took.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct PhaseView {
    pub(crate) step: Step,
    pub(crate) took_us: u32,
}

/// State of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum CheckState {
    /// The newest result is as expected.
    Good,
    /// The newest result is a failure.
    Broken,
    /// There is no result of the last day.
    Unknown,
}

/// A check with its newest result.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct CheckItem {
    pub(crate) id: Uuid,
    /// Its short number.
    pub(crate) no: i32,
    pub(crate) site: String,
    pub(crate) agent: Uuid,
    pub(crate) target: String,
    pub(crate) service: String,
    pub(crate) family: Family,
    pub(crate) kind: AskKind,
    /// The name it is asked by, or that is asked for.
    pub(crate) host: Option<String>,
    pub(crate) port: Option<u16>,
    pub(crate) every_s: u32,
    /// It is being asked.
    pub(crate) active: bool,
    /// Unknown before the first result and after a day without any.
    pub(crate) state: CheckState,
    /// What the newest result says.
    pub(crate) message: Option<MessageView>,
    /// When it was measured.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) at: Option<OffsetDateTime>,
    /// The step that failed.
    pub(crate) failed_at: Option<Step>,
    pub(crate) cause: Option<CauseView>,
    /// The very address and port that were spoken to.
    pub(crate) spoke_to: Option<String>,
    /// The path to that address from the same agent, where it is measured.
    pub(crate) path: Option<Uuid>,
    /// All steps together.
    pub(crate) took_us: Option<u32>,
    pub(crate) phases: Vec<PhaseView>,
    /// The event about it that lasts.
    pub(crate) event: Option<MessageView>,
}

/// What one resolver said.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResolvedView {
    pub(crate) resolver: String,
    /// Why there is no answer.
    pub(crate) cause: Option<CauseView>,
    pub(crate) addresses: Vec<String>,
    /// How long the answer may be kept, in seconds.
    pub(crate) ttl_s: Option<u32>,
    /// The answer is authoritative; otherwise it comes from a cache or another resolver.
    pub(crate) authoritative: bool,
    /// It was too long for a datagram.
    pub(crate) truncated: bool,
    pub(crate) took_us: u32,
}

/// One certificate of a chain.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CertificateView {
    pub(crate) subject: String,
    pub(crate) issuer: String,
    pub(crate) names: Vec<String>,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) not_before: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) not_after: OffsetDateTime,
}

/// A resource of a page.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResourceView {
    pub(crate) path: String,
    /// When it was asked for, counted from the page's beginning.
    pub(crate) begun_us: u32,
    pub(crate) first_byte_us: Option<u32>,
    pub(crate) took_us: u32,
    pub(crate) size_bytes: u64,
    pub(crate) status: Option<u16>,
    /// How it failed.
    pub(crate) cause: Option<CauseView>,
}

/// What was seen of HTTP.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WebView {
    /// `1.1` or `2`.
    pub(crate) version: String,
    pub(crate) status: Option<u16>,
    pub(crate) size_bytes: u64,
    /// There was more, which was not read.
    pub(crate) cut: bool,
    pub(crate) rate_bytes_per_s: Option<u64>,
    pub(crate) redirects: Vec<String>,
    /// What the page refers to.
    pub(crate) resources: Vec<ResourceView>,
}

/// One result, in short.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ResultItem {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) good: bool,
    /// The step that failed.
    pub(crate) failed_at: Option<Step>,
    pub(crate) cause: Option<CauseView>,
    pub(crate) took_us: u32,
    pub(crate) rate_bytes_per_s: Option<u64>,
}

/// A check with everything that its newest result says, and those before it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CheckDetail {
    #[serde(flatten)]
    pub(crate) item: CheckItem,
    pub(crate) resolved: Vec<ResolvedView>,
    pub(crate) tls_version: Option<String>,
    pub(crate) certificates: Vec<CertificateView>,
    pub(crate) web: Option<WebView>,
    /// What the server sent as text, unchanged.
    pub(crate) said: Option<String>,
    /// From the newest on.
    pub(crate) results: Vec<ResultItem>,
}

/// How a result ended: good or not, at which step and why.
pub(crate) fn outcome(result: &CheckResult) -> (CheckState, Option<Step>, Option<CauseView>) {
    match result.outcome {
        Outcome::Good => (CheckState::Good, None, None),
        Outcome::Broke { at, why } => (CheckState::Broken, Some(at), Some(why.into())),
    }
}

pub(crate) fn phases(result: &CheckResult) -> Vec<PhaseView> {
    let view = |phase: &itinera_model::check::Phase| PhaseView {
        step: phase.step,
        took_us: phase.took_us.as_micros(),
    };
    result.phases.iter().map(view).collect()
}

pub(crate) fn detail(item: CheckItem, all: &[CheckedAt]) -> CheckDetail {
    let seen = all.last().map(|newest| newest.round.result.seen.clone()).unwrap_or_default();
    let resolved = seen.resolved.into_iter().map(|one| ResolvedView {
        resolver: one.resolver.to_string(),
        cause: one.why.map(Into::into),
        addresses: one.addresses.iter().map(ToString::to_string).collect(),
        ttl_s: one.ttl_s,
        authoritative: one.authoritative,
        truncated: one.truncated,
        took_us: one.took_us.as_micros(),
    });
    let tls = seen.tls;
    let certificates = tls.iter().flat_map(|tls| &tls.chain).map(|one| CertificateView {
        subject: one.subject.clone(),
        issuer: one.issuer.clone(),
        names: one.names.clone(),
        not_before: offset(one.not_before),
        not_after: offset(one.not_after),
    });
    let web = seen.web.map(|web| WebView {
        version: web.version,
        status: web.status,
        size_bytes: web.size_bytes,
        cut: web.cut,
        rate_bytes_per_s: web.rate_bytes_per_s,
        redirects: web.redirects,
        resources: web
            .resources
            .into_iter()
            .map(|one| ResourceView {
                path: one.path,
                begun_us: one.begun_us.as_micros(),
                first_byte_us: one.first_byte_us.map(|took| took.as_micros()),
                took_us: one.took_us.as_micros(),
                size_bytes: one.size_bytes,
                status: one.status,
                cause: one.why.map(Into::into),
            })
            .collect(),
    });
    let results = all.iter().rev().map(|one| {
        let result = &one.round.result;
        let (state, failed_at, cause) = outcome(result);
        ResultItem {
            at: offset(one.at),
            good: state == CheckState::Good,
            failed_at,
            cause,
            took_us: result.took_in_all().as_micros(),
            rate_bytes_per_s: result.seen.web.as_ref().and_then(|web| web.rate_bytes_per_s),
        }
    });
    CheckDetail {
        item,
        resolved: resolved.collect(),
        tls_version: tls.as_ref().map(|tls| tls.version.clone()),
        certificates: certificates.collect(),
        web,
        said: seen.said,
        results: results.collect(),
    }
}
