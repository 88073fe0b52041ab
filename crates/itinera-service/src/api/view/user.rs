//! Users, tokens and the audit as the API shows them.

use itinera_model::audit::Action;
use itinera_model::role::Role;
use itinera_store::{AuditRecord, TokenRecord, UserRecord};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;
use uuid::Uuid;

/// A user.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UserItem {
    pub(crate) id: Uuid,
    pub(crate) name: String,
    pub(crate) role: Role,
    /// False for a disabled user, who cannot sign in.
    pub(crate) active: bool,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) created_at: OffsetDateTime,
}

impl From<UserRecord> for UserItem {
    fn from(record: UserRecord) -> Self {
        Self {
            id: record.id.as_uuid(),
            name: record.name,
            role: record.role,
            active: record.active,
            created_at: record.created_at,
        }
    }
}

/// A token, without its secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TokenItem {
    pub(crate) id: Uuid,
    pub(crate) user: String,
    pub(crate) name: String,
    /// Highest role of its requests.
    pub(crate) role: Role,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) created_at: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) expires_at: OffsetDateTime,
    /// To the minute; absent before the first use.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) used_at: Option<OffsetDateTime>,
    /// Absent while it is valid.
    #[serde(with = "time::serde::rfc3339::option")]
    pub(crate) revoked_at: Option<OffsetDateTime>,
}

impl From<TokenRecord> for TokenItem {
    fn from(record: TokenRecord) -> Self {
        Self {
            id: record.id.as_uuid(),
            user: record.user,
            name: record.name,
            role: record.role,
            created_at: record.created_at,
            expires_at: record.expires_at,
            used_at: record.used_at,
            revoked_at: record.revoked_at,
        }
    }
}

/// One change made by a user.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AuditItem {
    pub(crate) no: i64,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) at: OffsetDateTime,
    pub(crate) user: String,
    pub(crate) action: Action,
    pub(crate) object: String,
    pub(crate) detail: serde_json::Value,
}

impl From<AuditRecord> for AuditItem {
    fn from(record: AuditRecord) -> Self {
        let AuditRecord { no, at, user, action, object, detail } = record;
        Self { no, at, user, action, object, detail }
    }
}
