//! What tests of the service share: a plan of measurement, an agent, rounds.

use crate::config::Config;
use itinera_model::alarm::{Alarm, AlarmKey, AlarmKind, Severity};
use itinera_model::batch::Batch;
use itinera_model::finding::{Cause, FaultDirection, LossCounts, Place};
use itinera_model::id::{AgentId, BootId, PathId};
use itinera_model::path::Method;
use itinera_model::reading::Reading;
use itinera_model::round::{Clocks, HopCounts, Round, StampSource};
use itinera_model::route::{Flow, Resolution, Route};
use itinera_model::unit::{Micros, Tick, WallTime};
use itinera_store::{NewAgent, Store};
use std::os::unix::fs::PermissionsExt;
use time::OffsetDateTime;
use uuid::Uuid;

/// A configuration with one site and two targets.
pub(crate) const PLAN: &str = r#"
    [[site]]
    name = "Quay"
    [[target]]
    name = "Berth 1"
    addresses = ["198.18.128.1"]
    [[target]]
    name = "Berth 2"
    addresses = ["198.18.128.2"]
"#;

/// Has an agent join at the first site; gives its paths.
pub(crate) async fn join(store: &Store, now: OffsetDateTime) -> (AgentId, Vec<PathId>) {
    let site = store.sites().await.unwrap().remove(0);
    let secret = [7; 32];
    let until = now + time::Duration::hours(1);
    store.add_join_code(secret, &site, now, until, "test").await.unwrap();
    let id = AgentId::from_uuid(Uuid::now_v7());
    let new = NewAgent { id, certificate_sha256: secret, version: "0".into() };
    store.redeem_join_code(secret, &new, now).await.unwrap();
    let tasks = store.schedule_for(id).await.unwrap().tasks;
    (id, tasks.into_iter().map(|task| task.path).collect())
}

/// What six hops gave in the round of a path at a second: three probes each, some lost behind the
/// third hop, delays that differ.
pub(crate) fn hops(path: usize, second: i64) -> Vec<HopCounts> {
    let mut mixed = second.cast_unsigned().wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ path as u64;
    let mut draw = |below: u64| {
        mixed = mixed.wrapping_mul(0xBF58_476D_1CE4_E5B9).rotate_left(31);
        u32::try_from(mixed % below).unwrap()
    };
    let hop = |hop: u32| {
        let lost = hop >= 3 && draw(50) == 0;
        let delay = |nth: u32| Micros::new(hop * 4_000 + 500 + nth * 30 + draw(700));
        HopCounts {
            sent: 3,
            answered: if lost { 0b011 } else { 0b111 },
            rtt: (0..if lost { 2 } else { 3 }).map(delay).collect(),
            late: u8::from(lost && draw(4) == 0),
            ..HopCounts::default()
        }
    };
    (0..6).map(hop).collect()
}

/// The report of an agent with one round of each path, measured two seconds before.
pub(crate) fn batch(agent: AgentId, paths: &[PathId], seq: u64, at: OffsetDateTime) -> Batch {
    let boot = BootId::from_uuid(Uuid::from_u128(5));
    let mut batch = Batch::new(agent, boot, seq);
    let second = at.unix_timestamp();
    for (nth, path) in paths.iter().enumerate() {
        let last = u8::try_from(nth).unwrap() + 1;
        let address = [198, 18, 128, last].into();
        let flow = Flow {
            source: [10, 0, 0, 2].into(),
            destination: address,
            method: Method::IcmpEcho,
            source_port: 1,
            destination_port: 2,
            dscp: 0,
        };
        let resolution = Resolution { name: None, address };
        let addresses = (1..=6).map(|hop| Some([198, 18, last, hop].into())).collect();
        let route = Route { hops: addresses };
        let clocks = Clocks {
            boot,
            tick: Tick::from_millis(seq * 1_000),
            wall: WallTime::from_unix_seconds(second - 2),
            offset_us: Some(0),
            offset_error_us: Some(10),
        };
        let round = Round {
            path: *path,
            number: seq,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: None,
            reached_at: Some(6),
            stamps: StampSource::Kernel,
            lateness: None,
            hops: hops(nth, second),
        };
        batch.paths.add(round, &flow, &resolution, &route, &Reading::default());
    }
    batch
}

/// A configuration with a private cluster in a directory.
pub(crate) fn config(data: &std::path::Path) -> Config {
    std::fs::set_permissions(data, PermissionsExt::from_mode(0o755)).unwrap();
    let mut config = Config::parse(PLAN).unwrap();
    config.data = data.to_owned();
    config.retention.rounds_days = 30;
    config
}

/// An open alarm of no path: 20 % loss at an unknown place.
pub(crate) fn alarm() -> Alarm {
    let at = WallTime::default();
    Alarm {
        key: AlarmKey { kind: AlarmKind::LimitHeldOver, cause: Cause::Loss, place: Place::Unknown },
        severity: Severity::Major,
        since: at,
        raised_at: at,
        confidence_ppm: 990_000,
        loss_ppm: 200_000,
        loss_counts: LossCounts::default(),
        direction: FaultDirection::Undetermined,
        indistinguishable: Vec::new(),
        reasons: Vec::new(),
        added_delay_us: Micros::ZERO,
        worst_loss_ppm: 200_000,
        worst_added_delay_us: Micros::ZERO,
        no_data_since: None,
        recorded_at: None,
        applied: None,
        showing: Vec::new(),
        paths: Vec::new(),
    }
}
