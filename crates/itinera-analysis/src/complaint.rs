//! What measurements say about a complaint: is it the network at all, and if so, where to look.
//!
//! The complaint's own paths are laid beside their neighbours: other services from the same
//! site, the same service from other sites. If every path of one site suffers, look at the
//! site; if every path to one service suffers, look at the target's end; if neither, look at
//! what they share.

use crate::sentence;
use itinera_model::finding::Assessment;
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
    /// The other site or service, for people.
    pub label: String,
    /// The worst that was assessed around the time; absent when nothing was measured.
    pub assessment: Option<Assessment>,
}

/// Where to look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
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
pub struct Verdict {
    /// Where to look.
    pub look: Look,
    /// The verdict, then its reasons.
    pub sentences: Vec<String>,
}

struct Counted {
    measured: usize,
    suffering: usize,
}

fn suffers(assessment: &Assessment) -> bool {
    // More than 3 % of the probes to the far end unanswered, or a finding.
    assessment.finding.is_some() || assessment.end_lost * 100 > assessment.end_sent * 3
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
            Self { measured, suffering } => {
                format!("{suffering} of {measured} paths {what} suffered.")
            }
        }
    }

    const fn all(&self) -> bool {
        self.measured > 0 && self.suffering == self.measured
    }
}

/// The verdict on a complaint from `site` about `service`.
pub fn verdict(site: &str, service: &str, witnesses: &[Witness], map: &OwnerMap) -> Verdict {
    let own = counted(witnesses, Relation::Own);
    let same_site = counted(witnesses, Relation::SameSite);
    let same_service = counted(witnesses, Relation::SameService);
    let look = match () {
        () if own.measured == 0 => Look::NotMeasured,
        () if own.suffering == 0 => Look::NotTheNetwork,
        () if same_site.all() && !same_service.all() => Look::Site,
        () if same_service.all() && !same_site.all() => Look::Service,
        () => Look::Shared,
    };
    let first = match look {
        Look::NotMeasured => {
            format!("Nothing was measured from {site} to {service} around then: no verdict.")
        }
        Look::NotTheNetwork => format!(
            "The network between {site} and {service} was clean around then: look at the \
             application, or at the user's own machine and its link."
        ),
        Look::Site => format!(
            "Everything from {site} suffered, and other sites reached {service}: look at the site \
             and its way in."
        ),
        Look::Service => format!(
            "Every site suffered with {service}, and {site} reached other services: look at the \
             target's end and what lies before it."
        ),
        Look::Shared => format!(
            "The network between {site} and {service} suffered: look where the suffering paths \
             come together."
        ),
    };
    let mut sentences = vec![first, own.words("complained of")];
    sentences.push(same_site.words(&format!("from {site} to other services")));
    sentences.push(same_service.words(&format!("from other sites to {service}")));
    let found = witnesses.iter().filter(|witness| witness.relation == Relation::Own);
    let found = found.filter_map(|witness| witness.assessment.as_ref()?.finding.as_ref());
    if let Some(best) = found.max_by_key(|finding| finding.confidence_ppm) {
        sentences.push(sentence::of_finding(best, map));
    }
    Verdict { look, sentences }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::PathId;
    use itinera_model::unit::WallTime;
    use uuid::Uuid;

    fn witness(relation: Relation, lost: u32) -> Witness {
        Witness {
            relation,
            label: String::new(),
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

    fn look(own: &[u32], site: &[u32], service: &[u32]) -> Look {
        let all =
            [(Relation::Own, own), (Relation::SameSite, site), (Relation::SameService, service)];
        let witnesses: Vec<Witness> = all
            .into_iter()
            .flat_map(|(relation, lost)| lost.iter().map(move |lost| witness(relation, *lost)))
            .collect();
        verdict("Eskerry", "Seat Booking", &witnesses, &OwnerMap::default()).look
    }

    #[test]
    fn the_neighbours_tell_where_to_look() {
        assert_eq!(look(&[], &[0], &[0]), Look::NotMeasured);
        assert_eq!(look(&[0, 1], &[9], &[9]), Look::NotTheNetwork);
        assert_eq!(look(&[9], &[9, 12], &[0, 9]), Look::Site);
        assert_eq!(look(&[9], &[0, 12], &[9, 9]), Look::Service);
        assert_eq!(look(&[9], &[0, 12], &[0, 9]), Look::Shared);
        assert_eq!(look(&[9], &[9], &[9]), Look::Shared);
        assert_eq!(look(&[9], &[], &[]), Look::Shared);
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
        assert_eq!(verdict.look, Look::NotMeasured);
    }
}
