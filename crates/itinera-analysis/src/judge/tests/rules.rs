//! Rules of the inventory: limits of alarms, and severities of events.

use super::*;
use crate::rules::{RuledPath, Rules};
use itinera_model::alarm::Severity;
use itinera_model::event::EventKind;
use itinera_model::rule::{Rule, RuleLimits, RuleSeverity};

fn agent() -> AgentId {
    AgentId::from_uuid(Uuid::from_u128(77))
}

/// An inventory with one rule for Eskerry, where the path and the agent are.
fn inventory(rule: Rule) -> Inventory {
    let ruled = RuledPath { site: "Eskerry".to_owned(), service: "Bridge Voice".to_owned() };
    let rule = Rule { name: "Eskerry".into(), sites: vec!["Eskerry".into()], ..rule };
    let paths = BTreeMap::from([(observation(0, &[]).path, ruled)]);
    Inventory {
        rules: Rules { rules: vec![rule], paths, ..Rules::default() },
        sites: BTreeMap::from([(agent(), "Eskerry".to_owned())]),
        ..Inventory::default()
    }
}

fn ruled_judge(rule: Rule) -> Judge {
    let mut judge = Judge::default();
    let input = JudgeInput::Inventory(Box::new(inventory(rule)), Arc::default());
    judge.step(input, WallTime::from_unix_seconds(START_S));
    judge
}

#[test]
fn limits_of_rules_hold_before_and_after_a_restart_and_for_alarms_that_are_made_again() {
    let limits = RuleLimits { hold_windows: Some(20), ..RuleLimits::default() };
    let mut judge = ruled_judge(Rule { limits, ..Rule::default() });
    live(&mut judge, 0..40, 0);
    assert_eq!(alarms(&live(&mut judge, 40..50, 3)), "", "as configured it is raised by now");
    let checkpoint = stored(&[judge.checkpoint()]);
    assert_eq!(alarms(&live(&mut restored(&checkpoint), 50..58, 3)), "");
    assert_eq!(alarms(&live(&mut restored(&checkpoint), 50..64, 3)), "r");
    let mut foreign = checkpoint;
    let state = foreign.stages.iter_mut().find(|it| it.stage == Stage::Alarms.name()).unwrap();
    state.version += 1;
    assert_eq!(alarms(&live(&mut restored(&foreign), 50..58, 3)), "");
}

#[test]
fn an_event_has_the_severity_of_the_rule_for_its_site() {
    let severity = RuleSeverity { least: Vec::new(), most: Some(Severity::Minor) };
    let mut judge = ruled_judge(Rule { severity, ..Rule::default() });
    let report = AgentReport { agent: Some(agent()), ..AgentReport::default() };
    judge.step(JudgeInput::Report(report), WallTime::from_unix_seconds(START_S + 1));
    let began = wait(&mut judge, 2..1_000).into_iter().find_map(|effect| match effect {
        Effect::Event(EventEffect::Began(event)) => Some(event),
        _ => None,
    });
    let event = began.unwrap();
    assert_eq!((event.key.kind, event.severity), (EventKind::AgentSilent, Some(Severity::Minor)));
}
