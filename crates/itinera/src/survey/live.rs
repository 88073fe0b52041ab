//! What is shown while it is measured: on the terminal that standard error is, redrawn in place.

use super::record::Record;
use super::{report, show};
use crate::output::Output;
use console::Term;
use itinera_model::owner::OwnerMap;

/// The view of one survey.
pub(super) struct Live {
    term: Option<Term>,
    rounds: u64,
    lines: usize,
}

impl Live {
    /// Draws on a terminal only, and not for programs.
    pub(super) fn new(output: &Output, rounds: u64) -> Self {
        let term = Term::stderr();
        Self { term: (term.is_term() && !output.is_json()).then_some(term), rounds, lines: 0 }
    }

    /// One line instead of what stands there.
    pub(super) fn say(&mut self, text: &str) {
        self.replace(text);
    }

    /// What has been found so far.
    pub(super) fn draw(&mut self, record: &Record, map: &OwnerMap) {
        let Some(term) = &self.term else { return };
        let (height, width) = term.size();
        let report = report::of(record, map);
        let of = if self.rounds > 0 { format!(" of {}", self.rounds) } else { String::new() };
        let mut text = format!(
            "{} bytes, round {}{of}; Ctrl-C ends the survey and prints the results\n",
            record.by_size.last().map_or(0, |(size, _)| *size),
            record.by_size.last().map_or(0, |(_, rounds)| rounds.rounds.len()),
        );
        text += &show::tables(&report, width);
        // What does not fit cannot be taken back line by line.
        let lines: Vec<&str> = text.lines().take(usize::from(height).saturating_sub(2)).collect();
        let text = lines.join("\n");
        self.replace(&text);
    }

    fn replace(&mut self, text: &str) {
        let lines = self.lines;
        let Some(term) = &self.term else { return };
        // A terminal that is gone has no reader.
        let _gone = term.clear_last_lines(lines).and_then(|()| term.write_line(text));
        self.lines = text.lines().count();
    }

    /// Makes room for the result.
    pub(super) fn clear(&mut self) {
        if let Some(term) = &self.term {
            let _gone = term.clear_last_lines(self.lines);
        }
        self.lines = 0;
    }
}
