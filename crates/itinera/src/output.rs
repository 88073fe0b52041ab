//! What is printed, for users or for programs.

use crate::exit::{Code, Failure};
use clap::ValueEnum;
use comfy_table::{Cell, ContentArrangement, Table, presets};
pub(crate) use itinera_model::text::plain;
use itinera_model::text::{plain_json, plain_lines};
use serde::Serialize;
use serde_json::Value;
use std::io::{self, Write};

/// How results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Tables and text
    Table,
    /// JSON as the API returned it
    Json,
}

/// Where results go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    format: Format,
}

impl Output {
    pub(crate) const fn new(format: Format) -> Self {
        Self { format }
    }

    pub(crate) const fn is_json(&self) -> bool {
        matches!(self.format, Format::Json)
    }

    pub(crate) fn json<T: Serialize>(&self, value: &T) -> Result<(), Failure> {
        let text =
            serde_json::to_string_pretty(value).map_err(|e| Failure::new(Code::Failed, e))?;
        writeln!(io::stdout().lock(), "{}", plain_json(&text))?;
        Ok(())
    }

    /// The value for programs, or what `show` makes of it for users.
    pub(crate) fn either<T: Serialize>(
        &self,
        value: &T,
        show: impl FnOnce(&Self) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        if self.is_json() { self.json(value) } else { show(self) }
    }

    /// One value for programs on one line.
    pub(crate) fn json_line(&self, value: &Value) -> Result<(), Failure> {
        writeln!(io::stdout().lock(), "{}", plain_json(&value.to_string()))?;
        Ok(())
    }

    /// Text without raw foreign parts, printed unchanged: styled lines built with [`plain`], and
    /// shell scripts.
    pub(crate) fn own_line(&self, text: &str) -> Result<(), Failure> {
        writeln!(io::stdout().lock(), "{text}")?;
        Ok(())
    }

    /// Lines of text; foreign text in them cannot control the terminal.
    pub(crate) fn line(&self, text: &str) -> Result<(), Failure> {
        writeln!(io::stdout().lock(), "{}", plain_lines(text))?;
        Ok(())
    }

    /// The beginning of a line, shown at once.
    pub(crate) fn part(&self, text: &str) -> Result<(), Failure> {
        let mut stdout = io::stdout().lock();
        write!(stdout, "{}", plain_lines(text))?;
        stdout.flush()?;
        Ok(())
    }

    /// Sentences from elsewhere, made plain and wrapped to the terminal behind an indent.
    pub(crate) fn sentence(&self, text: &str, indent: &str) -> Result<(), Failure> {
        let width = terminal_width().map_or(usize::MAX, usize::from);
        let options =
            textwrap::Options::new(width).initial_indent(indent).subsequent_indent(indent);
        self.line(&textwrap::fill(&plain(text), options))
    }

    /// The notes of a JSON answer, each from a new line on.
    pub(crate) fn notes(&self, notes: &Value, indent: &str) -> Result<(), Failure> {
        let texts = notes.as_array().into_iter().flatten().filter_map(|note| note["text"].as_str());
        texts.into_iter().try_for_each(|text| self.sentence(text, indent))
    }

    /// An entry of a list: a head, and a second line behind an indent, each cut to the terminal.
    pub(crate) fn entry(&self, head: &str, rest: &str) -> Result<(), Failure> {
        let width = terminal_width().map_or(usize::MAX, usize::from);
        self.line(&fitted(&plain(head), width))?;
        let rest = plain(rest);
        if rest.is_empty() { Ok(()) } else { self.line(&fitted(&format!("      {rest}"), width)) }
    }

    pub(crate) fn table(&self, columns: &[&str], rows: Vec<Vec<String>>) -> Result<(), Failure> {
        self.line(&table_text(columns, rows, terminal_width()))
    }
}

/// One line of at most so many columns; what is left out is shown by an ellipsis.
fn fitted(line: &str, width: usize) -> String {
    console::truncate_str(line, width, "…").into_owned()
}

/// A table without rules, as wide as its content or, where that is given, the terminal.
pub(crate) fn table_text(columns: &[&str], rows: Vec<Vec<String>>, width: Option<u16>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    match width {
        Some(width) => table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width),
        None => table.set_content_arrangement(ContentArrangement::Disabled),
    };
    table.set_header(columns.iter().map(Cell::new));
    for row in rows {
        table.add_row(row.iter().map(|cell| plain(cell)));
    }
    let text = table.to_string();
    let lines = text.lines().map(|line| line.strip_prefix(' ').unwrap_or(line).trim_end());
    lines.collect::<Vec<_>>().join("\n")
}

/// Columns of the terminal that standard output is; absent when it is none.
fn terminal_width() -> Option<u16> {
    let size = rustix::termios::tcgetwinsize(io::stdout()).ok()?;
    Some(size.ws_col).filter(|columns| *columns >= 40)
}
