//! itinera-service
