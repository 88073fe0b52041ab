//! What the API shows: plain records with units in their names, ratios from 0 to 1.

pub(crate) mod agent;
pub(crate) mod alarm;
pub(crate) mod alarm_history;
pub(crate) mod check;
pub(crate) mod diagnosis;
pub(crate) mod event;
pub(crate) mod evidence;
pub(crate) mod hand_over;
pub(crate) mod handling;
pub(crate) mod host_facts;
pub(crate) mod impact;
pub(crate) mod incident;
pub(crate) mod message;
pub(crate) mod notice;
pub(crate) mod pair;
pub(crate) mod path;
pub(crate) mod planned_work;
pub(crate) mod rules;
pub(crate) mod set_aside;
pub(crate) mod status;
pub(crate) mod throughput;
pub(crate) mod user;
pub(crate) mod watch;
pub(crate) mod weave;
