//! A finished diagnosis as text that can be pasted into a mail as it is: no escapes, no tables, lines
//! that fit.

use crate::catalogue;
use itinera_model::diagnosis::{Diagnosis, Observations, StepResult};
use itinera_model::owner::OwnerMap;
use itinera_model::text::plain;
use time::format_description::well_known::Rfc3339;

/// Columns of a line.
const WIDTH: usize = 100;
/// Columns of a step's name, and of what was found.
const NAME: usize = 17;
const FOUND: usize = 10;

/// Words wrapped behind a beginning; lines that follow stand under the words.
fn wrapped(head: &str, words: &str, into: &mut String) {
    let indent = " ".repeat(head.chars().count());
    let mut line = head.to_owned();
    let mut empty = true;
    for word in words.split_whitespace() {
        if !empty && line.chars().count() + 1 + word.chars().count() > WIDTH {
            into.push_str(line.trim_end());
            into.push('\n');
            line = indent.clone();
            empty = true;
        }
        if !empty {
            line.push(' ');
        }
        line.push_str(word);
        empty = false;
    }
    into.push_str(line.trim_end());
    into.push('\n');
}

/// The diagnosis as text, with the owners of a map.
pub fn text(diagnosis: &Diagnosis, observed: &Observations, map: &OwnerMap) -> String {
    let began = observed.began.date_time();
    let began = began.and_then(|at| at.replace_nanosecond(0).ok());
    let began = began.and_then(|at| at.format(&Rfc3339).ok()).unwrap_or_default();
    let host =
        observed.before.as_ref().map_or("this machine", |host_facts| host_facts.host_name.as_str());
    let at = match (&observed.name, observed.address) {
        (Some(_), Some(address)) => format!(" ({address})"),
        _ => String::new(),
    };
    let took = observed.took_us.as_millis_f64() / 1e3;
    let mut said = String::new();
    let head = format!("Diagnosis from {host} to {}{at}", observed.target);
    wrapped("", &plain(&head), &mut said);
    said.push_str(&format!("{began}, took {took:.0} s\n"));
    said.push('\n');
    for step in &diagnosis.steps {
        let mark = match step.found {
            StepResult::Clean => "ok",
            StepResult::Noted => "note",
            StepResult::Broken => "BROKEN",
            StepResult::Unknown => "unknown",
        };
        let head = format!("{:<NAME$}{mark:<FOUND$}", step.kind.to_string());
        wrapped(&head, &plain(&catalogue::step(&step.message, map)), &mut said);
    }
    said.push('\n');
    let words = catalogue::conclusion(&diagnosis.conclusion, &diagnosis.steps, map);
    for line in words.sentences() {
        wrapped("", &plain(&line), &mut said);
    }
    said
}
