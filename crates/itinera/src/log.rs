//! The log on standard error. Foreign text in it does nothing to the terminal and starts no line.

use itinera_model::text::plain;
use std::fmt;
use std::io::IsTerminal;
use tracing::field::{Field, Visit};
use tracing_subscriber::EnvFilter;
use tracing_subscriber::field::RecordFields;
use tracing_subscriber::fmt::FormatFields;
use tracing_subscriber::fmt::format::Writer;

/// Writes the message and then `name=value` for each field, made plain.
struct PlainFields;

impl<'writer> FormatFields<'writer> for PlainFields {
    fn format_fields<R: RecordFields>(&self, writer: Writer<'writer>, fields: R) -> fmt::Result {
        let mut visitor = PlainVisitor { writer, first: true, outcome: Ok(()) };
        fields.record(&mut visitor);
        visitor.outcome
    }
}

struct PlainVisitor<'writer> {
    writer: Writer<'writer>,
    first: bool,
    outcome: fmt::Result,
}

impl PlainVisitor<'_> {
    fn write(&mut self, name: &str, value: &str) {
        let gap = if std::mem::take(&mut self.first) { "" } else { " " };
        let value = plain(value);
        let written = match name {
            "message" => write!(self.writer, "{gap}{value}"),
            name => write!(self.writer, "{gap}{name}={value}"),
        };
        self.outcome = self.outcome.and(written);
    }
}

impl Visit for PlainVisitor<'_> {
    fn record_str(&mut self, field: &Field, value: &str) {
        self.write(field.name(), value);
    }

    fn record_debug(&mut self, field: &Field, value: &dyn fmt::Debug) {
        self.write(field.name(), &format!("{value:?}"));
    }
}

/// Starts the log, as `ITINERA_LOG` wants it.
pub(crate) fn start() {
    let filter = EnvFilter::try_from_env("ITINERA_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn,sea_orm_migration=warn"));
    tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .fmt_fields(PlainFields)
        .init();
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io;
    use std::sync::{Arc, Mutex};

    #[derive(Clone, Default)]
    struct Kept(Arc<Mutex<Vec<u8>>>);

    impl io::Write for Kept {
        fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
            self.0.lock().unwrap().extend(octets);
            Ok(octets.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn foreign_text_starts_no_line_and_moves_no_cursor() {
        let kept = Kept::default();
        let writer = kept.clone();
        let subscriber = tracing_subscriber::fmt()
            .with_writer(move || writer.clone())
            .with_ansi(false)
            .fmt_fields(PlainFields)
            .finish();
        tracing::subscriber::with_default(subscriber, || {
            let site = "Dunverra\n2026 ERROR forged\x1b[2J\u{202e}";
            tracing::info!(site, shown = %site, debug = ?site, "site {site}");
        });
        let text = String::from_utf8(kept.0.lock().unwrap().clone()).unwrap();
        assert_eq!(text.lines().count(), 1, "{text}");
        assert!(text.contains("site Dunverra 2026 ERROR forged"), "{text}");
        assert!(!text.trim_end().contains(|c: char| c.is_control() || c == '\u{202e}'), "{text}");
    }
}
