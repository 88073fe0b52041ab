//! Schema changes, in order. Each expands before it contracts, so that programs of two
//! neighbouring versions can run on the same record; `meta.min_reader` refuses older ones.

mod m0001_first;

use sea_orm_migration::{MigrationTrait, MigratorTrait, async_trait};

pub(crate) struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![Box::new(m0001_first::Migration)]
    }
}
