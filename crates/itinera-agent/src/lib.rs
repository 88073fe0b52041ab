//! itinera-agent
