//! What measurements say about a complaint: is it the network at all, and if so, where to look.
//!
//! The complaint's own paths are laid beside their neighbours: other services from the same
//! site, the same service from other sites. If every path of one site suffers, look at the
//! site; if every path to one service suffers, look at the target's end; if neither, look at
//! what they share.

use crate::limits::Limits;
use itinera_model::finding::{Assessment, Cause, Finding};
use itinera_model::message::{CommonPlace, ComplaintFacts, FaultyPaths, Message, Relation};

/// A path's measurements around the time complained of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Witness {
    /// What it is to the complaint.
    pub relation: Relation,
    /// The worst that was assessed around the time; absent when nothing was measured.
    pub assessment: Option<Assessment>,
}

/// True when a minute was bad enough to complain of: a finding that would alarm if it lasted, or
/// as much loss to the far end wherever it began.
pub fn suffers(assessment: &Assessment) -> bool {
    let limits = Limits::default();
    let found = assessment.finding.as_ref().is_some_and(|finding| {
        let over = match finding.cause {
            Cause::Break | Cause::Misrouting => true,
            Cause::Loss => finding.loss_ppm >= limits.loss_ppm,
            Cause::Delay => finding.added_delay_us.as_micros() >= limits.added_delay_us,
        };
        over && finding.confidence_ppm >= limits.confidence_ppm
    });
    let lost = u64::from(assessment.end_lost) * 1_000_000;
    found || lost > u64::from(assessment.end_sent) * u64::from(limits.loss_ppm)
}

fn counted(witnesses: &[Witness], relation: Relation) -> FaultyPaths {
    let of = witnesses.iter().filter(|witness| witness.relation == relation);
    let assessed: Vec<&Assessment> = of.filter_map(|witness| witness.assessment.as_ref()).collect();
    let faulty = assessed.iter().filter(|assessment| suffers(assessment)).count();
    FaultyPaths { measured: count(assessed.len()), faulty: count(faulty) }
}

/// The place that most of the paths with a fault name.
fn common_place(witnesses: &[Witness]) -> Option<CommonPlace> {
    let faulty: Vec<&Finding> = witnesses
        .iter()
        .filter_map(|witness| witness.assessment.as_ref())
        .filter(|assessment| suffers(assessment))
        .filter_map(|assessment| assessment.finding.as_ref())
        .collect();
    let naming =
        |finding: &Finding| faulty.iter().filter(|other| other.place == finding.place).count();
    let best = faulty.iter().max_by_key(|finding| (naming(finding), finding.confidence_ppm))?;
    Some(CommonPlace {
        place: best.place,
        cause: best.cause,
        naming: count(naming(best)),
        of: count(faulty.len()),
    })
}

fn count(paths: usize) -> u32 {
    u32::try_from(paths).unwrap_or(u32::MAX)
}

/// The verdict on a complaint from `site` about `service`.
pub fn verdict(site: &str, service: &str, witnesses: &[Witness]) -> Message {
    let own = counted(witnesses, Relation::Own);
    let same_site = counted(witnesses, Relation::SameSite);
    let same_service = counted(witnesses, Relation::SameService);
    let facts = ComplaintFacts {
        site: site.to_owned(),
        service: service.to_owned(),
        own,
        same_site,
        same_service,
        common: common_place(witnesses),
    };
    match () {
        () if own.measured == 0 => Message::ComplaintNotMeasured(facts),
        () if own.faulty == 0 => Message::ComplaintNetworkClean(facts),
        () if same_site.all() && !same_service.all() => Message::ComplaintSite(facts),
        () if same_service.all() && !same_site.all() => Message::ComplaintService(facts),
        () => Message::ComplaintSharedPart(facts),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::Place;
    use itinera_model::id::PathId;
    use itinera_model::unit::WallTime;
    use uuid::Uuid;

    fn witness(relation: Relation, lost: u32) -> Witness {
        Witness {
            relation,
            assessment: Some(Assessment {
                path: PathId::from_uuid(Uuid::nil()),
                until: WallTime::from_unix_seconds(0),
                span_s: 60,
                rounds: 30,
                end_sent: 60,
                end_lost: lost,
                engine: 1,
                mapping: 0,
                hops: Vec::new(),
                finding: None,
            }),
        }
    }

    fn judged(own: &[u32], site: &[u32], service: &[u32]) -> (&'static str, ComplaintFacts) {
        let all =
            [(Relation::Own, own), (Relation::SameSite, site), (Relation::SameService, service)];
        let witnesses: Vec<Witness> = all
            .into_iter()
            .flat_map(|(relation, lost)| lost.iter().map(move |lost| witness(relation, *lost)))
            .collect();
        named(verdict("Eskerry", "Seat Booking", &witnesses))
    }

    fn named(message: Message) -> (&'static str, ComplaintFacts) {
        match message {
            Message::ComplaintNotMeasured(facts) => ("not measured", facts),
            Message::ComplaintNetworkClean(facts) => ("network clean", facts),
            Message::ComplaintSite(facts) => ("site", facts),
            Message::ComplaintService(facts) => ("service", facts),
            Message::ComplaintSharedPart(facts) => ("shared part", facts),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn the_neighbours_tell_where_to_look() {
        for (own, site, service, cause) in [
            (&[][..], &[0][..], &[0][..], "not measured"),
            (&[0, 1], &[9], &[9], "network clean"),
            (&[9], &[9, 12], &[0, 9], "site"),
            (&[9], &[0, 12], &[9, 9], "service"),
            (&[9], &[0, 12], &[0, 9], "shared part"),
            (&[9], &[9], &[9], "shared part"),
            (&[9], &[], &[], "shared part"),
        ] {
            assert_eq!(judged(own, site, service).0, cause, "{own:?} {site:?} {service:?}");
        }
    }

    #[test]
    fn a_slight_finding_is_no_fault_and_the_common_place_is_named() {
        let link = |last: u8| {
            let address = |last| [198, 18, 64, last].into();
            Place::Link { from: address(last), to: address(last + 1), silent_between: 0 }
        };
        let with = |relation, last: u8, loss_ppm| {
            let mut witness = witness(relation, 0);
            let finding = Finding { loss_ppm, ..Finding::new(Cause::Loss, link(last), 950_000) };
            witness.assessment.as_mut().unwrap().finding = Some(finding);
            witness
        };
        let witnesses = [
            with(Relation::Own, 3, 200_000),
            with(Relation::SameSite, 7, 10_000),
            with(Relation::SameService, 3, 150_000),
            with(Relation::SameService, 5, 90_000),
        ];
        let (cause, facts) = named(verdict("Eskerry", "Seat Booking", &witnesses));
        assert_eq!(cause, "service", "{facts:?}");
        let common = CommonPlace { place: link(3), cause: Cause::Loss, naming: 2, of: 3 };
        assert_eq!(facts.common, Some(common));
    }

    #[test]
    fn each_group_is_counted() {
        let (_, facts) = judged(&[9], &[0], &[]);
        assert_eq!(facts.own, FaultyPaths { measured: 1, faulty: 1 });
        assert_eq!(facts.same_site, FaultyPaths { measured: 1, faulty: 0 });
        assert_eq!(facts.same_service, FaultyPaths::default());
    }

    #[test]
    fn a_path_without_a_word_is_no_witness() {
        let silent = Witness { assessment: None, ..witness(Relation::Own, 0) };
        let (cause, _) = named(verdict("Eskerry", "Seat Booking", &[silent]));
        assert_eq!(cause, "not measured");
    }
}
