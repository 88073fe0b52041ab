//! Scores as a table.

use super::cost::Cost;
use super::groups::Group;
use super::oracle::{LEARNED, SIZE_UNKNOWN};
use super::report::{Interval, Part, Report, Scores};
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
    costs(&mut text, &report.costs);
    text
}

/// What drawing and candidates cost on this machine.
fn costs(text: &mut String, costs: &[Cost]) {
    let Some(first) = costs.first() else { return };
    let label = format!("cost on this machine, {} paths", first.paths);
    let heads = ["us a round, one core", "times drawing it", "kB a path"].map(str::to_owned);
    row(text, &label, heads.into_iter());
    for cost in costs {
        let label = cost.candidate.as_deref().unwrap_or("(drawing)");
        let memory = cost.kb_per_path.map_or_else(|| "-".to_owned(), |kb| format!("{kb:.0}"));
        let us = format!("{:.1}", cost.us_per_round);
        row(text, label, [us, format!("{:.2}", cost.to_drawing), memory].into_iter());
    }
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
    let rows: [Column; 24] = [
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
        ("changes of place after that", |s| s.changes, Form::Number),
        ("of faults that end, cleared in 5 min", |s| s.cleared, Form::Share),
        ("seconds until cleared, mean", |s| s.clear_s, Form::Rate),
        ("extra rounds, of the usual ones", |s| s.extra_rounds, Form::Share),
        ("links said to be alike, that are", |s| s.alike_right, Form::Share),
        ("links that are alike, said", |s| s.alike_said, Form::Share),
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
    goals(text, part);
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

/// What a candidate must reach with the lower end of its interval, and what is wanted: shares of what the oracle gets
/// that learns.
const MUST: f64 = 0.95;
const GOAL: f64 = 0.98;

/// What is to be reached, beside the most that any claim could get.
fn goals(text: &mut String, part: &Part) {
    // Where the oracle that learns is not asked, the next one is held against.
    let of = |name| part.scores.iter().find(|it| it.candidate == name && it.link.cases > 0);
    let Some(oracle) = of(LEARNED).or_else(|| of(SIZE_UNKNOWN)) else { return };
    let figures: [(&str, Interval); 5] = [
        ("link", oracle.link),
        ("within one hop", oracle.near),
        ("owner", oracle.owner),
        ("owner on either side", oracle.either_side),
        ("direction, given the link", oracle.direction),
    ];
    if figures.iter().all(|(_, figure)| figure.value.is_none()) {
        return;
    }
    text.push('\n');
    let heads = ["must, lower end", "goal", "any claim, at most"].map(str::to_owned);
    row(text, &format!("to reach, by {}", oracle.candidate), heads.into_iter());
    for (label, figure) in figures {
        let share = |of: f64| figure.value.map_or_else(|| "-".to_owned(), |it| plain(it * of));
        let ceiling = match label {
            "link" => oracle.ceiling.value.map_or_else(|| "-".to_owned(), plain),
            _ => "-".to_owned(),
        };
        row(text, label, [share(MUST), share(GOAL), ceiling].into_iter());
    }
}

/// A share: .83.
fn plain(share: f64) -> String {
    format!("{share:.2}").replacen("0.", ".", 1)
}

fn groups(text: &mut String, part: &Part) {
    type Groups = (&'static str, fn(&Scores) -> &Vec<Group>);
    let groups: [Groups; 5] = [
        ("by kind, detectable: link", |s| &s.by_kind),
        ("by size: link", |s| &s.by_size),
        ("by paths that cross it: link", |s| &s.by_crossings),
        ("by links that look alike: link", |s| &s.by_class),
        ("by what is known before: link", |s| &s.by_history),
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
    let mut line = format!("{label:<42}");
    for figure in figures {
        add(&mut line, format_args!("{figure:<27}"));
    }
    add(text, format_args!("{}\n", line.trim_end()));
}

/// A figure with its interval behind it; a dash where there is none.
fn written(interval: Interval, form: Form) -> String {
    let number = |value: f64| match form {
        Form::Share => plain(value),
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
