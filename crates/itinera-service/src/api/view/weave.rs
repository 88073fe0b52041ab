//! The hops of a path over time as the API shows them.

use super::message::OwnerView;
use super::path::{offset, ratio};
use itinera_analysis::weave::{self, Cell};
use itinera_model::finding::{Assessment, HopView};
use itinera_model::owner::{OwnerMap, is_private};
use serde::Serialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What is known of a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum CellKind {
    /// Measured.
    Measured,
    /// The hop never answers; traffic passes.
    Silent,
    /// Nothing was measured.
    Missing,
}

/// What one part of a path added in one row.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub(crate) struct CellView {
    pub(crate) kind: CellKind,
    /// 0 for as usual to 4 for far off; absent before the usual is learned.
    pub(crate) departure: Option<u8>,
    /// Share of packets lost up to this hop.
    pub(crate) loss_ratio: Option<f64>,
    /// Delay added up to this hop beyond the usual delay.
    pub(crate) added_delay_us: Option<u32>,
}

impl From<Cell> for CellView {
    fn from(cell: Cell) -> Self {
        let empty = |kind| Self { kind, departure: None, loss_ratio: None, added_delay_us: None };
        match cell {
            Cell::Missing => empty(CellKind::Missing),
            Cell::Silent => empty(CellKind::Silent),
            Cell::Measured { loss_ppm, added, step } => Self {
                kind: CellKind::Measured,
                departure: step,
                loss_ratio: Some(ratio(loss_ppm)),
                added_delay_us: added.map(|us| us.as_micros()),
            },
        }
    }
}

/// Windows of some seconds or minutes.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WeaveRow {
    /// End of the newest minute regarded, or of the time that is summed up.
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) until: OffsetDateTime,
    pub(crate) cells: Vec<CellView>,
}

/// A hop that the columns stand for.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct WeaveHop {
    pub(crate) hop: u8,
    pub(crate) address: Option<String>,
    pub(crate) owner: Option<OwnerView>,
    /// True for private and shared address space.
    pub(crate) private: bool,
}

/// A path over time, newest window last.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Weave {
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) from: OffsetDateTime,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) until: OffsetDateTime,
    /// Time from one row to the next, in seconds.
    pub(crate) row_s: u32,
    /// True where a row is the sum of its time and usual is the median of all rows; else a row is the
    /// worst of its windows, and usual is what was so before each.
    pub(crate) summed: bool,
    /// The columns, by the newest route.
    pub(crate) hops: Vec<WeaveHop>,
    pub(crate) rows: Vec<WeaveRow>,
}

/// The cell to show for several: the one that departs most.
pub(crate) fn worse(a: CellView, b: CellView) -> CellView {
    let weight = |cell: &CellView| (cell.departure, cell.kind == CellKind::Measured);
    if weight(&b) > weight(&a) { b } else { a }
}

fn missing(columns: usize) -> Vec<CellView> {
    std::iter::repeat_with(|| CellView::from(Cell::Missing)).take(columns).collect()
}

/// The row of several windows: of each hop the worst.
pub(crate) fn row_of(windows: &[Assessment], columns: usize) -> Option<WeaveRow> {
    let last = windows.last()?;
    let mut cells = missing(columns);
    for window in windows {
        for (slot, cell) in
            cells.iter_mut().zip(weave::cells(&window.hops, window.finding.as_ref()))
        {
            *slot = worse(slot.clone(), cell.into());
        }
    }
    Some(WeaveRow { until: offset(last.until), cells })
}

/// The row of a time that is summed up.
pub(crate) fn row_of_span(until: OffsetDateTime, hops: &[HopView], columns: usize) -> WeaveRow {
    let mut cells = missing(columns);
    for (slot, cell) in cells.iter_mut().zip(weave::cells(hops, None)) {
        *slot = cell.into();
    }
    WeaveRow { until, cells }
}

pub(crate) fn columns(newest: &[HopView], map: &OwnerMap) -> Vec<WeaveHop> {
    let column = |hop: &HopView| {
        let owner = hop.address.and_then(|address| map.owner_of(address));
        WeaveHop {
            hop: hop.hop,
            address: hop.address.map(|address| address.to_string()),
            owner: owner.map(OwnerView::from),
            private: owner.is_none() && hop.address.is_some_and(is_private),
        }
    };
    newest.iter().map(column).collect()
}
