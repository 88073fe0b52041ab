//! How likely a hop's evidence is under a fault in front of it, or none.

use super::evidence::HopEvidence;
use crate::stat::{self, MixWeight};
use std::sync::{LazyLock, OnceLock};

/// Carried loss ratios regarded, the first of them "as usual".
pub(super) const LOSSES: [f64; 11] = [0.0, 0.01, 0.02, 0.04, 0.08, 0.15, 0.25, 0.4, 0.6, 0.85, 1.0];
/// Added delays regarded, in milliseconds, the first of them "as usual".
pub(super) const DELAYS: [f64; 9] = [0.0, 2.0, 4.0, 8.0, 15.0, 30.0, 60.0, 120.0, 240.0];

/// Shares that a router may refuse by itself: the middles of this many equal parts of 0 to 1.
const REFUSALS: u32 = 16;

/// Logs of the shares lost and kept for each carried loss and each refusal. They are the same
/// for every hop, and most of what judging would otherwise compute.
static LOGS: LazyLock<Vec<Vec<(f64, f64)>>> = LazyLock::new(|| {
    let logs = |p: f64, step: u32| {
        let own = (f64::from(step) + 0.5) / f64::from(REFUSALS);
        let mean = (1.0 - (1.0 - p) * (1.0 - own)).clamp(1e-9, 1.0 - 1e-9);
        (libm::log(mean), libm::log1p(-mean))
    };
    LOSSES.iter().map(|p| (0..REFUSALS).map(|step| logs(*p, step)).collect()).collect()
});

/// Counts up to this many probes have their refusals kept: a minute of sixty probes, and some.
const KEPT_SENT: usize = 128;

/// Log likelihoods under refusals by losses and probes: few pairs occur, and often.
static REFUSED: LazyLock<Vec<OnceLock<[f64; LOSSES.len()]>>> = LazyLock::new(|| {
    let pairs = (KEPT_SENT + 1) * (KEPT_SENT + 2) / 2;
    std::iter::repeat_with(OnceLock::new).take(pairs).collect()
});

/// Concentration of loss counts while a fault is there.
const KAPPA_FAULT: f64 = 120.0;
/// Chance that a router's answers follow a policy of its own.
const OWN_POLICY: f64 = 0.06;
/// The same for a router that usually loses more than 3 % of its answers.
const OWN_POLICY_SEEN: f64 = 0.15;
/// Weight of the policy account even where no policy is thought of.
const GUARD: f64 = 0.01;
/// The same at the far end: next to nothing, because its answers define arrival.
const GUARD_END: f64 = 1e-6;
/// The 25th percentile of a minute moves by this share of an added delay.
const SHARE: f64 = 0.6;

/// Weight of the account that what a hop shows comes from the router's own policy, against the one that it
/// is carried.
fn own_weight(hop: &HopEvidence, is_end: bool) -> f64 {
    let policy = if hop.usual_loss > 0.03 { OWN_POLICY_SEEN } else { OWN_POLICY };
    if is_end { GUARD_END } else { policy + (1.0 - policy) * GUARD }
}

/// Log likelihoods of a hop's losses when each of the shares [`LOSSES`] is lost before it.
pub(super) fn losses(hop: &HopEvidence, is_end: bool) -> [f64; LOSSES.len()] {
    let refused = refusals(hop);
    let weight = MixWeight::new(own_weight(hop, is_end));
    std::array::from_fn(|magnitude| {
        let mean = 1.0 - (1.0 - hop.usual_loss) * (1.0 - LOSSES[magnitude]);
        let kappa = if magnitude > 0 { hop.kappa.min(KAPPA_FAULT) } else { hop.kappa };
        let carried = stat::ln_beta_binomial(hop.lost, hop.sent, mean, kappa);
        weight.ln_mix(refused[magnitude], carried)
    })
}

/// The router refuses an unknown share of answers by itself: what it shows bounds the carried
/// loss from above only.
fn refusals(hop: &HopEvidence) -> [f64; LOSSES.len()] {
    let (lost, sent) = (hop.lost as usize, hop.sent as usize);
    let of = || std::array::from_fn(|magnitude| refusal_of(hop, magnitude));
    if lost > sent || sent > KEPT_SENT {
        return of();
    }
    *REFUSED[sent * (sent + 1) / 2 + lost].get_or_init(of)
}

fn refusal_of(hop: &HopEvidence, magnitude: usize) -> f64 {
    let (lost, kept) = (f64::from(hop.lost), f64::from(hop.sent) - f64::from(hop.lost));
    let terms: Vec<f64> =
        LOGS[magnitude].iter().map(|(ln_lost, ln_kept)| lost * ln_lost + kept * ln_kept).collect();
    stat::ln_sum_exp(&terms) - libm::log(f64::from(REFUSALS))
}

/// The hop's recent 25th percentile of delay against the usual one, in milliseconds; absent
/// where either is not known.
pub(super) fn shift(hop: &HopEvidence) -> Option<f64> {
    let (usual, _) = hop.usual_delay?;
    let now = hop.delays.quantile(1, 4).filter(|_| hop.delays.count() >= 8)?;
    Some(f64::from(now) / 1_000.0 - usual)
}

/// Density of a slow answering path of the router itself, at milliseconds later than expected: heavy-tailed,
/// mostly later.
fn slow(over: f64) -> f64 {
    if over > 0.0 {
        let tail = 1.0 + over / 10.0;
        0.08 / (tail * tail)
    } else {
        0.4 * stat::student_t4(over, 5.0)
    }
}

/// Log likelihoods of a hop's shift of delay when each of [`DELAYS`] in milliseconds is added before it;
/// 0 where nothing is known. `pool` is the mean spread over the path's hops.
pub(super) fn delays(hop: &HopEvidence, pool: f64, is_end: bool) -> [f64; DELAYS.len()] {
    let (Some(shift), Some((_, spread))) = (shift(hop), hop.usual_delay) else {
        return [0.0; DELAYS.len()];
    };
    let pool = pool.max(0.1);
    let variance = (10.0 * spread * spread + 4.0 * pool * pool) / 14.0;
    let sigma = variance.sqrt().max(0.12);
    let own = own_weight(hop, is_end);
    DELAYS.map(|added| {
        let scale = (sigma * sigma + 0.0625 * added * added).sqrt();
        let over = shift - SHARE * added;
        libm::log(own * slow(over) + (1.0 - own) * stat::student_t4(over, scale))
    })
}
