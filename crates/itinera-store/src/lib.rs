//! itinera-store
