//! The windows of a path as judgement keeps them: those of the newest minute open, earlier ones in
//! their compact form, which takes a twentieth of the memory. Windows share their routes.

use super::encoding::{put_window, read_window};
use super::minute::{EvidenceError, PUBLISHED, WINDOWS, put_minute, read_minute};
use super::window::{RoundCounts, SeenRoute, Window};
use crc::{CRC_32_ISCSI, Crc, Table};
use itinera_model::id::ContentId;
use itinera_model::varint::{Reader, put};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::ops::RangeBounds;
use std::sync::Arc;

/// Routes that a path may have seen before those that no window needs are forgotten.
const MOST_ROUTES: usize = 64;
/// Bits of the byte that is stored with a window.
const FOUND: u8 = 1;
const FLAGGED: u8 = 2;
/// Version of stored minutes.
const VERSION: u8 = 2;
/// Stored minutes end with a checksum, so that their windows need not be read to be known as whole.
const CHECKSUM: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&CRC_32_ISCSI);
const CHECKSUM_BYTES: usize = 4;

/// A window that is kept.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    content: Content,
    /// A finding was made here.
    pub(crate) found: bool,
    /// A finding was made here or near: it is not learned as usual.
    pub(crate) flagged: bool,
}

#[derive(Debug, Clone)]
enum Content {
    Open(Window),
    Compact {
        /// In the order of their identities, each with its newest round.
        routes: Box<[(Arc<SeenRoute>, u64)]>,
        bytes: Box<[u8]>,
    },
}

/// A window in its compact form: its routes are numbered in the order of their identities.
fn window_bytes(window: &Window) -> Vec<u8> {
    let hops: usize = window.routes.values().map(|it| it.hops.len()).sum();
    let mut bytes = Vec::with_capacity(16 * (hops + 1));
    put_window(&mut bytes, window, |route| window.routes.range(..route.id).count());
    bytes
}

fn compact(window: &Window) -> Content {
    let routes = window.routes.values().map(|it| (Arc::clone(&it.route), it.newest)).collect();
    Content::Compact { routes, bytes: window_bytes(window).into_boxed_slice() }
}

impl Kept {
    fn open(window: Window) -> Self {
        Self { content: Content::Open(window), found: false, flagged: false }
    }

    /// The window.
    pub(crate) fn window(&self) -> Cow<'_, Window> {
        match &self.content {
            Content::Open(window) => Cow::Borrowed(window),
            Content::Compact { routes, bytes } => {
                let routes: Vec<_> = routes.iter().map(|(it, _)| Arc::clone(it)).collect();
                let window = read_window(&mut Reader::new(bytes), &routes);
                // What was written here is read here.
                Cow::Owned(window.unwrap_or_default())
            }
        }
    }

    /// Its routes, that of its newest round first.
    pub(crate) fn newest_first(&self) -> Vec<&Arc<SeenRoute>> {
        let mut routes: Vec<(&Arc<SeenRoute>, u64)> = match &self.content {
            Content::Open(window) => {
                window.routes.values().map(|it| (&it.route, it.newest)).collect()
            }
            Content::Compact { routes, .. } => routes.iter().map(|it| (&it.0, it.1)).collect(),
        };
        routes.sort_by_key(|(_, newest)| std::cmp::Reverse(*newest));
        routes.into_iter().map(|(route, _)| route).collect()
    }

    /// Its routes by number, and its compact form with these numbers.
    pub(super) fn compacted(&self) -> (Vec<Arc<SeenRoute>>, Cow<'_, [u8]>) {
        match &self.content {
            Content::Open(window) => {
                let routes = window.routes.values().map(|it| Arc::clone(&it.route)).collect();
                (routes, Cow::Owned(window_bytes(window)))
            }
            Content::Compact { routes, bytes } => {
                (routes.iter().map(|(it, _)| Arc::clone(it)).collect(), Cow::Borrowed(bytes))
            }
        }
    }

    /// The newest round of each route, in the order of [`Self::compacted`].
    fn newest_rounds(&self) -> impl Iterator<Item = u64> {
        let (open, compact) = match &self.content {
            Content::Open(window) => (Some(window.routes.values().map(|it| it.newest)), None),
            Content::Compact { routes, .. } => (None, Some(routes.iter().map(|it| it.1))),
        };
        open.into_iter().flatten().chain(compact.into_iter().flatten())
    }

    /// Its routes.
    pub(crate) fn routes(&self) -> impl Iterator<Item = &Arc<SeenRoute>> {
        let (open, compact) = match &self.content {
            Content::Open(window) => (Some(window.routes.values().map(|it| &it.route)), None),
            Content::Compact { routes, .. } => (None, Some(routes.iter().map(|(it, _)| it))),
        };
        open.into_iter().flatten().chain(compact.into_iter().flatten())
    }
}

/// A [`super::PublishedMinute`] in bytes: its windows are given by their index in order.
pub(crate) fn publish<'a>(windows: impl Iterator<Item = (i64, &'a Kept)>) -> Vec<u8> {
    let compact = windows.map(|(index, kept)| {
        let (routes, bytes) = kept.compacted();
        (index, routes, bytes)
    });
    put_minute(PUBLISHED, compact)
}

/// The windows of a path by index.
#[derive(Debug, Clone, Default)]
pub(crate) struct Windows {
    all: BTreeMap<i64, Kept>,
    open: BTreeSet<i64>,
    routes: Vec<Arc<SeenRoute>>,
}

impl Windows {
    pub(crate) fn len(&self) -> usize {
        self.all.len()
    }

    pub(crate) fn get(&self, window: i64) -> Option<&Kept> {
        self.all.get(&window)
    }

    pub(crate) fn get_mut(&mut self, window: i64) -> Option<&mut Kept> {
        self.all.get_mut(&window)
    }

    /// The windows of a minute, by its number.
    pub(crate) fn minute(&self, minute: i64) -> impl Iterator<Item = (i64, &Kept)> {
        let first = minute.saturating_mul(WINDOWS);
        self.range(first..first.saturating_add(WINDOWS))
    }

    pub(crate) fn newest(&self) -> Option<i64> {
        self.all.keys().next_back().copied()
    }

    pub(crate) fn range(
        &self,
        range: impl RangeBounds<i64>,
    ) -> impl DoubleEndedIterator<Item = (i64, &Kept)> {
        self.all.range(range).map(|(index, kept)| (*index, kept))
    }

    pub(crate) fn values_mut(&mut self) -> impl Iterator<Item = &mut Kept> {
        self.all.values_mut()
    }

    /// Takes over a window of evidence, in its compact form and with the routes that are shared here.
    pub(crate) fn take_over(&mut self, window: i64, content: &Window) {
        let mut routes = Vec::with_capacity(content.routes.len());
        for counts in content.routes.values() {
            let route = self.route(counts.route.id, &counts.route.addresses);
            routes.push((route, counts.newest));
        }
        let bytes = window_bytes(content).into_boxed_slice();
        let content = Content::Compact { routes: routes.into_boxed_slice(), bytes };
        self.all.insert(window, Kept { content, found: false, flagged: false });
    }

    /// Takes over a window of other windows of the path.
    pub(crate) fn insert(&mut self, window: i64, kept: Kept) {
        if matches!(kept.content, Content::Open(_)) {
            self.open.insert(window);
        }
        self.all.insert(window, kept);
    }

    /// Takes out the oldest window.
    pub(crate) fn take_first(&mut self) -> Option<(i64, Kept)> {
        let (window, kept) = self.all.pop_first()?;
        self.open.remove(&window);
        Some((window, kept))
    }

    pub(crate) fn remove(&mut self, window: i64) {
        self.all.remove(&window);
        self.open.remove(&window);
    }

    /// A route as this path shares it.
    pub(crate) fn route(&mut self, id: ContentId, addresses: &[Option<IpAddr>]) -> Arc<SeenRoute> {
        self.shared(id, || addresses.to_vec())
    }

    fn shared(
        &mut self,
        id: ContentId,
        addresses: impl FnOnce() -> Vec<Option<IpAddr>>,
    ) -> Arc<SeenRoute> {
        if let Some(known) = self.routes.iter().find(|known| known.id == id) {
            return Arc::clone(known);
        }
        if self.routes.len() >= MOST_ROUTES {
            self.routes.retain(|known| Arc::strong_count(known) > 1);
        }
        let route = Arc::new(SeenRoute { id, addresses: addresses() });
        self.routes.push(Arc::clone(&route));
        route
    }

    /// Adds a round to a window.
    pub(crate) fn add(&mut self, window: i64, route: &Arc<SeenRoute>, round: &RoundCounts<'_>) {
        let kept = self.all.entry(window).or_insert_with(|| Kept::open(Window::default()));
        if let Content::Open(open) = &mut kept.content {
            open.add(route, round);
        } else {
            let mut open = kept.window().into_owned();
            open.add(route, round);
            kept.content = Content::Open(open);
        }
        self.open.insert(window);
    }

    /// Puts the windows before one into their compact form.
    pub(crate) fn compact_before(&mut self, window: i64) {
        let later = self.open.split_off(&window);
        for window in std::mem::replace(&mut self.open, later) {
            if let Some(kept) = self.all.get_mut(&window)
                && let Content::Open(open) = &kept.content
            {
                kept.content = compact(open);
            }
        }
    }

    /// A minute as it is stored, by its number; absent where it has no window.
    pub(crate) fn minute_bytes(&self, minute: i64) -> Option<Vec<u8>> {
        let mut windows = self.minute(minute).peekable();
        windows.peek()?;
        let stored = windows.map(|(index, kept)| {
            let (routes, bytes) = kept.compacted();
            let mut out = vec![(u8::from(kept.found) * FOUND) | (u8::from(kept.flagged) * FLAGGED)];
            kept.newest_rounds().for_each(|newest| put(&mut out, newest));
            put(&mut out, bytes.len() as u64);
            out.extend_from_slice(&bytes);
            (index, routes, Cow::Owned(out))
        });
        let mut out = put_minute(VERSION, stored);
        out.extend(CHECKSUM.checksum(&out).to_le_bytes());
        Some(out)
    }

    /// Takes the windows of a minute as it was stored, in their compact form.
    ///
    /// # Errors
    /// [`EvidenceError`] for what [`Self::minute_bytes`] cannot have written.
    pub(crate) fn restore(&mut self, minute: i64, stored: &[u8]) -> Result<(), EvidenceError> {
        let content = stored.len().checked_sub(CHECKSUM_BYTES).map(|end| stored.split_at(end));
        let whole = content.filter(|(content, checksum)| {
            CHECKSUM.checksum(content).to_le_bytes().as_slice() == *checksum
        });
        let (content, _) = whole.ok_or_else(|| Reader::new(stored).range("checksum"))?;
        read_minute(content, VERSION, |place, routes, reader| {
            let flags = reader.byte()?;
            let mut own = Vec::with_capacity(routes.len());
            for route in routes {
                let route = self.shared(route.id, || route.addresses.clone());
                own.push((route, reader.typed("newest round")?));
            }
            let length: usize = reader.typed("length of a window")?;
            let bytes = reader.take(length)?.into();
            let content = Content::Compact { routes: own.into_boxed_slice(), bytes };
            let (found, flagged) = (flags & FOUND != 0, flags & FLAGGED != 0);
            let index = minute.saturating_mul(WINDOWS).saturating_add(place.into());
            self.all.insert(index, Kept { content, found, flagged });
            Ok(())
        })
    }
}

#[cfg(test)]
impl FromIterator<(i64, Window)> for Windows {
    fn from_iter<I: IntoIterator<Item = (i64, Window)>>(windows: I) -> Self {
        let all = windows.into_iter().map(|(index, window)| (index, Kept::open(window)));
        Self { all: all.collect(), ..Self::default() }
    }
}
