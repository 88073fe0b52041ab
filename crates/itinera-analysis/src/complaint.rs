//! What measurements say about a complaint: is it the network at all, and if so, where to look.
//!
//! The complaint's own paths are laid beside their neighbours: other services from the same
//! site, the same service from other sites. If every path of one site suffers, look at the
//! site; if every path to one service suffers, look at the target's end; if neither, look at
//! what they share.

use crate::alarm::Limits;
use crate::sentence;
use itinera_model::finding::{Assessment, Cause, Finding};
use itinera_model::owner::OwnerMap;

/// What a path is to a complaint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Relation {
    /// From the site to the service complained of.
    Own,
    /// From the same site to another service.
    SameSite,
    /// From another site to the same service.
    SameService,
}

/// A path's measurements around the time complained of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Witness {
    /// What it is to the complaint.
    pub relation: Relation,
    /// The worst that was assessed around the time; absent when nothing was measured.
    pub assessment: Option<Assessment>,
}

/// Where to look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ComplaintCause {
    /// Nothing was measured there and then.
    NotMeasured,
    /// The network was clean: the application, or the user's own machine.
    NotTheNetwork,
    /// Every service from the site suffered.
    Site,
    /// Every site suffered with this service, and the site's other services did not.
    Service,
    /// Some paths suffered: what they share.
    Shared,
}

/// A verdict with its reasons.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ComplaintVerdict {
    /// Where to look.
    pub cause: ComplaintCause,
    /// The verdict, then its reasons.
    pub sentences: Vec<String>,
}

struct Counted {
    measured: usize,
    suffering: usize,
}

/// True when a minute was bad enough to complain of: a finding that would alarm if it lasted, or
/// as much loss to the far end wherever it began.
pub fn suffers(assessment: &Assessment) -> bool {
    let limits = Limits::default();
    let found = assessment.finding.as_ref().is_some_and(|finding| {
        let over = match finding.cause {
            Cause::Loss => finding.loss_ppm >= limits.loss_ppm,
            Cause::Delay => finding.added_delay_us.as_micros() >= limits.added_delay_us,
        };
        over && finding.confidence_ppm >= limits.confidence_ppm
    });
    let lost = u64::from(assessment.end_lost) * 1_000_000;
    found || lost > u64::from(assessment.end_sent) * u64::from(limits.loss_ppm)
}

fn counted(witnesses: &[Witness], relation: Relation) -> Counted {
    let of = witnesses.iter().filter(|witness| witness.relation == relation);
    let assessed: Vec<&Assessment> = of.filter_map(|witness| witness.assessment.as_ref()).collect();
    let suffering = assessed.iter().filter(|assessment| suffers(assessment)).count();
    Counted { measured: assessed.len(), suffering }
}

impl Counted {
    fn words(&self, what: &str) -> String {
        match self {
            Self { measured: 0, .. } => format!("Nothing was measured {what}."),
            Self { measured: 1, suffering } => {
                let did = if *suffering == 1 { "suffered" } else { "was clean" };
                format!("The one path {what} {did}.")
            }
            Self { measured, suffering: 0 } => format!("All {measured} paths {what} were clean."),
            Self { measured, .. } if self.all() => {
                format!("All {measured} paths {what} suffered.")
            }
            Self { measured, suffering } => {
                format!("{suffering} of {measured} paths {what} suffered.")
            }
        }
    }

    const fn all(&self) -> bool {
        self.measured > 0 && self.suffering == self.measured
    }
}

/// The place that most of the suffering paths name, with how many of them do.
fn common_place(witnesses: &[Witness], map: &OwnerMap) -> Option<String> {
    let suffering: Vec<&Finding> = witnesses
        .iter()
        .filter_map(|witness| witness.assessment.as_ref())
        .filter(|assessment| suffers(assessment))
        .filter_map(|assessment| assessment.finding.as_ref())
        .collect();
    let named =
        |finding: &Finding| suffering.iter().filter(|other| other.place == finding.place).count();
    let best = suffering.iter().max_by_key(|finding| (named(finding), finding.confidence_ppm))?;
    let (count, all) = (named(best), suffering.len());
    let place = sentence::place_words(&best.place);
    let whose = sentence::whose(&best.place, map).words();
    let cause = match best.cause {
        Cause::Loss => "loss",
        Cause::Delay => "added delay",
    };
    Some(format!("{count} of {all} suffering paths show {cause} that begins {place}, {whose}."))
}

/// The verdict on a complaint from `site` about `service`.
pub fn verdict(
    site: &str,
    service: &str,
    witnesses: &[Witness],
    map: &OwnerMap,
) -> ComplaintVerdict {
    let own = counted(witnesses, Relation::Own);
    let same_site = counted(witnesses, Relation::SameSite);
    let same_service = counted(witnesses, Relation::SameService);
    let cause = match () {
        () if own.measured == 0 => ComplaintCause::NotMeasured,
        () if own.suffering == 0 => ComplaintCause::NotTheNetwork,
        () if same_site.all() && !same_service.all() => ComplaintCause::Site,
        () if same_service.all() && !same_site.all() => ComplaintCause::Service,
        () => ComplaintCause::Shared,
    };
    let first = match cause {
        ComplaintCause::NotMeasured => {
            format!("Nothing was measured from {site} to {service} around then: no verdict.")
        }
        ComplaintCause::NotTheNetwork => format!(
            "The network between {site} and {service} was clean around then: look at the \
             application, or at the user's own machine and its link."
        ),
        ComplaintCause::Site => format!(
            "Everything from {site} suffered, and other sites reached {service}: look at the site \
             and its way in."
        ),
        ComplaintCause::Service => format!(
            "Every site suffered with {service}, and {site} reached other services: look at the \
             target's end and what lies before it."
        ),
        ComplaintCause::Shared => format!(
            "The network between {site} and {service} suffered: look where the suffering paths \
             come together."
        ),
    };
    let mut sentences = vec![first, own.words("complained of")];
    sentences.push(same_site.words(&format!("from {site} to other services")));
    sentences.push(same_service.words(&format!("from other sites to {service}")));
    sentences.extend(common_place(witnesses, map));
    ComplaintVerdict { cause, sentences }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::Place;
    use itinera_model::id::PathId;
    use itinera_model::unit::{Micros, WallTime};
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

    fn cause(own: &[u32], site: &[u32], service: &[u32]) -> ComplaintCause {
        let all =
            [(Relation::Own, own), (Relation::SameSite, site), (Relation::SameService, service)];
        let witnesses: Vec<Witness> = all
            .into_iter()
            .flat_map(|(relation, lost)| lost.iter().map(move |lost| witness(relation, *lost)))
            .collect();
        verdict("Eskerry", "Seat Booking", &witnesses, &OwnerMap::default()).cause
    }

    #[test]
    fn the_neighbours_tell_where_to_look() {
        assert_eq!(cause(&[], &[0], &[0]), ComplaintCause::NotMeasured);
        assert_eq!(cause(&[0, 1], &[9], &[9]), ComplaintCause::NotTheNetwork);
        assert_eq!(cause(&[9], &[9, 12], &[0, 9]), ComplaintCause::Site);
        assert_eq!(cause(&[9], &[0, 12], &[9, 9]), ComplaintCause::Service);
        assert_eq!(cause(&[9], &[0, 12], &[0, 9]), ComplaintCause::Shared);
        assert_eq!(cause(&[9], &[9], &[9]), ComplaintCause::Shared);
        assert_eq!(cause(&[9], &[], &[]), ComplaintCause::Shared);
    }

    #[test]
    fn a_slight_finding_is_no_suffering_and_the_common_place_is_named() {
        let with = |relation, last: u8, loss_ppm| {
            let mut witness = witness(relation, 0);
            let address = |last| [198, 18, 64, last].into();
            let place =
                Place::Link { from: address(last), to: address(last + 1), silent_between: 0 };
            let finding = Finding {
                cause: Cause::Loss,
                place,
                confidence_ppm: 950_000,
                loss_ppm,
                added_delay_us: Micros::ZERO,
                explanations: Vec::new(),
            };
            witness.assessment.as_mut().unwrap().finding = Some(finding);
            witness
        };
        let witnesses = [
            with(Relation::Own, 3, 200_000),
            with(Relation::SameSite, 7, 10_000),
            with(Relation::SameService, 3, 150_000),
            with(Relation::SameService, 5, 90_000),
        ];
        let verdict = verdict("Eskerry", "Seat Booking", &witnesses, &OwnerMap::default());
        assert_eq!(verdict.cause, ComplaintCause::Service, "{:?}", verdict.sentences);
        let last = verdict.sentences.last().unwrap();
        let words = "2 of 3 suffering paths show loss that begins on the link 198.18.64.3";
        assert!(last.starts_with(words), "{last}");
    }

    #[test]
    fn each_group_is_counted_in_words() {
        let witnesses = [witness(Relation::Own, 9), witness(Relation::SameSite, 0)];
        let verdict = verdict("Eskerry", "Seat Booking", &witnesses, &OwnerMap::default());
        assert_eq!(verdict.sentences[1], "The one path complained of suffered.");
        assert!(verdict.sentences[2].contains("from Eskerry to other services was clean"));
        assert!(verdict.sentences[3].starts_with("Nothing was measured from other sites"));
    }

    #[test]
    fn a_path_without_a_word_is_no_witness() {
        let silent = Witness { assessment: None, ..witness(Relation::Own, 0) };
        let verdict = verdict("Eskerry", "Seat Booking", &[silent], &OwnerMap::default());
        assert_eq!(verdict.cause, ComplaintCause::NotMeasured);
    }
}
