//! A report as text.

use super::report::{HopReport, Member, Report, SizeView};
use crate::client::show::{ABSENT, delay_words, means, ms, or_absent, per_cent};
use crate::exit::Failure;
use crate::output::{Output, plain};
use itinera_model::round::StampSource;
use itinera_service::api::MessageView;

const COLUMNS: [&str; 8] =
    ["hop", "owner", "address", "got here", "answered", "delay (quartiles)", "verdict", "notes"];

/// What it was and how it was measured, in a line.
pub(super) fn heading(report: &Report) -> String {
    let target = report.target.as_ref();
    let target = target.map_or_else(String::new, |name| format!("{name}, "));
    let port = report.port.map_or_else(String::new, |port| format!(" port {port}"));
    let dscp = if report.dscp > 0 { format!(", DSCP {}", report.dscp) } else { String::new() };
    let stamps = match report.stamps {
        Some(StampSource::Kernel) => ", stamped by the kernel",
        Some(StampSource::Program | StampSource::Virtual) => ", stamped by the program",
        None => "",
    };
    plain(&format!(
        "{} to {target}{} by {}{port}, {} bytes{dscp}; {} {}{stamps}",
        report.source.as_deref().unwrap_or(ABSENT),
        report.address,
        report.method,
        report.size_bytes,
        report.rounds,
        if report.rounds == 1 { "round" } else { "rounds" },
    ))
}

pub(super) fn all(output: &Output, report: &Report) -> Result<(), Failure> {
    output.line(&heading(report))?;
    output.line("")?;
    for member in &report.members {
        let several = report.members.len() > 1;
        let flow = if several { format!("Flow {}: ", member.source_port) } else { String::new() };
        let mut messages = member.messages.iter();
        if let Some(first) = messages.next() {
            output.sentence(&format!("{flow}{}", first.headline()), "")?;
            first.rest().try_for_each(|line| output.sentence(line, "  "))?;
        }
        let further = messages.flat_map(MessageView::rest);
        further.into_iter().try_for_each(|line| output.sentence(&format!("{flow}{line}"), ""))?;
    }
    report.notes.iter().try_for_each(|note| output.sentence(&note.text, ""))?;
    for member in &report.members {
        output.line("")?;
        if report.members.len() > 1 {
            output.line(&flow_heading(member))?;
        }
        let (columns, rows) = table(member, report.dscp);
        output.table(columns, rows)?;
    }
    if !report.sizes.is_empty() {
        output.line("")?;
        output.table(
            &["bytes", "answered", "fastest", "median"],
            report.sizes.iter().map(size_row).collect(),
        )?;
    }
    Ok(())
}

fn flow_heading(member: &Member) -> String {
    format!("Flow {}, {} rounds", member.source_port, member.rounds)
}

/// The tables alone, for a terminal of this width.
pub(super) fn tables(report: &Report, width: u16) -> String {
    let mut text = String::new();
    for member in &report.members {
        if report.members.len() > 1 {
            text += &format!("{}\n", flow_heading(member));
        }
        let (columns, rows) = table(member, report.dscp);
        text += &crate::output::table_text(columns, rows, Some(width));
        text.push('\n');
    }
    text
}

/// Columns and rows; the last column only when it has content.
fn table(member: &Member, sent_dscp: u8) -> (&'static [&'static str], Vec<Vec<String>>) {
    let row = |hop: &HopReport| hop_row(hop, member.hops.len(), sent_dscp);
    let mut rows: Vec<Vec<String>> = member.hops.iter().map(row).collect();
    if rows.iter().all(|row| row.last().is_none_or(String::is_empty)) {
        rows.iter_mut().for_each(|row| drop(row.pop()));
        return (&COLUMNS[..COLUMNS.len() - 1], rows);
    }
    (&COLUMNS, rows)
}

fn hop_row(hop: &HopReport, last: usize, sent_dscp: u8) -> Vec<String> {
    let owner = match &hop.owner {
        Some(owner) => owner.clone(),
        None if hop.private => "(private)".to_owned(),
        None => ABSENT.to_owned(),
    };
    let half = hop.quarter_us.zip(hop.three_quarters_us);
    vec![
        hop.hop.to_string(),
        owner,
        or_absent(hop.address.clone(), |address| address),
        or_absent(hop.got_here_ratio, per_cent),
        format!("{} of {}", hop.answered, hop.sent),
        or_absent(hop.median_us, |us| delay_words(us, half)),
        means(&hop.verdict).to_owned(),
        hop_notes(hop, usize::from(hop.hop) == last, sent_dscp).join(", "),
    ]
}

/// Further content of its answers.
fn hop_notes(hop: &HopReport, is_last: bool, sent_dscp: u8) -> Vec<String> {
    let mut said = Vec::new();
    if let Some(dscp) = hop.dscp_here.filter(|dscp| *dscp != sent_dscp) {
        said.push(format!("DSCP {dscp}"));
    }
    if !hop.labels.is_empty() {
        let labels: Vec<String> = hop.labels.iter().map(ToString::to_string).collect();
        said.push(format!("label {}", labels.join("/")));
    }
    if hop.hidden_before > 0 {
        said.push(format!("{} hidden before it", hop.hidden_before));
    }
    if let Some(interface) = &hop.interface {
        said.push(format!("in by {}", plain(interface)));
    }
    if let Some(back) = hop.hops_back.filter(|back| *back > 0) {
        let forward = hop.hop - u8::from(!is_last);
        if back.abs_diff(forward) > 1 {
            said.push(format!("{back} hops back"));
        }
    }
    for (count, word) in [
        (hop.late, "late"),
        (hop.duplicate, "twice"),
        (hop.reordered, "out of order"),
        (hop.ambiguous, "ambiguous"),
        (hop.elsewhere, "from elsewhere"),
    ] {
        if count > 0 {
            said.push(format!("{count} {word}"));
        }
    }
    said.extend(hop.refusals.iter().map(|refusal| format!("{} refused", refusal.count)));
    said
}

fn size_row(size: &SizeView) -> Vec<String> {
    vec![
        size.size_bytes.to_string(),
        format!("{} of {}", size.answered, size.sent),
        or_absent(size.fastest_us, ms),
        or_absent(size.median_us, ms),
    ]
}
