//! Rows of what users and agents add one at a time. Bulk tables are written as arrays.
#![allow(unreachable_pub, reason = "the derives demand public items; the module is private")]

pub(crate) mod agent {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "agent")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub site_id: Uuid,
        pub certificate_sha256: Vec<u8>,
        pub version: String,
        pub joined_at: TimeDateTimeWithTimeZone,
        pub last_batch_at: Option<TimeDateTimeWithTimeZone>,
        pub clock_offset_us: Option<i64>,
        pub clock_error_us: Option<i64>,
        pub dropped_rounds: i64,
        #[sea_orm(column_type = "JsonBinary")]
        pub refused: Json,
        #[sea_orm(column_type = "JsonBinary")]
        pub addresses: Json,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod join_code {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "join_code")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub secret_sha256: Vec<u8>,
        pub site_id: Uuid,
        pub created_at: TimeDateTimeWithTimeZone,
        pub expires_at: TimeDateTimeWithTimeZone,
        pub used_at: Option<TimeDateTimeWithTimeZone>,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod site {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "site")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub name: String,
        pub active: bool,
        #[sea_orm(column_type = "JsonBinary")]
        pub families: Json,
        #[sea_orm(column_type = "JsonBinary")]
        pub reached_at: Json,
        #[sea_orm(column_type = "JsonBinary")]
        pub paired_with: Json,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod target {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "target")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub name: String,
        pub address: String,
        pub methods: Json,
        pub active: bool,
        #[sea_orm(column_type = "JsonBinary")]
        pub addresses: Json,
        pub service: String,
        pub port: Option<i32>,
        pub host: Option<String>,
        #[sea_orm(column_type = "JsonBinary")]
        pub checks: Json,
        #[sea_orm(column_type = "JsonBinary")]
        pub intended: Option<Json>,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod path {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "path")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub agent_id: Uuid,
        pub uplink: String,
        pub target_id: Uuid,
        pub family: String,
        pub method: String,
        pub dscp: i16,
        pub size_bytes: i32,
        pub direction: String,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod alarm {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "alarm")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub no: i64,
        pub class: String,
        #[sea_orm(column_type = "JsonBinary")]
        pub key: Json,
        #[sea_orm(column_type = "JsonBinary")]
        pub body: Json,
        pub severity: Option<String>,
        pub agent_id: Option<Uuid>,
        pub raised_at: TimeDateTimeWithTimeZone,
        pub cleared_at: Option<TimeDateTimeWithTimeZone>,
        pub incident_id: Option<Uuid>,
        pub root_id: Uuid,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod owner_import {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "owner_import")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub imported_at: TimeDateTimeWithTimeZone,
        pub valid_from: TimeDateTimeWithTimeZone,
        pub source: String,
        pub sha256: Vec<u8>,
        pub entries: i32,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod owner_entry {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "owner_entry")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub import_id: Uuid,
        #[sea_orm(primary_key, auto_increment = false)]
        pub prefix: String,
        pub as_number: i64,
        pub owner: String,
        pub contact: String,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod user {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "user_account")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub name: String,
        pub role: String,
        pub password: String,
        pub active: bool,
        pub created_at: TimeDateTimeWithTimeZone,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod api_token {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "api_token")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub user_id: Uuid,
        pub name: String,
        pub role: String,
        pub secret_sha256: Vec<u8>,
        pub created_at: TimeDateTimeWithTimeZone,
        pub expires_at: TimeDateTimeWithTimeZone,
        pub used_at: Option<TimeDateTimeWithTimeZone>,
        pub revoked_at: Option<TimeDateTimeWithTimeZone>,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod incident {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "incident")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub no: i64,
        pub opened_at: TimeDateTimeWithTimeZone,
        pub closed_at: Option<TimeDateTimeWithTimeZone>,
        #[sea_orm(column_type = "JsonBinary")]
        pub complaint: Option<Json>,
        #[sea_orm(column_type = "JsonBinary")]
        pub evidence: Option<Json>,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub(crate) mod incident_event {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "incident_event")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: Uuid,
        pub incident_id: Uuid,
        pub at: TimeDateTimeWithTimeZone,
        #[sea_orm(column_name = "user_name")]
        pub user: String,
        pub kind: String,
        #[sea_orm(column_type = "JsonBinary")]
        pub body: Json,
    }
    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}
