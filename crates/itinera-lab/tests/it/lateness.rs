//! Late agents: their lateness raises no alarm, and faults that exceed it are still located.

use crate::{END, alarms, check_alarms, live_only};
use itinera_lab::{Density, LabRun, run};
use itinera_model::finding::Cause;
use itinera_model::round::{Lateness, StampSource};
use itinera_model::unit::{Micros, Tick};
use itinera_simnet::Scenario;

fn calm() -> Scenario {
    Scenario::parse(&live_only().replace("loss = [0.15, 0.25]", "loss = [0, 0]")).unwrap()
}

/// From this time on, every agent's program is late.
const BUSY_FROM: Tick = Tick::from_millis(240_000);

/// Makes every program late by between half of `most_ms` and all of it in each round, as a program
/// is that waits for a processor. Programs that stamp packets themselves measure longer delays. An
/// answer that is read over 800 ms late is not read before its round has ended.
fn make_late(run: &mut LabRun, most_ms: u32, reports: bool) {
    for lab in &mut run.rounds {
        let round = &mut lab.round;
        round.stamps = StampSource::Program;
        round.lateness = reports.then(Lateness::default);
        if round.clocks.tick < BUSY_FROM {
            continue;
        }
        let (_, path) = round.path.as_uuid().as_u64_pair();
        let mix = (round.number ^ path << 9).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 44;
        let read_us = most_ms * 500 + u32::try_from(mix).unwrap() % (most_ms * 500);
        round.lateness = reports.then(|| Lateness { read_us, ..Lateness::default() });
        for hop in &mut round.hops {
            if read_us > 800_000 {
                (hop.answered, hop.rtt) = (0, Vec::new());
            }
            for rtt in &mut hop.rtt {
                *rtt = Micros::new(rtt.as_micros() + read_us);
            }
        }
    }
}

#[test]
fn late_programs_raise_no_alarm_where_nothing_is_wrong() {
    let calm = run(&calm(), 5, &Density::default(), END);
    assert_eq!(alarms(&calm), []);
    for most_ms in [40, 150, 1_600] {
        let mut late = calm.clone();
        make_late(&mut late, most_ms, true);
        assert_eq!(alarms(&late), [], "{most_ms} ms late");
        let mut unsaid = calm.clone();
        make_late(&mut unsaid, most_ms, false);
        assert_ne!(alarms(&unsaid), [], "{most_ms} ms late and not reported: the test can fail");
    }
}

#[test]
fn a_fault_that_exceeds_the_lateness_is_still_located() {
    let text = live_only().replace("loss = [0.15, 0.25]", "added_delay_ms = [60, 90]");
    for (text, cause) in [(text.as_str(), Cause::Delay), (live_only(), Cause::Loss)] {
        let mut late = run(&Scenario::parse(text).unwrap(), 4, &Density::default(), END);
        make_late(&mut late, 15, true);
        check_alarms(&late, cause, 4);
    }
}

#[test]
fn kernel_stamps_in_both_directions_make_lateness_harmless() {
    let text = live_only().replace("loss = [0.15, 0.25]", "added_delay_ms = [30, 60]");
    let mut late = run(&Scenario::parse(&text).unwrap(), 4, &Density::default(), END);
    for lab in &mut late.rounds {
        lab.round.stamps = StampSource::Kernel;
        let read_us = 900_000;
        lab.round.lateness = Some(Lateness { read_us, ..Lateness::default() });
    }
    check_alarms(&late, Cause::Delay, 4);
}
