//! Resolvers: what they answer to a question in a datagram or a stream.

use super::Service;
use crate::scenario::{Does, NameEntry};
use hickory_proto::op::{Message, MessageType, ResponseCode};
use hickory_proto::rr::{RData, Record, RecordType};
use itinera_model::unit::Tick;
use std::net::IpAddr;

/// What a resolver answers to a question's bytes (RFC 1035); nothing to what is no question, or
/// while it does not answer.
pub fn answer(service: &Service, question: &[u8], now: Tick) -> Option<Vec<u8>> {
    let does = service.does(now);
    let asked = Message::from_vec(question).ok()?;
    let query = asked.queries.first()?.clone();
    let mut answer = Message::new(asked.metadata.id, MessageType::Response, asked.metadata.op_code);
    answer.metadata.recursion_desired = asked.metadata.recursion_desired;
    answer.metadata.recursion_available = true;
    answer.metadata.authoritative = service.entry.authoritative;
    answer.add_query(query.clone());
    match does {
        Does::Silent | Does::Refuse => return None,
        Does::Malformed => return Some(question.iter().rev().copied().collect()),
        Does::Reset | Does::Close => answer.metadata.response_code = ResponseCode::Refused,
        Does::Fail => answer.metadata.response_code = ResponseCode::ServFail,
        _ => {
            let wanted = query.name().to_utf8().trim_end_matches('.').to_ascii_lowercase();
            let known = service.names.iter().find(|name| name.name.eq_ignore_ascii_case(&wanted));
            match known {
                None => answer.metadata.response_code = ResponseCode::NXDomain,
                Some(known) => {
                    for address in addresses(service, known, now) {
                        let data = match (address, query.query_type()) {
                            (IpAddr::V4(four), RecordType::A) => RData::A((*four).into()),
                            (IpAddr::V6(six), RecordType::AAAA) => RData::AAAA((*six).into()),
                            _ => continue,
                        };
                        answer.add_answer(Record::from_rdata(
                            query.name().clone(),
                            known.ttl_s,
                            data,
                        ));
                    }
                }
            }
        }
    }
    answer.to_vec().ok()
}

/// The addresses that a name has now; those of before at a resolver that missed the change.
fn addresses<'a>(service: &Service, known: &'a NameEntry, now: Tick) -> &'a [IpAddr] {
    let moved = known.moves.as_ref().filter(|moves| moves.at_s * 1e9 <= now.as_nanos() as f64);
    match moved {
        Some(moves) if !service.entry.stale => &moves.to,
        _ => &known.addresses,
    }
}
