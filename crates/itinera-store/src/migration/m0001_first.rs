//! The first schema.
#![allow(elided_lifetimes_in_paths, reason = "the trait's macro names the lifetimes")]

use sea_orm_migration::prelude::{ConnectionTrait, DbErr, MigrationTrait, SchemaManager};
use sea_orm_migration::{MigrationName, async_trait};

pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0001_first"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(include_str!("m0001_up.sql")).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(include_str!("m0001_down.sql")).await?;
        Ok(())
    }
}
