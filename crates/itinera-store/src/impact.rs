//! What an alarm means for its users: the provider to call by contract, and earlier alarms at its place.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::FromQueryResult;
use sea_orm::TransactionTrait;
use sea_orm::entity::prelude::*;
use std::collections::BTreeMap;
use time::OffsetDateTime;

/// The provider that a site pays.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct Contract {
    /// Name of the site.
    pub site: String,
    /// Name of the provider.
    pub holder: String,
    /// How the site reaches it.
    pub contact: String,
}

/// An earlier alarm of the same cause at the same place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EarlierAlarm {
    /// Its short number.
    pub no: i64,
    /// When it was raised.
    pub raised_at: OffsetDateTime,
    /// When it cleared; absent while it is open.
    pub cleared_at: Option<OffsetDateTime>,
    /// What a user wrote when the alarm, or else its incident, was closed.
    pub closing: Option<String>,
}

/// Earlier alarms of the same cause at the same place.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Earlier {
    /// How many.
    pub count: i64,
    /// The newest of them, newest first.
    pub last: Vec<EarlierAlarm>,
}

#[derive(FromQueryResult)]
struct EarlierRow {
    of: Uuid,
    count: i64,
    no: i64,
    raised_at: OffsetDateTime,
    cleared_at: Option<OffsetDateTime>,
    closing: Option<String>,
}

/// Earlier alarms that are named.
const NAMED: i64 = 3;

impl Store {
    /// Replaces the contracts of all sites.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn replace_contracts(&self, contracts: &[Contract]) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        txn.execute_unprepared("DELETE FROM contract").await?;
        let insert = "INSERT INTO contract (site, holder, contact) \
             SELECT * FROM unnest($1::text[], $2::text[], $3::text[])";
        let column = |of: fn(&Contract) -> &str| -> Value {
            contracts.iter().map(|it| of(it).to_owned()).collect::<Vec<_>>().into()
        };
        let values = [column(|it| &it.site), column(|it| &it.holder), column(|it| &it.contact)];
        txn.execute_raw(sql(insert, values)).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The contracts of all sites, by provider and site.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn contracts(&self) -> Result<Vec<Contract>, StoreError> {
        let select = "SELECT site, holder, contact FROM contract ORDER BY holder, contact, site";
        rows::all(&self.db, select, []).await
    }

    /// Alarms of the same key that were raised before each of some alarms; nothing for those without.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn earlier_alarms(
        &self,
        ids: Vec<Uuid>,
    ) -> Result<BTreeMap<Uuid, Earlier>, StoreError> {
        let select = "SELECT a.id AS of, e.count, e.no, e.raised_at, e.cleared_at, coalesce( \
                 (SELECT c.detail->>'text' FROM alarm_action c WHERE c.alarm_id = e.root_id \
                     AND c.action = 'closed' AND c.detail->>'text' <> '' \
                     ORDER BY c.no DESC LIMIT 1), \
                 (SELECT c.body->>'text' FROM incident_event c WHERE c.incident_id = e.incident_id \
                     AND c.kind = 'closed' AND c.user_name <> 'Itinera' AND c.body->>'text' <> '' \
                     ORDER BY c.at DESC LIMIT 1)) AS closing \
             FROM alarm a CROSS JOIN LATERAL (SELECT o.no, o.raised_at, o.cleared_at, o.root_id, \
                     o.incident_id, count(*) OVER () AS count FROM alarm o \
                 WHERE md5(o.key::text) = md5(a.key::text) AND o.class = a.class \
                     AND o.raised_at < a.raised_at AND o.severity IS NOT NULL \
                     AND o.root_id <> a.root_id \
                 ORDER BY o.raised_at DESC, o.id DESC LIMIT $2) e \
             WHERE a.id = ANY($1) ORDER BY e.raised_at DESC";
        let mut earlier: BTreeMap<Uuid, Earlier> = BTreeMap::new();
        for row in rows::all::<EarlierRow>(&self.db, select, [ids.into(), NAMED.into()]).await? {
            let EarlierRow { of, count, no, raised_at, cleared_at, closing } = row;
            let known = earlier.entry(of).or_default();
            known.count = count;
            known.last.push(EarlierAlarm { no, raised_at, cleared_at, closing });
        }
        Ok(earlier)
    }
}
