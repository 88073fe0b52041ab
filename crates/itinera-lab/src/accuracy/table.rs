//! Scores as a table.

use super::report::{Group, Interval, Part, Report, Scores};
use std::fmt::Write;

/// How a figure is written.
#[derive(Debug, Clone, Copy)]
enum Form {
    /// Share: .83.
    Share,
    /// A number with two digits behind the point.
    Number,
    /// A rate.
    Rate,
}

/// A report in words and columns of text.
pub fn table(report: &Report) -> String {
    let mut text = String::new();
    for part in &report.parts {
        one_part(&mut text, part);
    }
    text
}

fn add(text: &mut String, more: std::fmt::Arguments<'_>) {
    // Writing to a string cannot fail.
    let _always = text.write_fmt(more);
}

fn one_part(text: &mut String, part: &Part) {
    add(
        text,
        format_args!(
            "Setup {}, {} worlds of the family {}: {} cases, {} of them undetectable; {:.0} path-days \
         without a fault.\n{:.0} % of the directed links in use share a class with another link, \
         {:.0} % cannot be told from their own reverse.\n\n",
            part.setup,
            part.seeds.len(),
            part.family,
            part.cases,
            part.undetectable,
            part.path_days,
            part.blind * 100.0,
            part.blind_reverse * 100.0,
        ),
    );
    heading(text, "single links, 2 to 20 % or 8 to 60 ms", &part.scores);
    type Column = (&'static str, fn(&Scores) -> Interval, Form);
    let rows: [Column; 18] = [
        ("link", |s| s.link, Form::Share),
        ("the most that any claim could get", |s| s.ceiling, Form::Share),
        ("within one hop", |s| s.near, Form::Share),
        ("owner", |s| s.owner, Form::Share),
        ("owner on either side", |s| s.either_side, Form::Share),
        ("direction, given the link", |s| s.direction, Form::Share),
        ("links in the set", |s| s.set_links, Form::Number),
        ("confidence .9 or more", |s| s.sure, Form::Share),
        ("of these right", |s| s.sure_right, Form::Share),
        ("calibration error, link", |s| s.calibration_link, Form::Share),
        ("calibration error, owner", |s| s.calibration_owner, Form::Share),
        ("log score", |s| s.log_score, Form::Number),
        ("phantoms per 1,000 path-days", |s| s.phantoms, Form::Rate),
        ("phantoms, confidence .9 or more", |s| s.phantoms_sure, Form::Rate),
        ("phantoms, confidence .99 or more", |s| s.phantoms_surest, Form::Rate),
        ("noticed rightly, of what can be", |s| s.noticed, Form::Share),
        ("mean delay to the best", |s| s.delay_ratio, Form::Number),
        (
            "cases",
            |s| Interval { value: Some(s.link.cases as f64), ..Interval::default() },
            Form::Rate,
        ),
    ];
    for (label, of, form) in rows {
        let figures = part.scores.iter().map(|scores| written(of(scores), form));
        row(text, label, figures);
    }
    groups(text, part);
    text.push('\n');
    for paired in part.paired.iter().filter(|paired| paired.link.cases > 0) {
        let link = written(paired.link, Form::Share);
        add(
            text,
            format_args!(
                "{} against {} in the same {} cases: link {link} more\n",
                paired.better, paired.than, paired.link.cases
            ),
        );
    }
    text.push('\n');
}

fn groups(text: &mut String, part: &Part) {
    type Groups = (&'static str, fn(&Scores) -> &Vec<Group>);
    let groups: [Groups; 4] = [
        ("by kind, detectable: link", |s| &s.by_kind),
        ("by size: link", |s| &s.by_size),
        ("by paths that cross it: link", |s| &s.by_crossings),
        ("by links that look alike: link", |s| &s.by_class),
    ];
    for (label, of) in groups {
        let all = part.scores.first().map(of).into_iter().flatten();
        let count = all.clone().count();
        if all.map(|group| group.link.cases).sum::<usize>() == 0 {
            continue;
        }
        text.push('\n');
        let names = part.scores.iter().map(|scores| scores.candidate.clone());
        row(text, label, names.chain(["any claim, at most".to_owned()]));
        for index in 0..count {
            let group = &of(&part.scores[0])[index];
            if group.link.cases == 0 {
                continue;
            }
            let label = format!("{} ({})", group.name, group.link.cases);
            let figures = part.scores.iter().map(|s| written(of(s)[index].link, Form::Share));
            row(text, &label, figures.chain([written(group.ceiling, Form::Share)]));
        }
    }
}

fn heading(text: &mut String, label: &str, scores: &[Scores]) {
    row(text, label, scores.iter().map(|scores| scores.candidate.clone()));
}

fn row(text: &mut String, label: &str, figures: impl Iterator<Item = String>) {
    let mut line = format!("{label:<38}");
    for figure in figures {
        add(&mut line, format_args!("{figure:<27}"));
    }
    add(text, format_args!("{}\n", line.trim_end()));
}

/// A figure with its interval behind it; a dash where there is none.
fn written(interval: Interval, form: Form) -> String {
    let number = |value: f64| match form {
        Form::Share => format!("{value:.2}").replacen("0.", ".", 1),
        Form::Number => format!("{value:.2}"),
        Form::Rate if value >= 100.0 => format!("{value:.0}"),
        Form::Rate => format!("{value:.1}"),
    };
    match (interval.value, interval.low, interval.high) {
        (Some(value), Some(low), Some(high)) => {
            format!("{} ({} to {})", number(value), number(low), number(high))
        }
        (Some(value), ..) => format!("{value:.0}"),
        _ => "-".to_owned(),
    }
}
