//! Silly candidates, and how badly they score.

use super::calibration::{Calibration, CalibrationError};
use super::cases::{Case, Effect, Fault, Kind, draw};
use super::job::Extent;
use super::oracle::ORACLE;
use super::phantoms::PhantomRecord;
use super::report::{Scores, report};
use super::run::{CaseRecord, RECORD_VERSION, Warm, WorldRecord};
use super::setup::{Setup, WINDOW_S};
use super::stage::Stage;
use super::stretch::Stretch;
use super::verdict::{CaseScore, Truth, truth, verdict};
use super::{Edge, atlas::Suspect};
use itinera_candidates::{Candidate, Claim, Region, WindowInput};
use itinera_model::finding::{Cause, Place};
use itinera_model::two_way::Direction;
use itinera_simnet::closed_form::LinkId;
use itinera_simnet::worlds::{Split, WorldFamily};
use std::collections::{BTreeMap, BTreeSet};

fn stage(seed: u64) -> Stage {
    let setup = Setup { name: "small".to_owned(), agents: 4, peers: 2, ..Setup::a() };
    Stage::new(&setup, WorldFamily::Plain, seed)
}

/// Claims the same in every window, whatever is measured.
#[derive(Debug, Clone)]
struct Stubborn(Vec<Claim>);

impl Candidate for Stubborn {
    fn name(&self) -> &'static str {
        "stubborn"
    }

    fn version(&self) -> u32 {
        1
    }

    fn regard(&mut self, _: &WindowInput<'_>) -> Vec<Claim> {
        self.0.clone()
    }

    fn fork(&self) -> Box<dyn Candidate> {
        Box::new(self.clone())
    }
}

fn cause(case: &Case) -> Cause {
    match case.effect {
        Effect::Loss(_) => Cause::Loss,
        Effect::DelayMs(_) => Cause::Delay,
    }
}

fn claim(case: &Case, region: impl Into<Region>, direction: Option<Direction>) -> Claim {
    let places = vec![(region.into(), 0.9)];
    Claim { cause: cause(case), places, direction, owner: None, size: None }
}

/// What a stubborn candidate gets for its claims in a case.
fn played(stage: &Stage, case: &Case, claims: Vec<Claim>) -> CaseScore {
    let stretch = Stretch::of_case(stage, case.number);
    let warm = Warm::of(&stretch, vec![Box::new(Stubborn(claims))], true);
    warm.play(case, |_| {}).verdicts["stubborn"].clone()
}

/// The cases of a kind in some worlds, a few of each.
fn cases(wanted: impl Fn(Kind) -> bool, most: usize) -> Vec<(Stage, Vec<Case>)> {
    let of = |seed| {
        let stage = stage(seed);
        let all = (0..60).map(|number| draw(&Stretch::of_case(&stage, number), number));
        let cases = all.filter(|case| wanted(case.kind)).take(most).collect();
        (stage, cases)
    };
    [10, 11].map(of).into()
}

/// A place that names a directed link alone, with its direction as probes go; absent where no place does.
fn named(stage: &Stage, link: LinkId) -> Option<(Place, Direction)> {
    let atlas = &stage.atlas;
    let forward = atlas.place_of(link).map(|place| (place, Direction::Forward));
    let back = || Some((atlas.place_of(atlas.reverse(link))?, Direction::Return));
    forward.or_else(back)
}

fn named_by_place(stage: &Stage, link: LinkId) -> bool {
    named(stage, link).is_some()
}

#[test]
fn the_opposite_direction_of_the_right_link_is_wrong() {
    let (mut right, mut same_edges) = (0, 0);
    for (stage, cases) in cases(Kind::is_link, 8) {
        for case in cases {
            let [Suspect::Link(link)] = case.suspects()[..] else { panic!("{case:?}") };
            let Some((place, direction)) = named(&stage, link) else { continue };
            let opposite = match direction {
                Direction::Forward => Direction::Return,
                Direction::Return => Direction::Forward,
            };
            let told = |direction| played(&stage, &case, vec![claim(&case, place, direction)]);
            let (good, bad) = (told(Some(direction)), told(Some(opposite)));
            assert!(good.link && bad.link, "the link is right either way");
            assert_eq!(good.direction, Some(true));
            assert_eq!(told(None).direction, None);
            let reverse = stage.atlas.reverse(link);
            let is_one_column = stage.atlas.same_column(link, reverse);
            assert_eq!(bad.direction, Some(is_one_column));
            right += 1;
            let seen: &BTreeSet<Edge> = stage.atlas.class(link);
            same_edges += usize::from(!is_one_column && stage.atlas.class(reverse) == seen);
        }
    }
    assert!(right >= 8 && same_edges >= 4, "{right}, {same_edges}");
}

#[test]
fn owner_wide_faults_are_found_by_extent_and_single_links_not_by_owners() {
    let (mut wide, mut single) = (0, 0);
    let links = cases(Kind::is_link, 8);
    for (stage, cases) in links.into_iter().chain(cases(|kind| kind == Kind::OwnerWide, 8)) {
        for case in cases {
            let links: Vec<LinkId> =
                case.suspects().iter().flat_map(|it| stage.atlas.links_of(*it)).collect();
            let owner = stage.world.owner_of(stage.atlas.links[links[0].0].to).unwrap();
            let (as_number, _) = stage.world.registration(owner);
            let whole = played(&stage, &case, vec![claim(&case, Place::Owner { as_number }, None)]);
            if case.kind == Kind::OwnerWide {
                assert!(whole.extent >= 0.5, "{whole:?}");
                let Some((place, _)) = named(&stage, links[0]) else { continue };
                let one = played(&stage, &case, vec![claim(&case, place, None)]);
                let edges: BTreeSet<Edge> = links.iter().map(|it| stage.atlas.edge(*it)).collect();
                assert!((one.extent - 1.0 / edges.len() as f64).abs() < 1e-9, "{one:?}");
                wide += 1;
            } else {
                let inside = stage.atlas.means(&Place::Owner { as_number }.into(), None);
                assert!(!whole.link || inside.len() <= 2, "{whole:?} of {}", inside.len());
                single += 1;
            }
        }
    }
    assert!(wide >= 2 && single >= 8, "{wide}, {single}");
}

/// Scores of a candidate from the verdicts of its cases, in worlds of a hundred cases.
fn worlds(verdicts: &[(Kind, CaseScore)], seeds: impl Iterator<Item = u64>) -> Vec<WorldRecord> {
    let extent =
        Extent { cases: 100, oracle_cases: 100, times: 10, calm_windows: 10, first_only: false };
    let case = |(number, (kind, verdict)): (usize, &(Kind, CaseScore))| CaseRecord {
        number: number as u64,
        kind: *kind,
        effect: Effect::Loss(0.1),
        truth: Truth {
            begins_s: 0.0,
            lasts_s: None,
            links: Vec::new(),
            crossed_by: Vec::new(),
            background: Vec::new(),
            effects: Vec::new(),
            after_s: Vec::new(),
            member: None,
            owners: BTreeSet::new(),
            either_side: BTreeSet::new(),
            paths_crossing: 1,
            pairs_crossing: 0,
            class_links: 1,
            nameable: true,
            information_nats: Some(100.0),
        },
        history_windows: 60,
        weeks: 1,
        verdicts: BTreeMap::from([("silly".to_owned(), verdict.clone())]),
        phantoms: BTreeMap::new(),
        optimal_s: vec![Some(40.0); 29],
        calm_peak: Some(1.0),
        size_ranks: BTreeMap::new(),
    };
    let worlds = verdicts.chunks(100).zip(seeds).map(|(chunk, seed)| WorldRecord {
        version: RECORD_VERSION,
        setup: Setup::a(),
        family: WorldFamily::Plain.to_string(),
        seed,
        extent,
        paths: 1,
        blind: [0.0; 2],
        versions: BTreeMap::from([("silly".to_owned(), 1)]),
        cases: chunk.iter().enumerate().map(case).collect(),
        calm: BTreeMap::from([("silly".to_owned(), PhantomRecord::default())]),
        coverage: BTreeMap::new(),
    });
    worlds.collect()
}

/// What the candidate of this name gets.
fn scores(worlds: &[WorldRecord], name: &str) -> Scores {
    let report = report(worlds);
    report.parts[0].scores.iter().find(|scores| scores.candidate == name).unwrap().clone()
}

fn scored(verdicts: &[(Kind, CaseScore)]) -> Scores {
    scores(&worlds(verdicts, 0..), "silly")
}

/// Verdicts of one that always says the same confidence and is right in this share of the first cases.
fn constant(confidence: f64, right: f64) -> Vec<(Kind, CaseScore)> {
    let verdict = |number: usize| {
        let link = (number as f64) < right * 1_000.0;
        let scored = CaseScore { claimed: true, link, confidence, ..CaseScore::default() };
        (Kind::ForwardLoss, scored)
    };
    (0..1_000).map(verdict).collect()
}

#[test]
fn a_constant_confidence_is_calibrated_where_it_is_as_often_right() {
    let error =
        |confidence, right| scored(&constant(confidence, right)).calibration_link.value.unwrap();
    assert!(error(0.7, 0.7) < 0.06, "{}", error(0.7, 0.7));
    assert!((error(0.9, 0.5) - 0.4).abs() < 0.03, "{}", error(0.9, 0.5));
    let log_score = |right| scored(&constant(0.7, right)).log_score.value.unwrap();
    assert!((log_score(0.7) + 0.611).abs() < 1e-3, "{}", log_score(0.7));
}

#[test]
fn a_calibration_mends_what_is_too_sure_in_other_worlds_only() {
    let said = constant(0.9, 0.6);
    let seeds = |calibrate: bool| {
        (16..).filter(move |seed| (Split::of(*seed) == Split::Calibrate) == calibrate)
    };
    let mut records = worlds(&said, seeds(true));
    let fitted = Calibration::fit(&records, "silly").unwrap();
    assert_eq!((fitted.version, fitted.seeds.len()), (RECORD_VERSION, said.len() / 100));
    assert_eq!(fitted.apply(&mut records), 0, "not where it was fitted");
    let mut others = worlds(&said, seeds(false));
    assert_eq!(Calibration::fit(&others, "silly"), Err(CalibrationError::NoWorlds));
    assert_eq!(fitted.apply(&mut others), said.len() / 100);
    let before = scores(&others, "silly").calibration_link.value.unwrap();
    let after = scores(&others, "silly, calibrated");
    assert!((before - 0.3).abs() < 0.05, "{before}");
    assert!(after.calibration_link.value.unwrap() < 0.05, "{:?}", after.calibration_link);
    assert_eq!(after.link, scores(&others, "silly").link, "right or wrong as before");
    let few = worlds(&said[..40], [12].into_iter());
    assert_eq!(Calibration::fit(&few, "silly"), Err(CalibrationError::TooFew(40)));
}

#[test]
fn silence_is_scored_as_saying_that_nothing_is_wrong() {
    let silent = |faults: usize| {
        let kind = |number| if number < faults { Kind::ForwardLoss } else { Kind::None };
        let verdicts: Vec<(Kind, CaseScore)> =
            (0..1_000).map(|number| (kind(number), CaseScore::default())).collect();
        scored(&verdicts)
    };
    let scores = silent(800);
    assert_eq!((scores.link.value, scores.sure.value), (Some(0.0), Some(0.0)));
    assert!((scores.log_score.value.unwrap() - 0.8 * libm::log(1e-3)).abs() < 1e-9);
    assert!(silent(0).log_score.value.unwrap().abs() < 1e-9);
    let of_kind = |name: &str| {
        let group = scores.by_kind.iter().find(|group| group.name == name).unwrap();
        group.link.value
    };
    assert_eq!((of_kind("no fault"), of_kind("forward loss")), (Some(1.0), Some(0.0)));
}

#[test]
fn a_claim_that_always_stands_is_a_phantom_once_and_everything_at_once_is_as_many() {
    let stage = stage(10);
    let used: BTreeSet<LinkId> = stage.atlas.used.iter().flatten().copied().collect();
    let places: Vec<Place> = used.iter().filter_map(|link| stage.atlas.place_of(*link)).collect();
    assert!(places.len() >= 20, "{}", places.len());
    let misrouted = |place: &Place| Claim {
        cause: Cause::Misrouting,
        places: vec![((*place).into(), 0.95)],
        direction: None,
        owner: None,
        size: None,
    };
    let phantoms = |places: &[Place], windows| {
        let claims = places.iter().map(misrouted).collect();
        let stretch = Stretch::new(&stage, 0);
        let warm = Warm::of(&stretch, vec![Box::new(Stubborn(claims))], true);
        let in_case = warm.play(&draw(&stretch, 0), |_| {}).phantoms["stubborn"].phantoms;
        (warm.calm(windows)["stubborn"].phantoms, in_case)
    };
    // A link that surges at the beginning would be excused: the first that does not is taken.
    let calm = places.iter().find(|place| phantoms(&[**place], 0).0 == [1, 1, 0]).unwrap();
    assert_eq!(phantoms(&[*calm], 60), ([1, 1, 0], [0; 3]), "from the first window on, it stands");
    let (all, _) = phantoms(&places, 0);
    assert!(all[1] > places.len() as u64 * 9 / 10, "{all:?} of {}", places.len());
}

#[test]
fn what_is_missed_or_wrong_counts_until_the_end_of_the_case() {
    let verdict = |number: usize| CaseScore {
        claimed: true,
        link: true,
        noticed_s: number.is_multiple_of(2).then_some(80.0),
        ..CaseScore::default()
    };
    let scores = scored(&(0..200).map(|n| (Kind::ForwardLoss, verdict(n))).collect::<Vec<_>>());
    assert_eq!(scores.noticed.value, Some(0.5));
    let ratio = scores.delay_ratio.value.unwrap();
    assert!((ratio - (80.0 + 600.0) / 2.0 / 40.0).abs() < 1e-9, "{ratio}");
}

#[test]
fn a_wrong_place_is_not_noticed_and_not_a_phantom_as_often_as_there_are_faults() {
    let mut told = 0;
    for (stage, cases) in cases(Kind::is_link, 8) {
        for case in cases {
            let [Suspect::Link(link)] = case.suspects()[..] else { panic!("{case:?}") };
            let Some((place, _)) = named(&stage, link) else { continue };
            // Two other links that all paths over the faulty one cross as well, or not: wrong either way.
            let class = stage.atlas.class(link);
            let wrong = stage.atlas.used[0].iter().filter_map(|other| {
                let is_other = !class.contains(&stage.atlas.edge(*other));
                stage.atlas.place_of(*other).filter(|_| is_other)
            });
            let wrong: Vec<Claim> = wrong.take(12).map(|it| claim(&case, it, None)).collect();
            let count = wrong.len() as u64;
            let late = |claims: Vec<Claim>| {
                let stretch = Stretch::of_case(&stage, case.number);
                let left = stretch.history + 6;
                let turns = vec![(left, Vec::new()), (1, claims)];
                let warm = Warm::of(&stretch, vec![Scripted::boxed(turns)], true);
                let record = warm.play(&case, |_| {});
                let phantoms = record.phantoms["scripted"];
                (record.verdicts["scripted"].noticed_s, phantoms.phantoms[0], phantoms.true_surges)
            };
            let (noticed, phantoms, surges) = late(wrong);
            assert_eq!(noticed, None);
            assert!((count - 1..=count).contains(&(phantoms + surges)), "{phantoms} of {count}");
            let (noticed, phantoms, _) = late(vec![claim(&case, place, None)]);
            assert!(noticed.is_some_and(|s| s < 70.0) && phantoms == 0, "{noticed:?}, {phantoms}");
            told += 1;
        }
    }
    assert!(told >= 4, "{told}");
}

#[test]
fn the_busiest_link_is_right_as_often_as_it_is_at_fault() {
    let (mut right, mut all) = (0, 0);
    for (stage, cases) in cases(Kind::is_link, 10) {
        let count = |link: &LinkId| {
            stage.atlas.suspect(Suspect::Link(*link)).map_or(0, |suspect| {
                let (paths, pairs) = stage.atlas.crossing_counts(&[suspect]);
                paths + pairs
            })
        };
        let busiest = stage.atlas.used_links().into_iter().max_by_key(count).unwrap();
        for case in cases {
            let region = stage.atlas.region_of(busiest);
            let score = played(&stage, &case, vec![claim(&case, region, None)]);
            let class = stage.atlas.links_of(case.suspects()[0]).into_iter();
            let mut class = class.map(|link| stage.atlas.class(link).clone());
            let is_at_fault = class.any(|class| class.contains(&stage.atlas.edge(busiest)));
            assert!(!score.link || is_at_fault, "{case:?}");
            assert!(score.confidence > 0.0 && score.noticed_s.is_none(), "it always stands");
            (right, all) = (right + u32::from(score.link), all + 1);
        }
    }
    assert!(all >= 12 && right * 5 < all, "{right} of {all}");
}

/// Claims what its script says: so many windows of each, and the last for ever.
#[derive(Debug, Clone)]
struct Scripted {
    turns: Vec<(u64, Vec<Claim>)>,
    window: u64,
}

impl Scripted {
    fn boxed(turns: Vec<(u64, Vec<Claim>)>) -> Box<dyn Candidate> {
        Box::new(Self { turns, window: 0 })
    }
}

impl Candidate for Scripted {
    fn name(&self) -> &'static str {
        "scripted"
    }

    fn version(&self) -> u32 {
        1
    }

    fn regard(&mut self, _: &WindowInput<'_>) -> Vec<Claim> {
        let mut until = 0;
        let now = self.turns.iter().find(|(windows, _)| {
            until += windows;
            self.window < until
        });
        self.window += 1;
        let now = now.or_else(|| self.turns.last());
        now.map(|(_, claims)| claims.clone()).unwrap_or_default()
    }

    fn fork(&self) -> Box<dyn Candidate> {
        Box::new(self.clone())
    }
}

#[test]
fn changes_of_place_are_counted_and_a_fault_is_cleared_when_its_last_claim_falls() {
    let mut told = 0;
    for (stage, cases) in cases(Kind::is_link, 60) {
        for case in cases.into_iter().filter(|case| case.changes.for_s.is_some()) {
            let [Suspect::Link(link)] = case.suspects()[..] else { panic!("{case:?}") };
            let Some((place, _)) = named(&stage, link) else { continue };
            let class = stage.atlas.class(link);
            let other = stage.atlas.used[0].iter().filter_map(|other| {
                let is_other = !class.contains(&stage.atlas.edge(*other));
                stage.atlas.place_of(*other).filter(|_| is_other)
            });
            let Some(wrong) = other.into_iter().next() else { continue };
            let stretch = Stretch::of_case(&stage, case.number);
            let [right, wrong] = [place, wrong].map(|place| vec![claim(&case, place, None)]);
            // The fault begins within half an hour; candidates are asked when it ends.
            let after = |windows: u64| stretch.history + windows;
            let asked = case.asked_after();
            if asked < after(8) {
                continue;
            }
            // It says the right place and another in turn, and stays for a minute after the end.
            let turns = vec![
                (asked - 4, Vec::new()),
                (1, right.clone()),
                (1, wrong),
                (1 + 1 + 6, right),
                (u64::MAX / 2, Vec::new()),
            ];
            let record =
                Warm::of(&stretch, vec![Scripted::boxed(turns)], false).play(&case, |_| {});
            let score = &record.verdicts["scripted"];
            assert!(score.link && score.changes == 2, "{score:?}");
            let stood = asked + 5;
            let ends_s = case.changes.at_s + case.lasts_s();
            let cleared_s = ((stood + 1) * WINDOW_S) as f64 - ends_s + WINDOW_S as f64;
            let said = score.cleared_s.unwrap();
            assert!((said - cleared_s).abs() < 0.01, "{said}, not {cleared_s}");
            told += 1;
        }
    }
    assert!(told >= 3, "{told}");
}

#[test]
fn the_ceiling_is_what_the_best_claims_get_and_the_oracle_stays_below() {
    let (mut named, mut placeless) = (0, 0);
    for (stage, cases) in cases(Kind::is_single, 40) {
        for case in cases {
            let truth = truth(&Stretch::of_case(&stage, case.number), &case, f64::NAN);
            let links = stage.atlas.used_links().into_iter();
            let mut regions = links.map(|link| stage.atlas.region_of(link));
            let best = regions.any(|it| verdict(&stage, &case, &[claim(&case, it, None)]).link);
            assert_eq!(best, truth.nameable, "{:?}", case.faults);
            named += usize::from(best);
            let by_place = case.suspects().iter().any(|suspect| {
                stage.atlas.links_of(*suspect).iter().any(|it| named_by_place(&stage, *it))
            });
            placeless += usize::from(!by_place);
        }
    }
    assert!(named >= 20 && placeless >= 5, "{named} can be named, {placeless} not by two hops");
    let mut right = 0;
    for (stage, cases) in cases(|kind| kind == Kind::ReverseLoss, 3) {
        for case in cases {
            let stretch = Stretch::of_case(&stage, case.number);
            let warm = Warm::of(&stretch, Vec::new(), true);
            let record = warm.play(&case, |_| {});
            let score = &record.verdicts[ORACLE];
            assert!(!score.link || record.truth.nameable, "{record:?}");
            right += usize::from(score.link);
        }
    }
    assert!(right >= 1, "the oracle finds what can be named");
}

#[test]
fn two_faults_are_of_their_own_kinds_and_both_are_to_be_named() {
    let (mut mixed, mut found) = (0, 0);
    for (stage, cases) in cases(|kind| kind == Kind::Two, 12) {
        for case in cases {
            let [first, second] = case.faults[..] else { panic!("{case:?}") };
            assert!(first.after_s == 0.0 && (0.0..=300.0).contains(&second.after_s), "{case:?}");
            let of_cause = |effect| match effect {
                Effect::Loss(_) => Cause::Loss,
                Effect::DelayMs(_) => Cause::Delay,
            };
            mixed += usize::from(of_cause(first.effect) != of_cause(second.effect));
            if !truth(&Stretch::of_case(&stage, case.number), &case, f64::NAN).nameable {
                continue;
            }
            // The best place for each, and then with the cause of the other.
            let best = |fault: &Fault, effect| {
                let single = Case { faults: vec![*fault], ..case.clone() };
                let links = stage.atlas.links_of(fault.suspect).into_iter();
                let claims = links.map(|link| Claim {
                    cause: of_cause(effect),
                    ..claim(&case, stage.atlas.region_of(link), None)
                });
                let right = |told: &Claim| {
                    let told = Claim { cause: of_cause(fault.effect), ..told.clone() };
                    verdict(&stage, &single, &[told]).link
                };
                claims.into_iter().find(right).unwrap()
            };
            let both = [best(&first, first.effect), best(&second, second.effect)];
            assert_eq!(verdict(&stage, &case, &both).found, 2);
            assert_eq!(verdict(&stage, &case, &both[..1]).found, 1);
            let swapped = [best(&first, second.effect), best(&second, first.effect)];
            let is_alike = of_cause(first.effect) == of_cause(second.effect);
            assert_eq!(verdict(&stage, &case, &swapped).found == 2, is_alike);
            found += 1;
        }
    }
    assert!(mixed >= 2 && found >= 3, "{mixed} of two causes, {found} found");
}
