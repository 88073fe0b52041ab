//! The nouns every part of Itinera shares: units, ids, paths, rounds, routes, schedules,
//! findings, alarms, the agent protocol's messages and the compact encodings.
//!
//! This crate promises no sockets, no clock, no files and no chance: everything here is plain
//! data and pure functions over it.

pub mod alarm;
pub mod audit;
pub mod batch;
pub mod check;
pub mod checkpoint;
pub mod codec;
pub mod delay_class;
pub mod diagnosis;
pub mod diagnosis_message;
pub mod ensemble;
pub mod event;
pub mod evidence;
pub mod finding;
pub mod host_facts;
pub mod hours;
pub mod id;
pub mod incident;
pub mod join;
pub mod message;
pub mod note;
pub mod notice;
pub mod overall;
pub mod owner;
pub mod packed;
pub mod path;
pub mod path_mtu;
pub mod protocol;
pub mod quantile;
pub mod reading;
pub mod role;
pub mod rollup;
pub mod round;
pub mod round_block;
pub mod round_row;
pub mod round_set;
pub mod route;
pub mod rule;
pub mod self_alarm;
pub mod text;
pub mod throughput;
pub mod triage;
pub mod two_way;
pub mod unit;
pub mod unreachable;
pub mod varint;

pub use alarm::{Alarm, AlarmKind, Severity};
pub use batch::{Batch, RefusedTask};
pub use codec::DecodeError;
pub use finding::{Cause, Explanation, Finding, HopVerdict, HopView, Place};
pub use id::{AgentId, AlarmId, BootId, ContentId, PairId, PathId, SiteId, TargetId};
pub use join::JoinCode;
pub use owner::{Owner, OwnerEntry, OwnerMap};
pub use path::{Direction, Family, Method, PathSpec};
pub use reading::{AnswerForm, HopReading, Reading};
pub use round::{Clocks, HopCounts, Round, StampSource};
pub use round_set::RoundSet;
pub use route::{Flow, Resolution, Route};
pub use unit::{HopLimit, Micros, Tick, WallTime};
