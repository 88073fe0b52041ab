//! The database: PostgreSQL behind typed calls. Rows and SQL never leave this crate.
//!
//! Ingest is one transaction per batch and acknowledged after it; the order of commits
//! (`commit_no`) is the order of truth that judgement follows and that a recomputation repeats.

mod addresses;
mod agents;
mod alarms;
mod backup;
mod change_feed;
mod checks;
pub mod cluster;
mod compute;
mod correlation;
mod deliveries;
mod diagnoses;
pub mod dump;
mod entity;
mod error;
mod events;
mod evidence;
mod impact;
mod incidents;
mod ingest;
mod judge;
mod lease;
mod log;
mod migration;
mod notices;
mod numbers;
mod owners;
mod packing;
mod pair_routes;
mod partitions;
mod paths;
mod planned_work;
mod queue;
mod reading;
mod receivers;
mod retention;
mod rollups;
mod rounds;
mod rows;
mod rules;
mod saved_views;
mod schedule_version;
mod set_aside;
mod severity;
mod sign_in_attempts;
mod statement;
mod tags;
mod targets;
mod throughput;
mod timeline;
mod times;
mod triage;
mod two_way;
mod users;
mod watches;

pub use agents::{AgentRecord, CodeRefused, NewAgent};
pub use alarms::{AlarmRecord, StateChange};
pub use backup::{applied_migrations, is_empty, known_migrations};
pub use change_feed::{Change, Since, Topic};
pub use checks::{CheckRecord, CheckSpec, CheckedAt, HostFactsAt};
pub use correlation::{Correlation, EachApart, KnownFault};
pub use deliveries::{Attempt, Claim, Retried};
pub use diagnoses::DiagnosisRecord;
pub use error::StoreError;
pub use events::{EventQuery, EventRecord};
pub use evidence::{
    EvidenceDay, EvidenceRange, EvidenceRow, EvidenceWrite, LateEvidence, SubjectNo,
};
pub use impact::{Contract, Earlier, EarlierAlarm};
pub use incidents::{Complaint, IncidentEvent, IncidentRecord, IncidentRefused};
pub use ingest::{Arrival, Committed};
pub use judge::{JudgeMemory, JudgeWrite, Recorded};
pub use log::{LogContent, LogEntry, LogReader, LoggedReport, NewEntry};
pub use notices::{Composed, DeliveryRecord, DueNotice, NoticeQuery, NoticeRecord};
pub use numbers::Numbered;
pub use owners::{ImportRecord, NewImport};
pub use pair_routes::PairRouteAt;
pub use paths::{PathEnds, PathRecord, ReadRecord, RoundRecord};
pub use planned_work::{CalendarRecord, CalendarSpec, PlannedWork, PlannedWorkRecord};
pub use queue::{AlarmQuery, AlarmRows, AssigneeFilter};
pub use reading::{HealthCounts, StateCounts};
pub use receivers::{MAX_RECEIVERS, ReceiverRecord, ReceiverRefused};
pub use retention::{DatabaseSize, Deleted, Retention, TableSize};
pub use rollups::{PairRollupRecord, RollupRecord, RouteRollups};
pub use rounds::{Compacted, KnownRoute, LoggedRound, RoundsEnd, RoundsPage};
pub use rules::{FindingRecord, RuleVersion, RulesChanged};
pub use saved_views::{MAX_VIEWS, SavedView};
pub use set_aside::SetAsideRecord;
pub use tags::{TagOf, Tagged};
pub use targets::{
    IntendedRoute, MeasurementPlan, Schedule, SiteRecord, SiteSpec, TargetRecord, TargetSpec,
    TwoWaySchedule,
};
pub use throughput::{ThroughputRecord, ThroughputSpec};

pub use times::Lasting;
pub use triage::{ActionRecord, AlarmChange, AlarmOutcome, AlarmRefused, AlarmRequest};
pub use two_way::{PairRecord, PairSpec, PartnerRecord};
pub use users::{
    AuditRecord, Audited, NewSession, NewToken, SessionUser, TokenRecord, UserChange, UserRecord,
    UserRefused,
};
pub use watches::{
    NewSuppression, NewWatch, Pause, SuppressionRecord, WatchChange, WatchQuery, WatchRecord,
    WatchRefused,
};

use sea_orm::{ConnectOptions, Database, DatabaseConnection};
use sea_orm_migration::MigratorTrait;
use std::time::Duration;

/// The oldest schema reader this build still is: it refuses databases that need a newer one.
pub const READER: i32 = 9;

/// Connections of one process to the database, by what they are for: no kind of work waits for
/// another's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pools {
    /// For taking in what agents upload.
    pub ingest: u32,
    /// For judgement.
    pub judgement: u32,
    /// For everything that users ask, and for the rest.
    pub users: u32,
}

impl Default for Pools {
    fn default() -> Self {
        Self { ingest: 4, judgement: 2, users: 8 }
    }
}

/// How long a statement may take, and wait for a lock, in seconds. Migrations may take longer.
const STATEMENT_S: u64 = 60;
const LOCK_S: u64 = 10;
/// A transaction that is idle for this long is ended: its process is stuck or gone.
const IDLE_TRANSACTION_S: u64 = 60;

/// A handle on the database. Cloning it shares the connections.
#[derive(Debug, Clone)]
pub struct Store {
    db: DatabaseConnection,
    ingest: DatabaseConnection,
    judge: DatabaseConnection,
}

async fn connect(
    url: &str,
    connections: u32,
    bounded: bool,
) -> Result<DatabaseConnection, StoreError> {
    let mut options = ConnectOptions::new(url);
    options
        .max_connections(connections)
        .connect_timeout(Duration::from_secs(10))
        .acquire_timeout(Duration::from_secs(10))
        .sqlx_logging(false)
        .map_sqlx_postgres_opts(move |options| {
            let seconds = |limit: u64| if bounded { format!("{limit}s") } else { "0".to_owned() };
            options.application_name("itinera").options([
                ("statement_timeout", seconds(STATEMENT_S)),
                ("lock_timeout", seconds(LOCK_S)),
                ("idle_in_transaction_session_timeout", seconds(IDLE_TRANSACTION_S)),
                // Statements are short: to compile one takes longer than to run it.
                ("jit", "off".to_owned()),
                // A database that is cut off is noticed within half a minute.
                ("tcp_user_timeout", "30s".to_owned()),
                ("tcp_keepalives_idle", "10".to_owned()),
            ])
        });
    Ok(Database::connect(options).await?)
}

impl Store {
    /// Connects, brings the schema up to date and makes room for the rounds of the coming week.
    ///
    /// # Errors
    /// [`StoreError::TooOld`] when the database needs a newer program; [`StoreError::Database`]
    /// when the database is away or refuses.
    pub async fn open(url: &str) -> Result<Self, StoreError> {
        Self::open_with(url, Pools::default()).await
    }

    /// The same with another number of connections.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub async fn open_with(url: &str, pools: Pools) -> Result<Self, StoreError> {
        let migrating = connect(url, 1, false).await?;
        migration::Migrator::up(&migrating, None).await?;
        migrating.close().await?;
        let store = Self {
            db: connect(url, pools.users, true).await?,
            ingest: connect(url, pools.ingest, true).await?,
            judge: connect(url, pools.judgement, true).await?,
        };
        store.check_reader().await?;
        store.make_partitions(time::OffsetDateTime::now_utc()).await?;
        Ok(store)
    }

    /// Takes every migration back. Everything recorded is lost; used to prove that each
    /// migration has a return route.
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
