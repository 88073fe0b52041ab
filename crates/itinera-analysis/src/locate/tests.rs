//! Locating on made-up evidence: counts are given directly, so every case says what it means.

use super::*;
use crate::evidence::{Exactness, RoundCounts, SeenRoute, Window};
use itinera_model::id::ContentId;
use itinera_model::round::HopCounts;
use itinera_model::route::FlowKey;
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;

const PROBES: u8 = 10;

/// What one hop does in one window: (answers lost of ten, delay in milliseconds); absent for a
/// silent hop.
type Hop = Option<(u8, u32)>;

fn address(hop: usize) -> IpAddr {
    IpAddr::from([198, 18, 0, u8::try_from(hop).unwrap()])
}

fn window(hops: &[Hop]) -> Window {
    let addresses: Vec<_> =
        hops.iter().enumerate().map(|(i, hop)| hop.map(|_| address(i + 1))).collect();
    let counts: Vec<HopCounts> = hops
        .iter()
        .map(|hop| {
            let (lost, ms) = hop.unwrap_or((PROBES, 0));
            let heard = PROBES - lost;
            let rtt = (0..heard).map(|i| Micros::new(ms * 1_000 + u32::from(i) * 20)).collect();
            let answered = u16::try_from((1u32 << heard) - 1).unwrap();
            HopCounts { sent: PROBES, answered, rtt, ..HopCounts::default() }
        })
        .collect();
    let mut window = Window::default();
    let id = ContentId::of(format!("{addresses:?}").as_bytes());
    let (number, flow, exactness) = (1, FlowKey::default(), Exactness::default());
    window.add(
        &Arc::new(SeenRoute { id, addresses }),
        &RoundCounts { number, flow, hops: &counts, exactness },
    );
    window
}

fn judge(before: &[Hop], after: &[Hop]) -> Assessment {
    let before = (0..30).map(|index| (index, window(before)));
    let windows: Windows = before.chain((30..36).map(|index| (index, window(after)))).collect();
    let path = PathId::from_uuid(Uuid::nil());
    assess(path, IpAddr::from([10, 0, 0, 2]), &windows, 35, &mut Usual::default()).unwrap()
}

fn clean(count: u32) -> Vec<Hop> {
    (1..=count).map(|hop| Some((0, hop * 3))).collect()
}

fn place(assessment: &Assessment) -> Option<(Cause, IpAddr, IpAddr, u8)> {
    assessment.finding.as_ref().map(|finding| {
        let (from, to) = finding.place.ends().unwrap();
        (finding.cause, from, to, finding.place.silent_between())
    })
}

#[test]
fn a_clean_path_has_no_finding() {
    let assessment = judge(&clean(8), &clean(8));
    assert_eq!(place(&assessment), None);
    assert!(assessment.hops.iter().all(|hop| hop.verdict == HopVerdict::Clean));
}

#[test]
fn loss_that_persists_to_the_end_is_placed_where_it_begins() {
    let mut after = clean(8);
    after[4..].iter_mut().flatten().for_each(|hop| hop.0 = 2);
    let assessment = judge(&clean(8), &after);
    assert_eq!(place(&assessment), Some((Cause::Loss, address(4), address(5), 0)));
    let finding = assessment.finding.as_ref().unwrap();
    assert!(finding.confidence_ppm > 950_000, "{finding:?}");
    // Two of ten probes of a round, pooled over four hops and six windows.
    assert!((180_000..=220_000).contains(&finding.loss_ppm), "{finding:?}");
    assert_eq!(finding.loss_counts.sent, 4 * assessment.hops[4].sent);
    assert_eq!(
        finding.reasons,
        [Reason::HopsBeforeAreClean { hops: 4 }, Reason::HopsBehindCarry { hops: 4 }]
    );
    assert_eq!(finding.indistinguishable, [Place::ReturnRoute { from: address(5) }]);
    assert_eq!(assessment.hops[4].verdict, HopVerdict::Onset);
    assert_eq!(assessment.hops[6].verdict, HopVerdict::Carries);
    assert_eq!(assessment.hops[4].got_here_ppm, Some(800_000));
}

#[test]
fn a_router_that_begins_to_police_is_not_loss() {
    for hop in [2, 5] {
        let mut after = clean(8);
        after[hop] = Some((5, 9));
        let assessment = judge(&clean(8), &after);
        assert_eq!(place(&assessment), None, "hop {}", hop + 1);
        assert_eq!(assessment.hops[hop].verdict, HopVerdict::RateLimits);
        assert_eq!(assessment.hops[hop].got_here_ppm, Some(1_000_000));
    }
}

#[test]
fn a_policing_router_upstream_does_not_attract_the_loss_behind_it() {
    let mut before = clean(8);
    before[2] = Some((4, 9));
    let mut after = before.clone();
    after[5..].iter_mut().flatten().for_each(|hop| hop.0 = 2);
    let assessment = judge(&before, &after);
    assert_eq!(place(&assessment), Some((Cause::Loss, address(5), address(6), 0)));
    assert_eq!(assessment.hops[2].verdict, HopVerdict::RateLimits);
}

#[test]
fn a_silent_hop_is_neither_broken_nor_skipped_over() {
    let mut before = clean(8);
    before[4] = None;
    assert_eq!(place(&judge(&before, &before)), None);
    let mut after = before.clone();
    after[5..].iter_mut().flatten().for_each(|hop| hop.0 = 3);
    let assessment = judge(&before, &after);
    assert_eq!(place(&assessment), Some((Cause::Loss, address(4), address(6), 1)));
    assert_eq!(assessment.hops[4].verdict, HopVerdict::Silent);
}

#[test]
fn everything_lost_from_a_hop_to_the_end_is_placed_and_called_unanswered() {
    let mut after = clean(6);
    after[3..].iter_mut().flatten().for_each(|hop| hop.0 = PROBES);
    let assessment = judge(&clean(6), &after);
    assert_eq!(place(&assessment), Some((Cause::Loss, address(3), address(4), 0)));
    assert_eq!(assessment.finding.as_ref().unwrap().loss_ppm, 1_000_000);
    assert_eq!(assessment.hops[5].verdict, HopVerdict::Unanswered);
}

#[test]
fn chance_between_hops_behind_the_onset_is_pooled_and_not_taken_for_policing() {
    let mut after = clean(8);
    for (hop, lost) in after[3..].iter_mut().flatten().zip([2, 3, 2, 2, 2]) {
        hop.0 = lost;
    }
    let assessment = judge(&clean(8), &after);
    assert_eq!(place(&assessment), Some((Cause::Loss, address(3), address(4), 0)));
    let got: Vec<u32> = assessment.hops.iter().filter_map(|hop| hop.got_here_ppm).collect();
    assert_eq!(got[2..], [1_000_000, 800_000, 775_000, 775_000, 775_000, 775_000]);
    assert!(assessment.hops.iter().all(|hop| hop.verdict != HopVerdict::RateLimits));
}

#[test]
fn added_delay_that_persists_is_placed_and_slow_answering_is_not() {
    let mut after = clean(8);
    after[5..].iter_mut().flatten().for_each(|hop| hop.1 += 25);
    let assessment = judge(&clean(8), &after);
    assert_eq!(place(&assessment), Some((Cause::Delay, address(5), address(6), 0)));
    let added = assessment.finding.as_ref().unwrap().added_delay_us.as_micros();
    assert!((24_000..=26_000).contains(&added), "{added}");

    let mut slow = clean(8);
    slow[3] = Some((0, 102));
    assert_eq!(place(&judge(&clean(8), &slow)), None);
}

#[test]
fn another_route_is_not_compared_with_the_old_one() {
    let before: Vec<Hop> = clean(6);
    let after: Vec<Hop> = clean(8).into_iter().map(|hop| hop.map(|(l, ms)| (l, ms + 40))).collect();
    let assessment = judge(&before, &after);
    assert_eq!(place(&assessment), None);
    assert!(assessment.hops.iter().all(|hop| hop.usual_delay_us.is_none()));
}

proptest! {
    #[test]
    fn what_got_here_never_rises_along_the_path(lost in prop::collection::vec(0u8..=10, 1..12)) {
        let hops: Vec<Hop> = lost.iter().map(|lost| Some((*lost, 5))).collect();
        let got: Vec<u32> = judge(&clean(1), &hops).hops.iter().filter_map(|h| h.got_here_ppm).collect();
        prop_assert!(got.windows(2).all(|pair| pair[0] >= pair[1]));
    }

    #[test]
    fn probabilities_are_ordered_and_sum_to_at_most_one(lost in prop::collection::vec(0u8..=10, 2..12)) {
        let hops: Vec<Hop> = lost.iter().map(|lost| Some((*lost, 5))).collect();
        let before = clean(u32::try_from(hops.len()).unwrap());
        if let Some(finding) = judge(&before, &hops).finding {
            let ppm: Vec<u32> = finding.explanations.iter().map(|e| e.probability_ppm).collect();
            prop_assert!(ppm.windows(2).all(|pair| pair[0] >= pair[1]));
            prop_assert!(ppm.iter().sum::<u32>() <= 1_000_005);
        }
    }
}

proptest! {
    #[test]
    fn a_bound_calls_calm_only_what_the_accounts_call_calm(
        usual in prop::collection::vec((-6.0f64..0.0, -6.0f64..0.0), 1..12),
        faults in prop::collection::vec((-3.0f64..1.5, -3.0f64..1.5), 12),
        gap in 0u8..4,
    ) {
        let mut tables = Tables { loss: Vec::new(), delay: Vec::new() };
        let mut hops = Vec::new();
        for (at, (loss, delay)) in usual.iter().enumerate() {
            let (more_loss, more_delay) = faults[at];
            let of = |usual: f64, more: f64, magnitude: usize| match magnitude {
                0 => usual,
                // Others are worse by more the further they are from it.
                _ => usual + more - (magnitude % 4) as f64,
            };
            tables.loss.push(std::array::from_fn(|magnitude| of(*loss, more_loss, magnitude)));
            tables.delay.push(std::array::from_fn(|magnitude| of(*delay, more_delay, magnitude)));
            let address = Some([198, 18, 0, u8::try_from(at).unwrap()].into());
            let index = at * (usize::from(gap) + 1);
            hops.push(HopEvidence::of_counts(index, address, (3, 0)));
        }
        let answering: Vec<&HopEvidence> = hops.iter().collect();
        let candidates = tables.candidates([10, 0, 0, 2].into(), &answering);
        let none = tables.none();
        let weights = candidates.iter().map(|it| it.ln_weight).chain([none]);
        let total = stat::ln_sum_exp(&weights.collect::<Vec<_>>());
        if tables.is_calm(&answering) {
            prop_assert!(libm::exp(none - total) > 0.5);
        }
    }
}
