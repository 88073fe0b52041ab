//! What was measured around the time of a complaint, gathered once and then frozen.

use super::view::evidence::{Evidence, listed, view};
use crate::context::Shared;
use crate::past;
use crate::problem::ApiError;
use itinera_analysis::complaint::{self, Witness};
use itinera_analysis::watch::worst;
use itinera_model::id::PathId;
use itinera_model::message::Relation;
use itinera_store::PathRecord;
use time::{Duration, OffsetDateTime};

/// Users do not know the exact minute: measurements within this time of it count.
const AROUND: Duration = Duration::minutes(5);
/// Paths known by name.
const MOST_PATHS: i64 = 5_000;
/// Paths of one relation that are evaluated: more would take longer than a user waits.
const MOST_WITNESSES: usize = 60;

/// Gathers what was measured around a time from a site to a service and beside it.
pub(super) async fn gather(
    shared: &Shared,
    site: &str,
    service: &str,
    about: OffsetDateTime,
) -> Result<Evidence, ApiError> {
    let all = shared.store.paths(None, MOST_PATHS).await?;
    if !all.iter().any(|path| path.site == site) {
        let known = listed(all.iter().map(|path| &path.site).collect());
        return Err(ApiError::BadInput(format!(
            "site: no path begins at {site:?}; known: {known}"
        )));
    }
    if !all.iter().any(|path| path.service == service) {
        let known = listed(all.iter().map(|path| &path.service).collect());
        let text = format!("service: no path serves {service:?}; known: {known}");
        return Err(ApiError::BadInput(text));
    }
    let related = |path: PathRecord| {
        let relation = match (path.site == site, path.service == service) {
            (true, true) => Relation::Own,
            (true, false) => Relation::SameSite,
            (false, true) => Relation::SameService,
            (false, false) => return None,
        };
        Some((relation, path))
    };
    let mut related: Vec<(Relation, PathRecord)> = all.into_iter().filter_map(related).collect();
    related.sort_by(|a, b| (a.0, &a.1.site, &a.1.service).cmp(&(b.0, &b.1.site, &b.1.service)));
    let mut seen = [0; 3];
    related.retain(|(relation, _)| {
        let count = &mut seen[*relation as usize];
        *count += 1;
        *count <= MOST_WITNESSES
    });
    let ids: Vec<PathId> = related.iter().map(|(_, path)| path.id).collect();
    let (from, to) = (about - AROUND, about + AROUND);
    let mut assessed = past::assessments(&shared.store, &ids, from, to).await?;
    let (map, _) = shared.owner_map_at(about).await?;
    let mut witnesses = Vec::new();
    let mut views = Vec::new();
    for (relation, path) in related {
        let assessment = assessed.remove(&path.id).and_then(worst);
        views.push(view(relation, &path, assessment.as_ref(), &map));
        witnesses.push(Witness { relation, assessment });
    }
    Ok(Evidence {
        gathered_at: OffsetDateTime::now_utc(),
        from,
        to,
        message: complaint::verdict(site, service, &witnesses),
        witnesses: views,
    })
}
