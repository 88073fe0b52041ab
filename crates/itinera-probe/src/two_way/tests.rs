//! Both engines with a line between them that does what each test says.

use super::*;
use crate::{Budget, Engine};
use itinera_model::two_way::OneWayDelay;
use itinera_model::unit::Micros;
use std::collections::BTreeMap;

const KEY: [u8; 32] = [3; 32];
const NEAR: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 18, 1, 1));
const FAR: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 18, 2, 1));
const MILLI: u64 = 1_000_000;

/// What becomes of the nth packet of a direction: each copy's delay in nanoseconds.
type Line = Box<dyn FnMut(usize, &mut Vec<u8>) -> Vec<u64>>;

struct Pair {
    sender: Sender,
    reflector: Reflector,
    lines: [Line; 2],
    passed: [usize; 2],
    in_flight: BTreeMap<(Tick, usize), (bool, Vec<u8>)>,
    now: Tick,
    rounds: Vec<TwoWay>,
}

fn config() -> SenderConfig {
    SenderConfig {
        addresses: Addresses::try_new(NEAR, FAR).unwrap(),
        ports: (59_862, 59_862),
        session: 9,
        key: KEY,
        dscp: 46,
        size_bytes: 300,
        interval: Micros::from_millis(20),
        packets: 20,
        regular: false,
        timeout: Micros::from_millis(500),
        clock: OwnClock { unix_nanos_at_zero: 1_700_000_000_000_000_000, drift_ppb: 0 },
        seed: 4,
    }
}

fn session() -> Session {
    Session {
        session: 9,
        key: KEY,
        interval: Micros::from_millis(20),
        opens_to: None,
        source: FAR,
        dscp: 46,
        size_bytes: 300,
    }
}

fn after(delay_ms: u64) -> Line {
    Box::new(move |_, _| vec![delay_ms * MILLI])
}

/// Every packet is lost whose number is one of these modulo the first.
fn loses(modulus: usize, which: &'static [usize], delay_ms: u64) -> Line {
    Box::new(
        move |n, _| {
            if which.contains(&(n % modulus)) { Vec::new() } else { vec![delay_ms * MILLI] }
        },
    )
}

impl Pair {
    fn new(forward: Line, back: Line) -> Self {
        Self::with_clock(forward, back, OwnClock { drift_ppb: 30_000, ..config().clock }, 80)
    }

    /// The reflector's clock is so much ahead at tick zero, and drifts.
    fn with_clock(forward: Line, back: Line, mut clock: OwnClock, ahead_ms: i64) -> Self {
        clock.unix_nanos_at_zero += ahead_ms * 1_000_000;
        let mut reflector = Reflector::new(59_862, clock);
        reflector.set_sessions(vec![session()], Tick::ZERO);
        Self {
            sender: Sender::new(config(), Tick::ZERO).unwrap(),
            reflector,
            lines: [forward, back],
            passed: [0, 0],
            in_flight: BTreeMap::new(),
            now: Tick::ZERO,
            rounds: Vec::new(),
        }
    }

    fn drain(&mut self) {
        let (mut out, mut budget) = (Vec::new(), Budget::unbounded());
        for is_back in [false, true] {
            loop {
                let engine: &mut dyn Engine =
                    if is_back { &mut self.reflector } else { &mut self.sender };
                let Some(token) = engine.poll_transmit(self.now, &mut budget, &mut out) else {
                    break;
                };
                engine.handle(self.now, Input::Sent { token, stamp: self.now });
                let direction = usize::from(is_back);
                let nth = self.passed[direction];
                self.passed[direction] += 1;
                for delay in (self.lines[direction])(nth, &mut out) {
                    let key = (self.now.plus_nanos(delay), self.in_flight.len() + nth * 1_000);
                    self.in_flight.insert(key, (is_back, out.clone()));
                }
            }
        }
    }

    fn run_until(&mut self, end_ms: u64) {
        let end = Tick::from_millis(end_ms);
        for _ in 0..1_000_000 {
            let arrival = self.in_flight.keys().next().map(|(at, _)| *at);
            let deadlines = [self.sender.poll_deadline(), self.reflector.poll_deadline()];
            let next = deadlines.into_iter().chain([arrival]).flatten().min();
            let Some(now) = next.filter(|now| *now <= end) else {
                return;
            };
            self.now = now.max(self.now);
            self.sender.handle(self.now, Input::Deadline);
            while let Some(entry) = self.in_flight.first_entry()
                && entry.key().0 <= self.now
            {
                let stamp = entry.key().0;
                let (is_back, packet) = entry.remove();
                let input = Input::Datagram { stamp, packet: &packet };
                if is_back {
                    self.sender.handle(self.now, input);
                } else {
                    self.reflector.handle(self.now, input);
                }
            }
            self.drain();
            while let Some(round) = self.sender.poll_event() {
                self.rounds.push(round);
            }
        }
        panic!("no rest");
    }

    fn sums(&self) -> [usize; 5] {
        let of = |count: fn(&TwoWay) -> u16| {
            self.rounds.iter().map(|round| usize::from(count(round))).sum::<usize>()
        };
        [
            of(|r| r.sent),
            of(|r| r.forward.lost),
            of(|r| r.return_.lost),
            of(|r| r.undetermined),
            of(|r| r.return_.arrived),
        ]
    }
}

#[test]
fn a_clean_line_shows_both_delays_and_bounds_of_the_far_clock() {
    let mut pair = Pair::new(after(10), after(15));
    pair.run_until(600_000);
    assert!(pair.rounds.len() > 1_000);
    for round in &pair.rounds {
        assert_eq!((round.sent, round.undetermined), (20, 0));
        for one in [&round.forward, &round.return_] {
            assert_eq!((one.arrived, one.lost, one.duplicated, one.reordered), (20, 0, 0, 0));
            assert_eq!((one.dscp.clone(), one.hop_limit), (vec![(46, 20)], Some(255)));
        }
        assert_eq!(round.round_trip_us.unwrap()[0], 25_000);
        let (clock, at) = (round.clock.unwrap(), round.started.as_nanos());
        let truth = 80_000 + i64::try_from(at / 1_000 * 30 / 1_000_000).unwrap();
        let off = (clock.offset_us - truth).unsigned_abs();
        assert!(off <= u64::from(clock.offset_error_us) + 20, "{off} {clock:?}");
        assert!(!clock.stepped);
    }
    let clock = pair.rounds.last().unwrap().clock.unwrap();
    let (drift, error) = (clock.drift_ppb.unwrap(), clock.drift_error_ppb.unwrap());
    assert!(drift.abs_diff(30_000) <= error, "{drift} {error}");
    let first = pair.rounds[0].clock.unwrap();
    assert_eq!(first.drift_ppb, None, "one round tells nothing of a drift");
    assert!(first.offset_error_us.abs_diff(12_500) < 200, "half the round trip: {first:?}");
}

#[test]
fn loss_is_counted_by_direction() {
    for (forward, back) in [
        (loses(10, &[3, 4, 9], 10), after(15)),
        (after(10), loses(10, &[0, 5, 6], 15)),
        (loses(7, &[1], 10), loses(5, &[2, 3], 15)),
    ] {
        let mut pair = Pair::new(forward, back);
        pair.run_until(20_000);
        let [sent, forward, back, undetermined, arrived] = pair.sums();
        assert!(undetermined <= 1, "only before the first answer");
        assert_eq!(sent, forward + back + undetermined + arrived);
        // What really occurred, as far as settled rounds go.
        let count = |line: &mut Line, of: usize| {
            (0..of).filter(|n| line(*n, &mut Vec::new()).is_empty()).count()
        };
        let really_forward = count(&mut pair.lines[0], sent);
        let reached = sent - really_forward;
        let really_back = count(&mut pair.lines[1], reached);
        assert!(forward.abs_diff(really_forward) <= 1, "{forward} {really_forward}");
        assert!(back.abs_diff(really_back) <= 1, "{back} {really_back}");
    }
}

#[test]
fn duplicates_and_reordering_are_counted_by_direction() {
    let odd = |swap: bool| -> Line {
        Box::new(move |n, _| match (n % 10, swap) {
            (4, true) => vec![60 * MILLI],
            (4, false) => vec![10 * MILLI, 11 * MILLI],
            _ => vec![10 * MILLI],
        })
    };
    let mut pair = Pair::new(odd(true), odd(false));
    pair.run_until(5_000);
    let round = &pair.rounds[3];
    assert_eq!((round.forward.reordered, round.forward.duplicated), (2, 0));
    assert_eq!((round.return_.reordered, round.return_.duplicated), (0, 2));
    let mut pair = Pair::new(odd(false), odd(true));
    pair.run_until(5_000);
    let round = &pair.rounds[3];
    assert_eq!((round.forward.reordered, round.return_.duplicated), (0, 0));
    assert!(round.forward.duplicated == 2 && round.return_.reordered >= 1, "{round:?}");
    assert_eq!((round.forward.lost, round.return_.lost, round.undetermined), (0, 0, 0));
}

#[test]
fn without_answers_the_direction_is_unknown_until_one_arrives() {
    let dark = |n: usize| (200..400).contains(&n);
    let forward: Line = Box::new(move |n, _| if dark(n) { Vec::new() } else { vec![10 * MILLI] });
    let mut pair = Pair::new(forward, after(15));
    pair.run_until(20_000);
    let [_, forward, back, undetermined, _] = pair.sums();
    assert_eq!((forward + undetermined, back), (200, 0));
    assert!(undetermined >= 120, "{undetermined}: dark rounds are not made up");
    // Rounds after it are as before it.
    assert!(pair.rounds.last().unwrap().undetermined == 0);
}

#[test]
fn a_dscp_rewritten_in_the_forward_direction_is_not_taken_for_the_return() {
    let marks: Line = Box::new(|_, packet| {
        ip::rewrite_dscp(packet, 0).unwrap();
        vec![10 * MILLI]
    });
    let mut pair = Pair::new(marks, after(15));
    pair.run_until(2_000);
    let round = &pair.rounds[0];
    assert_eq!((&round.forward.dscp, &round.return_.dscp), (&vec![(0, 20)], &vec![(46, 20)]));
}

#[test]
fn a_clock_that_is_set_is_no_fault_of_the_line() {
    let mut pair = Pair::new(after(10), after(15));
    pair.run_until(5_000);
    let before = pair.rounds.last().unwrap().clock.unwrap();
    pair.reflector.clock.unix_nanos_at_zero += 40 * 1_000_000;
    pair.run_until(10_000);
    let stepped: Vec<_> = pair.rounds.iter().filter(|r| r.clock.unwrap().stepped).collect();
    // The round in which it occurred holds both times.
    assert!((1..=2).contains(&stepped.len()), "{}", stepped.len());
    let after = pair.rounds.last().unwrap().clock.unwrap();
    assert!((after.offset_us - before.offset_us - 40_000).abs() < 200, "{before:?} {after:?}");
    assert!(pair.rounds.iter().all(|r| r.round_trip_us.unwrap()[0] <= 25_000));
}

#[test]
fn a_reflector_that_begins_anew_makes_no_losses_up() {
    let mut pair = Pair::new(loses(10, &[3], 10), after(15));
    pair.run_until(5_000);
    pair.reflector.set_sessions(Vec::new(), pair.now);
    pair.run_until(7_000);
    pair.reflector.set_sessions(vec![session()], pair.now);
    pair.run_until(15_000);
    let [_, forward, back, undetermined, _] = pair.sums();
    assert_eq!(back, 0);
    assert!(undetermined >= 80 && forward < 75, "{forward} {undetermined}");
}

#[test]
fn only_who_holds_the_key_is_answered_and_not_without_end() {
    let mut pair = Pair::new(after(10), after(15));
    let mut budget = Budget::unbounded();
    let mut out = Vec::new();
    let addresses = Addresses::try_new(NEAR, FAR).unwrap();
    let with = |key: [u8; 32], session: u16| {
        let sent = stamp::Sent {
            sequence: 0,
            stamp: stamp::Timestamp::default(),
            error: stamp::ErrorEstimate::UNKNOWN,
            session,
            class: None,
        };
        let mut packet = Vec::new();
        super::packet(addresses, (1, 59_862), 0, 300, |len| sent.emit(&key, len), &mut packet);
        packet
    };
    for packet in [with([4; 32], 9), with(KEY, 8)] {
        let input = Input::Datagram { stamp: Tick::ZERO, packet: &packet };
        assert!(!pair.reflector.handle(Tick::ZERO, input));
        assert_eq!(pair.reflector.poll_transmit(Tick::ZERO, &mut budget, &mut out), None);
    }
    let good = with(KEY, 9);
    let answered = (0..1_000)
        .filter(|n| {
            let now = Tick::from_nanos(*n * 1_000);
            pair.reflector.handle(now, Input::Datagram { stamp: now, packet: &good });
            pair.reflector.poll_transmit(now, &mut budget, &mut out).is_some()
        })
        .count();
    assert!((30..40).contains(&answered), "{answered}");
    assert!(out.len() <= good.len(), "an answer is no larger than what it answers");
}

#[test]
fn who_never_answers_is_hardly_asked() {
    let mut pair = Pair::new(loses(1, &[0], 0), after(15));
    pair.run_until(120_000);
    let [sent, forward, back, undetermined, _] = pair.sums();
    assert!((150..200).contains(&sent), "{sent} packets in two minutes");
    assert_eq!((forward, back), (0, 0));
    assert!(undetermined == sent);
    assert!(pair.rounds.iter().all(|r| r.clock.is_none() && r.round_trip_us.is_none()));
}

#[test]
fn a_hidden_reflector_opens_its_translation_and_gets_no_answer() {
    let mut reflector = Reflector::new(59_862, OwnClock::default());
    let opens_to = Some(SocketAddr::new(NEAR, 59_862));
    reflector.set_sessions(vec![Session { opens_to, ..session() }], Tick::ZERO);
    let mut sender = Sender::new(config(), Tick::ZERO).unwrap();
    let (mut out, mut budget) = (Vec::new(), Budget::unbounded());
    let mut opened = 0;
    for second in 0..60 {
        let now = Tick::from_millis(second * 1_000);
        while reflector.poll_transmit(now, &mut budget, &mut out).is_some() {
            opened += 1;
            assert_eq!(reflector.destination(), NEAR);
            assert!(!sender.handle(now, Input::Datagram { stamp: now, packet: &out }));
        }
    }
    assert_eq!(opened, 4);
}

#[test]
fn delays_of_synchronised_clocks_are_absolute_within_their_bound() {
    let mut pair = Pair::with_clock(after(10), after(40), config().clock, 0);
    pair.sender.set_synchronised(Some(300));
    pair.reflector.set_synchronised(Some(700));
    pair.run_until(3_000);
    let round = pair.rounds.last().unwrap();
    let bound = round.synchronised_us.unwrap();
    assert!((1_000..1_010).contains(&bound), "{bound}");
    let OneWayDelay { min_us, p95_us, .. } = round.forward.delay.unwrap();
    assert_eq!((min_us, p95_us), (10_000, 0));
}
