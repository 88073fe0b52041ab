//! The book of alarms, window by window.

use super::*;
use itinera_model::finding::{HopVerdict, HopView};
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

/// Feeds windows of one path and gives a letter for each effect: raised, changed, cleared.
fn feed(book: &mut AlarmBook, path: PathId, findings: &[Option<Finding>]) -> String {
    let letters = findings.iter().flat_map(|finding| {
        let at = WallTime::default();
        book.regard(&assessment(path, finding.clone()), at, at)
    });
    letters
        .map(|effect| match effect {
            AlarmEffect::Raised(_) => 'r',
            AlarmEffect::Changed(_) => 'c',
            AlarmEffect::Cleared { .. } => 'x',
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
