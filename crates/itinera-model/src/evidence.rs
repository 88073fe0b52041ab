//! What evidence is of.

use crate::id::{PairId, PathId};

/// What evidence is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum EvidenceSubject {
    /// A path.
    Path(PathId),
    /// Two agents that measure each other.
    Pair(PairId),
}
