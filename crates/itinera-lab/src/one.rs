//! One engine alone on a simulated internet, in virtual time.

use itinera_model::unit::Tick;
use itinera_probe::{Budget, Engine, Input};
use itinera_simnet::Simnet;

/// Steps after which an engine that does not come to rest is a bug.
const MAX_STEPS: u64 = 5_000_000;

/// Drives one engine until it rests or `until` comes, then stops it.
///
/// # Panics
/// When it does not come to rest: a bug of ours.
pub fn drive(engine: &mut impl Engine, net: &mut Simnet, budget: &mut Budget, until: Tick) {
    let mut packet = Vec::new();
    for _ in 0..MAX_STEPS {
        let next = engine.poll_deadline().into_iter().chain(net.poll_deadline()).min();
        let Some(now) = next.filter(|now| *now <= until) else {
            engine.handle(until, Input::Stop);
            return;
        };
        net.advance(now);
        while let Some(delivery) = net.poll_delivery() {
            let input = Input::Datagram { stamp: delivery.at, packet: &delivery.packet };
            engine.handle(now, input);
        }
        engine.handle(now, Input::Deadline);
        while let Some(token) = engine.poll_transmit(now, budget, &mut packet) {
            let outcome = match net.inject(now, &packet) {
                Ok(_) => Input::Sent { token, stamp: now },
                Err(_) => Input::NotSent { token },
            };
            engine.handle(now, outcome);
        }
    }
    #[allow(clippy::panic, reason = "a bug of ours, said at once")]
    {
        panic!("the engine does not come to rest");
    }
}
