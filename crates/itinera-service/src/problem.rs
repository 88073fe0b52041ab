//! Errors as problems (RFC 9457), and the one mapping from ours to theirs.

mod code;

use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
pub(crate) use code::ProblemCode;
use itinera_model::role::Role;
use itinera_store::{
    AlarmRefused, CodeRefused, IncidentRefused, ReceiverRefused, RulesChanged, StoreError,
    UserRefused, WatchRefused,
};
use serde::Serialize;
use utoipa::ToSchema;
use uuid::Uuid;

/// A problem as the client sees it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Problem {
    /// Where it is described, relative to this API.
    #[serde(rename = "type")]
    pub kind: String,
    /// The same words for every problem of this code.
    pub title: &'static str,
    /// HTTP status.
    pub status: u16,
    /// Stable code for programs.
    pub code: ProblemCode,
    /// What occurred here and what to do about it.
    pub detail: String,
    /// Name of the request, also in the service's log.
    pub request_id: String,
}

/// Everything a request can fail by.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApiError {
    #[error("nothing here has the id {0}")]
    UnknownId(String),
    #[error("nothing is served at {0}")]
    UnknownPlace(String),
    #[error("{0}")]
    BadInput(String),
    #[error("{0}")]
    DamagedBatch(String),
    #[error("{0}; ask for a new one with `itinera join-code`")]
    Code(CodeRefused),
    #[error("a client certificate of an agent that has joined is needed")]
    NoCertificate,
    #[error("the batch says it is another agent's")]
    OtherAgent,
    #[error(
        "only requests addressed to this machine, or to the configured public_url, are answered"
    )]
    ForeignHost,
    #[error("sign in first: in the console, or with `itinera sign-in`")]
    NotSignedIn,
    #[error("name or password is wrong")]
    WrongPassword,
    #[error("too many wrong passwords for this name; try again in {0} s")]
    TooManyAttempts(u64),
    #[error("this needs the role of {needed}, and you are {has} here")]
    NotAllowed { needed: Role, has: Role },
    #[error("the request lacks the proof of its session: reload the page")]
    NoProof,
    #[error("{0}")]
    User(UserRefused),
    #[error("{0}")]
    Incident(IncidentRefused),
    #[error("{0}")]
    Alarm(AlarmRefused),
    #[error("{0}")]
    Receiver(ReceiverRefused),
    #[error("{0}")]
    Rules(RulesChanged),
    #[error("If-Match: the version that was changed is needed, as the entity tag of GET has it")]
    NoPrecondition,
    #[error("{0}")]
    Watch(WatchRefused),
    #[error("the database cannot store this batch: its numbers or texts are out of bounds")]
    Unrecordable(#[source] StoreError),
    #[error("the disk of the service is full: keep the batch and send it later")]
    DiskFull,
    #[error("the database is unavailable; the request was not saved: retry")]
    Store(#[source] StoreError),
    #[error("internal error; the service's log has this request's id")]
    Internal(#[source] Box<dyn std::error::Error + Send + Sync>),
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Code(refused) => Self::Code(refused),
            StoreError::User(refused) => Self::User(refused),
            StoreError::Incident(refused) => Self::Incident(refused),
            StoreError::Alarm(refused) => Self::Alarm(refused),
            StoreError::Receiver(refused) => Self::Receiver(refused),
            StoreError::Rules(refused) => Self::Rules(refused),
            StoreError::Watch(refused) => Self::Watch(refused),
            unrecordable @ StoreError::Unrecordable(_) => Self::Unrecordable(unrecordable),
            other => Self::Store(other),
        }
    }
}

impl ApiError {
    /// For an id as it was given, cut to what can be shown.
    pub(crate) fn unknown_id(id: &str) -> Self {
        Self::UnknownId(id.chars().filter(|c| !c.is_control()).take(64).collect())
    }

    /// The code of its problem.
    pub(crate) const fn code(&self) -> ProblemCode {
        self.parts().1
    }

    const fn parts(&self) -> (StatusCode, ProblemCode) {
        match self {
            Self::UnknownId(_) => (StatusCode::NOT_FOUND, ProblemCode::UnknownId),
            Self::UnknownPlace(_) => (StatusCode::NOT_FOUND, ProblemCode::UnknownPlace),
            Self::BadInput(_) => (StatusCode::UNPROCESSABLE_ENTITY, ProblemCode::BadInput),
            Self::DamagedBatch(_) => (StatusCode::BAD_REQUEST, ProblemCode::DamagedBatch),
            Self::Code(CodeRefused::Unknown) => {
                (StatusCode::NOT_FOUND, ProblemCode::JoinCodeUnknown)
            }
            Self::Code(CodeRefused::Used) => (StatusCode::CONFLICT, ProblemCode::JoinCodeUsed),
            Self::Code(CodeRefused::Expired) => (StatusCode::GONE, ProblemCode::JoinCodeExpired),
            Self::NoCertificate => (StatusCode::UNAUTHORIZED, ProblemCode::NoCertificate),
            Self::OtherAgent => (StatusCode::FORBIDDEN, ProblemCode::OtherAgent),
            Self::ForeignHost => (StatusCode::FORBIDDEN, ProblemCode::ForeignHost),
            Self::NotSignedIn => (StatusCode::UNAUTHORIZED, ProblemCode::NotSignedIn),
            Self::WrongPassword => (StatusCode::FORBIDDEN, ProblemCode::WrongPassword),
            Self::TooManyAttempts(_) => (StatusCode::TOO_MANY_REQUESTS, ProblemCode::TooManyTries),
            Self::NotAllowed { .. } => (StatusCode::FORBIDDEN, ProblemCode::NotAllowed),
            Self::NoProof => (StatusCode::FORBIDDEN, ProblemCode::NoProof),
            Self::Incident(IncidentRefused::Unknown)
            | Self::Alarm(
                AlarmRefused::Unknown | AlarmRefused::UnknownUser | AlarmRefused::UnknownIncident,
            )
            | Self::User(UserRefused::Unknown)
            | Self::Receiver(ReceiverRefused::Unknown)
            | Self::Watch(
                WatchRefused::Unknown
                | WatchRefused::UnknownIncident
                | WatchRefused::UnknownPath
                | WatchRefused::UnknownSuppression,
            ) => (StatusCode::NOT_FOUND, ProblemCode::UnknownId),
            Self::Alarm(_) => (StatusCode::CONFLICT, ProblemCode::AlarmState),
            Self::Receiver(_) => (StatusCode::CONFLICT, ProblemCode::ReceiverRefused),
            Self::Rules(_) => (StatusCode::PRECONDITION_FAILED, ProblemCode::RulesChanged),
            Self::NoPrecondition => {
                (StatusCode::PRECONDITION_REQUIRED, ProblemCode::PreconditionRequired)
            }
            Self::Watch(_) => (StatusCode::CONFLICT, ProblemCode::WatchState),
            Self::Incident(_) => (StatusCode::CONFLICT, ProblemCode::IncidentState),
            Self::User(_) => (StatusCode::CONFLICT, ProblemCode::UserRefused),
            Self::Unrecordable(_) => {
                (StatusCode::UNPROCESSABLE_ENTITY, ProblemCode::UnrecordableBatch)
            }
            Self::DiskFull => (StatusCode::SERVICE_UNAVAILABLE, ProblemCode::DiskFull),
            Self::Store(_) => (StatusCode::SERVICE_UNAVAILABLE, ProblemCode::DatabaseUnavailable),
            Self::Internal(_) => (StatusCode::INTERNAL_SERVER_ERROR, ProblemCode::Internal),
        }
    }
}

/// Carries an error to [`name_requests`], which knows the request's name.
#[derive(Clone)]
struct Failed(std::sync::Arc<ApiError>);

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut response = self.parts().0.into_response();
        response.extensions_mut().insert(Failed(std::sync::Arc::new(self)));
        response
    }
}

/// Names every request, logs what failed with its causes, and writes problems: ours, and in
/// their place those of the layers beneath, which speak plain text.
pub(crate) async fn name_requests(request: Request, next: Next) -> Response {
    let request_id = Uuid::new_v4().to_string();
    let line = format!("{} {}", request.method(), request.uri().path());
    let speaks_problems = ["/api/", "/agent/"].iter().any(|p| request.uri().path().starts_with(p));
    let mut response = next.run(request).await;
    let status = response.status();
    if let Some(Failed(error)) = response.extensions_mut().remove::<Failed>() {
        log(&error, &request_id, &line);
        write_problem(&mut response, &request_id, error.parts().1, error.to_string());
    } else if speaks_problems && (status.is_client_error() || status.is_server_error()) {
        let reason = status.canonical_reason().unwrap_or("refused").to_ascii_lowercase();
        let code = ProblemCode::of_status(status);
        write_problem(&mut response, &request_id, code, format!("{line}: {reason}"));
    }
    if let Ok(value) = HeaderValue::from_str(&request_id) {
        response.headers_mut().insert("x-request-id", value);
    }
    response
}

fn log(error: &ApiError, request_id: &str, line: &str) {
    let (status, code) = error.parts();
    if !status.is_server_error() {
        tracing::info!(request_id, line, code = code.name(), "{error}");
        return;
    }
    let mut causes = String::new();
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        causes.push_str(&format!(": {inner}"));
        cause = inner.source();
    }
    tracing::error!(request_id, line, causes, "{error}");
}

/// Puts a problem in the place of a response's body; its status and other headers stay.
fn write_problem(response: &mut Response, id: &str, code: ProblemCode, detail: String) {
    let problem = Problem {
        kind: format!("/problems/{}", code.name()),
        title: code.title(),
        status: response.status().as_u16(),
        code,
        detail,
        request_id: id.to_owned(),
    };
    let Ok(body) = serde_json::to_vec(&problem) else { return };
    response.headers_mut().remove(header::CONTENT_LENGTH);
    let media = HeaderValue::from_static("application/problem+json");
    response.headers_mut().insert(header::CONTENT_TYPE, media);
    *response.body_mut() = Body::from(body);
}

/// Refuses requests for a host that is neither this machine's loopback nor the public one: a page
/// elsewhere must not reach us through a name that it makes point here.
pub(crate) async fn only_known_hosts(
    State(public_host): State<Option<String>>,
    request: Request<Body>,
    next: Next,
) -> Response {
    let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok());
    let name = host.map(|host| match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|octet| octet.is_ascii_digit()) => name,
        _ => host,
    });
    match name {
        Some("127.0.0.1" | "localhost" | "[::1]") => next.run(request).await,
        Some(name) if public_host.is_some_and(|public| public.eq_ignore_ascii_case(name)) => {
            next.run(request).await
        }
        _ => ApiError::ForeignHost.into_response(),
    }
}
