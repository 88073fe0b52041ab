//! What an agent uploads: rounds with everything they refer to, in one self-contained batch.

use crate::check::CheckRound;
use crate::codec::DecodeError;
use crate::diagnosis::DiagnosisReport;
use crate::host_facts::HostFactsRound;
use crate::id::{AgentId, BootId, CheckId, PairId, PathId};
use crate::reading::Reading;
use crate::round::Round;
use crate::round_set::RoundSet;
use crate::route::{Flow, Resolution, Route};
use crate::throughput::ThroughputRound;
use crate::two_way::{PairRoute, TwoWayRound};
use serde::{Deserialize, Serialize};

/// Rounds of one agent. (agent, boot, seq) names it for ever: a second copy is the same batch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "FlatBatch")]
pub struct Batch {
    /// The agent.
    pub agent: AgentId,
    /// In which run.
    pub boot: BootId,
    /// Consecutive number of the batch in that run.
    pub seq: u64,
    /// Rounds the agent had to drop since its start because its spool was full.
    pub dropped_rounds: u64,
    /// Tasks that the agent does not do: its site does not allow them, or a name says nothing.
    pub refused: Vec<RefusedTask>,
    /// Rounds of paths, with what they refer to.
    #[serde(flatten)]
    pub paths: RoundSet,
    /// Rounds of two-way measurement.
    pub two_way: Vec<TwoWayRound>,
    /// Routes of pairs, in the direction in which the agent sends.
    pub pair_routes: Vec<PairRoute>,
    /// What services answered.
    pub checks: Vec<CheckRound>,
    /// What the agent found around it.
    #[serde(rename = "surroundings")]
    pub host_facts: Vec<HostFactsRound>,
    /// Progress of diagnoses.
    #[serde(rename = "outward")]
    pub diagnoses: Vec<DiagnosisReport>,
    /// How much got through.
    pub throughput: Vec<ThroughputRound>,
}

/// A batch as it is encoded, with the fields of its [`RoundSet`] beside the others. Flattening
/// while decoding would keep a second copy of every round.
#[derive(Deserialize)]
struct FlatBatch {
    agent: AgentId,
    boot: BootId,
    seq: u64,
    dropped_rounds: u64,
    #[serde(default)]
    refused: Vec<RefusedTask>,
    flows: Vec<Flow>,
    resolutions: Vec<Resolution>,
    routes: Vec<Route>,
    #[serde(default)]
    readings: Vec<Reading>,
    rounds: Vec<Round>,
    #[serde(default)]
    two_way: Vec<TwoWayRound>,
    #[serde(default)]
    pair_routes: Vec<PairRoute>,
    #[serde(default)]
    checks: Vec<CheckRound>,
    #[serde(default, rename = "surroundings")]
    host_facts: Vec<HostFactsRound>,
    #[serde(default, rename = "outward")]
    diagnoses: Vec<DiagnosisReport>,
    #[serde(default)]
    throughput: Vec<ThroughputRound>,
}

impl From<FlatBatch> for Batch {
    fn from(flat: FlatBatch) -> Self {
        let FlatBatch { flows, resolutions, routes, readings, rounds, .. } = flat;
        Self {
            agent: flat.agent,
            boot: flat.boot,
            seq: flat.seq,
            dropped_rounds: flat.dropped_rounds,
            refused: flat.refused,
            paths: RoundSet { flows, resolutions, routes, readings, rounds },
            two_way: flat.two_way,
            pair_routes: flat.pair_routes,
            checks: flat.checks,
            host_facts: flat.host_facts,
            diagnoses: flat.diagnoses,
            throughput: flat.throughput,
        }
    }
}

/// A task that an agent does not do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RefusedTask {
    /// The task's path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<PathId>,
    /// The pair, where it is about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pair: Option<PairId>,
    /// The check, where it is about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<CheckId>,
    /// Why not, in words.
    pub reason: String,
}

impl RefusedTask {
    /// About a check.
    pub const fn of_check(check: CheckId, reason: String) -> Self {
        Self { path: None, pair: None, check: Some(check), reason }
    }

    /// About a path.
    pub const fn of_path(path: PathId, reason: String) -> Self {
        Self { path: Some(path), pair: None, check: None, reason }
    }

    /// About a pair.
    pub const fn of_pair(pair: PairId, reason: String) -> Self {
        Self { path: None, pair: Some(pair), check: None, reason }
    }
}

/// Refusals that one batch may tell of, and bytes of a reason.
const MAX_REFUSED: usize = 10_000;
const MAX_REASON: usize = 200;
/// Rounds of every kind that one batch may have; agents put 500 into one.
const MAX_ROUNDS: usize = 10_000;
/// Progress reports of diagnoses in one batch at most.
const MAX_DIAGNOSES: usize = 1_000;

impl Batch {
    /// A batch without rounds, from an agent that has dropped none.
    pub fn new(agent: AgentId, boot: BootId, seq: u64) -> Self {
        Self {
            agent,
            boot,
            seq,
            dropped_rounds: 0,
            refused: Vec::new(),
            paths: RoundSet::default(),
            two_way: Vec::new(),
            pair_routes: Vec::new(),
            checks: Vec::new(),
            host_facts: Vec::new(),
            diagnoses: Vec::new(),
            throughput: Vec::new(),
        }
    }

    /// Rounds of every kind.
    pub const fn len(&self) -> usize {
        self.paths.rounds.len()
            + self.two_way.len()
            + self.pair_routes.len()
            + self.checks.len()
            + self.host_facts.len()
    }

    /// True without any round.
    pub const fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Checks every round against the batch's own tables.
    ///
    /// # Errors
    /// [`DecodeError::Round`] naming the first round that refers to something the batch does
    /// not hold, or with contradictory counts; [`DecodeError::TwoWay`] likewise.
    pub fn check(&self) -> Result<(), DecodeError> {
        let refuse = |text: &str| {
            Err(DecodeError::Cbor(ciborium::de::Error::Semantic(None, text.to_owned())))
        };
        if self.len() > MAX_ROUNDS || self.throughput.len() > MAX_ROUNDS {
            return refuse("more than 10,000 rounds");
        }
        let long = |refused: &RefusedTask| refused.reason.len() > MAX_REASON;
        if self.refused.len() > MAX_REFUSED || self.refused.iter().any(long) {
            return refuse("more than 10,000 refused tasks, or a reason of more than 200 bytes");
        }
        for round in &self.two_way {
            let refuse = |reason| {
                Err(DecodeError::TwoWay { pair: round.pair, number: round.number, reason })
            };
            if round.clocks.boot != self.boot {
                return refuse("belongs to another boot than its batch");
            }
            if let Some(reason) = round.contradiction() {
                return refuse(reason);
            }
        }
        let other = |boot: BootId| boot != self.boot;
        let odd = |it: &PairRoute| other(it.clocks.boot) || it.contradiction().is_some();
        if self.pair_routes.iter().any(odd) {
            return refuse("a route of a pair of another boot, or with more hops than hop limits");
        }
        if self.checks.iter().any(|round| other(round.clocks.boot) || !round.result.is_bounded()) {
            return refuse("a check's result of another boot, or longer than any agent makes it");
        }
        if self.host_facts.iter().any(|it| other(it.clocks.boot) || !it.host_facts.is_bounded()) {
            return refuse("host facts of another boot, or longer than any agent makes them");
        }
        let odd = |it: &ThroughputRound| other(it.clocks.boot) || it.word.contradiction().is_some();
        if self.throughput.iter().any(odd) {
            return refuse("a throughput of another boot, or one that contradicts itself");
        }
        if self.diagnoses.len() > MAX_DIAGNOSES
            || !self.diagnoses.iter().all(DiagnosisReport::is_bounded)
        {
            return refuse("diagnoses that are longer than any agent makes them");
        }
        if let Some(round) = self.paths.rounds.iter().find(|it| it.clocks.boot != self.boot) {
            let reason = "belongs to another boot than its batch";
            return Err(DecodeError::Round { path: round.path, number: round.number, reason });
        }
        self.paths.check()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{CheckResult, Step, Why};
    use crate::codec::{decode, encode};
    use crate::diagnosis::DiagnosisUpdate;
    use crate::host_facts::HostFacts;
    use crate::id::{CheckId, DiagnosisId, ThroughputId};
    use crate::path::Method;
    use crate::reading::HopReading;
    use crate::round::{Clocks, HopCounts, StampSource};
    use crate::throughput::ThroughputWord;
    use crate::two_way::Direction;
    use crate::unit::{Micros, Tick, WallTime};
    use proptest::prelude::*;
    use uuid::Uuid;

    fn sample() -> Batch {
        let address = [198, 18, 0, 1].into();
        let flow = Flow {
            source: address,
            destination: address,
            method: Method::IcmpEcho,
            source_port: 1,
            destination_port: 2,
            dscp: 0,
        };
        let resolution = Resolution { name: None, address };
        let route = Route { hops: vec![Some(address), None] };
        let hop = HopReading { quoted_dscp: Some(46), ..HopReading::default() };
        let reading = Reading { hops: vec![hop] };
        let boot = BootId::from_uuid(Uuid::from_u128(7));
        let clocks = Clocks {
            boot,
            tick: Tick::from_millis(5),
            wall: WallTime::from_unix_seconds(-1),
            offset_us: Some(-3),
            offset_error_us: None,
        };
        let hop =
            HopCounts { sent: 1, answered: 1, rtt: vec![Micros::new(9)], ..HopCounts::default() };
        let round = Round {
            path: PathId::from_uuid(Uuid::from_u128(3)),
            number: 4,
            clocks,
            flow: flow.id(),
            resolution: resolution.id(),
            route: route.id(),
            reading: Some(reading.id()),
            reached_at: None,
            stamps: StampSource::Virtual,
            lateness: None,
            hops: vec![hop],
        };
        let mut batch = Batch::new(AgentId::from_uuid(Uuid::from_u128(1)), boot, 0);
        batch.paths.add(round, &flow, &resolution, &route, &reading);
        batch.checks.push(CheckRound {
            check: CheckId::from_uuid(Uuid::from_u128(5)),
            number: 0,
            clocks,
            result: CheckResult {
                spoke_to: Some((address, 443).into()),
                ..CheckResult::broke(Step::Tls, Why::CertificateExpired)
            },
            late_us: None,
        });
        batch.pair_routes.push(PairRoute {
            pair: PairId::from_uuid(Uuid::from_u128(9)),
            direction: Direction::Return,
            clocks,
            hops: vec![Some(address), None],
        });
        let host_facts = HostFacts { resolvers: vec![address], ..HostFacts::default() };
        batch.host_facts.push(HostFactsRound { clocks, host_facts, gateway: None });
        let id = DiagnosisId::from_uuid(Uuid::from_u128(6));
        batch.diagnoses.push(DiagnosisReport { id, word: DiagnosisUpdate::Swept(1, 6) });
        batch.throughput.push(ThroughputRound {
            id: ThroughputId::from_uuid(Uuid::from_u128(8)),
            clocks,
            word: ThroughputWord::Measured {
                sent_bytes: 2_000,
                received_bytes: 1_000,
                took_us: Micros::from_millis(1),
                packets: 2,
                lost: 1,
            },
            carried_bytes: Some([1, 2]),
        });
        batch
    }

    #[test]
    fn what_no_agent_would_say_besides_is_refused() {
        type Change = fn(&mut Batch);
        let cases: [(Change, &str); 9] = [
            (|it| it.checks = vec![it.checks[0].clone(); 10_001], "more than 10,000 rounds"),
            (|it| it.checks[0].clocks.boot = BootId::from_uuid(Uuid::nil()), "a check's result"),
            (|it| it.checks[0].result.seen.said = Some("x".repeat(100_000)), "a check's result"),
            (|it| it.host_facts[0].host_facts.host_name = "x".repeat(10_000), "host facts"),
            (|it| it.pair_routes[0].hops = vec![None; 65], "route of a pair"),
            (
                |it| it.pair_routes[0].clocks.boot = BootId::from_uuid(Uuid::nil()),
                "route of a pair",
            ),
            (|it| it.diagnoses[0].word = DiagnosisUpdate::Failed("x".repeat(10_000)), "diagnoses"),
            (|it| it.throughput[0].word = ThroughputWord::Failed("x".repeat(999)), "throughput"),
            (
                |it| match &mut it.throughput[0].word {
                    ThroughputWord::Measured { received_bytes, .. } => *received_bytes = 2_001,
                    ThroughputWord::Failed(_) => {}
                },
                "throughput",
            ),
        ];
        for (change, words) in cases {
            let mut batch = sample();
            change(&mut batch);
            let text = format!("{:?}", batch.check().unwrap_err());
            assert!(text.contains(words), "{words}: {text}");
        }
    }

    #[test]
    fn a_batch_survives_its_encoding_and_its_check() {
        let batch = sample();
        let back: Batch = decode(&encode(&batch)).unwrap();
        assert_eq!(back, batch);
        back.check().unwrap();
    }

    #[test]
    fn the_encoding_has_the_fields_of_the_round_set_beside_the_others() {
        let fields: ciborium::Value = decode(&encode(&sample())).unwrap();
        let fields = fields.into_map().unwrap();
        let mut names: Vec<_> =
            fields.into_iter().map(|(name, _)| name.into_text().unwrap()).collect();
        names.sort();
        let expected = "agent boot checks dropped_rounds flows outward pair_routes readings refused \
                        resolutions rounds routes seq surroundings throughput two_way";
        assert_eq!(names.join(" "), expected);
    }

    #[test]
    fn a_round_set_is_read_from_a_batch_as_earlier_surveys_and_diagnoses_kept_it() {
        let batch = sample();
        let rounds: RoundSet = decode(&encode(&batch)).unwrap();
        assert_eq!(rounds, batch.paths);
        rounds.check().unwrap();
    }

    #[test]
    fn a_round_that_refers_outside_its_batch_is_named() {
        let mut batch = sample();
        batch.paths.routes.clear();
        let text = batch.check().unwrap_err().to_string();
        assert!(text.contains("round 4") && text.contains("route"), "{text}");
        let mut batch = sample();
        batch.paths.readings.clear();
        let text = batch.check().unwrap_err().to_string();
        assert!(text.contains("round 4") && text.contains("reading"), "{text}");
    }

    #[test]
    fn counts_that_contradict_are_refused() {
        let mut batch = sample();
        batch.paths.rounds[0].hops[0].answered = 3;
        assert!(batch.check().is_err());
    }

    #[test]
    fn another_codec_version_is_refused() {
        let mut octets = encode(&sample());
        octets[0] = 9;
        let error = decode::<Batch>(&octets).unwrap_err();
        assert!(matches!(error, DecodeError::Version { found: 9 }));
    }

    proptest! {
        #[test]
        fn damaged_octets_are_refused_or_read_calmly(at in 0usize..400, flip in 1u8..=255, cut in 0usize..400) {
            let mut octets = encode(&sample());
            let at = at % octets.len();
            octets[at] ^= flip;
            octets.truncate(octets.len().saturating_sub(cut));
            if let Ok(batch) = decode::<Batch>(&octets) {
                let _calm = batch.check();
            }
        }

        #[test]
        fn every_truncation_is_refused(cut in 1usize..400) {
            let octets = encode(&sample());
            let end = octets.len().saturating_sub(cut);
            prop_assert!(decode::<Batch>(&octets[..end]).is_err());
        }
    }
}
