//! The book of alarms, window by window.

use super::*;
use crate::evidence::{beginning_of, end_of, window_of};
use crate::log_clock::LogClock;
use crate::rules::RuledPath;
use itinera_model::finding::{HopVerdict, HopView};
use itinera_model::rule::{ImpactStep, Rule, RuleLimits, RuleSeverity};
use std::cell::Cell;
use std::sync::Arc;
use uuid::Uuid;

fn path(number: u128) -> PathId {
    PathId::from_uuid(Uuid::from_u128(number))
}

fn finding(to: u8, loss_ppm: u32, confidence_ppm: u32) -> Finding {
    let place = Place::Link {
        from: [198, 18, 0, 1].into(),
        to: [198, 18, 0, to].into(),
        silent_between: 0,
    };
    let loss_counts = LossCounts { sent: 500, lost: loss_ppm / 2_000 };
    Finding { loss_ppm, loss_counts, ..Finding::new(Cause::Loss, place, confidence_ppm) }
}

fn assessment(path: PathId, finding: Option<Finding>) -> Assessment {
    Assessment {
        path,
        until: WallTime::default(),
        span_s: 60,
        rounds: 30,
        end_sent: 60,
        end_lost: 0,
        engine: 1,
        mapping: 0,
        hops: Vec::new(),
        finding,
    }
}

thread_local! {
    /// Seconds: a window of a book that is fed takes ten.
    static NOW: Cell<i64> = const { Cell::new(0) };
}

/// Feeds windows of one path and gives a letter for each effect: raised, changed, cleared.
fn feed(book: &mut AlarmBook, path: PathId, findings: &[Option<Finding>]) -> String {
    let letters = findings.iter().flat_map(|finding| {
        let at = NOW.with(|now| {
            now.set(now.get() + 10);
            WallTime::from_unix_seconds(now.get())
        });
        let mut effects = book.regard(&assessment(path, finding.clone()), at, at);
        effects.extend(book.publish(at));
        effects
    });
    letters
        .map(|effect| match effect {
            AlarmEffect::Raised(_) => 'r',
            AlarmEffect::RaisedAgain { .. } => 'a',
            AlarmEffect::Changed { .. } => 'c',
            AlarmEffect::Cleared { .. } => 'x',
            AlarmEffect::Recorded { .. } | AlarmEffect::Corrected { .. } => 'l',
        })
        .collect()
}

#[test]
fn it_is_raised_after_the_hold_and_cleared_after_the_calm() {
    let mut book = AlarmBook::default();
    let bad = Some(finding(2, 200_000, 990_000));
    assert_eq!(feed(&mut book, path(1), &[bad.clone(), bad.clone()]), "");
    assert_eq!(feed(&mut book, path(1), std::slice::from_ref(&bad)), "r");
    assert_eq!(feed(&mut book, path(1), &[None, None, bad, None, None]), "");
    assert_eq!(feed(&mut book, path(1), &[None]), "x");
    assert!(book.open().is_empty());
}

#[test]
fn under_the_limit_or_unsure_raises_nothing() {
    let mut book = AlarmBook::default();
    let small = Some(finding(2, 10_000, 999_000));
    let unsure = Some(finding(2, 200_000, 700_000));
    assert_eq!(feed(&mut book, path(1), &vec![small; 9]), "");
    assert_eq!(feed(&mut book, path(1), &vec![unsure; 9]), "");
}

#[test]
fn one_place_is_one_alarm_however_many_paths_show_it() {
    let mut book = AlarmBook::default();
    let bad = vec![Some(finding(2, 200_000, 990_000)); 3];
    assert_eq!(feed(&mut book, path(1), &bad), "r");
    assert_eq!(feed(&mut book, path(2), &bad), "c");
    assert_eq!(book.open().len(), 1);
    assert_eq!(book.open()[0].paths, [path(1), path(2)]);
    assert_eq!(feed(&mut book, path(1), &[None, None, None]), "c");
    assert_eq!(book.open()[0].showing, [path(2)]);
    assert_eq!(book.open()[0].paths, [path(1), path(2)], "who showed it is not forgotten");
    assert_eq!(feed(&mut book, path(2), &[None, None, None]), "x");
}

#[test]
fn a_path_of_an_open_alarm_must_insist_before_another_place_is_believed() {
    let mut book = AlarmBook::default();
    let here = Some(finding(2, 200_000, 990_000));
    let there = Some(finding(3, 200_000, 990_000));
    assert_eq!(feed(&mut book, path(1), &vec![here.clone(); 3]), "r");
    assert_eq!(feed(&mut book, path(1), &vec![there.clone(); 5]), "");
    assert_eq!(feed(&mut book, path(1), &[here]), "");
    assert_eq!(feed(&mut book, path(1), &vec![there; 6]), "xr");
    assert_eq!(book.open().len(), 1);
}

#[test]
fn a_fading_fault_keeps_its_worst_figure_beside_the_present_one() {
    let mut book = AlarmBook::default();
    feed(&mut book, path(1), &vec![Some(finding(2, 200_000, 990_000)); 12]);
    feed(&mut book, path(1), &vec![Some(finding(2, 40_000, 990_000)); 12]);
    let alarm = &book.open()[0];
    assert_eq!((alarm.loss_ppm, alarm.worst_loss_ppm), (40_000, 200_000));
}

#[test]
fn figures_are_pooled_over_the_newest_windows_of_the_paths_that_show_it() {
    let mut book = AlarmBook::default();
    feed(&mut book, path(1), &vec![Some(finding(2, 200_000, 990_000)); 3]);
    feed(&mut book, path(2), &vec![Some(finding(2, 100_000, 990_000)); 3]);
    let alarm = &book.open()[0];
    assert_eq!((alarm.loss_counts.sent, alarm.loss_counts.lost), (1_000, 150));
    assert_eq!(alarm.loss_ppm, 150_000);
    feed(&mut book, path(1), &[None, None, None]);
    feed(&mut book, path(2), &[Some(finding(2, 100_000, 990_000))]);
    assert_eq!(book.open()[0].loss_ppm, 100_000, "a path that shows it no longer counts no longer");
}

#[test]
fn the_worst_severity_stays() {
    let mut book = AlarmBook::default();
    feed(&mut book, path(1), &vec![Some(finding(2, 40_000, 990_000)); 3]);
    assert_eq!(book.open()[0].severity, Severity::Minor);
    feed(&mut book, path(1), &[Some(finding(2, 600_000, 990_000))]);
    assert_eq!(book.open()[0].severity, Severity::Critical);
}

#[test]
fn a_path_over_the_place_of_an_open_alarm_has_to_insist_on_another() {
    let over = |numbers: &[u8], finding: Finding| {
        let hop = |number: &u8| HopView {
            hop: *number,
            address: Some([198, 18, 0, *number].into()),
            sent: 60,
            lost: 0,
            got_here_ppm: None,
            delay_us: None,
            delay_quartiles_us: None,
            usual_delay_us: None,
            verdict: HopVerdict::Clean,
        };
        let hops = numbers.iter().map(hop).collect();
        Assessment { hops, ..assessment(path(9), Some(finding)) }
    };
    // Windows until another place is alarmed, by a path that goes over the first one or not.
    for (numbers, windows) in [(&[1, 2, 3][..], 12), (&[4, 2, 3][..], 3)] {
        let mut book = AlarmBook::default();
        let bad = Some(finding(2, 200_000, 990_000));
        assert_eq!(feed(&mut book, path(1), &[bad.clone(), bad.clone(), bad]), "r");
        let beside = finding(3, 150_000, 930_000);
        let at = WallTime::default();
        let raised =
            (1..40).find(|_| !book.regard(&over(numbers, beside.clone()), at, at).is_empty());
        assert_eq!(raised, Some(windows), "{numbers:?}");
    }
}

const fn at(second: i64) -> WallTime {
    WallTime::from_unix_seconds(1_700_000_000 + second)
}

/// Windows of a path from one second on, which begins one.
fn windows_of(
    path: PathId,
    from_s: i64,
    findings: &[Option<Finding>],
) -> Vec<(i64, Arc<Assessment>)> {
    let window = |(index, finding): (i64, &Option<Finding>)| {
        let judged = Assessment { until: end_of(index), ..assessment(path, finding.clone()) };
        (index, Arc::new(judged))
    };
    (window_of(at(from_s))..).zip(findings).map(window).collect()
}

fn regard_all(book: &mut AlarmBook, windows: &[(i64, Arc<Assessment>)]) -> Vec<AlarmEffect> {
    let regard = |(index, a): &(i64, Arc<Assessment>)| {
        let mut effects = book.regard(a, beginning_of(*index), a.until);
        effects.extend(book.publish(a.until));
        effects
    };
    windows.iter().flat_map(regard).collect()
}

fn tick(book: &mut AlarmBook, now: WallTime, listening_since: WallTime) -> Vec<AlarmEffect> {
    let mut effects = book.on_clock(&LogClock { now, listening_since });
    effects.extend(book.publish(now));
    effects
}

/// A book with an alarm of two paths since second 0, raised at 30.
fn book_with_alarm() -> AlarmBook {
    let mut book = AlarmBook::default();
    let bad = vec![Some(finding(2, 200_000, 990_000)); 3];
    regard_all(&mut book, &windows_of(path(1), 0, &bad));
    regard_all(&mut book, &windows_of(path(2), 0, &bad));
    assert_eq!(book.publish(at(31)).len(), 1, "the second path");
    assert_eq!(book.open().len(), 1);
    book
}

#[test]
fn an_alarm_whose_paths_report_nothing_has_no_data_and_expires() {
    let mut book = book_with_alarm();
    assert_eq!(tick(&mut book, at(80), at(0)), []);
    let effects = tick(&mut book, at(90), at(0));
    assert!(matches!(&effects[..], [AlarmEffect::Changed { alarm, .. }]
        if alarm.no_data_since == Some(at(30))));
    assert_eq!(tick(&mut book, at(95), at(0)), [], "said once");
    // One path reports again.
    let again =
        regard_all(&mut book, &windows_of(path(2), 100, &[Some(finding(2, 200_000, 990_000))]));
    assert!(
        matches!(&again[0], AlarmEffect::Changed { alarm, .. } if alarm.no_data_since.is_none())
    );
    // The other does not: after the time to expire it is no evidence any more.
    regard_all(&mut book, &windows_of(path(2), 1_800, &[Some(finding(2, 200_000, 990_000))]));
    let effects = tick(&mut book, at(1_830), at(0));
    assert!(
        matches!(&effects[..], [AlarmEffect::Changed { alarm, .. }] if alarm.showing == [path(2)])
    );
    let key = book.open()[0].key;
    assert_eq!(tick(&mut book, at(1_810 + 120), at(0)).len(), 1, "no data");
    let now = at(1_810 + 1_800);
    assert_eq!(tick(&mut book, now, at(0)), [AlarmEffect::Cleared { key, at: now }]);
    assert!(book.open().is_empty());
}

#[test]
fn time_in_which_the_log_was_not_written_is_no_silence_of_paths() {
    let mut book = book_with_alarm();
    assert_eq!(tick(&mut book, at(7_200), at(7_195)), []);
    assert_eq!(tick(&mut book, at(7_255), at(7_195)).len(), 1);
}

#[test]
fn a_path_that_is_measured_seldom_may_be_silent_for_longer() {
    let mut book = AlarmBook::default();
    let bad = Some(finding(2, 200_000, 990_000));
    for minute in 0..5 {
        regard_all(&mut book, &windows_of(path(1), minute * 60, std::slice::from_ref(&bad)));
    }
    assert_eq!(book.open().len(), 1);
    assert_eq!(tick(&mut book, at(250 + 179), at(0)), []);
    assert_eq!(tick(&mut book, at(250 + 180), at(0)).len(), 1);
}

/// Twelve calm windows, `bad` ones, and twelve calm ones.
fn with_fault(bad: usize) -> Vec<Option<Finding>> {
    let calm = vec![None; 12];
    [calm.clone(), vec![Some(finding(2, 200_000, 990_000)); bad], calm].concat()
}

#[test]
fn a_fault_in_late_windows_becomes_one_record_however_many_paths_show_it() {
    let mut book = AlarmBook::default();
    let mut read = |number, from_s, bad, now_s| {
        let windows = windows_of(path(number), from_s, &with_fault(bad));
        book.read_again(path(number), &windows, at(now_s)).effects
    };
    assert_eq!(read(1, 0, 2, 900), []);
    let effects = read(1, 0, 6, 900);
    let [AlarmEffect::Recorded { alarm, cleared_at }] = &effects[..] else {
        panic!("{effects:?}");
    };
    assert_eq!((alarm.since, alarm.raised_at, *cleared_at), (at(120), at(150), at(210)));
    assert_eq!((alarm.recorded_at, &alarm.paths[..]), (Some(at(900)), &[path(1)][..]));
    assert_eq!(read(1, 0, 6, 960), [], "known");
    let effects = read(2, 20, 6, 960);
    let [AlarmEffect::Corrected { alarm: wider, cleared_at }] = &effects[..] else {
        panic!("{effects:?}");
    };
    assert_eq!((wider.key, wider.raised_at, wider.since), (alarm.key, alarm.raised_at, at(120)));
    assert_eq!((&wider.paths[..], *cleared_at), (&[path(1), path(2)][..], at(230)));
    // The same place an hour later is another fault.
    let effects = read(2, 3_600, 6, 4_900);
    assert!(matches!(effects[..], [AlarmEffect::Recorded { .. }]));
    assert!(book.open().is_empty());
}

#[test]
fn late_windows_of_a_fault_that_was_alarmed_or_is_not_over_make_no_record() {
    let mut book = book_with_alarm();
    let bad = vec![Some(finding(2, 200_000, 990_000)); 6];
    // It began before the alarm says, and another path shows it.
    let windows = windows_of(path(3), -60, &[bad.clone(), vec![None; 3]].concat());
    assert_eq!(book.read_again(path(3), &windows, at(60)).effects, []);
    assert!(matches!(&book.publish(at(60))[..], [AlarmEffect::Changed { alarm, .. }]
        if alarm.since == at(-60) && alarm.paths.contains(&path(3)) && alarm.showing.len() == 2));
    // A path of the alarm names another place meanwhile.
    let other = vec![Some(finding(3, 200_000, 990_000)); 6];
    let windows = windows_of(path(1), 0, &[other, vec![None; 3]].concat());
    assert_eq!(book.read_again(path(1), &windows, at(200)).effects, []);
    // It lasts, and the open alarm already has it.
    let mut book = book_with_alarm();
    let windows = windows_of(path(1), -60, &bad);
    let again = book.read_again(path(1), &windows, at(20));
    assert!(!again.unfinished, "the alarm ends by itself");
    assert!(matches!(&book.publish(at(60))[..], [AlarmEffect::Changed { alarm, .. }]
        if alarm.since == at(-60)));
    // Not over, as far as is known; over where no more is measured.
    let mut book = AlarmBook::default();
    let windows = windows_of(path(1), 0, &bad);
    let again = book.read_again(path(1), &windows, at(60));
    assert!(again.unfinished && again.effects.is_empty());
    let again = book.read_again(path(1), &windows, at(130));
    assert!(!again.unfinished);
    assert!(matches!(&again.effects[..], [AlarmEffect::Recorded { cleared_at, .. }]
        if *cleared_at == at(60)));
}

#[test]
fn what_shows_again_within_half_an_hour_is_the_same_alarm() {
    let mut book = AlarmBook::default();
    let bad = vec![Some(finding(2, 200_000, 990_000)); 3];
    let at = |book: &mut AlarmBook, path, minute: i64, findings: &[Option<Finding>]| {
        let now = WallTime::from_unix_seconds(minute * 60);
        let effects = findings
            .iter()
            .flat_map(|it| book.regard(&assessment(path, it.clone()), now, now))
            .collect::<Vec<_>>();
        assert_eq!(effects.len(), 1, "{effects:?}");
        effects.into_iter().next().unwrap()
    };
    let calm = [None, None, None];
    let AlarmEffect::Raised(first) = at(&mut book, path(1), 100, &bad) else { panic!() };
    for minute in [110, 130] {
        let cleared = at(&mut book, path(1), minute, &calm);
        assert!(matches!(cleared, AlarmEffect::Cleared { key, .. } if key == first.key));
        let again = at(&mut book, path(2), minute + 10, &bad);
        let AlarmEffect::RaisedAgain { alarm, at: again_at } = again else { panic!("{again:?}") };
        assert_eq!(again_at, WallTime::from_unix_seconds((minute + 10) * 60));
        assert_eq!((alarm.raised_at, alarm.since), (first.raised_at, first.since));
        assert_eq!((alarm.showing, alarm.paths), (vec![path(2)], vec![path(1), path(2)]));
        assert_eq!(book.past().count(), 0, "it is open");
        at(&mut book, path(2), minute + 11, &calm);
        at(&mut book, path(1), minute + 12, &bad);
    }
    at(&mut book, path(1), 150, &calm);
    let later = at(&mut book, path(1), 180, &bad);
    assert!(matches!(later, AlarmEffect::Raised(_)), "half an hour later it is another one");
}

#[test]
fn an_alarm_of_thousands_of_paths_is_published_now_and_then_and_loses_nothing() {
    const PATHS: u128 = 4_000;
    let mut book = AlarmBook::default();
    let mut published = 0;
    for second in 0..60 {
        let paths = (0..PATHS).skip(second % 10).step_by(10);
        let bad = finding(2, 200_000 + 2_000 * u32::try_from(second).unwrap(), 990_000);
        let second = i64::try_from(second).unwrap();
        for number in paths {
            let judged = assessment(path(number), Some(bad.clone()));
            book.regard(&judged, at(second), at(second));
        }
        let effects = book.publish(at(second));
        assert!(effects.len() <= 1, "one of an alarm at most");
        published += effects.len();
    }
    assert!((5..=20).contains(&published), "{published} times in 40 s");
    // A new severity is published at once, and the last figures before it clears.
    let worse = assessment(path(7), Some(finding(2, 700_000, 990_000)));
    book.regard(&worse, at(60), at(60));
    let effects = book.publish(at(60));
    assert!(matches!(&effects[..], [AlarmEffect::Changed { alarm, .. }]
        if alarm.severity == Severity::Critical && alarm.paths.len() == 4_000));
    let mut last = Vec::new();
    for number in 0..PATHS {
        for _ in 0..3 {
            last.extend(book.regard(&assessment(path(number), None), at(61), at(61)));
        }
    }
    assert!(matches!(&last[..], [AlarmEffect::Changed { alarm, .. }, AlarmEffect::Cleared { .. }]
        if alarm.showing == [path(PATHS - 1)] && alarm.paths.len() == 4_000));
}

/// A book by rules for all paths, of which the odd ones begin at Eskerry and the others at Dunverra.
fn ruled_book(rules: Vec<Rule>) -> AlarmBook {
    let ruled = |number: u128| {
        let site = if number % 2 == 1 { "Eskerry" } else { "Dunverra" };
        (path(number), RuledPath { site: site.to_owned(), service: "Bridge Voice".to_owned() })
    };
    let rules = Rules { rules, paths: (1..9).map(ruled).collect(), ..Rules::default() };
    let mut book = AlarmBook::default();
    book.set_rules(Limits::default(), Arc::new(rules), Arc::default());
    book
}

#[test]
fn a_path_is_judged_by_the_limits_of_its_rule_and_its_alarm_names_the_rule() {
    let limits = RuleLimits {
        loss_ratio: Some(Ratio::from_ppm(5_000)),
        hold_windows: Some(2),
        clear_windows: Some(1),
        ..RuleLimits::default()
    };
    let sites = vec!["Eskerry".to_owned()];
    let mut book =
        ruled_book(vec![Rule { name: "Voice".into(), sites, limits, ..Rule::default() }]);
    let mild = Some(finding(2, 9_000, 950_000));
    assert_eq!(feed(&mut book, path(2), &vec![mild.clone(); 20]), "", "as configured");
    assert_eq!(feed(&mut book, path(1), &[mild.clone(), mild]), "r");
    let applied = book.open()[0].applied.clone().unwrap();
    assert_eq!((applied.loss_ppm, applied.limits_by), (5_000, Some("Voice".to_owned())));
    assert_eq!(feed(&mut book, path(1), &[None]), "x", "by its own number of calm windows");
}

#[test]
fn severity_rises_with_the_sites_that_see_it_and_does_not_fall_while_it_is_open() {
    let step = |severity, sites| ImpactStep { severity, sites, services: None, paths: None };
    let severity = RuleSeverity { least: vec![step(Severity::Critical, Some(2))], most: None };
    let mut book = ruled_book(vec![Rule { name: "Wide".into(), severity, ..Rule::default() }]);
    let major = Some(finding(2, 80_000, 950_000));
    assert_eq!(feed(&mut book, path(1), &vec![major.clone(); 3]), "r");
    assert_eq!(feed(&mut book, path(3), &vec![major.clone(); 4]).matches('r').count(), 0);
    assert_eq!(book.open()[0].severity, Severity::Major, "both paths begin at one site");
    feed(&mut book, path(2), &vec![major; 4]);
    let seen = |book: &AlarmBook| {
        let applied = book.open()[0].applied.clone().unwrap();
        (book.open()[0].severity, applied.by_figures, applied.severity_by)
    };
    let wide = (Severity::Critical, Some(Severity::Major), Some("Wide".to_owned()));
    assert_eq!(seen(&book), wide);
    feed(&mut book, path(2), &vec![None; 4]);
    assert_eq!((book.open()[0].showing.len(), seen(&book)), (2, wide));
}

#[test]
fn the_most_of_a_rule_holds_for_worse_figures_too() {
    let severity = RuleSeverity { least: Vec::new(), most: Some(Severity::Minor) };
    let mut book = ruled_book(vec![Rule { name: "Lab".into(), severity, ..Rule::default() }]);
    feed(&mut book, path(1), &vec![Some(finding(2, 80_000, 950_000)); 3]);
    feed(&mut book, path(1), &vec![Some(finding(2, 600_000, 950_000)); 3]);
    let alarm = &book.open()[0];
    let by_figures = alarm.applied.as_ref().and_then(|it| it.by_figures);
    assert_eq!((alarm.severity, by_figures), (Severity::Minor, Some(Severity::Critical)));
}

#[test]
fn an_alarm_without_its_rule_has_the_severity_of_its_figures_again() {
    let severity = RuleSeverity { least: Vec::new(), most: Some(Severity::Minor) };
    let mut book = ruled_book(vec![Rule { name: "Lab".into(), severity, ..Rule::default() }]);
    let critical = Some(finding(2, 600_000, 950_000));
    feed(&mut book, path(1), &vec![critical.clone(); 3]);
    assert_eq!(book.open()[0].severity, Severity::Minor);
    book.set_rules(Limits::default(), Arc::default(), Arc::default());
    feed(&mut book, path(1), &[critical]);
    let alarm = &book.open()[0];
    let applied = alarm.applied.clone().unwrap();
    assert_eq!((alarm.severity, applied.by_figures), (Severity::Critical, None));
}

#[test]
fn figures_still_count_where_the_rule_selects_no_path_that_shows_it_any_more() {
    let severity = RuleSeverity { least: Vec::new(), most: Some(Severity::Minor) };
    let sites = vec!["Dunverra".to_owned()];
    let mut book =
        ruled_book(vec![Rule { name: "Lab".into(), sites, severity, ..Rule::default() }]);
    let major = Some(finding(2, 80_000, 950_000));
    feed(&mut book, path(2), &vec![major.clone(); 3]);
    feed(&mut book, path(1), &vec![major.clone(); 3]);
    assert_eq!(book.open()[0].severity, Severity::Minor);
    feed(&mut book, path(2), &vec![None; 3]);
    feed(&mut book, path(1), &[major]);
    assert_eq!(book.open()[0].severity, Severity::Major);
}
