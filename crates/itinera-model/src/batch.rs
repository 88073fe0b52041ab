//! What an agent uploads: rounds with everything they refer to, in one self-contained batch.

use crate::check::CheckRound;
use crate::codec::DecodeError;
use crate::diagnosis::DiagnosisReport;
use crate::host_facts::HostFactsRound;
use crate::id::{AgentId, BootId, CheckId, ContentId, PairId, PathId};
use crate::reading::Reading;
use crate::round::Round;
use crate::route::{Flow, Resolution, Route};
use crate::throughput::ThroughputRound;
use crate::two_way::TwoWayRound;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

const MAX_HOPS: usize = 64;
const MAX_PROBES: usize = 16;

/// Rounds of one agent. (agent, boot, seq) names it for ever: a second copy is the same batch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Batch {
    /// Who measured.
    pub agent: AgentId,
    /// In which run.
    pub boot: BootId,
    /// Consecutive number of the batch in that run.
    pub seq: u64,
    /// Rounds the agent had to drop since its start because its spool was full.
    pub dropped_rounds: u64,
    /// Tasks that the agent does not do: its site does not allow them, or a name says nothing.
    #[serde(default)]
    pub refused: Vec<RefusedTask>,
    /// Flows referred to.
    pub flows: Vec<Flow>,
    /// Resolutions referred to.
    pub resolutions: Vec<Resolution>,
    /// Routes referred to.
    pub routes: Vec<Route>,
    /// Readings referred to.
    #[serde(default)]
    pub readings: Vec<Reading>,
    /// The rounds.
    pub rounds: Vec<Round>,
    /// Rounds of both ways between agents.
    #[serde(default)]
    pub two_way: Vec<TwoWayRound>,
    /// What services answered.
    #[serde(default)]
    pub checks: Vec<CheckRound>,
    /// What the agent found around it.
    #[serde(default, rename = "surroundings")]
    pub host_facts: Vec<HostFactsRound>,
    /// Progress of diagnoses.
    #[serde(default, rename = "outward")]
    pub diagnoses: Vec<DiagnosisReport>,
    /// How much got through.
    #[serde(default)]
    pub throughput: Vec<ThroughputRound>,
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
    pub const fn new(agent: AgentId, boot: BootId, seq: u64) -> Self {
        Self {
            agent,
            boot,
            seq,
            dropped_rounds: 0,
            refused: Vec::new(),
            flows: Vec::new(),
            resolutions: Vec::new(),
            routes: Vec::new(),
            readings: Vec::new(),
            rounds: Vec::new(),
            two_way: Vec::new(),
            checks: Vec::new(),
            host_facts: Vec::new(),
            diagnoses: Vec::new(),
            throughput: Vec::new(),
        }
    }

    /// Adds a round with what it refers to, each thing once.
    pub fn add(
        &mut self,
        round: Round,
        flow: &Flow,
        resolution: &Resolution,
        route: &Route,
        reading: &Reading,
    ) {
        if !self.flows.contains(flow) {
            self.flows.push(flow.clone());
        }
        if !self.resolutions.contains(resolution) {
            self.resolutions.push(resolution.clone());
        }
        if !self.routes.contains(route) {
            self.routes.push(route.clone());
        }
        if round.reading.is_some() && !self.readings.contains(reading) {
            self.readings.push(reading.clone());
        }
        self.rounds.push(round);
    }

    /// Rounds of every kind.
    pub const fn len(&self) -> usize {
        self.rounds.len() + self.two_way.len() + self.checks.len() + self.host_facts.len()
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
        let flows: BTreeSet<ContentId> = self.flows.iter().map(Flow::id).collect();
        let resolutions: BTreeSet<_> = self.resolutions.iter().map(Resolution::id).collect();
        let routes: BTreeSet<ContentId> = self.routes.iter().map(Route::id).collect();
        let readings: BTreeSet<ContentId> = self.readings.iter().map(Reading::id).collect();
        let refuse = |text: &str| {
            Err(DecodeError::Cbor(ciborium::de::Error::Semantic(None, text.to_owned())))
        };
        if self.len() > MAX_ROUNDS || self.throughput.len() > MAX_ROUNDS {
            return refuse("more than 10,000 rounds");
        }
        if self.routes.iter().any(|route| route.hops.len() > MAX_HOPS) {
            return refuse("a route of more than 64 hops");
        }
        let long = |refused: &RefusedTask| refused.reason.len() > MAX_REASON;
        if self.refused.len() > MAX_REFUSED || self.refused.iter().any(long) {
            return refuse("more than 10,000 refused tasks, or a reason of more than 200 bytes");
        }
        if self.readings.iter().any(|reading| !reading.is_bounded()) {
            return refuse("a reading of more than 64 hops, 16 labels or 64 bytes of a name");
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
        self.rounds.iter().try_for_each(|round| {
            let refuse =
                |reason| Err(DecodeError::Round { path: round.path, number: round.number, reason });
            if round.clocks.boot != self.boot {
                return refuse("belongs to another boot than its batch");
            }
            if !flows.contains(&round.flow) {
                return refuse("refers to a flow that is not in the batch");
            }
            if !resolutions.contains(&round.resolution) {
                return refuse("refers to a resolution that is not in the batch");
            }
            if !routes.contains(&round.route) {
                return refuse("refers to a route that is not in the batch");
            }
            if round.reading.is_some_and(|reading| !readings.contains(&reading)) {
                return refuse("refers to a reading that is not in the batch");
            }
            if round.hops.len() > MAX_HOPS {
                return refuse("has more than 64 hops");
            }
            if round.hops.iter().any(|hop| {
                hop.rtt.len() != hop.answered.count_ones() as usize
                    || usize::from(hop.sent) > MAX_PROBES
                    || hop.answers() > hop.sent
            }) {
                return refuse("has counts that contradict each other");
            }
            Ok(())
        })
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
        batch.add(round, &flow, &resolution, &route, &reading);
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
        let cases: [(Change, &str); 7] = [
            (|it| it.checks = vec![it.checks[0].clone(); 10_001], "more than 10,000 rounds"),
            (|it| it.checks[0].clocks.boot = BootId::from_uuid(Uuid::nil()), "a check's result"),
            (|it| it.checks[0].result.seen.said = Some("x".repeat(100_000)), "a check's result"),
            (|it| it.host_facts[0].host_facts.host_name = "x".repeat(10_000), "host facts"),
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
    fn a_round_that_refers_outside_its_batch_is_named() {
        let mut batch = sample();
        batch.routes.clear();
        let text = batch.check().unwrap_err().to_string();
        assert!(text.contains("round 4") && text.contains("route"), "{text}");
        let mut batch = sample();
        batch.readings.clear();
        let text = batch.check().unwrap_err().to_string();
        assert!(text.contains("round 4") && text.contains("reading"), "{text}");
    }

    #[test]
    fn counts_that_contradict_are_refused() {
        let mut batch = sample();
        batch.rounds[0].hops[0].answered = 3;
        assert!(batch.check().is_err());
    }

    #[test]
    fn another_codec_version_is_said() {
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
