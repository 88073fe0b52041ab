//! Whatever comes to a reflector's and a sender's port: no panic, and nothing but what holds the
//! key is answered.
#![no_main]

use itinera_model::unit::{Micros, Tick};
use itinera_probe::two_way::{OwnClock, Reflector, Session};
use itinera_probe::{Budget, Engine, Input};
use itinera_wire::stamp;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|octets: &[u8]| {
    let key = [5; 32];
    let mut reflector = Reflector::new(59_862, OwnClock::default());
    let session = Session {
        session: 3,
        key,
        interval: Micros::from_millis(20),
        opens_to: None,
        source: [198, 18, 9, 9].into(),
        dscp: 0,
        size_bytes: 200,
    };
    reflector.set_sessions(vec![session], Tick::ZERO);
    let now = Tick::from_millis(1);
    reflector.handle(now, Input::Datagram { stamp: now, packet: octets });
    let mut answer = Vec::new();
    let answered = reflector.poll_transmit(now, &mut Budget::unbounded(), &mut answer).is_some();
    assert!(!answered || octets.len() > 28);
    let _calm = (stamp::Sent::parse(octets, &key), stamp::Reflected::parse(octets, &key));
});
