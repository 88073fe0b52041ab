//! Tags of sites and services.

use crate::statement::sql;
use crate::{Store, StoreError, rows};
use sea_orm::entity::prelude::*;
use sea_orm::{FromQueryResult, TransactionTrait};

/// What a tag is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TagOf {
    /// A site.
    Site,
    /// A service.
    Service,
}

impl TagOf {
    const fn name(self) -> &'static str {
        match self {
            Self::Site => "site",
            Self::Service => "service",
        }
    }
}

/// A tag of a site or service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tagged {
    /// The tag.
    pub tag: String,
    /// What it is on.
    pub kind: TagOf,
    /// Name of that.
    pub name: String,
}

#[derive(FromQueryResult)]
struct TagRow {
    tag: String,
    kind: String,
    name: String,
}

impl TagRow {
    fn tagged(self) -> Result<Tagged, StoreError> {
        let known = [TagOf::Site, TagOf::Service].into_iter().find(|it| it.name() == self.kind);
        let kind = known.ok_or_else(|| StoreError::corrupt("tag"))?;
        Ok(Tagged { tag: self.tag, kind, name: self.name })
    }
}

impl Store {
    /// Replaces the tags of sites and services.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn replace_tags(&self, tags: &[Tagged]) -> Result<(), StoreError> {
        let txn = self.db.begin().await?;
        txn.execute_unprepared("DELETE FROM tag").await?;
        let insert = "INSERT INTO tag (tag, kind, name) \
             SELECT * FROM unnest($1::text[], $2::text[], $3::text[]) ON CONFLICT DO NOTHING";
        let column = |of: fn(&Tagged) -> &str| -> Value {
            tags.iter().map(|it| of(it).to_owned()).collect::<Vec<_>>().into()
        };
        let values = [column(|it| &it.tag), column(|it| it.kind.name()), column(|it| &it.name)];
        txn.execute_raw(sql(insert, values)).await?;
        txn.commit().await?;
        Ok(())
    }

    /// The tags of some sites and services, in order.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn tags_of(
        &self,
        sites: &[String],
        services: &[String],
    ) -> Result<Vec<String>, StoreError> {
        let select = "SELECT DISTINCT tag FROM tag WHERE (kind = $1 AND name = ANY($2)) \
             OR (kind = $3 AND name = ANY($4)) ORDER BY tag";
        let values: [Value; 4] = [
            TagOf::Site.name().into(),
            sites.to_vec().into(),
            TagOf::Service.name().into(),
            services.to_vec().into(),
        ];
        rows::column(&self.db, select, values).await
    }

    /// All tags.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn tags(&self) -> Result<Vec<Tagged>, StoreError> {
        let select = "SELECT tag, kind, name FROM tag ORDER BY kind, name, tag";
        let found: Vec<TagRow> = rows::all(&self.db, select, []).await?;
        found.into_iter().map(TagRow::tagged).collect()
    }
}
