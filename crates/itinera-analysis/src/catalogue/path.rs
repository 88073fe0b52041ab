//! Words of the state of a path.

use super::Words;
use super::text::count;
use itinera_model::message::PathCounts;

pub(super) fn clean(counts: &PathCounts) -> Words {
    let PathCounts { sent, answered, span_s } = counts;
    Words::new(
        format!("No fault: {answered} of {sent} probes answered"),
        None,
        vec![format!(
            "No loss or added delay begins on this path. The target answered {answered} of {sent} \
             probes in the last {span_s} s."
        )],
    )
}

pub(super) fn no_hop_answers(counts: &PathCounts) -> Words {
    let PathCounts { sent, span_s, .. } = counts;
    Words::new(
        format!("No hop answers ({}, {span_s} s)", count(*sent, "probe")),
        Some("Check the agent's own link first, then filters at the site.".to_owned()),
        vec!["Either the first link is down or all probes are filtered.".to_owned()],
    )
}

pub(super) fn target_silent(counts: &PathCounts) -> Words {
    let PathCounts { sent, span_s, .. } = counts;
    Words::new(
        format!("Target does not answer ({}, {span_s} s)", count(*sent, "probe")),
        None,
        vec![
            "No loss or added delay begins before the target. It is down, or it filters these \
             probes. Try another probe method."
                .to_owned(),
        ],
    )
}

pub(super) fn not_measured() -> Words {
    let detail = vec!["No round of this path has arrived yet.".to_owned()];
    Words::new("Not measured yet".to_owned(), None, detail)
}

/// Hops in a list, with the verb that follows in the singular or the plural.
fn subject(hops: &[u8], one: &str, many: &str) -> String {
    let listed: Vec<String> = hops.iter().map(ToString::to_string).collect();
    match hops {
        [_] => format!("Hop {} {one}", listed.join(", ")),
        _ => format!("Hops {} {many}", listed.join(", ")),
    }
}

pub(super) fn rate_limited(hops: &[u8]) -> Words {
    let subject = subject(hops, "rate-limits its own answers", "rate-limit their own answers");
    Words::new(
        subject.clone(),
        None,
        vec![format!("{subject}; later hops show no such loss, so traffic is not affected.")],
    )
}

pub(super) fn silent(hops: &[u8]) -> Words {
    let subject = subject(hops, "never answers", "never answer");
    Words::new(subject.clone(), None, vec![format!("{subject}; traffic passes.")])
}
