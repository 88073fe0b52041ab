//! Rules of alarms with what they need to know of paths: sites, services and tags.

use crate::limits::Limits;
use crate::responsible::Responsible;
use itinera_model::alarm::{AppliedRules, Severity};
use itinera_model::finding::Place;
use itinera_model::id::PathId;
use itinera_model::owner::OwnerMap;
use itinera_model::rule::{Impact, Rule, Subject};
use itinera_model::unit::{Micros, Ratio, WallTime};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Where a path begins, and what it serves.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuledPath {
    /// Its site.
    pub site: String,
    /// The service that its target is part of.
    pub service: String,
}

/// Rules in order, and what they are compared with. Where there is no rule, nothing else is needed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Rules {
    /// The rules.
    pub rules: Vec<Rule>,
    /// All paths.
    pub paths: BTreeMap<PathId, RuledPath>,
    /// Tags by site.
    pub site_tags: BTreeMap<String, Vec<String>>,
    /// Tags by service.
    pub service_tags: BTreeMap<String, Vec<String>>,
}

/// What an alarm is about, as rules see it.
#[derive(Debug, Clone, Copy)]
pub enum Ruled<'a> {
    /// Paths.
    Paths(&'a [PathId]),
    /// Events of one cause.
    Events {
        /// Their sites.
        sites: &'a [&'a str],
        /// The services that they touch.
        services: &'a [&'a str],
    },
}

/// All names, or one that is absent where there are none.
fn or_none<'a>(names: &'a [&'a str]) -> impl Iterator<Item = Option<&'a str>> + Clone {
    names.iter().copied().map(Some).chain(names.is_empty().then_some(None))
}

/// Each site with each service.
fn pairs<'a>(
    sites: &'a [&'a str],
    services: &'a [&'a str],
) -> impl Iterator<Item = (Option<&'a str>, Option<&'a str>)> {
    or_none(sites).flat_map(move |site| or_none(services).map(move |service| (site, service)))
}

/// An alarm is quiet until a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QuietUntil {
    /// Name of the rule.
    pub rule: String,
    /// End of its hours.
    pub until: WallTime,
}

fn tags_of<'a>(tags: &'a BTreeMap<String, Vec<String>>, name: Option<&str>) -> &'a [String] {
    name.and_then(|name| tags.get(name)).map_or(&[], Vec::as_slice)
}

impl Rules {
    fn subject<'a>(
        &'a self,
        (site, service): (Option<&'a str>, Option<&'a str>),
        owners: &'a [u32],
    ) -> Subject<'a> {
        Subject {
            site,
            service,
            site_tags: tags_of(&self.site_tags, site),
            service_tags: tags_of(&self.service_tags, service),
            owners,
        }
    }

    /// A path that is not known meets no condition on its site, its service and their tags.
    fn of_path<'a>(&'a self, path: PathId, owners: &'a [u32]) -> Subject<'a> {
        let known = self.paths.get(&path);
        let ends = (known.map(|it| it.site.as_str()), known.map(|it| it.service.as_str()));
        self.subject(ends, owners)
    }

    /// The impact of an alarm of what a rule selects; absent where it selects nothing of it.
    fn impact(&self, rule: &Rule, of: Ruled<'_>, owners: &[u32]) -> Option<Impact> {
        let (mut sites, mut services, mut paths) = (BTreeSet::new(), BTreeSet::new(), 0);
        match of {
            Ruled::Paths(showing) => {
                for path in showing {
                    let subject = self.of_path(*path, owners);
                    if rule.selects(subject) {
                        paths += 1;
                        sites.extend(subject.site);
                        services.extend(subject.service);
                    }
                }
                (paths > 0).then_some(())?;
            }
            Ruled::Events { sites: at, services: of } => {
                let selected = pairs(at, of).filter(|it| rule.selects(self.subject(*it, owners)));
                let selected: Vec<_> = selected.collect();
                (!selected.is_empty()).then_some(())?;
                sites.extend(selected.iter().filter_map(|(site, _)| *site));
                services.extend(selected.iter().filter_map(|(_, service)| *service));
            }
        }
        Some(Impact { sites: sites.len(), services: services.len(), paths })
    }

    /// The severity of an alarm that has another by its figures, and the rule that decides it: the first that
    /// has severities and selects something of it.
    pub fn severity(
        &self,
        by_figures: Severity,
        of: Ruled<'_>,
        owners: &[u32],
    ) -> Option<(Severity, &str)> {
        let mut deciding = self.rules.iter().filter(|rule| rule.has_severity());
        deciding.find_map(|rule| {
            let impact = self.impact(rule, of, owners)?;
            Some((rule.severity.of(by_figures, impact), rule.name.as_str()))
        })
    }

    /// The quiet hours that an alarm was raised in: those of a rule that selects all of it.
    pub fn quiet(
        &self,
        (severity, raised_at): (Severity, WallTime),
        of: Ruled<'_>,
        owners: &[u32],
    ) -> Option<QuietUntil> {
        let selects_all = |rule: &Rule| match of {
            Ruled::Paths(paths) => {
                !paths.is_empty() && paths.iter().all(|it| rule.selects(self.of_path(*it, owners)))
            }
            Ruled::Events { sites, services } => {
                pairs(sites, services).all(|it| rule.selects(self.subject(it, owners)))
            }
        };
        self.rules.iter().find_map(|rule| {
            let quiet = rule.quiet.as_ref()?;
            // The highest severity is the least value.
            if quiet.most.is_some_and(|most| severity < most) || !selects_all(rule) {
                return None;
            }
            let until = quiet.hours.until(raised_at)?;
            Some(QuietUntil { rule: rule.name.clone(), until })
        })
    }

    /// True where a rule changes the severity of alarms.
    pub(crate) fn have_severity(&self) -> bool {
        self.rules.iter().any(Rule::has_severity)
    }
}

/// AS numbers of the owners at fault at a place.
pub fn owners_at(place: &Place, map: &OwnerMap) -> Vec<u32> {
    Responsible::of(place, map).owners().iter().map(|owner| owner.as_number).collect()
}

/// Limits of one path, by rules.
#[derive(Debug, Clone, Copy)]
pub(crate) struct PathLimits<'a> {
    pub(crate) limits: Limits,
    /// The first rule that has one of them.
    pub(crate) by: Option<&'a str>,
}

impl PathLimits<'_> {
    /// As an alarm keeps them.
    pub(crate) fn applied(&self) -> AppliedRules {
        AppliedRules {
            loss_ppm: self.limits.loss_ppm,
            added_delay_us: Micros::new(self.limits.added_delay_us),
            limits_by: self.by.map(str::to_owned),
            by_figures: None,
            severity_by: None,
        }
    }
}

/// What alarms are judged by: rules, and the owners of places.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ruling {
    pub(crate) rules: Arc<Rules>,
    pub(crate) owners: Arc<OwnerMap>,
}

impl Ruling {
    /// The limits of a path for a finding at a place: each by the first rule that selects the path and has it.
    pub(crate) fn limits(
        &self,
        configured: &Limits,
        path: PathId,
        place: &Place,
    ) -> PathLimits<'_> {
        if self.rules.rules.is_empty() {
            return PathLimits { limits: *configured, by: None };
        }
        let owners = self.owners_at(place);
        let subject = self.rules.of_path(path, &owners);
        self.limits_by(configured, |rule| rule.selects(subject))
    }

    /// The limits between two sites: each by the first rule that selects one of them and has it.
    pub(crate) fn limits_between(&self, configured: &Limits, sites: [&str; 2]) -> Limits {
        let subjects = sites.map(|site| self.rules.subject((Some(site), None), &[]));
        let selects = |rule: &Rule| subjects.iter().any(|it| rule.selects(*it));
        self.limits_by(configured, selects).limits
    }

    fn limits_by(&self, configured: &Limits, selects: impl Fn(&Rule) -> bool) -> PathLimits<'_> {
        let mut found = PathLimits { limits: *configured, by: None };
        let limits = &mut found.limits;
        // The first rule is applied last.
        for rule in self.rules.rules.iter().rev().filter(|rule| selects(rule)) {
            let of = rule.limits;
            let values = [
                (&mut limits.loss_ppm, of.loss_ratio.map(Ratio::as_ppm)),
                (&mut limits.added_delay_us, of.added_delay_ms.map(|ms| ms.saturating_mul(1_000))),
                (&mut limits.confidence_ppm, of.confidence.map(Ratio::as_ppm)),
                (&mut limits.hold_windows, of.hold_windows),
                (&mut limits.clear_windows, of.clear_windows),
            ];
            for (known, value) in values {
                if let Some(value) = value {
                    *known = value;
                    found.by = Some(&rule.name);
                }
            }
        }
        found
    }

    /// Owners at a place, where a rule asks for them.
    pub(crate) fn owners_at(&self, place: &Place) -> Vec<u32> {
        if self.rules.rules.iter().all(|rule| rule.owners.is_empty()) {
            return Vec::new();
        }
        owners_at(place, &self.owners)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::hours::Hours;
    use itinera_model::owner::{Owner, OwnerEntry};
    use itinera_model::rule::{ImpactStep, Quiet, RuleLimits, RuleSeverity};
    use uuid::Uuid;

    fn path(number: u128) -> PathId {
        PathId::from_uuid(Uuid::from_u128(number))
    }

    /// Paths 1 and 2 begin at Eskerry, path 3 at Dunverra; path 2 serves Crew Mail, the others Bridge Voice.
    fn rules(rules: Vec<Rule>) -> Rules {
        let ruled = |site: &str, service: &str| RuledPath {
            site: site.to_owned(),
            service: service.to_owned(),
        };
        Rules {
            rules,
            paths: BTreeMap::from([
                (path(1), ruled("Eskerry", "Bridge Voice")),
                (path(2), ruled("Eskerry", "Crew Mail")),
                (path(3), ruled("Dunverra", "Bridge Voice")),
            ]),
            site_tags: BTreeMap::from([("Dunverra".to_owned(), vec!["harbour".to_owned()])]),
            service_tags: BTreeMap::from([("Crew Mail".to_owned(), vec!["office".to_owned()])]),
        }
    }

    fn named(name: &str) -> Rule {
        Rule { name: name.to_owned(), ..Rule::default() }
    }

    fn place() -> Place {
        Place::Node { address: [198, 18, 3, 1].into() }
    }

    #[test]
    fn each_limit_is_that_of_the_first_rule_that_selects_the_path_and_has_it() {
        let voice = Rule {
            services: vec!["Bridge Voice".to_owned()],
            limits: RuleLimits { loss_ratio: Some(Ratio::from_ppm(5_000)), ..Default::default() },
            ..named("Voice")
        };
        let harbour = Rule {
            tags: vec!["harbour".to_owned()],
            limits: RuleLimits {
                loss_ratio: Some(Ratio::from_ppm(100_000)),
                hold_windows: Some(12),
                ..Default::default()
            },
            ..named("Harbour")
        };
        let northmere = Rule {
            owners: vec![64_500],
            limits: RuleLimits { added_delay_ms: Some(40), ..Default::default() },
            ..named("Northmere")
        };
        let owner = Owner { as_number: 64_500, name: String::new(), contact: String::new() };
        let prefix = "198.18.3.0/24".parse().unwrap();
        let ruling = Ruling {
            rules: Arc::new(rules(vec![voice, harbour, northmere])),
            owners: Arc::new(OwnerMap::new(vec![OwnerEntry { prefix, owner }])),
        };
        let limits = |number, place: Place| {
            let PathLimits { limits, by } = ruling.limits(&Limits::default(), path(number), &place);
            let by = by.unwrap_or("configured").to_owned();
            (limits.loss_ppm, limits.added_delay_us, limits.hold_windows, by)
        };
        let elsewhere = Place::Node { address: [198, 18, 9, 1].into() };
        assert_eq!(limits(1, elsewhere), (5_000, 15_000, 3, "Voice".to_owned()));
        assert_eq!(limits(2, elsewhere), (30_000, 15_000, 3, "configured".to_owned()));
        assert_eq!(limits(3, elsewhere), (5_000, 15_000, 12, "Voice".to_owned()));
        assert_eq!(limits(2, place()), (30_000, 40_000, 3, "Northmere".to_owned()));
        assert_eq!(limits(9, elsewhere), (30_000, 15_000, 3, "configured".to_owned()));
        let between = |from, to| {
            let limits = ruling.limits_between(&Limits::default(), [from, to]);
            (limits.loss_ppm, limits.hold_windows)
        };
        assert_eq!(between("Eskerry", "Dunverra"), (100_000, 12), "by the tag of one of the sites");
        assert_eq!(between("Eskerry", "Carrock Pier"), (30_000, 3));
    }

    #[test]
    fn severity_goes_by_the_impact_on_what_the_rule_selects() {
        let step = |severity, sites| ImpactStep { severity, sites, services: None, paths: None };
        let voice = Rule {
            services: vec!["Bridge Voice".to_owned()],
            severity: RuleSeverity {
                least: vec![step(Severity::Major, None), step(Severity::Critical, Some(2))],
                most: None,
            },
            ..named("Voice")
        };
        let rules = rules(vec![voice]);
        let severity = |numbers: &[u128]| {
            let paths: Vec<PathId> = numbers.iter().copied().map(path).collect();
            rules.severity(Severity::Minor, Ruled::Paths(&paths), &[]).map(|it| it.0)
        };
        assert_eq!(severity(&[2]), None, "no path of the service");
        assert_eq!(severity(&[1, 2]), Some(Severity::Major));
        assert_eq!(severity(&[1, 3]), Some(Severity::Critical));
        let of_events = |sites: &[&str], services: &[&str]| {
            let severity = rules.severity(Severity::Minor, Ruled::Events { sites, services }, &[]);
            severity.map(|it| it.0)
        };
        assert_eq!(of_events(&["Eskerry"], &["Bridge Voice"]), Some(Severity::Major));
        let both = of_events(&["Eskerry", "Dunverra"], &["Crew Mail", "Bridge Voice"]);
        assert_eq!(both, Some(Severity::Critical));
        assert_eq!(of_events(&["Eskerry"], &[]), None);
    }

    #[test]
    fn an_alarm_is_quiet_where_a_rule_selects_all_of_it_and_its_severity() {
        let hours = Hours {
            days: Vec::new(),
            from: "22:00".to_owned(),
            to: "06:00".to_owned(),
            zone: "UTC".to_owned(),
        };
        let night = Rule {
            sites: vec!["Eskerry".to_owned()],
            quiet: Some(Quiet { hours, most: Some(Severity::Major) }),
            ..named("Night")
        };
        let rules = rules(vec![night]);
        let (midnight, six) = (WallTime::default(), WallTime::from_unix_seconds(6 * 3_600));
        let quiet = |severity, numbers: &[u128], at| {
            let paths: Vec<PathId> = numbers.iter().copied().map(path).collect();
            rules.quiet((severity, at), Ruled::Paths(&paths), &[]).map(|it| it.until)
        };
        assert_eq!(quiet(Severity::Minor, &[1, 2], midnight), Some(six));
        assert_eq!(quiet(Severity::Critical, &[1, 2], midnight), None, "above the most");
        assert_eq!(quiet(Severity::Minor, &[1, 3], midnight), None, "another site sees it");
        assert_eq!(quiet(Severity::Minor, &[], midnight), None);
        assert_eq!(quiet(Severity::Minor, &[1], six), None, "after the hours");
        let of_events = |sites: &[&str]| {
            let of = Ruled::Events { sites, services: &["Crew Mail"] };
            rules.quiet((Severity::Minor, midnight), of, &[]).map(|it| it.until)
        };
        assert_eq!(of_events(&["Eskerry"]), Some(six));
        assert_eq!(of_events(&["Eskerry", "Dunverra"]), None, "another site sees it");
    }
}
