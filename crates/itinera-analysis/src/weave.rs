//! How far each part of a path departed from its own usual, in steps.

use itinera_model::finding::{Cause, Finding, HopVerdict, HopView};
use itinera_model::unit::Micros;

/// Steps from "as usual" to "far off".
pub const STEPS: u8 = 5;
/// Share of packets lost on the link into a hop, in parts per million, from which a step begins.
const LOSS_PPM: [u32; 4] = [10_000, 30_000, 80_000, 200_000];
/// Delay added on the link into a hop beyond what is usual there, likewise.
const DELAY_US: [u32; 4] = [2_000, 8_000, 25_000, 80_000];

/// What one hop's cell says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell {
    /// Nothing was sent.
    Missing,
    /// It never answers while later hops do.
    Silent,
    /// What was added on the link into this hop, beyond what is usual there.
    Measured {
        /// Share of packets lost on the link into it, in parts per million.
        loss_ppm: u32,
        /// Delay added on the link into it beyond what is usual; absent before that is learned.
        added: Option<Micros>,
        /// 0 for as usual to 4 for far off; absent before the usual is learned and nothing is
        /// lost.
        step: Option<u8>,
    },
}

fn step_of(value: u32, bounds: [u32; 4]) -> u8 {
    bounds.iter().map(|bound| u8::from(value >= *bound)).sum()
}

/// True when the share that got somewhere fell by more than chance between two hops would make
/// it: each hop's share is measured by probes of its own (three standard errors).
fn is_beyond_chance(before_ppm: u32, here_ppm: u32, sent: u32) -> bool {
    const MILLION: u64 = 1_000_000;
    let fall = u64::from(before_ppm.saturating_sub(here_ppm));
    let share = u64::midpoint(before_ppm.into(), here_ppm.into());
    // fall^2 > 9 * 2 * p * (1 - p) / n, in parts per million.
    fall * fall * u64::from(sent) > 18 * share * (MILLION - share)
}

/// The cells of one window, by hop. Each says what its own part of the path adds: loss and delay
/// that came from before it are not shown again, and where the window's finding says where the
/// fault begins, it is shown there and nowhere else.
pub fn cells(hops: &[HopView], finding: Option<&Finding>) -> Vec<Cell> {
    let (mut carried_ppm, mut excess_us) = (1_000_000, 0i64);
    let mut cells = Vec::with_capacity(hops.len());
    for (index, hop) in hops.iter().enumerate() {
        if hop.sent == 0 {
            cells.push(Cell::Missing);
            continue;
        }
        if hop.verdict == HopVerdict::Silent {
            cells.push(Cell::Silent);
            continue;
        }
        let got_here = hop.got_here_ppm.unwrap_or(0).min(carried_ppm);
        let beyond = is_beyond_chance(carried_ppm, got_here, hop.sent);
        let mut loss_ppm = if beyond { carried_ppm - got_here } else { 0 };
        if beyond {
            carried_ppm = got_here;
        }
        let mut added = excess_over_usual(hop, &hops[index + 1..]).map(|excess| {
            let own = (excess - excess_us).max(0);
            excess_us = excess_us.max(excess);
            Micros::new(u32::try_from(own).unwrap_or(u32::MAX))
        });
        let begins = hop.verdict == HopVerdict::Onset;
        match finding {
            Some(Finding { cause: Cause::Loss | Cause::Break, loss_ppm: found, .. }) => {
                loss_ppm = if begins { *found } else { 0 };
            }
            Some(Finding { cause: Cause::Delay, added_delay_us: found, .. }) => {
                added = added.map(|_| if begins { *found } else { Micros::ZERO });
            }
            Some(Finding { cause: Cause::Misrouting, .. }) | None => {}
        }
        let delayed = added.map(|added| step_of(added.as_micros(), DELAY_US));
        let lost = step_of(loss_ppm, LOSS_PPM);
        let step = delayed.map(|delayed| delayed.max(lost)).or_else(|| (lost > 0).then_some(lost));
        cells.push(Cell::Measured { loss_ppm, added, step });
    }
    cells
}

/// Delay beyond the usual, in microseconds. A hop that is slow to answer is so for itself alone:
/// what later hops do not show is not there.
fn excess_over_usual(hop: &HopView, later: &[HopView]) -> Option<i64> {
    let excess = |hop: &HopView| {
        let usual = i64::from(hop.usual_delay_us?.as_micros());
        Some(i64::from(hop.delay_us?.as_micros()) - usual)
    };
    let own = excess(hop)?;
    Some(later.iter().filter_map(excess).fold(own, i64::min))
}

/// The step of the part that departs most; absent before any usual is learned.
pub fn worst(hops: &[HopView], finding: Option<&Finding>) -> Option<u8> {
    let steps = cells(hops, finding).into_iter().filter_map(|cell| match cell {
        Cell::Measured { step, .. } => step,
        Cell::Missing | Cell::Silent => None,
    });
    steps.max()
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::finding::Place;

    fn hop(hop: u8, got_here_ppm: u32, delay_ms: u32, usual_ms: Option<u32>) -> HopView {
        HopView {
            hop,
            address: None,
            sent: 60,
            lost: 0,
            got_here_ppm: Some(got_here_ppm),
            delay_us: Some(Micros::from_millis(delay_ms)),
            delay_quartiles_us: None,
            usual_delay_us: usual_ms.map(Micros::from_millis),
            verdict: HopVerdict::Clean,
        }
    }

    fn steps(hops: &[HopView]) -> Vec<Option<u8>> {
        let step = |cell| match cell {
            Cell::Measured { step, .. } => step,
            _ => None,
        };
        cells(hops, None).into_iter().map(step).collect()
    }

    #[test]
    fn only_the_part_that_adds_it_is_coloured() {
        let hops = [
            hop(1, 1_000_000, 1, Some(1)),
            hop(2, 800_000, 5, Some(5)),
            hop(3, 800_000, 40, Some(10)),
            hop(4, 800_000, 50, Some(20)),
        ];
        assert_eq!(steps(&hops), [Some(0), Some(4), Some(3), Some(0)]);
    }

    #[test]
    fn a_fault_is_shown_where_the_finding_says_it_begins() {
        let place = Place::Link {
            from: [198, 18, 0, 1].into(),
            to: [198, 18, 0, 2].into(),
            silent_between: 0,
        };
        let finding = Finding { loss_ppm: 200_000, ..Finding::new(Cause::Loss, place, 990_000) };
        let onset = HopView { verdict: HopVerdict::Onset, ..hop(2, 900_000, 5, Some(5)) };
        let hops = [hop(1, 1_000_000, 1, Some(1)), onset, hop(3, 600_000, 9, Some(9))];
        let step = |cell| match cell {
            Cell::Measured { step, .. } => step,
            _ => None,
        };
        let steps: Vec<_> = cells(&hops, Some(&finding)).into_iter().map(step).collect();
        assert_eq!(steps, [Some(0), Some(4), Some(0)]);
        assert_eq!(worst(&hops, Some(&finding)), Some(4));
    }

    #[test]
    fn a_hop_that_answers_slowly_adds_nothing() {
        let hops = [hop(1, 1_000_000, 90, Some(5)), hop(2, 1_000_000, 9, Some(9))];
        assert_eq!(steps(&hops), [Some(0), Some(0)]);
    }

    #[test]
    fn before_the_usual_is_learned_there_is_no_colour_but_for_loss() {
        assert_eq!(steps(&[hop(1, 1_000_000, 90, None)]), [None]);
        assert_eq!(steps(&[hop(1, 700_000, 90, None)]), [Some(4)]);
        assert_eq!(steps(&[hop(1, 950_000, 90, None)]), [None], "three of sixty may be chance");
    }

    #[test]
    fn silence_and_nothing_sent_are_kept_apart() {
        let silent = HopView { verdict: HopVerdict::Silent, ..hop(1, 1_000_000, 1, None) };
        let missing = HopView { sent: 0, ..hop(2, 0, 1, None) };
        assert_eq!(cells(&[silent, missing], None), [Cell::Silent, Cell::Missing]);
    }
}
