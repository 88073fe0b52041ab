//! Published evidence: the sealed windows of a minute of one path.

use super::encoding::{put_routes, put_window, read_routes, read_window};
use super::kept::Kept;
use super::summary::MinuteSummary;
use super::window::{SeenRoute, WINDOW_US, Window};
use itinera_model::varint::{Reader, VarintError, put};
use std::borrow::Cow;
use std::sync::Arc;

/// A minute in microseconds.
pub const MINUTE_US: i64 = 60_000_000;
/// Windows of a minute.
pub(crate) const WINDOWS: i64 = MINUTE_US / WINDOW_US;
const VERSION: u8 = 1;

/// Why stored evidence cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum EvidenceError {
    /// Not of the expected shape.
    #[error("damaged evidence")]
    Damaged(#[from] VarintError),
    /// Written by another version.
    #[error("evidence of version {0}, which this program does not read")]
    Version(u8),
}

/// Reads the version byte.
pub(super) fn read_version(reader: &mut Reader<'_>, known: u8) -> Result<(), EvidenceError> {
    let found = reader.byte()?;
    if found == known { Ok(()) } else { Err(EvidenceError::Version(found)) }
}

/// The bytes of a minute's windows, which are given by their index in order.
pub(crate) fn publish<'a>(windows: impl Iterator<Item = (i64, &'a Kept)>) -> Vec<u8> {
    let windows: Vec<(i64, Cow<'_, Window>)> =
        windows.map(|(index, kept)| (index.rem_euclid(WINDOWS), kept.window())).collect();
    let mut routes: Vec<Arc<SeenRoute>> = Vec::new();
    for counts in windows.iter().flat_map(|(_, window)| window.routes.values()) {
        if !routes.iter().any(|known| known.id == counts.route.id) {
            routes.push(Arc::clone(&counts.route));
        }
    }
    let mut out = vec![VERSION];
    put_routes(&mut out, &routes);
    put(&mut out, windows.len() as u64);
    for (offset, window) in &windows {
        put(&mut out, offset.cast_unsigned());
        put_window(&mut out, window, |route| {
            routes.iter().position(|known| known.id == route.id).unwrap_or_default()
        });
    }
    out
}

/// The sealed windows of a minute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishedMinute {
    /// Each with its place in the minute, from 0.
    pub(super) windows: Vec<(u8, Window)>,
}

impl PublishedMinute {
    /// Reads what judgement published.
    ///
    /// # Errors
    /// [`EvidenceError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, EvidenceError> {
        let mut reader = Reader::new(bytes);
        read_version(&mut reader, VERSION)?;
        let routes = read_routes(&mut reader)?;
        let count = reader.number("windows", WINDOWS.cast_unsigned())?;
        let mut windows = Vec::new();
        for _ in 0..count {
            let offset = reader.number("place of a window", WINDOWS.cast_unsigned() - 1)?;
            let offset = u8::try_from(offset).unwrap_or(u8::MAX);
            windows.push((offset, read_window(&mut reader, &routes)?));
        }
        reader.end()?;
        Ok(Self { windows })
    }

    /// Summed up.
    pub fn summary(&self) -> MinuteSummary {
        let mut summary = MinuteSummary::default();
        self.windows.iter().for_each(|(_, window)| summary.add_window(window));
        summary
    }
}
