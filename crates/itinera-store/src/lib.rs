//! The record: PostgreSQL behind typed calls. Rows and SQL never leave this crate.
//!
//! Ingest is one transaction per batch and acknowledged after it; the order of commits
//! (`commit_no`) is the order of truth that judgement follows and that a recomputation repeats.

mod agents;
mod checks;
pub mod cluster;
mod entity;
mod error;
mod events;
mod incidents;
mod ingest;
mod judge;
mod migration;
mod outbox;
mod outward;
mod owners;
mod paths;
mod people;
mod reading;
mod statement;
mod throughput;
mod two_way;
mod watched;
mod watches;

pub use agents::{AgentRecord, CodeRefused, NewAgent};
pub use checks::{AroundAt, CheckRecord, CheckSpec, CheckedAt};
pub use error::StoreError;
pub use events::{EventRecord, WhichEvents};
pub use incidents::{Complaint, Fold, IncidentEvent, IncidentRecord, IncidentRefused};
pub use ingest::{Committed, LogEntry, LoggedRound};
pub use judge::{AlarmRecord, JudgeMemory, JudgeWrite, StoredWindow};
pub use outbox::{News, Since};
pub use outward::OutwardRecord;
pub use owners::{ImportRecord, NewImport};
pub use paths::{PathEnds, PathRecord, ReadRecord, RoundRecord};
pub use people::{
    AuditRecord, Audited, Known, NewSession, NewToken, PersonChange, PersonRecord, PersonRefused,
    TokenRecord,
};
pub use reading::StateCounts;
pub use throughput::{ThroughputRecord, ThroughputSpec};
pub use two_way::{PairRecord, PairSpec, PartnerRecord};
pub use watched::{
    IntendedWay, Schedule, SiteRecord, SiteSpec, TargetRecord, TargetSpec, TwoWaySchedule, Watched,
};
pub use watches::{
    NewSuppression, NewWatch, Pause, SuppressionRecord, WatchChange, WatchRecord, WatchRefused,
    WhichWatches,
};

use sea_orm::{ConnectOptions, Database, DatabaseConnection};
use sea_orm_migration::MigratorTrait;
use std::time::Duration;

/// The oldest schema reader this build still is: it refuses records that need a newer one.
pub const READER: i32 = 1;

/// A handle on the record. Cloning it shares the connections.
#[derive(Debug, Clone)]
pub struct Store {
    db: DatabaseConnection,
}

impl Store {
    /// Connects, brings the schema up to date and makes room for today's and tomorrow's rounds.
    ///
    /// # Errors
    /// [`StoreError::TooOld`] when the record needs a newer program; [`StoreError::Database`]
    /// when the database is away or refuses.
    pub async fn open(url: &str) -> Result<Self, StoreError> {
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(8)
            .connect_timeout(Duration::from_secs(10))
            .acquire_timeout(Duration::from_secs(10))
            .sqlx_logging(false);
        let db = Database::connect(options).await?;
        migration::Migrator::up(&db, None).await?;
        let store = Self { db };
        store.check_reader().await?;
        store.make_partitions().await?;
        Ok(store)
    }

    /// Takes every migration back. Everything recorded is lost; used to prove that each
    /// migration has a way back.
    ///
    /// # Errors
    /// [`StoreError::Database`] when the database is away or refuses.
    pub async fn dismantle(&self) -> Result<(), StoreError> {
        Ok(migration::Migrator::down(&self.db, None).await?)
    }

    /// Asks the database for a sign of life.
    ///
    /// # Errors
    /// [`StoreError::Database`] when there is none.
    pub async fn is_alive(&self) -> Result<(), StoreError> {
        Ok(self.db.ping().await?)
    }
}
