//! Rules of alarms: limits held over, severity by impact, and quiet hours, for the paths that they select.
//!
//! Rules are in order. The first rule that selects a path and has a value decides that value; what no rule
//! has is as configured.

use crate::alarm::Severity;
use crate::hours::Hours;
use crate::unit::Ratio;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Rules at most.
pub const MOST_RULES: usize = 200;
/// Names in one list of a rule at most, and steps of its severity.
const MOST_NAMES: usize = 200;
/// Characters of a name at most.
const LONGEST_NAME: usize = 60;

/// Limits held over. What is absent is as configured, or as a later rule has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct RuleLimits {
    /// Carried loss from which an alarm is due, 0.001 to 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loss_ratio: Option<Ratio>,
    /// Added delay from which an alarm is due, in milliseconds, 1 to 60,000.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub added_delay_ms: Option<u32>,
    /// Confidence that a finding needs, 0.5 to 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub confidence: Option<Ratio>,
    /// Windows (of ten seconds) in a row over the limit before an alarm is raised, 1 to 360.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hold_windows: Option<u32>,
    /// Windows in a row without it before the alarm clears, 1 to 360.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clear_windows: Option<u32>,
}

/// A severity that alarms have from some impact. Each count that is given must be reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ImpactStep {
    /// The severity, or a higher one.
    pub severity: Severity,
    /// Sites that see it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sites: Option<u32>,
    /// Services that it touches.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub services: Option<u32>,
    /// Paths that show it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paths: Option<u32>,
}

/// What an alarm touches, of what a rule selects.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Impact {
    /// Sites.
    pub sites: usize,
    /// Services.
    pub services: usize,
    /// Paths.
    pub paths: usize,
}

impl ImpactStep {
    fn holds(&self, impact: Impact) -> bool {
        let reached = |least: Option<u32>, count: usize| {
            least.is_none_or(|least| usize::try_from(least).is_ok_and(|least| count >= least))
        };
        reached(self.sites, impact.sites)
            && reached(self.services, impact.services)
            && reached(self.paths, impact.paths)
    }
}

/// Severity by impact.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct RuleSeverity {
    /// Alarms have at least the severity of each step that holds.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub least: Vec<ImpactStep>,
    /// Alarms have at most this severity.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most: Option<Severity>,
}

impl RuleSeverity {
    fn is_empty(&self) -> bool {
        self.least.is_empty() && self.most.is_none()
    }

    /// The severity of an alarm with this impact that has `severity` by its figures.
    pub fn of(&self, severity: Severity, impact: Impact) -> Severity {
        let steps = self.least.iter().filter(|step| step.holds(impact));
        // The highest severity is the least value.
        let risen = steps.map(|step| step.severity).fold(severity, Severity::min);
        self.most.map_or(risen, |most| risen.max(most))
    }
}

/// Quiet hours: alarms that are raised within them are shelved until their end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Quiet {
    /// The hours.
    pub hours: Hours,
    /// Only alarms of at most this severity.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<Severity>,
}

/// A rule, for what meets each of its conditions. An empty list is no condition.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Rule {
    /// Name, unique.
    pub name: String,
    /// The path begins at one of these sites.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sites: Vec<String>,
    /// Its target is part of one of these services.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub services: Vec<String>,
    /// Its site or service has one of these tags.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// An owner at fault has one of these AS numbers.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub owners: Vec<u32>,
    /// Limits held over.
    #[serde(skip_serializing_if = "is_default")]
    pub limits: RuleLimits,
    /// Severity by impact.
    #[serde(skip_serializing_if = "RuleSeverity::is_empty")]
    pub severity: RuleSeverity,
    /// Quiet hours.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quiet: Option<Quiet>,
}

fn is_default(limits: &RuleLimits) -> bool {
    *limits == RuleLimits::default()
}

/// What conditions are compared with.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// Site.
    pub site: Option<&'a str>,
    /// Service.
    pub service: Option<&'a str>,
    /// Tags of the site.
    pub site_tags: &'a [String],
    /// Tags of the service.
    pub service_tags: &'a [String],
    /// AS numbers of the owners at fault.
    pub owners: &'a [u32],
}

impl Rule {
    /// True where each condition holds.
    pub fn selects(&self, subject: Subject<'_>) -> bool {
        let named = |wanted: &[String], present: Option<&str>| {
            wanted.is_empty() || present.is_some_and(|it| wanted.iter().any(|name| name == it))
        };
        let tagged = |tags: &[String]| self.tags.iter().any(|tag| tags.contains(tag));
        named(&self.sites, subject.site)
            && named(&self.services, subject.service)
            && (self.tags.is_empty() || tagged(subject.site_tags) || tagged(subject.service_tags))
            && (self.owners.is_empty() || self.owners.iter().any(|it| subject.owners.contains(it)))
    }

    /// True where it changes the severity of alarms.
    pub fn has_severity(&self) -> bool {
        !self.severity.is_empty()
    }

    fn check(&self) -> Result<(), String> {
        let length = self.name.trim().chars().count();
        if !(1..=LONGEST_NAME).contains(&length) || self.name.chars().any(char::is_control) {
            return Err(format!("name: 1 to {LONGEST_NAME} visible characters are needed"));
        }
        let lists = [
            ("sites", self.sites.len()),
            ("services", self.services.len()),
            ("tags", self.tags.len()),
            ("owners", self.owners.len()),
            ("severity.least", self.severity.least.len()),
        ];
        if let Some((field, _)) = lists.into_iter().find(|(_, count)| *count > MOST_NAMES) {
            return Err(format!("{field}: {MOST_NAMES} at most"));
        }
        let RuleLimits { loss_ratio, added_delay_ms, confidence, hold_windows, clear_windows } =
            self.limits;
        let ppm = |ratio: Option<Ratio>| ratio.map(Ratio::as_ppm);
        for (field, value, least, most, range) in [
            ("loss_ratio", ppm(loss_ratio), 1_000, 1_000_000, "0.001 to 1"),
            ("added_delay_ms", added_delay_ms, 1, 60_000, "1 to 60000"),
            ("confidence", ppm(confidence), 500_000, 1_000_000, "0.5 to 1"),
            ("hold_windows", hold_windows, 1, 360, "1 to 360"),
            ("clear_windows", clear_windows, 1, 360, "1 to 360"),
        ] {
            if value.is_some_and(|value| !(least..=most).contains(&value)) {
                return Err(format!("limits.{field}: a value from {range} is needed"));
            }
        }
        if let Some(quiet) = &self.quiet {
            quiet.hours.check().map_err(|reason| format!("quiet.hours.{reason}"))?;
        }
        if is_default(&self.limits) && !self.has_severity() && self.quiet.is_none() {
            return Err("it has no limits, no severity and no quiet hours".to_owned());
        }
        Ok(())
    }
}

/// Refuses rules that cannot be used, with the place and the reason; rules count from 1.
///
/// # Errors
/// The first thing wrong.
pub fn check(rules: &[Rule]) -> Result<(), String> {
    if rules.len() > MOST_RULES {
        return Err(format!("rules: {MOST_RULES} at most"));
    }
    let mut names = BTreeSet::new();
    for (index, rule) in rules.iter().enumerate() {
        let number = index + 1;
        let name = rule.name.trim();
        rule.check().map_err(|reason| format!("rule {number} {name:?}: {reason}"))?;
        if !names.insert(name) {
            return Err(format!("rule {number} {name:?}: name: another rule has it"));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn subject<'a>(tags: &'a [String], owners: &'a [u32]) -> Subject<'a> {
        Subject {
            site: Some("Eskerry"),
            service: Some("Bridge Voice"),
            site_tags: tags,
            service_tags: &[],
            owners,
        }
    }

    fn names(names: &[&str]) -> Vec<String> {
        names.iter().map(|&name| name.to_owned()).collect()
    }

    #[test]
    fn a_rule_selects_what_meets_each_of_its_conditions() {
        let (harbour, any) = (names(&["harbour"]), Rule::default);
        let cases = [
            (any(), true),
            (Rule { sites: names(&["Dunverra", "Eskerry"]), ..any() }, true),
            (Rule { sites: names(&["Dunverra"]), ..any() }, false),
            (Rule { services: names(&["Bridge Voice"]), tags: names(&["north"]), ..any() }, false),
            (Rule { tags: harbour.clone(), owners: vec![64_500], ..any() }, true),
            (Rule { owners: vec![64_501], ..any() }, false),
        ];
        for (rule, expected) in cases {
            assert_eq!(rule.selects(subject(&harbour, &[64_500])), expected, "{rule:?}");
        }
        let event = Subject { service: None, ..subject(&[], &[]) };
        assert!(!Rule { services: names(&["Bridge Voice"]), ..any() }.selects(event));
        assert!(Rule { sites: names(&["Eskerry"]), ..any() }.selects(event));
    }

    #[test]
    fn the_highest_step_that_holds_raises_the_severity_up_to_the_most() {
        use Severity::{Critical, Major, Minor};
        let step = |severity, sites, paths| ImpactStep { severity, sites, services: None, paths };
        let least = vec![step(Major, None, None), step(Critical, Some(3), Some(4))];
        let severity = RuleSeverity { least, most: None };
        let impact = |sites, paths| Impact { sites, services: 1, paths };
        assert_eq!(severity.of(Minor, impact(1, 1)), Major);
        assert_eq!(severity.of(Minor, impact(3, 3)), Major, "each count must be reached");
        assert_eq!(severity.of(Minor, impact(3, 4)), Critical);
        assert_eq!(severity.of(Critical, impact(1, 1)), Critical);
        let capped = RuleSeverity { most: Some(Minor), ..severity };
        assert_eq!(capped.of(Critical, impact(9, 9)), Minor);
    }

    #[test]
    fn rules_that_cannot_be_used_are_refused_with_their_place() {
        let read = |text: &str| serde_json::from_str::<Vec<Rule>>(text).unwrap();
        let good = read(
            r#"[{ "name": "Voice", "services": ["Bridge Voice"],
                "limits": { "loss_ratio": 0.005, "hold_windows": 6 } },
                { "name": "Night", "quiet": { "most": "minor", "hours":
                { "from": "22:00", "to": "06:00", "zone": "Europe/London" } } }]"#,
        );
        assert_eq!(check(&good), Ok(()));
        assert_eq!(good[0].limits.loss_ratio, Some(Ratio::from_ppm(5_000)));
        let written = serde_json::to_string(&good).unwrap();
        assert_eq!(read(&written), good);
        for (text, place) in [
            (r#"[{ "name": "A" }]"#, r#"rule 1 "A": it has no"#),
            (r#"[{ "name": " ", "limits": { "hold_windows": 6 } }]"#, r#"rule 1 "": name"#),
            (r#"[{ "name": "A", "limits": { "loss_ratio": 0.0001 } }]"#, "limits.loss_ratio"),
            (r#"[{ "name": "A", "limits": { "hold_windows": 0 } }]"#, "limits.hold_windows"),
            (
                r#"[{ "name": "A", "quiet": { "hours": { "from": "8", "to": "9", "zone": "UTC" } } }]"#,
                "quiet.hours.from",
            ),
        ] {
            let reason = check(&read(text)).unwrap_err();
            assert!(reason.contains(place), "{reason}");
        }
        let twice = [good[0].clone(), good[0].clone()];
        assert!(check(&twice).unwrap_err().contains("rule 2"));
        for odd in [r#"[{ "nmae": "A" }]"#, r#"[{ "limits": { "loss_ratio": 2 } }]"#] {
            assert!(serde_json::from_str::<Vec<Rule>>(odd).is_err(), "{odd}");
        }
    }
}
