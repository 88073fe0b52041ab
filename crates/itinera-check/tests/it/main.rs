//! Every check against test servers of its protocol that are good or have one fault each, over
//! loopback sockets and over hosts in user space; and against hostile ones, within budgets.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests may fail loudly")]

mod classes;
mod hostile;
mod real;
mod support;
