//! Codes of problems: stable names for programs, each with a title.

use axum::http::StatusCode;
use serde::Serialize;
use utoipa::ToSchema;

/// Why a request failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema, strum::IntoStaticStr)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub(crate) enum ProblemCode {
    UnknownId,
    UnknownPlace,
    BadInput,
    DamagedBatch,
    UnrecordableBatch,
    JoinCodeUnknown,
    JoinCodeUsed,
    JoinCodeExpired,
    NoCertificate,
    OtherAgent,
    ForeignHost,
    NotSignedIn,
    WrongPassword,
    TooManyTries,
    NotAllowed,
    NoProof,
    AlarmState,
    WatchState,
    IncidentState,
    UserRefused,
    ReceiverRefused,
    /// The rules were saved by another user meanwhile.
    RulesChanged,
    /// The request does not say which version it changes.
    PreconditionRequired,
    DiskFull,
    DatabaseUnavailable,
    Internal,
    /// The request is malformed.
    BadRequest,
    /// The address exists; the method does not.
    MethodNotAllowed,
    /// The body is too large.
    PayloadTooLarge,
    /// The body has another content type than the one that is read here.
    UnsupportedMediaType,
    /// The body took too long to arrive.
    RequestTimeout,
    /// The server refused the request for a reason without a code of its own: see the status.
    Refused,
}

impl ProblemCode {
    /// Its name in the API.
    pub(crate) fn name(self) -> &'static str {
        self.into()
    }

    /// The same words for every problem of this code.
    pub(crate) const fn title(self) -> &'static str {
        match self {
            Self::UnknownId => "Unknown id",
            Self::UnknownPlace => "Unknown place",
            Self::BadInput => "Bad input",
            Self::DamagedBatch => "Damaged batch",
            Self::UnrecordableBatch => "Batch refused",
            Self::JoinCodeUnknown | Self::JoinCodeUsed | Self::JoinCodeExpired => {
                "Join code refused"
            }
            Self::NoCertificate => "Not an agent",
            Self::OtherAgent => "Another agent's batch",
            Self::ForeignHost => "Foreign host",
            Self::NotSignedIn => "Not signed in",
            Self::WrongPassword => "Wrong name or password",
            Self::TooManyTries => "Too many attempts",
            Self::NotAllowed => "Not allowed",
            Self::NoProof => "Forged request refused",
            Self::AlarmState
            | Self::WatchState
            | Self::IncidentState
            | Self::UserRefused
            | Self::ReceiverRefused
            | Self::RulesChanged
            | Self::PreconditionRequired => "Change refused",
            Self::DiskFull => "Disk full",
            Self::DatabaseUnavailable => "Database unavailable",
            Self::Internal => "Internal error",
            Self::BadRequest => "Bad request",
            Self::MethodNotAllowed => "Method not allowed",
            Self::PayloadTooLarge => "Payload too large",
            Self::UnsupportedMediaType => "Unsupported media type",
            Self::RequestTimeout => "Request timeout",
            Self::Refused => "Refused",
        }
    }

    /// The code of a refusal by a layer that gives only a status.
    pub(crate) const fn of_status(status: StatusCode) -> Self {
        match status {
            StatusCode::NOT_FOUND => Self::UnknownPlace,
            StatusCode::BAD_REQUEST => Self::BadRequest,
            StatusCode::METHOD_NOT_ALLOWED => Self::MethodNotAllowed,
            StatusCode::PAYLOAD_TOO_LARGE => Self::PayloadTooLarge,
            StatusCode::UNSUPPORTED_MEDIA_TYPE => Self::UnsupportedMediaType,
            StatusCode::REQUEST_TIMEOUT => Self::RequestTimeout,
            StatusCode::UNPROCESSABLE_ENTITY => Self::BadInput,
            StatusCode::INTERNAL_SERVER_ERROR => Self::Internal,
            _ => Self::Refused,
        }
    }
}
