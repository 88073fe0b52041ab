//! Rules of alarms in versions, the alarms that their quiet hours shelved, and the findings that rules are tried
//! on.

use crate::statement::sql;
use crate::users::{Audited, audit};
use crate::{Store, StoreError, rows};
use itinera_model::audit::Action;
use itinera_model::finding::Finding;
use itinera_model::id::PathId;
use itinera_model::rule::Rule;
use sea_orm::entity::prelude::*;
use sea_orm::{FromQueryResult, TransactionTrait};
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// A version of the rules.
#[derive(Debug, Clone, PartialEq)]
pub struct RuleVersion {
    /// Its number, from 1; 0 before the first.
    pub version: i64,
    /// When it was saved; absent before the first.
    pub at: Option<OffsetDateTime>,
    /// The user who saved it.
    pub user: String,
    /// What that user wrote about it.
    pub text: String,
    /// The rules.
    pub rules: Vec<Rule>,
}

/// Rules were saved since they were read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the rules have version {now} now: read them again, and save your change of that version")]
pub struct RulesChanged {
    /// The version now.
    pub now: i64,
}

/// A finding of a path in a window.
#[derive(Debug, Clone, PartialEq)]
pub struct FindingRecord {
    /// Index of the window.
    pub window: i64,
    /// The path.
    pub path: PathId,
    /// The finding.
    pub finding: Finding,
}

#[derive(FromQueryResult)]
struct VersionRow {
    version: i64,
    at: OffsetDateTime,
    user_name: String,
    text: String,
    rules: Json,
}

impl VersionRow {
    fn version(self) -> Result<RuleVersion, StoreError> {
        let rules = serde_json::from_value(self.rules);
        Ok(RuleVersion {
            version: self.version,
            at: Some(self.at),
            user: self.user_name,
            text: self.text,
            rules: rules.map_err(|_| StoreError::corrupt("version of the rules"))?,
        })
    }
}

#[derive(FromQueryResult)]
struct FindingRow {
    path_id: Uuid,
    window_no: i64,
    body: Json,
}

#[derive(FromQueryResult)]
struct QuietRow {
    alarm_id: Uuid,
    until: OffsetDateTime,
}

impl Store {
    /// Versions of the rules, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rule_versions(&self, limit: i64) -> Result<Vec<RuleVersion>, StoreError> {
        let select = "SELECT version, at, user_name, text, rules FROM rule_set \
             ORDER BY version DESC LIMIT $1";
        let found: Vec<VersionRow> = rows::all(&self.db, select, [limit.into()]).await?;
        found.into_iter().map(VersionRow::version).collect()
    }

    /// A version of the rules, or the newest; before the first, no rules.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rules(&self, version: Option<i64>) -> Result<Option<RuleVersion>, StoreError> {
        let select = "SELECT version, at, user_name, text, rules FROM rule_set \
             WHERE version = coalesce($1, version) ORDER BY version DESC LIMIT 1";
        let found: Option<VersionRow> = rows::first(&self.db, select, [version.into()]).await?;
        match found {
            Some(row) => row.version().map(Some),
            None if version.is_none_or(|version| version == 0) => Ok(Some(RuleVersion {
                version: 0,
                at: None,
                user: String::new(),
                text: String::new(),
                rules: Vec::new(),
            })),
            None => Ok(None),
        }
    }

    /// The rules of the newest version.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn rules_in_force(&self) -> Result<Vec<Rule>, StoreError> {
        Ok(self.rules(None).await?.map_or_else(Vec::new, |newest| newest.rules))
    }

    /// Saves rules as the next version. `based_on` is the version that they were changed from; where it is
    /// absent, any.
    ///
    /// # Errors
    /// [`RulesChanged`] where another version was saved meanwhile; [`StoreError::Database`].
    ///
    /// # Cancel safety
    /// All or nothing.
    pub async fn save_rules(
        &self,
        rules: &[Rule],
        based_on: Option<i64>,
        (user, text, at): (&str, &str, OffsetDateTime),
    ) -> Result<i64, StoreError> {
        let txn = self.db.begin().await?;
        txn.execute_unprepared("LOCK TABLE rule_set IN EXCLUSIVE MODE").await?;
        let select = "SELECT coalesce(max(version), 0) FROM rule_set";
        let now: i64 = rows::value(&txn, select, []).await?.unwrap_or(0);
        if based_on.is_some_and(|version| version != now) {
            return Err(RulesChanged { now }.into());
        }
        let version = now + 1;
        let insert = "INSERT INTO rule_set (version, at, user_name, text, rules) \
             VALUES ($1, $2, $3, $4, $5)";
        let values: [Value; 5] =
            [version.into(), at.into(), user.into(), text.into(), serde_json::json!(rules).into()];
        txn.execute_raw(sql(insert, values)).await?;
        let names: Vec<&str> = rules.iter().map(|rule| rule.name.as_str()).collect();
        let detail = serde_json::json!({ "from": now, "rules": names, "text": text });
        let (action, object) = (Action::RulesSaved, format!("version {version}"));
        audit(&txn, &Audited { user, action, object: &object, detail }).await?;
        txn.commit().await?;
        Ok(version)
    }

    /// Records that quiet hours have shelved an alarm until a time; false where that was recorded before.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn record_quiet(
        &self,
        root: Uuid,
        rule: &str,
        until: OffsetDateTime,
    ) -> Result<bool, StoreError> {
        let insert = "INSERT INTO quiet_alarm (alarm_id, until, rule) VALUES ($1, $2, $3) \
             ON CONFLICT DO NOTHING";
        let values: [Value; 3] = [root.into(), until.into(), rule.into()];
        Ok(self.db.execute_raw(sql(insert, values)).await?.rows_affected() == 1)
    }

    /// The last end of quiet hours that shelved alarms, by root.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn quiet_alarms(
        &self,
        roots: Vec<Uuid>,
    ) -> Result<BTreeMap<Uuid, OffsetDateTime>, StoreError> {
        let select = "SELECT alarm_id, max(until) AS until FROM quiet_alarm \
             WHERE alarm_id = ANY($1) GROUP BY alarm_id";
        let found: Vec<QuietRow> = rows::all(&self.db, select, [roots.into()]).await?;
        Ok(found.into_iter().map(|row| (row.alarm_id, row.until)).collect())
    }

    /// True where quiet hours that shelved an alarm end after a time.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn any_quiet_after(&self, at: OffsetDateTime) -> Result<bool, StoreError> {
        let select = "SELECT EXISTS (SELECT FROM quiet_alarm WHERE until > $1)";
        Ok(rows::value(&self.db, select, [at.into()]).await?.unwrap_or(false))
    }

    /// How many findings there are from a window on.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn count_findings(&self, from: i64) -> Result<i64, StoreError> {
        let select = "SELECT count(*) FROM finding WHERE window_no >= $1";
        Ok(rows::value(&self.db, select, [from.into()]).await?.unwrap_or(0))
    }

    /// The findings of some windows, from the first up to before the second, by window and path.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn findings(&self, from: i64, to: i64) -> Result<Vec<FindingRecord>, StoreError> {
        let select = "SELECT path_id, window_no, body FROM finding \
             WHERE window_no >= $1 AND window_no < $2 ORDER BY window_no, path_id";
        let found: Vec<FindingRow> = rows::all(&self.db, select, [from.into(), to.into()]).await?;
        let record = |row: FindingRow| {
            let finding = serde_json::from_value(row.body);
            Ok(FindingRecord {
                window: row.window_no,
                path: PathId::from_uuid(row.path_id),
                finding: finding.map_err(|_| StoreError::corrupt("finding"))?,
            })
        };
        found.into_iter().map(record).collect()
    }
}
