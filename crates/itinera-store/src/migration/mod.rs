//! Schema changes, in order. Each expands before it contracts, so that programs of two
//! neighbouring versions can run on the same record; `meta.min_reader` refuses older ones.
#![allow(elided_lifetimes_in_paths, reason = "the trait's macro names the lifetimes")]

use sea_orm_migration::prelude::{ConnectionTrait, DbErr, SchemaManager};
use sea_orm_migration::{MigrationName, MigrationTrait, MigratorTrait, async_trait};

pub(crate) struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(Step {
                name: "m0001_first",
                up: include_str!("m0001_up.sql"),
                down: include_str!("m0001_down.sql"),
            }),
            Box::new(Step {
                name: "m0002_people",
                up: include_str!("m0002_up.sql"),
                down: include_str!("m0002_down.sql"),
            }),
            Box::new(Step {
                name: "m0003_reading",
                up: include_str!("m0003_up.sql"),
                down: include_str!("m0003_down.sql"),
            }),
            Box::new(Step {
                name: "m0004_two_way",
                up: include_str!("m0004_up.sql"),
                down: include_str!("m0004_down.sql"),
            }),
            Box::new(Step {
                name: "m0005_checks",
                up: include_str!("m0005_up.sql"),
                down: include_str!("m0005_down.sql"),
            }),
            Box::new(Step {
                name: "m0006_wanted_pairs",
                up: include_str!("m0006_up.sql"),
                down: include_str!("m0006_down.sql"),
            }),
            Box::new(Step {
                name: "m0007_robust",
                up: include_str!("m0007_up.sql"),
                down: include_str!("m0007_down.sql"),
            }),
            Box::new(Step {
                name: "m0008_vocabulary",
                up: include_str!("m0008_up.sql"),
                down: include_str!("m0008_down.sql"),
            }),
            Box::new(Step {
                name: "m0009_messages",
                up: include_str!("m0009_up.sql"),
                down: include_str!("m0009_down.sql"),
            }),
            Box::new(Step {
                name: "m0010_sign_in_attempts",
                up: include_str!("m0010_up.sql"),
                down: include_str!("m0010_down.sql"),
            }),
            Box::new(Step {
                name: "m0011_log_clock",
                up: include_str!("m0011_up.sql"),
                down: include_str!("m0011_down.sql"),
            }),
            Box::new(Step {
                name: "m0012_retention",
                up: include_str!("m0012_up.sql"),
                down: include_str!("m0012_down.sql"),
            }),
            Box::new(Step {
                name: "m0013_rollups",
                up: include_str!("m0013_up.sql"),
                down: include_str!("m0013_down.sql"),
            }),
            Box::new(Step {
                name: "m0014_checkpoints",
                up: include_str!("m0014_up.sql"),
                down: include_str!("m0014_down.sql"),
            }),
            Box::new(Step {
                name: "m0015_alarms",
                up: include_str!("m0015_up.sql"),
                down: include_str!("m0015_down.sql"),
            }),
            Box::new(Step {
                name: "m0016_alarms",
                up: include_str!("m0016_up.sql"),
                down: include_str!("m0016_down.sql"),
            }),
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
