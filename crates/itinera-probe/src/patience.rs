//! How long to wait for an answer, learned from the path.

use itinera_model::unit::Micros;

/// Never less: hosts and routers may take their time now and then.
const LEAST_US: f64 = 400_000.0;
/// Share of the old that is forgotten by round.
const GAIN: f64 = 0.125;

/// The wait before an answer counts as late, between the least and what the configuration sets.
///
/// Source: in the manner of RFC 6298 (smoothing by 1/8, doubling where nothing comes), but over
/// the slowest answer of each round, so that the farthest hop's is in time.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Patience {
    most: Micros,
    slowest_us: Option<f64>,
}

impl Patience {
    pub(crate) const fn new(most: Micros) -> Self {
        Self { most, slowest_us: None }
    }

    pub(crate) fn wait(&self) -> Micros {
        let most = f64::from(self.most.as_micros());
        let wait =
            self.slowest_us.map_or(most, |slowest| (3.0 * slowest + 100_000.0).max(LEAST_US));
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "between zero and `most`, which is a span"
        )]
        Micros::new(wait.min(most) as u32)
    }

    /// Learns from a settled round: its slowest answer, late ones included, or that none came.
    pub(crate) fn on_round(&mut self, slowest: Option<Micros>) {
        self.slowest_us = match (self.slowest_us, slowest) {
            (None, slowest) => slowest.map(|now| f64::from(now.as_micros())),
            (Some(known), None) => Some(2.0 * known),
            (Some(known), Some(now)) => {
                let now = f64::from(now.as_micros());
                Some(now.max(known + GAIN * (now - known)))
            }
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_grows_at_once_and_shrinks_slowly_within_its_bounds() {
        let ms = Micros::from_millis;
        let mut patience = Patience::new(ms(3_000));
        assert_eq!(patience.wait(), ms(3_000), "nothing is known yet");
        patience.on_round(Some(ms(20)));
        assert_eq!(patience.wait(), ms(400));
        patience.on_round(Some(ms(500)));
        assert_eq!(patience.wait(), ms(1_600));
        patience.on_round(Some(ms(20)));
        assert!(patience.wait() > ms(1_300));
        patience.on_round(None);
        patience.on_round(None);
        assert_eq!(patience.wait(), ms(3_000), "silence is waited for longer");
        (0..60).for_each(|_| patience.on_round(Some(ms(20))));
        assert_eq!(patience.wait(), ms(400));
    }
}
