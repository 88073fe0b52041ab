//! Published evidence: the sealed windows of a minute of one path.

use super::encoding::{put_routes, read_routes, read_window};
use super::summary::MinuteSummary;
use super::window::{SeenRoute, WINDOW_US, Window};
use itinera_model::varint::{Reader, VarintError, put};
use std::borrow::Cow;
use std::sync::Arc;

/// A minute in microseconds.
const MINUTE_US: i64 = 60_000_000;
/// Windows of a minute.
pub(crate) const WINDOWS: i64 = MINUTE_US / WINDOW_US;
/// Version of published minutes.
pub(super) const PUBLISHED: u8 = 1;

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

/// A window by its index: its routes, and its compact form with these numbered.
pub(super) type CompactWindow<'a> = (i64, Vec<Arc<SeenRoute>>, Cow<'a, [u8]>);

/// The bytes of a minute's windows, which are given in order: the routes of all, and for each window its
/// place in the minute, the numbers of its routes among all, and its compact form.
pub(super) fn put_minute<'a>(
    version: u8,
    windows: impl Iterator<Item = CompactWindow<'a>>,
) -> Vec<u8> {
    let mut routes: Vec<Arc<SeenRoute>> = Vec::new();
    let (mut count, mut body) = (0, Vec::new());
    for (index, own, bytes) in windows {
        count += 1;
        put(&mut body, index.rem_euclid(WINDOWS).cast_unsigned());
        put(&mut body, own.len() as u64);
        for route in own {
            let number = routes.iter().position(|known| known.id == route.id);
            let number = number.unwrap_or_else(|| {
                routes.push(route);
                routes.len() - 1
            });
            put(&mut body, number as u64);
        }
        body.extend_from_slice(&bytes);
    }
    let mut out = vec![version];
    put_routes(&mut out, &routes);
    put(&mut out, count);
    out.append(&mut body);
    out
}

/// Reads what [`put_minute`] wrote: `take` reads the rest of each window, by its place in the minute and its
/// routes.
pub(super) fn read_minute(
    bytes: &[u8],
    version: u8,
    mut take: impl FnMut(u8, Vec<Arc<SeenRoute>>, &mut Reader<'_>) -> Result<(), VarintError>,
) -> Result<(), EvidenceError> {
    let mut reader = Reader::new(bytes);
    read_version(&mut reader, version)?;
    let routes = read_routes(&mut reader)?;
    for _ in 0..reader.number("windows", WINDOWS.cast_unsigned())? {
        let place = reader.number("place of a window", WINDOWS.cast_unsigned() - 1)?;
        let place = u8::try_from(place).unwrap_or(u8::MAX);
        let mut own = Vec::new();
        for _ in 0..reader.number("routes of a window", routes.len() as u64)? {
            let number: usize = reader.typed("route")?;
            let route = routes.get(number).ok_or_else(|| reader.range("route"))?;
            own.push(Arc::clone(route));
        }
        take(place, own, &mut reader)?;
    }
    Ok(reader.end()?)
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
        let mut windows = Vec::new();
        read_minute(bytes, PUBLISHED, |place, routes, reader| {
            windows.push((place, read_window(reader, &routes)?));
            Ok(())
        })?;
        Ok(Self { windows })
    }

    /// The windows, each with its place in the minute, from 0.
    pub(crate) fn windows(&self) -> impl Iterator<Item = (u8, &Window)> {
        self.windows.iter().map(|(place, window)| (*place, window))
    }

    /// Summed up.
    pub fn summary(&self) -> MinuteSummary {
        let mut summary = MinuteSummary::default();
        self.windows.iter().for_each(|(_, window)| summary.add_window(window));
        summary
    }
}
