//! Schema changes, in order. Each expands before it contracts, so that programs of two
//! neighbouring versions can run on the same record; `meta.min_reader` refuses older ones.
#![allow(elided_lifetimes_in_paths, reason = "the trait's macro names the lifetimes")]

use sea_orm_migration::prelude::{ConnectionTrait, DbErr, SchemaManager};
use sea_orm_migration::{MigrationName, MigrationTrait, MigratorTrait, async_trait};

pub(crate) struct Migrator;

/// The change in the files of this number, recorded under this number and title.
macro_rules! step {
    ($number:literal, $title:literal) => {
        Box::new(Step {
            name: concat!($number, "_", $title),
            up: include_str!(concat!($number, "_up.sql")),
            down: include_str!(concat!($number, "_down.sql")),
        })
    };
}

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            step!("m0001", "first"),
            step!("m0002", "people"),
            step!("m0003", "reading"),
            step!("m0004", "two_way"),
            step!("m0005", "checks"),
            step!("m0006", "wanted_pairs"),
            step!("m0007", "robust"),
            step!("m0008", "vocabulary"),
            step!("m0009", "messages"),
            step!("m0010", "sign_in_attempts"),
            step!("m0011", "log_clock"),
            step!("m0012", "retention"),
            step!("m0013", "rollups"),
            step!("m0014", "checkpoints"),
            step!("m0015", "alarms"),
            step!("m0016", "evidence"),
            step!("m0017", "round_blocks"),
            step!("m0018", "rollups_by_route"),
            step!("m0019", "round_content"),
            step!("m0020", "path_minutes"),
            step!("m0021", "alarm_actions"),
            step!("m0022", "notices"),
            step!("m0023", "self_alarms"),
            step!("m0024", "rules"),
            step!("m0025", "pair_routes"),
        ]
    }
}

/// A change and its return route, as SQL.
struct Step {
    name: &'static str,
    up: &'static str,
    down: &'static str,
}

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.name
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(self.up).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(self.down).await?;
        Ok(())
    }
}
