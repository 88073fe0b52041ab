//! Locating on one path: where loss or added delay begins and then persists to the end.
//!
//! For each pair of consecutive answering hops one account says "it begins here": hops before
//! are as usual, hops behind carry it. Each router may also refuse or delay its answers by a
//! policy of its own, which no account may mistake for carried loss. The posterior over all
//! accounts and "nothing is wrong" gives place and confidence.
//!
//! Limits: one path by itself; accounts of several paths are not pooled. The round trip is
//! seen from one side, so the fault may be on the return route. Confidence is the model's own
//! posterior and has not been calibrated on held-out worlds.
//!
//! Source: beta-binomial counts (see [`crate::stat::ln_beta_binomial`]); RFC 7680 and RFC 2681
//! for loss and round-trip delay; RFC 1812 section 4.3.2.8 for routers limiting their answers.

mod evidence;
mod likelihood;
mod summed;
#[cfg(test)]
mod tests;

use crate::evidence::{WINDOW_US, Windows, end_of};
use crate::stat;
pub(crate) use evidence::RECENT;
pub(crate) use evidence::Usual;
use evidence::{Evidence, HopEvidence};
use itinera_model::finding::{
    Assessment, Cause, Explanation, Finding, HopVerdict, HopView, LossCounts, Place, Reason,
};
use itinera_model::id::PathId;
use itinera_model::unit::Micros;
use std::net::IpAddr;
pub use summed::views_of_spans;

/// Version of this engine. Recomputation is promised to be equal within one version.
pub const ENGINE: u16 = 9;
/// The mapping in which every answering address is a router of its own.
const IDENTITY_MAPPING: u32 = 0;
/// Prior probability that something is wrong on a path in a minute.
const PRIOR_FAULT: f64 = 0.05;
/// Explanations kept with a finding.
const KEPT: usize = 5;
const PPM: f64 = 1e6;

/// Judges one path in one window; absent when the window holds no round. Where rounds take
/// several routes in turn, each is judged by itself, and the one with the surest finding speaks for
/// the path; without any, the newest.
pub(crate) fn assess(
    path: PathId,
    source: IpAddr,
    windows: &Windows,
    window: i64,
    usual: &mut Usual,
) -> Option<Assessment> {
    let confidence = |finding: &Option<Finding>| finding.as_ref().map(|f| f.confidence_ppm);
    let mut spoken: Option<(Evidence, Option<Finding>)> = None;
    for evidence in evidence::collect(windows, window, usual) {
        let finding = find(source, &evidence);
        let surer =
            |(_, said): &(Evidence, Option<Finding>)| confidence(&finding) > confidence(said);
        if spoken.as_ref().is_none_or(surer) {
            spoken = Some((evidence, finding));
        }
    }
    let (evidence, finding) = spoken?;
    let end = evidence.hops.last();
    Some(Assessment {
        path,
        until: end_of(window),
        span_s: u32::try_from(RECENT * WINDOW_US / 1_000_000).unwrap_or(u32::MAX),
        rounds: evidence.rounds,
        end_sent: end.map_or(0, |hop| hop.sent),
        end_lost: end.map_or(0, |hop| hop.lost),
        engine: ENGINE,
        mapping: IDENTITY_MAPPING,
        hops: views(&evidence, finding.as_ref()),
        finding,
    })
}

/// One account: it begins between two answering hops.
struct Candidate {
    cause: Cause,
    place: Place,
    /// Index among the answering hops of the first that carries it.
    first: usize,
    ln_weight: f64,
}

/// Log likelihoods by answering hop and magnitude; magnitude 0 is "as usual".
struct Tables {
    loss: Vec<[f64; likelihood::LOSSES.len()]>,
    delay: Vec<[f64; likelihood::DELAYS.len()]>,
}

impl Tables {
    fn new(answering: &[&HopEvidence], end: u8) -> Self {
        let mut spreads: Vec<f64> =
            answering.iter().filter_map(|h| h.usual_delay).map(|(_, spread)| spread).collect();
        let pool = stat::median_of(&mut spreads).unwrap_or(0.0);
        let mut loss: Vec<[f64; likelihood::LOSSES.len()]> = Vec::with_capacity(answering.len());
        for (nth, hop) in answering.iter().enumerate() {
            // The hops of a path that loses nothing differ in nothing but delay.
            let alike = answering[..nth].iter().rposition(|it| it.loses_like(hop));
            let alike = alike.filter(|alike| (answering[*alike].hop == end) == (hop.hop == end));
            let row = alike.map(|alike| loss[alike]);
            loss.push(row.unwrap_or_else(|| likelihood::losses(hop, hop.hop == end)));
        }
        let delay = answering.iter().map(|hop| likelihood::delays(hop, pool, hop.hop == end));
        Self { loss, delay: delay.collect() }
    }

    /// Log weight of "nothing is wrong".
    fn none(&self) -> f64 {
        libm::log1p(-PRIOR_FAULT) + as_usual(&self.loss) + as_usual(&self.delay)
    }

    /// True where the accounts of a fault are less probable together than that nothing is wrong, by a
    /// bound that takes no exponential: each has at most its best magnitude as its evidence.
    fn is_calm(&self, answering: &[&HopEvidence]) -> bool {
        let before = std::iter::once(0).chain(answering.iter().map(|hop| hop.hop));
        let silent = answering.iter().zip(before).map(|(hop, before)| hop.hop - before - 1);
        let Some(silent) = silent.max() else { return true };
        let best = best_evidence(&self.loss).max(best_evidence(&self.delay));
        #[allow(clippy::cast_precision_loss, reason = "at most 255 hops")]
        let accounts = 2.0 * answering.len() as f64;
        let most = ln_prior(answering, silent) + best + libm::log(accounts);
        most < libm::log1p(-PRIOR_FAULT) - ROUNDING
    }

    /// Every account, the most probable first.
    fn candidates(&self, source: IpAddr, answering: &[&HopEvidence]) -> Vec<Candidate> {
        let (loss, delay) = (as_usual(&self.loss), as_usual(&self.delay));
        let places = places(source, answering);
        let (of_loss, of_delay) = (evidence_by_first(&self.loss), evidence_by_first(&self.delay));
        let of_cause = |cause, elsewhere: f64, evidence: Vec<f64>| {
            let candidate = move |(first, place, ln_prior): &(usize, Place, f64)| {
                let ln_weight = ln_prior + elsewhere + evidence[*first];
                Candidate { cause, place: *place, first: *first, ln_weight }
            };
            places.iter().map(candidate)
        };
        let mut candidates: Vec<Candidate> = of_cause(Cause::Loss, delay, of_loss).collect();
        candidates.extend(of_cause(Cause::Delay, loss, of_delay));
        candidates.sort_by(|a, b| b.ln_weight.total_cmp(&a.ln_weight));
        candidates
    }
}

fn find(source: IpAddr, evidence: &Evidence) -> Option<Finding> {
    let answering: Vec<&HopEvidence> =
        evidence.hops.iter().filter(|hop| hop.address.is_some()).collect();
    let tables = Tables::new(&answering, evidence.hops.last()?.hop);
    if tables.is_calm(&answering) {
        return None;
    }
    let none = tables.none();
    let candidates = tables.candidates(source, &answering);
    let weights: Vec<f64> =
        candidates.iter().map(|c| c.ln_weight).chain(std::iter::once(none)).collect();
    let total = stat::ln_sum_exp(&weights);
    let best = candidates.first().filter(|_| libm::exp(none - total) < 0.5)?;
    let explanations: Vec<Explanation> = candidates
        .iter()
        .take(KEPT)
        .map(|c| Explanation {
            cause: c.cause,
            place: c.place,
            probability_ppm: ppm(libm::exp(c.ln_weight - total)),
        })
        .filter(|explanation| explanation.probability_ppm > 0)
        .collect();
    let behind = answering.get(best.first..)?;
    let confidence_ppm = explanations.first()?.probability_ppm;
    let (loss_ppm, loss_counts) = match best.cause {
        Cause::Delay => (0, LossCounts::default()),
        _ => carried_loss(&evidence.hops, behind),
    };
    Some(Finding {
        loss_ppm,
        loss_counts,
        added_delay_us: if best.cause == Cause::Delay { added_delay(behind) } else { Micros::ZERO },
        indistinguishable: best
            .place
            .first_with_fault()
            .map(|from| Place::ReturnRoute { from })
            .into_iter()
            .collect(),
        reasons: reasons(best, behind.len(), &explanations),
        explanations,
        ..Finding::new(best.cause, best.place, confidence_ppm)
    })
}

/// From this probability on another place is given as a reason against the first.
const CLOSE_PPM: u32 = 50_000;

/// What speaks for the best account and against it.
fn reasons(best: &Candidate, behind: usize, explanations: &[Explanation]) -> Vec<Reason> {
    let hops = |count: usize| u8::try_from(count).unwrap_or(u8::MAX);
    let mut reasons = Vec::new();
    if best.first > 0 {
        reasons.push(Reason::HopsBeforeAreClean { hops: hops(best.first) });
    }
    reasons.push(match behind {
        1 => Reason::OnlyTheLastHop,
        behind => Reason::HopsBehindCarry { hops: hops(behind) },
    });
    if best.place.silent_between() > 0 {
        reasons.push(Reason::SilentHops { hops: best.place.silent_between() });
    }
    let second = explanations.get(1).map(|second| second.probability_ppm);
    if let Some(probability_ppm) = second.filter(|ppm| *ppm >= CLOSE_PPM) {
        reasons.push(Reason::CloseAlternative { probability_ppm });
    }
    reasons
}

/// Every pair of consecutive answering hops with the log prior of a fault of one cause there:
/// in proportion to the links it stands for.
fn places(source: IpAddr, answering: &[&HopEvidence]) -> Vec<(usize, Place, f64)> {
    let mut before = (source, 0u8);
    let mut places = Vec::new();
    for (index, hop) in answering.iter().enumerate() {
        let Some(to) = hop.address else { continue };
        let silent_between = hop.hop - before.1 - 1;
        let place = Place::Link { from: before.0, to, silent_between };
        places.push((index, place, ln_prior(answering, silent_between)));
        before = (to, hop.hop);
    }
    places
}

/// Log prior of a fault of one cause between two answering hops with so many silent ones between them.
fn ln_prior(answering: &[&HopEvidence], silent_between: u8) -> f64 {
    let links: f64 = answering.last().map_or(1.0, |hop| f64::from(hop.hop));
    libm::log(PRIOR_FAULT / 2.0 / links) + libm::log1p(f64::from(silent_between))
}

/// Sums over the hops of a path differ by less than this from rounding.
const ROUNDING: f64 = 1e-6;

/// The highest log likelihood of one magnitude from one hop on, against all hops as usual.
fn best_evidence<const MAGNITUDES: usize>(table: &[[f64; MAGNITUDES]]) -> f64 {
    let mut behind = [0.0; MAGNITUDES];
    let mut best = f64::NEG_INFINITY;
    for hop in table.iter().rev() {
        for (sum, more) in behind.iter_mut().zip(hop) {
            *sum += more - hop[0];
        }
        best = behind[1..].iter().copied().fold(best, f64::max);
    }
    best
}

/// Log likelihood of all hops as usual.
fn as_usual<const MAGNITUDES: usize>(table: &[[f64; MAGNITUDES]]) -> f64 {
    table.iter().map(|hop| hop[0]).sum()
}

/// By the first hop that carries it, the log of the mean over magnitudes: hops before are as usual, the
/// rest carry it.
fn evidence_by_first<const MAGNITUDES: usize>(table: &[[f64; MAGNITUDES]]) -> Vec<f64> {
    #[allow(clippy::cast_precision_loss, reason = "a handful of magnitudes")]
    let ln_count = libm::log((MAGNITUDES - 1) as f64);
    let mut before = as_usual(table);
    let mut behind = [0.0; MAGNITUDES];
    let mut evidence = vec![0.0; table.len()];
    for (hop, of_hop) in table.iter().zip(&mut evidence).rev() {
        before -= hop[0];
        for (sum, more) in behind.iter_mut().zip(hop) {
            *sum += more;
        }
        *of_hop = before + stat::ln_sum_exp(&behind[1..]) - ln_count;
    }
    evidence
}

/// Usual loss up to which a hop counts for the estimate of carried loss.
const STEADY_LOSS: f64 = 0.03;

/// Carried loss in parts per million with its counts: losses beyond the usual ones, pooled over the
/// hops behind the onset that neither lose answers usually nor limit their rate now; over all of
/// them where there is none. Each probe passes the place once, whichever hop answers it.
fn carried_loss(hops: &[HopEvidence], behind: &[&HopEvidence]) -> (u32, LossCounts) {
    let onset = behind.first().and_then(|first| hops.iter().position(|hop| hop.hop == first.hop));
    let limits = rate_limiting(hops, onset);
    let limited = |hop: &HopEvidence| {
        hops.iter().zip(&limits).any(|(other, limits)| other.hop == hop.hop && *limits)
    };
    let steady: Vec<&HopEvidence> = behind
        .iter()
        .filter(|hop| hop.usual_loss <= STEADY_LOSS && !limited(hop))
        .copied()
        .collect();
    let counted = if steady.is_empty() { behind } else { steady.as_slice() };
    // Without the fault, usual losses would be missing alone.
    let expected: f64 =
        counted.iter().map(|hop| f64::from(hop.sent) * (1.0 - hop.usual_loss)).sum();
    let kept: f64 = counted.iter().map(|hop| f64::from(hop.sent - hop.lost)).sum();
    let lost = (expected - kept).max(0.0);
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "not more than what was sent"
    )]
    let whole = |count: f64| count.round() as u32;
    (ppm(lost / expected.max(1.0)), LossCounts { sent: whole(expected), lost: whole(lost) })
}

fn added_delay(behind: &[&HopEvidence]) -> Micros {
    let shifts: Vec<f64> = behind.iter().filter_map(|hop| likelihood::shift(hop)).collect();
    micros(stat::median(&shifts).unwrap_or(0.0))
}

/// Milliseconds in whole microseconds, rounded down; 0 for what is negative.
fn micros(ms: f64) -> Micros {
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "float to integer casts saturate"
    )]
    Micros::new((ms.max(0.0) * 1_000.0) as u32)
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "between 0 and a million"
)]
fn ppm(share: f64) -> u32 {
    (share.clamp(0.0, 1.0) * PPM).round() as u32
}

fn views(evidence: &Evidence, finding: Option<&Finding>) -> Vec<HopView> {
    let onset = finding.and_then(|finding| {
        let first = finding.place.first_with_fault()?;
        evidence.hops.iter().position(|hop| hop.address == Some(first))
    });
    let rate_limits = rate_limiting(&evidence.hops, onset);
    let got_here = got_here(&evidence.hops, &rate_limits);
    let views = evidence.hops.iter().enumerate().map(|(index, hop)| HopView {
        hop: hop.hop,
        address: hop.address,
        sent: hop.sent,
        lost: hop.lost,
        got_here_ppm: got_here[index].map(ppm),
        delay_us: hop.delays.quantile(1, 2).map(Micros::new),
        delay_quartiles_us: hop
            .delays
            .quantile(1, 4)
            .zip(hop.delays.quantile(3, 4))
            .map(|(low, high)| (Micros::new(low), Micros::new(high))),
        usual_delay_us: hop.usual_median.map(micros),
        verdict: match (got_here[index], hop.address, onset) {
            (None, _, _) => HopVerdict::Unanswered,
            (Some(_), None, _) => HopVerdict::Silent,
            (Some(_), Some(_), Some(onset)) if index == onset => HopVerdict::Onset,
            (Some(_), Some(_), _) if rate_limits[index] => HopVerdict::RateLimits,
            (Some(_), Some(_), Some(onset)) if index > onset => HopVerdict::Carries,
            (Some(_), Some(_), _) => HopVerdict::Clean,
        },
    });
    views.collect()
}

fn answered(hop: &HopEvidence) -> f64 {
    1.0 - f64::from(hop.lost) / f64::from(hop.sent.max(1))
}

/// Probability that chance alone makes any hop of a path look as if it limited its rate.
const RATE_LIMIT_ERROR: f64 = 0.001;
/// A hop that limits its rate answers at least this much less than the hops behind it.
const RATE_LIMIT_LEAST: f64 = 0.1;

/// Which hops limit the rate of their own answers: every hop behind, up to the onset of a finding
/// if there is one, answers a larger share, and together they answer more than chance explains at
/// an error of [`RATE_LIMIT_ERROR`] over the whole path (a one-sided test of two shares with
/// Bonferroni's correction). Hops that limit their own rate say nothing about those before them,
/// and the onset's own hop is none.
fn rate_limiting(hops: &[HopEvidence], onset: Option<usize>) -> Vec<bool> {
    let mut limits = vec![false; hops.len()];
    let tested = hops.iter().filter(|hop| hop.address.is_some()).count();
    for index in (0..hops.len()).rev() {
        let hop = &hops[index];
        // What answers everything answers no smaller share than any other.
        if hop.address.is_none() || hop.sent == 0 || hop.lost == 0 || onset == Some(index) {
            continue;
        }
        let later = |end: usize| -> Vec<&HopEvidence> {
            let later = hops.iter().zip(&limits).take(end).skip(index + 1);
            let counts = |(hop, limits): &(&HopEvidence, &bool)| {
                hop.address.is_some() && hop.sent > 0 && !**limits
            };
            later.filter(counts).map(|(hop, _)| hop).collect()
        };
        let before_onset = onset.map(later).filter(|later| !later.is_empty());
        let behind = before_onset.unwrap_or_else(|| later(hops.len()));
        limits[index] = answers_less(hop, &behind, tested);
    }
    limits
}

/// True when a hop answers less than each of those behind it, and clearly less than all together.
fn answers_less(hop: &HopEvidence, behind: &[&HopEvidence], tested: usize) -> bool {
    if behind.is_empty() || behind.iter().any(|later| answered(later) <= answered(hop)) {
        return false;
    }
    let total = |of: fn(&HopEvidence) -> u32| -> f64 {
        behind.iter().map(|later| f64::from(of(later))).sum()
    };
    let (sent, lost) = (f64::from(hop.sent), f64::from(hop.lost));
    let (sent_behind, lost_behind) = (total(|hop| hop.sent), total(|hop| hop.lost));
    let missing = lost / sent - lost_behind / sent_behind;
    let pooled = (lost + lost_behind + 0.5) / (sent + sent_behind + 1.0);
    let deviation = (pooled * (1.0 - pooled) * (1.0 / sent + 1.0 / sent_behind)).sqrt();
    #[allow(clippy::cast_precision_loss, reason = "hops of a path")]
    let error = stat::normal_tail(missing / deviation) * tested as f64;
    missing > RATE_LIMIT_LEAST && error <= RATE_LIMIT_ERROR
}

/// The share of packets that got at least as far as each hop: the best fit to what hops
/// answered that never rises along the path. A hop that limits its rate or is silent has the share of
/// the next one, which proves that packets passed; where nothing from here on answered there is
/// none.
///
/// Source: pool adjacent violators, R. E. Barlow et al., Statistical Inference under Order
/// Restrictions (1972), section 1.2.
fn got_here(hops: &[HopEvidence], rate_limits: &[bool]) -> Vec<Option<f64>> {
    let Some(last) = hops.iter().rposition(|hop| hop.lost < hop.sent) else {
        return vec![None; hops.len()];
    };
    // Pools of neighbouring hops: first index, answers, probes.
    let mut pools: Vec<(usize, f64, f64)> = Vec::new();
    for (index, hop) in hops.iter().enumerate().take(last + 1) {
        if hop.address.is_none() || rate_limits[index] || hop.sent == 0 {
            continue;
        }
        let sent = f64::from(hop.sent);
        let mut pool = (index, answered(hop) * sent, sent);
        while let Some(before) = pools.pop_if(|before| before.1 / before.2 < pool.1 / pool.2) {
            pool = (before.0, before.1 + pool.1, before.2 + pool.2);
        }
        pools.push(pool);
    }
    let share = |index: usize| {
        let passed = hops.iter().enumerate().skip(index).take(last + 1 - index);
        let next = passed
            .filter(|(i, h)| h.address.is_some() && !rate_limits[*i])
            .map(|(i, _)| i)
            .next()?;
        let pool = pools.iter().rfind(|pool| pool.0 <= next)?;
        Some(pool.1 / pool.2)
    };
    (0..hops.len()).map(|index| (index <= last).then(|| share(index)).flatten()).collect()
}
