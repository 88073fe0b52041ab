//! itinera-lab
