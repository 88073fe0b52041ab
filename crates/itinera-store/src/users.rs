//! Users, how they come in, and the audit of what they changed.
//!
//! Secrets never come here: passwords arrive hashed, sessions and tokens as digests.

use crate::entity::{api_token, user};
use crate::statement::sql;
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::id::{TokenId, UserId};
use itinera_model::role::Role;
use sea_orm::FromQueryResult;
use sea_orm::entity::prelude::*;
use sea_orm::{ActiveValue::Set, IntoActiveModel, QueryOrder, TransactionTrait};
use time::OffsetDateTime;

/// A user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UserRecord {
    /// Their id.
    pub id: UserId,
    /// The name they sign in with.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// False for a disabled user.
    pub active: bool,
    /// When they were added.
    pub created_at: OffsetDateTime,
}

/// An authenticated user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionUser {
    /// The user.
    pub user: UserId,
    /// Their name.
    pub name: String,
    /// Role of the request: for a token the lesser of its role and the user's.
    pub role: Role,
    /// The session's proof against forged requests; absent for a token.
    pub csrf: Option<String>,
}

/// A session to keep.
#[derive(Debug, Clone)]
pub struct NewSession {
    /// Digest of its secret.
    pub secret_sha256: [u8; 32],
    /// The user.
    pub user: UserId,
    /// What a page must show with every change.
    pub csrf: String,
    /// When it ends.
    pub expires_at: OffsetDateTime,
}

/// A token.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRecord {
    /// Its id.
    pub id: TokenId,
    /// The user.
    pub user: String,
    /// What it is for.
    pub name: String,
    /// What it may do at most.
    pub role: Role,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it ends.
    pub expires_at: OffsetDateTime,
    /// When it was last used, to the minute; absent before that.
    pub used_at: Option<OffsetDateTime>,
    /// When it was taken back.
    pub revoked_at: Option<OffsetDateTime>,
}

/// A token to keep.
#[derive(Debug, Clone)]
pub struct NewToken {
    /// Digest of its secret.
    pub secret_sha256: [u8; 32],
    /// The user.
    pub user: UserId,
    /// What it is for.
    pub name: String,
    /// What it may do at most.
    pub role: Role,
    /// When it ends.
    pub expires_at: OffsetDateTime,
}

/// What is changed about a user; absent fields stay.
#[derive(Debug, Clone, Default)]
pub struct UserChange {
    /// Another role.
    pub role: Option<Role>,
    /// May come in, or not any more.
    pub active: Option<bool>,
    /// Another password, hashed.
    pub password: Option<String>,
}

/// One change made by a user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditRecord {
    /// Its number.
    pub no: i64,
    /// When.
    pub at: OffsetDateTime,
    /// The user.
    pub user: String,
    /// What was done.
    pub action: Action,
    /// To what.
    pub object: String,
    /// How, without secrets.
    pub detail: Json,
}

/// A change for the audit.
#[derive(Debug, Clone)]
pub struct Audited<'a> {
    /// The user.
    pub user: &'a str,
    /// What was done.
    pub action: Action,
    /// To what.
    pub object: &'a str,
    /// How, without secrets.
    pub detail: Json,
}

/// Why a change to users is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UserRefused {
    /// No user has this id.
    #[error("no user has this id")]
    Unknown,
    /// The name is taken.
    #[error("name: this name is taken")]
    Taken,
    /// No administrator would be left.
    #[error("this is the last active administrator: make another one first")]
    LastAdministrator,
}

pub(crate) async fn audit<C: ConnectionTrait>(
    db: &C,
    entry: &Audited<'_>,
) -> Result<(), StoreError> {
    let insert = "INSERT INTO audit (at, user_name, action, object, detail) \
         VALUES (now(), $1, $2, $3, $4)";
    let values = [
        entry.user.into(),
        entry.action.name().into(),
        entry.object.into(),
        entry.detail.clone().into(),
    ];
    db.execute_raw(sql(insert, values)).await?;
    Ok(())
}

#[derive(FromQueryResult)]
struct AuditRow {
    no: i64,
    at: OffsetDateTime,
    user: String,
    action: String,
    object: String,
    detail: Json,
}

#[derive(FromQueryResult)]
struct SessionRow {
    id: Uuid,
    name: String,
    role: String,
    csrf: String,
}

#[derive(FromQueryResult)]
struct TokenRow {
    id: Uuid,
    name: String,
    role: String,
    token_role: String,
    token_id: Uuid,
    /// Its last use was noted more than a minute ago, or never.
    stale: bool,
}

fn role_of(text: &str) -> Result<Role, StoreError> {
    text.parse().map_err(|_| StoreError::corrupt("role"))
}

fn record(row: user::Model) -> Result<UserRecord, StoreError> {
    Ok(UserRecord {
        id: UserId::from_uuid(row.id),
        role: role_of(&row.role)?,
        name: row.name,
        active: row.active,
        created_at: row.created_at,
    })
}

impl Store {
    /// All users, by name.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn users(&self) -> Result<Vec<UserRecord>, StoreError> {
        let rows = user::Entity::find().order_by_asc(user::Column::Name).all(&self.db).await?;
        rows.into_iter().map(record).collect()
    }

    /// An active user with their password's hash, by the name they sign in with.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn user_named(&self, name: &str) -> Result<Option<(UserRecord, String)>, StoreError> {
        let row = user::Entity::find()
            .filter(user::Column::Name.eq(name))
            .filter(user::Column::Active.eq(true))
            .one(&self.db)
            .await?;
        row.map(|row| {
            let password = row.password.clone();
            Ok((record(row)?, password))
        })
        .transpose()
    }

    /// Adds a user.
    ///
    /// # Errors
    /// [`UserRefused::Taken`]; [`StoreError::Database`].
    pub async fn add_user(
        &self,
        name: &str,
        role: Role,
        password: &str,
        by: &str,
    ) -> Result<UserRecord, StoreError> {
        let txn = self.db.begin().await?;
        let taken = user::Entity::find().filter(user::Column::Name.eq(name)).one(&txn).await?;
        if taken.is_some() {
            return Err(UserRefused::Taken.into());
        }
        let row = user::ActiveModel {
            id: Set(Uuid::now_v7()),
            name: Set(name.to_owned()),
            role: Set(role.to_string()),
            password: Set(password.to_owned()),
            active: Set(true),
            created_at: Set(OffsetDateTime::now_utc()),
        };
        let row = user::Entity::insert(row).exec_with_returning(&txn).await?;
        let detail = serde_json::json!({ "role": role });
        let entry = Audited { user: by, action: Action::UserAdded, object: name, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        record(row)
    }

    /// Changes a user. A disabled user, or one with a new password, loses all
    /// sessions at once.
    ///
    /// # Errors
    /// [`UserRefused`]; [`StoreError::Database`].
    pub async fn change_user(
        &self,
        id: UserId,
        change: &UserChange,
        by: &str,
    ) -> Result<UserRecord, StoreError> {
        let txn = self.db.begin().await?;
        // One change at a time, so that two cannot each take the other for the last one left.
        txn.execute_unprepared("LOCK TABLE user_account IN SHARE ROW EXCLUSIVE MODE").await?;
        let row = user::Entity::find_by_id(id.as_uuid()).one(&txn).await?;
        let row = row.ok_or(UserRefused::Unknown)?;
        let name = row.name.clone();
        let mut row = row.into_active_model();
        if let Some(role) = change.role {
            row.role = Set(role.to_string());
        }
        if let Some(active) = change.active {
            row.active = Set(active);
        }
        if let Some(password) = &change.password {
            row.password = Set(password.clone());
        }
        let row = user::Entity::update(row).exec(&txn).await?;
        let left = user::Entity::find()
            .filter(user::Column::Active.eq(true))
            .filter(user::Column::Role.eq(Role::Administrator.to_string()))
            .count(&txn)
            .await?;
        if left == 0 {
            return Err(UserRefused::LastAdministrator.into());
        }
        if change.active == Some(false) || change.password.is_some() {
            let delete = "DELETE FROM session WHERE user_id = $1";
            txn.execute_raw(sql(delete, [id.as_uuid().into()])).await?;
        }
        let detail = serde_json::json!({
            "role": change.role, "active": change.active, "password": change.password.is_some(),
        });
        let entry = Audited { user: by, action: Action::UserChanged, object: &name, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        record(row)
    }

    /// Keeps a session.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn add_session(&self, new: &NewSession, name: &str) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        txn.execute_unprepared("DELETE FROM session WHERE expires_at < now()").await?;
        let insert = "INSERT INTO session \
             (secret_sha256, user_id, csrf, created_at, seen_at, expires_at) \
             VALUES ($1, $2, $3, now(), now(), $4)";
        let values = [
            new.secret_sha256.to_vec().into(),
            new.user.as_uuid().into(),
            new.csrf.clone().into(),
            new.expires_at.into(),
        ];
        txn.execute_raw(sql(insert, values)).await?;
        let detail = serde_json::json!({});
        let entry = Audited { user: name, action: Action::SignedIn, object: name, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The user of a session; absent when it has ended.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn session(
        &self,
        secret_sha256: [u8; 32],
    ) -> Result<Option<SessionUser>, StoreError> {
        let select = "SELECT u.id, u.name, u.role, s.csrf FROM session s \
             JOIN user_account u ON u.id = s.user_id \
             WHERE s.secret_sha256 = $1 AND s.expires_at > now() AND u.active";
        let row: Option<SessionRow> =
            rows::first(&self.db, select, [secret_sha256.to_vec().into()]).await?;
        let Some(row) = row else { return Ok(None) };
        Ok(Some(SessionUser {
            user: UserId::from_uuid(row.id),
            name: row.name,
            role: role_of(&row.role)?,
            csrf: Some(row.csrf),
        }))
    }

    /// Ends a session.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn end_session(&self, secret_sha256: [u8; 32], name: &str) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        let delete = "DELETE FROM session WHERE secret_sha256 = $1";
        txn.execute_raw(sql(delete, [secret_sha256.to_vec().into()])).await?;
        let detail = serde_json::json!({});
        let entry = Audited { user: name, action: Action::SignedOut, object: name, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        Ok(())
    }

    /// Keeps a token.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn add_token(&self, new: &NewToken, by: &str) -> Result<TokenRecord, StoreError> {
        let txn = self.db.begin().await?;
        let row = api_token::ActiveModel {
            id: Set(Uuid::now_v7()),
            user_id: Set(new.user.as_uuid()),
            name: Set(new.name.clone()),
            role: Set(new.role.to_string()),
            secret_sha256: Set(new.secret_sha256.to_vec()),
            created_at: Set(OffsetDateTime::now_utc()),
            expires_at: Set(new.expires_at),
            used_at: Set(None),
            revoked_at: Set(None),
        };
        let row = api_token::Entity::insert(row).exec_with_returning(&txn).await?;
        let detail = serde_json::json!({ "role": new.role, "id": row.id });
        let entry = Audited { user: by, action: Action::TokenMade, object: &new.name, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        token_record(row, by.to_owned())
    }

    /// Tokens, newest first: one user's, or everybody's.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn tokens(&self, of: Option<UserId>) -> Result<Vec<TokenRecord>, StoreError> {
        let mut query = api_token::Entity::find().order_by_desc(api_token::Column::Id);
        if let Some(user) = of {
            query = query.filter(api_token::Column::UserId.eq(user.as_uuid()));
        }
        let users = self.users().await?;
        let rows = query.all(&self.db).await?;
        rows.into_iter()
            .map(|row| {
                let owner = users.iter().find(|user| user.id.as_uuid() == row.user_id);
                let name = owner.map(|user| user.name.clone()).unwrap_or_default();
                token_record(row, name)
            })
            .collect()
    }

    /// Takes a token back; false when there is none such, or it was taken back before.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn revoke_token(
        &self,
        id: TokenId,
        of: Option<UserId>,
        by: &str,
    ) -> Result<bool, StoreError> {
        let txn = self.db.begin().await?;
        let update = "UPDATE api_token SET revoked_at = now() \
             WHERE id = $1 AND revoked_at IS NULL AND ($2::uuid IS NULL OR user_id = $2)";
        let values = [id.as_uuid().into(), of.map(UserId::as_uuid).into()];
        let revoked = txn.execute_raw(sql(update, values)).await?.rows_affected() == 1;
        if revoked {
            let object = id.to_string();
            let detail = serde_json::json!({});
            let entry = Audited { user: by, action: Action::TokenRevoked, object: &object, detail };
            audit(&txn, &entry).await?;
        }
        txn.commit().await?;
        Ok(revoked)
    }

    /// The user of a token; absent when it has expired or was revoked.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn token(&self, secret_sha256: [u8; 32]) -> Result<Option<SessionUser>, StoreError> {
        let select = "SELECT u.id, u.name, u.role, t.role AS token_role, t.id AS token_id, \
                 t.used_at IS NULL OR t.used_at < now() - interval '1 minute' AS stale \
             FROM api_token t JOIN user_account u ON u.id = t.user_id \
             WHERE t.secret_sha256 = $1 AND t.expires_at > now() AND t.revoked_at IS NULL \
                 AND u.active";
        let row: Option<TokenRow> =
            rows::first(&self.db, select, [secret_sha256.to_vec().into()]).await?;
        let Some(row) = row else { return Ok(None) };
        if row.stale {
            let update = "UPDATE api_token SET used_at = now() WHERE id = $1";
            self.db.execute_raw(sql(update, [row.token_id.into()])).await?;
        }
        Ok(Some(SessionUser {
            user: UserId::from_uuid(row.id),
            name: row.name,
            role: role_of(&row.role)?.min(role_of(&row.token_role)?),
            csrf: None,
        }))
    }

    /// Changes made by users, newest first, at most `limit`, those before number `before`.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn audit_entries(
        &self,
        before: Option<i64>,
        limit: i64,
    ) -> Result<Vec<AuditRecord>, StoreError> {
        let select = "SELECT no, at, user_name AS \"user\", action, object, detail FROM audit \
             WHERE no < $1 ORDER BY no DESC LIMIT $2";
        let values = [before.unwrap_or(i64::MAX).into(), limit.into()];
        let rows: Vec<AuditRow> = rows::all(&self.db, select, values).await?;
        let record = |AuditRow { no, at, user, action, object, detail }| AuditRecord {
            no,
            at,
            user,
            action: Action::of(&action),
            object,
            detail,
        };
        Ok(rows.into_iter().map(record).collect())
    }
}

fn token_record(row: api_token::Model, user: String) -> Result<TokenRecord, StoreError> {
    Ok(TokenRecord {
        id: TokenId::from_uuid(row.id),
        user,
        role: role_of(&row.role)?,
        name: row.name,
        created_at: row.created_at,
        expires_at: row.expires_at,
        used_at: row.used_at,
        revoked_at: row.revoked_at,
    })
}
