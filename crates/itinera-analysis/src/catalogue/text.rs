//! Numbers and lists as text.

use super::Words;
use itinera_model::unit::{Micros, Ratio};
use std::fmt::Display;

/// A share in per cent: whole numbers from 10 %, one decimal below, "under 0.1 %" for less.
pub(super) fn per_cent(ratio: Ratio) -> String {
    format!("{} %", number(ratio))
}

fn number(ratio: Ratio) -> String {
    let per_cent = ratio.as_f64() * 100.0;
    match ratio.as_ppm() {
        0 => "0".to_owned(),
        1..500 => "under 0.1".to_owned(),
        500..99_500 => format!("{per_cent:.1}"),
        _ => format!("{per_cent:.0}"),
    }
}

/// An interval of shares in per cent.
pub(super) fn interval(low: Ratio, high: Ratio) -> String {
    format!("{}–{} %", number(low), number(high))
}

/// A delay in milliseconds, or in seconds from one second.
pub(super) fn delay(us: u32) -> String {
    if us >= 1_000_000 {
        format!("{:.1} s", f64::from(us) / 1e6)
    } else {
        Micros::new(us).to_string()
    }
}

/// Bytes per second.
pub(super) fn byte_rate(rate: u64) -> String {
    #[allow(clippy::cast_precision_loss, reason = "for people")]
    let rate_f = rate as f64;
    match rate {
        0..10_000 => format!("{:.1} kB/s", rate_f / 1e3),
        10_000..1_000_000 => format!("{} kB/s", rate / 1_000),
        _ => format!("{:.1} MB/s", rate_f / 1e6),
    }
}

/// Megabits per second.
pub(super) fn bit_rate(rate: u64) -> String {
    #[allow(clippy::cast_precision_loss, reason = "for people")]
    let rate = rate as f64;
    format!("{:.1} Mb/s", rate / 1e6)
}

/// A count with its noun.
pub(super) fn count(count: impl Into<u64>, one: &str) -> String {
    let count = count.into();
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

/// A length in bytes.
pub(super) fn byte_count(bytes: u16) -> String {
    count(bytes, "byte")
}

/// A share of so many with its counts: "4.0 % (12 of 300)".
pub(super) fn per_cent_counts(part: u32, whole: u32) -> String {
    let ratio = f64::from(part) / f64::from(whole.max(1));
    format!("{:.1} % ({part} of {whole})", ratio * 100.0)
}

/// Items with commas; "nothing" for none.
pub(super) fn listed<T: Display>(items: &[T]) -> String {
    let items: Vec<String> = items.iter().map(ToString::to_string).collect();
    if items.is_empty() { "nothing".to_owned() } else { items.join(", ") }
}

/// The text with its first letter as a capital.
pub(super) fn capitalised(text: &str) -> String {
    let mut rest = text.chars();
    rest.next().map_or_else(String::new, |first| first.to_uppercase().chain(rest).collect())
}

/// The text with at most so many characters; what is left out is shown by an ellipsis.
pub(super) fn clipped(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let kept: String = text.chars().take(most - 1).collect();
    format!("{}…", kept.trim_end())
}

/// Words that were recorded before messages had codes: the first sentence is the headline.
pub(super) fn of_recorded(words: &str) -> Words {
    let end = words
        .match_indices(". ")
        .find(|(at, _)| words[at + 2..].chars().next().is_some_and(char::is_uppercase));
    let headline = end.map_or(words, |(at, _)| &words[..at]).trim_end_matches('.');
    Words::new(headline.to_owned(), None, vec![words.to_owned()])
}
