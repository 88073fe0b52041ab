//! Owner maps, by valid time.

use crate::entity::{owner_entry, owner_import};
use crate::users::{Audited, audit};
use crate::{Store, StoreError};
use itinera_model::audit::Action;
use itinera_model::owner::{Owner, OwnerEntry, OwnerMap};
use sea_orm::entity::prelude::*;
use sea_orm::{ActiveValue::Set, QueryOrder, TransactionTrait};
use time::OffsetDateTime;

/// An owner map to import.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewImport {
    /// Where it came from, for users.
    pub source: String,
    /// Digest of the file.
    pub sha256: [u8; 32],
    /// When its content became true.
    pub valid_from: OffsetDateTime,
    /// Its lines.
    pub entries: Vec<OwnerEntry>,
}

/// An import as recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImportRecord {
    /// Its name.
    pub id: Uuid,
    /// When it was imported.
    pub imported_at: OffsetDateTime,
    /// When its content became true.
    pub valid_from: OffsetDateTime,
    /// Where it came from.
    pub source: String,
    /// Number of lines.
    pub entries: i32,
}

fn record(row: owner_import::Model) -> ImportRecord {
    ImportRecord {
        id: row.id,
        imported_at: row.imported_at,
        valid_from: row.valid_from,
        source: row.source,
        entries: row.entries,
    }
}

impl Store {
    /// Records an owner map; earlier ones stay for earlier times.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing is recorded then.
    pub async fn import_owners(
        &self,
        new: NewImport,
        by: &str,
    ) -> Result<ImportRecord, StoreError> {
        let txn = self.db.begin().await?;
        let import = owner_import::ActiveModel {
            id: Set(Uuid::now_v7()),
            imported_at: Set(OffsetDateTime::now_utc()),
            valid_from: Set(new.valid_from),
            source: Set(new.source),
            sha256: Set(new.sha256.to_vec()),
            entries: Set(i32::try_from(new.entries.len()).unwrap_or(i32::MAX)),
        };
        let import = owner_import::Entity::insert(import).exec_with_returning(&txn).await?;
        for chunk in new.entries.chunks(1_000) {
            let rows = chunk.iter().map(|entry| owner_entry::ActiveModel {
                import_id: Set(import.id),
                prefix: Set(entry.prefix.to_string()),
                as_number: Set(i64::from(entry.owner.as_number)),
                owner: Set(entry.owner.name.clone()),
                contact: Set(entry.owner.contact.clone()),
            });
            owner_entry::Entity::insert_many(rows).exec_without_returning(&txn).await?;
        }
        let detail = serde_json::json!({ "entries": import.entries, "id": import.id });
        let entry =
            Audited { user: by, action: Action::OwnerMapImported, object: &import.source, detail };
        audit(&txn, &entry).await?;
        txn.commit().await?;
        Ok(record(import))
    }

    /// The import that was valid at a time; absent before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn owner_import_at(
        &self,
        at: OffsetDateTime,
    ) -> Result<Option<ImportRecord>, StoreError> {
        let import = owner_import::Entity::find()
            .filter(owner_import::Column::ValidFrom.lte(at))
            .order_by_desc(owner_import::Column::ValidFrom)
            .order_by_desc(owner_import::Column::Id)
            .one(&self.db)
            .await?;
        Ok(import.map(record))
    }

    /// All imports, in the order in which they became valid.
    ///
    /// # Errors
    /// [`StoreError::Database`].
    pub async fn owner_imports(&self) -> Result<Vec<ImportRecord>, StoreError> {
        let imports = owner_import::Entity::find()
            .order_by_asc(owner_import::Column::ValidFrom)
            .order_by_asc(owner_import::Column::Id);
        Ok(imports.all(&self.db).await?.into_iter().map(record).collect())
    }

    /// The owner map of an import. Imports never change, so it may be kept.
    ///
    /// # Errors
    /// [`StoreError::Database`], or [`StoreError::Corrupt`] for a row that cannot be read.
    pub async fn owner_map(&self, import: Uuid) -> Result<OwnerMap, StoreError> {
        let rows = owner_entry::Entity::find()
            .filter(owner_entry::Column::ImportId.eq(import))
            .order_by_asc(owner_entry::Column::Prefix)
            .all(&self.db)
            .await?;
        let entry = |row: owner_entry::Model| -> Option<OwnerEntry> {
            let as_number = u32::try_from(row.as_number).ok()?;
            let owner = Owner { as_number, name: row.owner, contact: row.contact };
            Some(OwnerEntry { prefix: row.prefix.parse().ok()?, owner })
        };
        let entries: Option<Vec<_>> = rows.into_iter().map(entry).collect();
        entries.map(OwnerMap::new).ok_or_else(|| StoreError::corrupt("owner entry"))
    }
}
