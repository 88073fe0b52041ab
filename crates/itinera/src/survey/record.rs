//! What a survey keeps: everything measured, and the packets.
//!
//! Shape: eight bytes that name the format, then CBOR (RFC 8949) in zstd (RFC 8878).

use crate::exit::{Code, Failure};
use itinera_agent::{Captured, SurveyRound};
use itinera_model::codec::{decode, encode};
use itinera_model::ensemble::RouteEnsemble;
use itinera_model::id::ContentId;
use itinera_model::path::Method;
use itinera_model::path_mtu::PathMtu;
use itinera_model::reading::Reading;
use itinera_model::round_set::RoundSet;
use itinera_model::route::{Flow, Route};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::net::IpAddr;
use std::path::Path;

const MAGIC: &[u8; 8] = b"itinera1";
/// Bytes that a record may unpack to.
const MAX_UNPACKED: u64 = 1 << 30;

/// A packet as it went out or came in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Packet {
    /// Nanoseconds since 1970 by the machine's clock.
    pub(super) unix_nanos: u64,
    /// It is one of ours.
    pub(super) outgoing: bool,
    /// From the IP header on.
    #[serde(with = "octets")]
    pub(super) octets: Vec<u8>,
}

/// Bytes as one byte string, not as a list of numbers.
mod octets {
    use serde::de::{Error, Visitor};
    use serde::{Deserializer, Serializer};
    use std::fmt;

    pub(super) fn serialize<S: Serializer>(octets: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_bytes(octets)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        struct Octets;
        impl Visitor<'_> for Octets {
            type Value = Vec<u8>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a byte string")
            }
            fn visit_bytes<E: Error>(self, octets: &[u8]) -> Result<Vec<u8>, E> {
                Ok(octets.to_vec())
            }
            fn visit_byte_buf<E: Error>(self, octets: Vec<u8>) -> Result<Vec<u8>, E> {
                Ok(octets)
            }
        }
        from.deserialize_byte_buf(Octets)
    }
}

/// Everything a survey measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Record {
    /// The program that measured.
    pub(super) version: String,
    /// The target's name; absent where it was given by address.
    pub(super) name: Option<String>,
    /// Its address.
    pub(super) address: IpAddr,
    /// How it was probed.
    pub(super) method: Method,
    /// Port of UDP and TCP probes.
    pub(super) port: Option<u16>,
    /// DSCP that probes left with.
    pub(super) dscp: u8,
    /// Member routes, where they were asked for.
    pub(super) ensemble: Option<RouteEnsemble>,
    /// The MTU, where it was asked for.
    pub(super) path_mtu: Option<PathMtu>,
    /// Rounds by size of packet, the first size first.
    pub(super) by_size: Vec<(u16, RoundSet)>,
    /// Probes and answers.
    pub(super) packets: Vec<Packet>,
}

impl Record {
    pub(super) fn add_round(&mut self, size_bytes: u16, measured: SurveyRound) {
        let SurveyRound { round, flow, resolution, route, reading } = measured;
        if self.by_size.last().is_none_or(|(size, _)| *size != size_bytes) {
            self.by_size.push((size_bytes, RoundSet::default()));
        }
        if let Some((_, rounds)) = self.by_size.last_mut() {
            rounds.add(round, &flow, &resolution, &route, &reading);
        }
    }

    pub(super) fn add_packets(&mut self, captured: Vec<Captured>) {
        self.packets.extend(captured.into_iter().map(|captured| Packet {
            unix_nanos: u64::try_from(captured.unix_nanos).unwrap_or(0),
            outgoing: captured.outgoing,
            octets: captured.packet,
        }));
    }

    /// The rounds of the first size, which the finding is about.
    pub(super) fn main(&self) -> Option<&RoundSet> {
        self.by_size.first().map(|(_, rounds)| rounds)
    }

    pub(super) fn write(&self, mut file: File, name: &Path) -> Result<(), Failure> {
        let mut out = || -> std::io::Result<()> {
            file.write_all(MAGIC)?;
            let mut packed = zstd::Encoder::new(&mut file, 3)?;
            // So that damage is noticed wherever it is.
            packed.include_checksum(true)?;
            packed.write_all(&encode(self))?;
            packed.finish()?;
            file.sync_all()
        };
        out().map_err(|error| {
            Failure::new(Code::Failed, error).context(format!("cannot write {}", name.display()))
        })
    }

    pub(super) fn read(name: &Path) -> Result<Self, Failure> {
        let cannot = || format!("cannot read {}", name.display());
        let bad = |text: String| Failure::say(Code::BadFile, text).context(cannot());
        let octets = std::fs::read(name)
            .map_err(|error| Failure::new(Code::BadFile, error).context(cannot()))?;
        let Some(body) = octets.strip_prefix(MAGIC) else {
            return Err(bad("it is no record of a survey".to_owned()));
        };
        let mut unpacked = Vec::new();
        let decoder = zstd::Decoder::new(body).map_err(|error| bad(error.to_string()))?;
        let read = decoder.take(MAX_UNPACKED + 1).read_to_end(&mut unpacked);
        read.map_err(|error| bad(format!("it is damaged: {error}")))?;
        if unpacked.len() as u64 > MAX_UNPACKED {
            return Err(bad("it unpacks to more than a gibibyte".to_owned()));
        }
        let record: Self =
            decode(&unpacked).map_err(|error| bad(format!("it is damaged: {error}")))?;
        for (_, rounds) in &record.by_size {
            rounds.check().map_err(|error| bad(format!("it is damaged: {error}")))?;
        }
        Ok(record)
    }
}

/// What rounds refer to, by identity.
pub(super) struct Index<'a> {
    pub(super) routes: BTreeMap<ContentId, &'a Route>,
    pub(super) readings: BTreeMap<ContentId, &'a Reading>,
    pub(super) flows: BTreeMap<ContentId, &'a Flow>,
}

impl<'a> Index<'a> {
    pub(super) fn of(set: &'a RoundSet) -> Self {
        Self {
            routes: set.routes.iter().map(|route| (route.id(), route)).collect(),
            readings: set.readings.iter().map(|reading| (reading.id(), reading)).collect(),
            flows: set.flows.iter().map(|flow| (flow.id(), flow)).collect(),
        }
    }
}

/// Makes a file that must not exist yet, so that nothing measured earlier is lost.
pub(super) fn create(name: &Path) -> Result<File, Failure> {
    OpenOptions::new().write(true).create_new(true).open(name).map_err(|error| {
        let text = match error.kind() {
            std::io::ErrorKind::AlreadyExists => {
                format!("{} exists already; choose another name", name.display())
            }
            _ => format!("cannot make {}", name.display()),
        };
        Failure::new(Code::BadFile, error).context(text)
    })
}
