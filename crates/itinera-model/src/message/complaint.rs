//! What messages about complaints say.

use crate::finding::{Cause, Place};
use serde::{Deserialize, Serialize};

/// What a path is to a complaint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Relation {
    /// From the site to the service complained of.
    Own,
    /// From the same site to another service.
    SameSite,
    /// From another site to the same service.
    SameService,
}

/// Paths that were measured, and those of them that had a fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct FaultyPaths {
    /// Paths that were measured.
    pub measured: u32,
    /// Of those, with a fault.
    pub faulty: u32,
}

impl FaultyPaths {
    /// True where paths were measured and all of them had a fault.
    pub const fn all(&self) -> bool {
        self.measured > 0 && self.faulty == self.measured
    }
}

/// The place that most of some faulty paths have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CommonPlace {
    /// The place.
    pub place: Place,
    /// Class of fault.
    pub cause: Cause,
    /// Faulty paths that name it.
    pub naming: u32,
    /// Faulty paths with a finding.
    pub of: u32,
}

/// What was measured around the time of a complaint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ComplaintFacts {
    /// The site.
    pub site: String,
    /// The service.
    pub service: String,
    /// Paths from the site to the service.
    pub own: FaultyPaths,
    /// Paths from the site to other services.
    pub same_site: FaultyPaths,
    /// Paths from other sites to the service.
    pub same_service: FaultyPaths,
    /// Where most faulty paths have their fault.
    pub common: Option<CommonPlace>,
}
