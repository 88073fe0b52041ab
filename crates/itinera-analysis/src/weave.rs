//! How far each part of a path departed from its own usual, in steps for people.

use itinera_model::finding::{HopVerdict, HopView};
use itinera_model::unit::Micros;

/// Steps from "as usual" to "far off".
pub const STEPS: u8 = 5;
/// Share of packets lost on the way into a hop, in parts per million, from which a step begins.
const LOSS_PPM: [u32; 4] = [10_000, 30_000, 80_000, 200_000];
/// Delay added on the way into a hop beyond what is usual there, likewise.
const DELAY_US: [u32; 4] = [2_000, 8_000, 25_000, 80_000];

/// What one hop's cell says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell {
    /// Nothing was sent.
    Missing,
    /// It never answers while later hops do.
    Silent,
    /// What was added on the way into this hop, beyond what is usual there.
    Measured {
        /// Share of packets lost on the way into it, in parts per million.
        loss_ppm: u32,
        /// Delay added on the way into it beyond what is usual; absent before that is learned.
        added: Option<Micros>,
        /// 0 for as usual to 4 for far off; absent before the usual is learned and nothing is
        /// lost.
        step: Option<u8>,
    },
}

fn step_of(value: u32, bounds: [u32; 4]) -> u8 {
    bounds.iter().map(|bound| u8::from(value >= *bound)).sum()
}

/// The cells of one window, by hop. Each says what its own part of the path adds: loss and delay
/// that came from before it are not shown again.
pub fn cells(hops: &[HopView]) -> Vec<Cell> {
    let (mut carried_ppm, mut excess_us) = (1_000_000, 0i64);
    let mut cells = Vec::with_capacity(hops.len());
    for hop in hops {
        if hop.sent == 0 {
            cells.push(Cell::Missing);
            continue;
        }
        if hop.verdict == HopVerdict::Silent {
            cells.push(Cell::Silent);
            continue;
        }
        let got_here = hop.got_here_ppm.unwrap_or(0).min(carried_ppm);
        let loss_ppm = carried_ppm - got_here;
        carried_ppm = got_here;
        let excess = hop
            .delay_us
            .zip(hop.usual_delay_us)
            .map(|(now, usual)| i64::from(now.as_micros()) - i64::from(usual.as_micros()));
        // A hop that is slow to answer is so for itself alone: later hops show it.
        let later = hops.iter().skip_while(|other| other.hop <= hop.hop);
        let kept = later.filter_map(|later| {
            let usual = i64::from(later.usual_delay_us?.as_micros());
            Some(i64::from(later.delay_us?.as_micros()) - usual)
        });
        let excess = excess.map(|excess| kept.fold(excess, i64::min));
        let added = excess.map(|excess| {
            let own = (excess - excess_us).max(0);
            excess_us = excess_us.max(excess);
            Micros::new(u32::try_from(own).unwrap_or(u32::MAX))
        });
        let delayed = added.map(|added| step_of(added.as_micros(), DELAY_US));
        let lost = step_of(loss_ppm, LOSS_PPM);
        let step = delayed.map(|delayed| delayed.max(lost)).or((lost > 0).then_some(lost));
        cells.push(Cell::Measured { loss_ppm, added, step });
    }
    cells
}

/// The step of the part that departs most; absent before any usual is learned.
pub fn worst(hops: &[HopView]) -> Option<u8> {
    let steps = cells(hops).into_iter().filter_map(|cell| match cell {
        Cell::Measured { step, .. } => step,
        Cell::Missing | Cell::Silent => None,
    });
    steps.max()
}

#[cfg(test)]
mod tests {
    use super::*;

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
        cells(hops).into_iter().map(step).collect()
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
    fn a_hop_that_answers_slowly_adds_nothing() {
        let hops = [hop(1, 1_000_000, 90, Some(5)), hop(2, 1_000_000, 9, Some(9))];
        assert_eq!(steps(&hops), [Some(0), Some(0)]);
    }

    #[test]
    fn before_the_usual_is_learned_there_is_no_colour_but_for_loss() {
        assert_eq!(steps(&[hop(1, 1_000_000, 90, None)]), [None]);
        assert_eq!(steps(&[hop(1, 950_000, 90, None)]), [Some(2)]);
    }

    #[test]
    fn silence_and_nothing_sent_are_kept_apart() {
        let silent = HopView { verdict: HopVerdict::Silent, ..hop(1, 1_000_000, 1, None) };
        let missing = HopView { sent: 0, ..hop(2, 0, 1, None) };
        assert_eq!(cells(&[silent, missing]), [Cell::Silent, Cell::Missing]);
    }
}
