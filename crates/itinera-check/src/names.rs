//! Names: each resolver is asked by itself, so that they can be compared.

use crate::net::{Net, why_ended, why_not_open};
use crate::{Asker, Break, CheckProgress, since};
use hickory_proto::op::{Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};
use itinera_model::check::{AskName, MAX_ITEMS, Resolved, Step, Why};
use itinera_model::path::Family;
use itinera_model::unit::Micros;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// Where resolvers listen.
const PORT: u16 = 53;
/// Resolvers asked at most.
const MAX_RESOLVERS: usize = 8;
/// A datagram that gets lost is sent again so often.
const TRIES: u32 = 2;

/// Asks one resolver for the addresses of a name; waits `wait` at most.
///
/// Source: RFC 1035 section 4; answers cut short are asked for again by TCP (RFC 7766).
pub async fn resolve(net: &Net, resolver: IpAddr, question: &AskName, wait: Duration) -> Resolved {
    let begun = Instant::now();
    let mut resolved = Resolved {
        resolver,
        why: None,
        addresses: Vec::new(),
        ttl_s: None,
        authoritative: false,
        truncated: false,
        took_us: Micros::ZERO,
    };
    let kind = if question.ipv6 { RecordType::AAAA } else { RecordType::A };
    let asked = match Name::from_utf8(&question.name) {
        Ok(mut name) => {
            // As in answers, which repeat the question.
            name.set_fqdn(true);
            let asking = ask(net, resolver, Query::query(name, kind), question.tcp, wait);
            match tokio::time::timeout(wait, asking).await {
                Ok(asked) => asked,
                Err(_) => Err(Why::NoAnswer),
            }
        }
        Err(_) => Err(Why::NoSuchName),
    };
    resolved.took_us = since(begun);
    match asked {
        Ok((answer, truncated)) => {
            resolved.truncated = truncated;
            resolved.authoritative = answer.metadata.authoritative;
            read(&answer, kind, &mut resolved);
        }
        Err(why) => resolved.why = Some(why),
    }
    resolved
}

/// Asks, and gives the answer and whether it had to be asked for by TCP.
async fn ask(
    net: &Net,
    resolver: IpAddr,
    query: Query,
    tcp: bool,
    wait: Duration,
) -> Result<(Message, bool), Why> {
    let there = SocketAddr::new(resolver, PORT);
    let mut message = Message::new(rand::random(), MessageType::Query, OpCode::Query);
    message.metadata.recursion_desired = true;
    message.add_query(query);
    let octets = message.to_vec().map_err(|_| Why::NoSuchName)?;
    let answers = |octets: &[u8]| {
        let read = Message::from_vec(octets).ok()?;
        let same = read.metadata.id == message.metadata.id
            && read.metadata.message_type == MessageType::Response
            && read.queries == message.queries;
        same.then_some(read)
    };
    if tcp {
        return by_tcp(net, there, &octets, answers).await.map(|answer| (answer, false));
    }
    let mut last = Why::NoAnswer;
    for _ in 0..TRIES {
        match net.ask(&octets, there, wait / TRIES, answers).await {
            Ok(answer) if answer.metadata.truncation => {
                return by_tcp(net, there, &octets, answers).await.map(|answer| (answer, true));
            }
            Ok(answer) => return Ok((answer, false)),
            Err(error) => last = why_not_open(&error),
        }
    }
    Err(last)
}

async fn by_tcp(
    net: &Net,
    there: SocketAddr,
    octets: &[u8],
    answers: impl Fn(&[u8]) -> Option<Message>,
) -> Result<Message, Why> {
    let mut stream = net.connect(there).await.map_err(|error| why_not_open(&error))?;
    let talking = async {
        let length = u16::try_from(octets.len()).map_err(|_| io::ErrorKind::InvalidInput)?;
        stream.write_all(&length.to_be_bytes()).await?;
        stream.write_all(octets).await?;
        let length = stream.read_u16().await?;
        let mut answer = vec![0; usize::from(length)];
        stream.read_exact(&mut answer).await?;
        io::Result::Ok(answer)
    };
    let answer = talking.await.map_err(|error| why_ended(&error))?;
    answers(&answer).ok_or(Why::NotThisProtocol)
}

fn read(answer: &Message, kind: RecordType, resolved: &mut Resolved) {
    let fails = match answer.metadata.response_code {
        ResponseCode::NoError => None,
        ResponseCode::NXDomain => Some(Why::NoSuchName),
        ResponseCode::Refused => Some(Why::Refused),
        _ => Some(Why::ResolverFailed),
    };
    if fails.is_some() {
        resolved.why = fails;
        return;
    }
    for record in answer.answers.iter().filter(|record| record.record_type() == kind) {
        let address = match &record.data {
            RData::A(four) => IpAddr::V4(four.0),
            RData::AAAA(six) => IpAddr::V6(six.0),
            _ => continue,
        };
        if resolved.addresses.len() < MAX_ITEMS {
            resolved.addresses.push(address);
        }
        let ttl = record.ttl;
        resolved.ttl_s = Some(resolved.ttl_s.map_or(ttl, |known| known.min(ttl)));
    }
    if resolved.addresses.is_empty() {
        resolved.why = Some(Why::NoAddress);
    }
}

impl Asker {
    /// Asks every resolver at once, and compares.
    pub(crate) async fn names(
        &self,
        question: &AskName,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let named = &question.resolvers;
        let mut resolvers = if named.is_empty() { &self.resolvers } else { named }.clone();
        resolvers.extend(question.beside.iter().filter(|one| !self.resolvers.contains(one)));
        resolvers.retain(|resolver| self.may_go(*resolver));
        let mut asking = tokio::task::JoinSet::new();
        for (nth, resolver) in resolvers.into_iter().take(MAX_RESOLVERS).enumerate() {
            let (net, question, wait) = (self.net.clone(), question.clone(), self.patience.step);
            asking.spawn(async move { (nth, resolve(&net, resolver, &question, wait).await) });
        }
        let begun = Instant::now();
        let mut answers = asking.join_all().await;
        answers.sort_by_key(|(nth, _)| *nth);
        course.seen.resolved = answers.into_iter().map(|(_, answer)| answer).collect();
        course.done(Step::Name, begun);
        let answers = &course.seen.resolved;
        if answers.is_empty() {
            return Err((Step::Name, Why::ResolverFailed));
        }
        if let Some(why) = answers.iter().find_map(|answer| answer.why) {
            return Err((Step::Name, why));
        }
        if disagree(answers) { Err((Step::Name, Why::Disagree)) } else { Ok(()) }
    }

    /// The address that a name gives this machine's programs.
    pub(crate) async fn look_up(&self, name: &str, family: Option<Family>) -> Result<IpAddr, Why> {
        if let Net::Kernel { .. } = self.net {
            return by_system(name, family, self.patience.step).await;
        }
        let mut last = Why::ResolverFailed;
        for resolver in &self.resolvers {
            let question = AskName::of(name.to_owned(), family == Some(Family::Ipv6));
            // As programs do: the next resolver is asked only where one says nothing.
            let answer = resolve(&self.net, *resolver, &question, self.patience.step).await;
            match (answer.addresses.first(), answer.why) {
                (Some(address), _) => return Ok(*address),
                (None, Some(why @ (Why::NoSuchName | Why::NoAddress))) => return Err(why),
                (None, why) => last = why.unwrap_or(Why::NoAddress),
            }
        }
        Err(last)
    }
}

/// True when two resolvers gave addresses and have none in common.
fn disagree(answers: &[Resolved]) -> bool {
    let apart =
        |a: &Resolved, b: &Resolved| a.addresses.iter().all(|one| !b.addresses.contains(one));
    answers.iter().enumerate().any(|(n, a)| answers[n + 1..].iter().any(|b| apart(a, b)))
}

/// As the machine's programs resolve names: its files and its resolvers.
async fn by_system(name: &str, family: Option<Family>, wait: Duration) -> Result<IpAddr, Why> {
    let looking = tokio::time::timeout(wait, tokio::net::lookup_host((name, 0))).await;
    match looking {
        Err(_) => Err(Why::NoAnswer),
        // The C library tells causes apart in words only; a name check does it properly.
        Ok(Err(_)) => Err(Why::ResolverFailed),
        Ok(Ok(mut found)) => found
            .find(|at| family.is_none_or(|family| family == Family::of(at.ip())))
            .map(|at| at.ip())
            .ok_or(Why::NoAddress),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn answer() -> Message {
        let name = Name::from_utf8("booking.corriven.example").unwrap();
        let mut message = Message::new(7, MessageType::Response, OpCode::Query);
        message.add_query(Query::query(name.clone(), RecordType::A));
        for last in [10, 11] {
            let data = RData::A(std::net::Ipv4Addr::new(198, 18, 128, last).into());
            message.add_answer(hickory_proto::rr::Record::from_rdata(name.clone(), 60, data));
        }
        message
    }

    fn empty() -> Resolved {
        Resolved {
            resolver: [198, 18, 0, 53].into(),
            why: None,
            addresses: Vec::new(),
            ttl_s: None,
            authoritative: false,
            truncated: false,
            took_us: Micros::ZERO,
        }
    }

    proptest! {
        /// What a resolver sends is foreign: any damage is refused or read calmly.
        #[test]
        fn damaged_answers_are_read_calmly(at in 0usize..80, flip in 1u8..=255, cut in 0usize..80) {
            let mut octets = answer().to_vec().unwrap();
            let at = at % octets.len();
            octets[at] ^= flip;
            octets.truncate(octets.len().saturating_sub(cut));
            if let Ok(read_back) = Message::from_vec(&octets) {
                let mut resolved = empty();
                read(&read_back, RecordType::A, &mut resolved);
                prop_assert!(resolved.addresses.len() <= MAX_ITEMS);
            }
        }
    }

    #[test]
    fn resolvers_disagree_only_without_any_address_in_common() {
        let with = |lasts: &[u8]| Resolved {
            addresses: lasts.iter().map(|last| IpAddr::from([198, 18, 128, *last])).collect(),
            ..empty()
        };
        assert!(!disagree(&[with(&[1, 2]), with(&[2, 3])]));
        assert!(disagree(&[with(&[1, 2]), with(&[2]), with(&[3])]));
        let mut read_back = empty();
        read(&answer(), RecordType::A, &mut read_back);
        assert_eq!((read_back.addresses.len(), read_back.ttl_s), (2, Some(60)));
    }
}
