//! What an agent reports every few seconds: one round of each of its paths.

use itinera_model::batch::Batch;
use itinera_model::id::{AgentId, BootId};
use itinera_model::protocol::Task;
use itinera_model::reading::Reading;
use itinera_model::round::{Clocks, HopCounts, Lateness, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use time::OffsetDateTime;

/// Hops of each path.
pub(crate) const HOPS: u8 = 20;

/// Hops, counted from 0, that all paths have in common.
const CORE: u8 = 6;
const CORE_END: u8 = 12;
/// The first hop, counted from 1, behind a link that all paths have in common.
#[allow(dead_code, reason = "not every bench has a fault there")]
pub(crate) const BEHIND_CORE: u8 = CORE + 4;

/// A report. From the hop `fault` on, all probes but the first of each hop are lost.
pub(crate) fn batch(
    agent: AgentId,
    number: u8,
    tasks: &[Task],
    (seq, at): (u64, OffsetDateTime),
    fault: Option<u8>,
) -> Batch {
    let boot = BootId::from_uuid(agent.as_uuid());
    let mut batch = Batch::new(agent, boot, seq);
    let clocks = Clocks {
        boot,
        tick: Tick::from_millis(at.unix_timestamp().cast_unsigned() * 1_000),
        wall: WallTime::from(at),
        offset_us: Some(0),
        offset_error_us: Some(500),
    };
    for (nth, task) in (0u64..).zip(tasks) {
        let flow = Flow {
            source: [10, 1, number, 2].into(),
            destination: task.address,
            method: task.method,
            source_port: 1,
            destination_port: 2,
            dscp: 0,
        };
        let resolution = Resolution { name: None, address: task.address };
        let last = u8::try_from(nth % 250).unwrap();
        let hop = |hop: u8| match hop {
            0..6 => [198, 18, number, hop + 1],
            CORE..CORE_END => [198, 19, hop, 1],
            _ => [198, 19, hop, last],
        };
        let hops = (0..HOPS - 1).map(|n| Some(hop(n).into()));
        let route = Route { hops: hops.chain([Some(task.address)]).collect() };
        // Delays that differ as measured ones do.
        let noise = |hop: u8, probe: u8| {
            let mixed = (seq ^ (nth << 8)).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (hop + probe);
            Micros::new(u32::from(hop) * 2_500 + u32::try_from(mixed % 700).unwrap())
        };
        let counts = |hop| {
            let answers = if fault.is_some_and(|fault| hop >= fault) { 1 } else { 3 };
            let rtt = (0..answers).map(|probe| noise(hop, probe)).collect();
            HopCounts { sent: 3, answered: (1 << answers) - 1, rtt, ..HopCounts::default() }
        };
        let round = Round {
            path: task.path,
            number: seq,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: None,
            reached_at: Some(HOPS),
            stamps: StampSource::Kernel,
            lateness: Some(Lateness::default()),
            hops: (1..=HOPS).map(counts).collect(),
        };
        batch.paths.add(round, &flow, &resolution, &route, &Reading { hops: Vec::new() });
    }
    batch
}
