//! A case as a picture: every route over the fault is a row, and rows are aligned at the fault, so
//! that what is behind it stands right of one line.

use super::atlas::Edge;
use super::cases::Effect;
use std::collections::BTreeSet;
use std::fmt::Write;

const WIDTH: usize = 1_280;
const LEFT: usize = 190;
const TOP: usize = 96;
const ROW: usize = 32;
const CELL: usize = 46;
const PAPER: &str = "#ffffff";
const INK: &str = "#1c2a33";
const FAINT: &str = "#66757f";
/// From usual to far off; they differ in lightness, not in hue alone.
const STEPS: [&str; 5] = ["#f3f5f7", "#f5d685", "#e58f47", "#ab3f44", "#4d103f"];
const LOSS_STEPS: [f64; 4] = [0.02, 0.05, 0.15, 0.4];
const DELAY_STEPS_MS: [f64; 4] = [3.0, 8.0, 20.0, 60.0];

/// What one hop of a route gave: before, and since the fault began.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Tally {
    pub(super) sent: [u32; 2],
    pub(super) lost: [u32; 2],
    pub(super) delay_ms: [Option<f64>; 2],
}

impl Tally {
    fn loss(&self, which: usize) -> f64 {
        f64::from(self.lost[which]) / f64::from(self.sent[which].max(1))
    }

    /// Share lost since, beyond the usual.
    pub(super) fn more_loss(&self) -> f64 {
        (self.loss(1) - self.loss(0)).max(0.0)
    }

    /// Milliseconds later than usual.
    pub(super) fn more_delay(&self) -> Option<f64> {
        Some(self.delay_ms[1]? - self.delay_ms[0]?)
    }

    pub(super) const fn lost_of(&self) -> (u32, u32) {
        (self.lost[1], self.sent[1])
    }
}

/// One route over the fault, hop by hop.
#[derive(Debug, Clone)]
pub(super) struct Row {
    pub(super) site: String,
    pub(super) target: String,
    pub(super) hops: Vec<Cell>,
    /// Index of the hop behind the fault in the forward direction; absent where only answers cross it.
    pub(super) onset: Option<usize>,
}

/// One hop of a row.
#[derive(Debug, Clone)]
pub(super) struct Cell {
    pub(super) name: String,
    pub(super) owner: String,
    pub(super) silent: bool,
    /// Its answers cross the fault on their return route.
    pub(super) back_crosses: bool,
    pub(super) tally: Tally,
    /// Links from the hop that answered before.
    pub(super) links: BTreeSet<Edge>,
}

/// A candidate's claim, as the picture marks it.
#[derive(Debug, Clone)]
pub(super) struct Mark {
    pub(super) who: String,
    pub(super) links: BTreeSet<Edge>,
}

fn add(svg: &mut String, more: std::fmt::Arguments<'_>) {
    // Writing to a string cannot fail.
    let _always = svg.write_fmt(more);
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// Where rows stand: the column of the hop behind the fault.
struct Layout {
    axis: usize,
    columns: usize,
    /// Rows over which probes cross the fault; the others follow after a gap.
    there: usize,
}

impl Layout {
    fn of(rows: &[Row]) -> Self {
        let axis = rows.iter().filter_map(|row| row.onset).max().unwrap_or(0);
        let columns =
            rows.iter().map(|row| axis - row.onset.unwrap_or(axis) + row.hops.len()).max();
        let there = rows.iter().filter(|row| row.onset.is_some()).count();
        Self { axis, columns: columns.unwrap_or(0), there }
    }

    fn width(&self) -> usize {
        CELL.min((WIDTH - LEFT - 20) / self.columns.max(1))
    }

    fn x(&self, row: &Row, hop: usize) -> usize {
        LEFT + (self.axis - row.onset.unwrap_or(self.axis) + hop) * self.width()
    }

    const fn y(&self, index: usize) -> usize {
        let gap = match self.there {
            0 => 14,
            there if index >= there => 44,
            _ => 0,
        };
        TOP + 30 + index * ROW + gap
    }
}

/// Draws it.
pub(super) fn draw(
    title: &str,
    rows: &[Row],
    marks: &[Mark],
    notes: &[String],
    effect: Effect,
) -> String {
    let layout = Layout::of(rows);
    let under = layout.y(rows.len()) + 36;
    let height = under + 20 * (notes.len() + 1) + 10;
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH}\" height=\"{height}\" \
         viewBox=\"0 0 {WIDTH} {height}\" font-family=\"DejaVu Sans, sans-serif\" font-size=\"11\" \
         fill=\"{INK}\">\n<rect width=\"{WIDTH}\" height=\"{height}\" fill=\"{PAPER}\"/>\n"
    );
    let head = |svg: &mut String, y: usize, size: usize, fill: &str, text: &str| {
        let text = escaped(text);
        add(
            svg,
            format_args!(
                "<text x=\"20\" y=\"{y}\" font-size=\"{size}\" fill=\"{fill}\">{text}</text>\n"
            ),
        );
    };
    head(&mut svg, 30, 16, INK, title);
    head(&mut svg, 52, 12, FAINT, explanation(effect));
    legend(&mut svg, effect);
    let width = layout.width();
    if layout.there > 0 {
        head(&mut svg, TOP + 18, 11, FAINT, "probes cross it");
        let x = LEFT + layout.axis * width - 3;
        let bottom = layout.y(layout.there - 1) + ROW;
        add(
            &mut svg,
            format_args!(
                "<line x1=\"{x}\" y1=\"{}\" x2=\"{x}\" y2=\"{bottom}\" stroke=\"{INK}\" stroke-width=\"3\"/>\n\
             <text x=\"{x}\" y=\"{}\" text-anchor=\"middle\" font-weight=\"bold\">the fault</text>\n",
                TOP + 26,
                TOP + 18,
            ),
        );
    }
    if layout.there < rows.len() {
        let y = layout.y(layout.there) - 12;
        let crossed = rows.iter().any(|row| row.hops.iter().any(|cell| cell.back_crosses));
        let text = if crossed { "only answers cross it" } else { "some of all routes" };
        head(&mut svg, y, 11, FAINT, text);
    }
    for (index, row) in rows.iter().enumerate() {
        one_row(&mut svg, &layout, index, row, marks, effect);
    }
    if rows.is_empty() {
        head(
            &mut svg,
            TOP + 60,
            14,
            INK,
            "No measured route crosses the fault: it cannot be seen.",
        );
    }
    for (nth, note) in notes.iter().enumerate() {
        head(&mut svg, under + 20 * nth, 12, INK, note);
    }
    head(&mut svg, under + 20 * notes.len(), 11, FAINT, &legend_of_marks(marks));
    svg.push_str("</svg>\n");
    svg
}

const fn explanation(effect: Effect) -> &'static str {
    match effect {
        Effect::Loss(_) => {
            "Each row is a route from a site to a target, hop by hop. Shade: loss since the fault \
             began, above the usual. Ring: silent hop. Underlined: answers cross the fault."
        }
        Effect::DelayMs(_) => {
            "Each row is a route from a site to a target, hop by hop. Shade: delay since the fault \
             began, above the usual. Ring: silent hop. Underlined: answers cross the fault."
        }
    }
}

fn legend(svg: &mut String, effect: Effect) {
    let bounds = match effect {
        Effect::Loss(_) => LOSS_STEPS.map(|share| format!("{:.0} %", share * 100.0)),
        Effect::DelayMs(_) => DELAY_STEPS_MS.map(|ms| format!("{ms:.0} ms")),
    };
    for (step, fill) in STEPS.iter().enumerate() {
        let x = 20 + step * 110;
        let label = match step {
            0 => format!("under {}", bounds[0]),
            4 => format!("over {}", bounds[3]),
            _ => format!("{} to {}", bounds[step - 1], bounds[step]),
        };
        add(
            svg,
            format_args!(
                "<rect x=\"{x}\" y=\"64\" width=\"14\" height=\"14\" fill=\"{fill}\" stroke=\"{FAINT}\"/>\
             <text x=\"{}\" y=\"75\">{label}</text>\n",
                x + 19,
            ),
        );
    }
}

fn step_of(cell: &Cell, effect: Effect) -> usize {
    let (value, bounds) = match effect {
        Effect::Loss(_) => (cell.tally.more_loss(), LOSS_STEPS),
        Effect::DelayMs(_) => (cell.tally.more_delay().unwrap_or(0.0), DELAY_STEPS_MS),
    };
    bounds.iter().filter(|bound| value >= **bound).count()
}

fn one_row(
    svg: &mut String,
    layout: &Layout,
    index: usize,
    row: &Row,
    marks: &[Mark],
    effect: Effect,
) {
    let (y, width) = (layout.y(index), layout.width());
    add(
        svg,
        format_args!(
            "<text x=\"20\" y=\"{}\">{} to {}</text>\n",
            y + 14,
            escaped(&row.site),
            escaped(&row.target),
        ),
    );
    for (hop, cell) in row.hops.iter().enumerate() {
        let x = layout.x(row, hop);
        let what = hover(cell);
        if cell.silent {
            add(
                svg,
                format_args!(
                    "<circle cx=\"{}\" cy=\"{}\" r=\"5\" fill=\"none\" stroke=\"{FAINT}\"><title>{what}</title></circle>\n",
                    x + width / 2 - 3,
                    y + 9,
                ),
            );
        } else {
            let step = step_of(cell, effect);
            add(
                svg,
                format_args!(
                    "<rect x=\"{x}\" y=\"{y}\" width=\"{}\" height=\"18\" rx=\"2\" fill=\"{}\" stroke=\"#c9d1d6\"><title>{what}</title></rect>\n",
                    width - 6,
                    STEPS[step],
                ),
            );
            if let Some(figure) = figure(cell, effect).filter(|_| step > 0) {
                let ink = if step > 2 { PAPER } else { INK };
                add(
                    svg,
                    format_args!(
                        "<text x=\"{}\" y=\"{}\" text-anchor=\"middle\" fill=\"{ink}\">{figure}</text>\n",
                        x + (width - 6) / 2,
                        y + 13,
                    ),
                );
            }
        }
        if cell.back_crosses {
            add(
                svg,
                format_args!(
                    "<line x1=\"{x}\" y1=\"{0}\" x2=\"{1}\" y2=\"{0}\" stroke=\"{INK}\" stroke-width=\"1.5\"/>\n",
                    y + 20,
                    x + width - 6,
                ),
            );
        }
        let here =
            marks.iter().filter(|mark| cell.links.iter().any(|link| mark.links.contains(link)));
        let letters: BTreeSet<&str> = here.map(|mark| letter(&mark.who)).collect();
        for (nth, letter) in letters.into_iter().enumerate().filter(|_| !cell.silent) {
            let x = (x + nth * 18).saturating_sub(3);
            add(
                svg,
                format_args!(
                    "<path d=\"M {} {} l 5 6 l -10 0 z\" fill=\"#1f5f8b\"/>\
                 <text x=\"{}\" y=\"{}\" font-size=\"9\" font-weight=\"bold\" fill=\"#1f5f8b\">{letter}</text>\n",
                    x,
                    y + 17,
                    x + 4,
                    y + 25,
                ),
            );
        }
    }
}

fn figure(cell: &Cell, effect: Effect) -> Option<String> {
    match effect {
        Effect::Loss(_) => Some(format!("{:.0}", cell.tally.more_loss() * 100.0)),
        Effect::DelayMs(_) => cell.tally.more_delay().map(|ms| format!("{ms:.0}")),
    }
}

fn hover(cell: &Cell) -> String {
    let (lost, sent) = cell.tally.lost_of();
    let answers = if cell.silent { "silent".to_owned() } else { format!("{lost} of {sent} lost") };
    escaped(&format!("{}, {}: {answers}", cell.name, cell.owner))
}

fn letter(who: &str) -> &str {
    who.get(..1).unwrap_or("?")
}

fn legend_of_marks(marks: &[Mark]) -> String {
    let who: BTreeSet<&str> = marks.iter().map(|mark| mark.who.as_str()).collect();
    let words: Vec<String> = who.iter().map(|who| format!("{} {who}", letter(who))).collect();
    if words.is_empty() {
        "No candidate claims a fault at the end.".to_owned()
    } else {
        let words = words.join(", ");
        format!("Triangles mark links that are claimed at the end, at most three by each: {words}.")
    }
}
