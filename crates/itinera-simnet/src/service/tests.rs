use super::*;
use crate::Simnet;
use hickory_proto::op::{Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::{Name, RecordType};

const WORLD: &str = r#"name = "services"
[[site]]
id = "quay"
name = "Brannock Quay"
address = "198.18.0.2"
[[target]]
id = "hall"
name = "Hall"
address = "198.18.128.10"
[[link]]
between = ["quay", "hall"]
delay_ms = 1.0
[[service]]
at = "hall"
port = 80
speaks = "web"
changes = [{ at_s = 10, for_s = 5, does = "fail" }]
[[service]]
at = "hall"
port = 25
speaks = "mail"
[[service]]
at = "hall"
port = 53
speaks = "name"
stale = true
[[service]]
at = "hall"
port = 54
speaks = "name"
[[record]]
name = "booking.corriven.example"
addresses = ["198.18.128.10"]
ttl_s = 60
moves = { at_s = 20, to = ["198.18.144.10"] }
"#;

fn services() -> Vec<Service> {
    let scenario = Scenario::parse(WORLD).unwrap();
    Simnet::new(&scenario, 1).services().to_vec()
}

fn said(acts: &[Act]) -> String {
    let octets = acts.iter().filter_map(|act| match act {
        Act::Say(octets) => Some(octets.clone()),
        _ => None,
    });
    String::from_utf8_lossy(&octets.flatten().collect::<Vec<u8>>()).into_owned()
}

#[test]
fn a_web_server_answers_and_fails_for_a_while() {
    let web = &services()[0];
    for (at_s, status) in [(0, "200"), (11, "503"), (16, "200")] {
        let (mut talk, first) = Conversation::open(web, Tick::from_millis(at_s * 1_000));
        assert!(first.is_empty());
        assert!(talk.on_octets(b"GET / HTTP/1.1\r\n").is_empty(), "not whole yet");
        let text = said(&talk.on_octets(b"Host: x\r\n\r\n"));
        assert!(text.starts_with(&format!("HTTP/1.1 {status}")), "{text}");
        assert!(text.contains("sailings today"));
    }
}

#[test]
fn a_mail_server_takes_commands_in_advance() {
    let (mut talk, first) = Conversation::open(&services()[1], Tick::from_millis(0));
    assert!(said(&first).starts_with("220 "));
    assert!(said(&talk.on_octets(b"EHLO [127.0.0.1]\r\n")).contains("PIPELINING"));
    let replies = said(&talk.on_octets("RSET\r\n".repeat(30).as_bytes()));
    assert_eq!(replies.matches("250 ").count(), 30);
    assert_eq!(talk.on_octets(b"QUIT\r\n").last(), Some(&Act::Close));
}

#[test]
fn a_resolver_that_missed_a_change_goes_on_promptly() {
    let services = services();
    let ask = |service: &Service, name: &str, kind, at_s: u64| {
        let mut question = Message::new(9, MessageType::Query, OpCode::Query);
        question.add_query(Query::query(Name::from_utf8(name).unwrap(), kind));
        let octets = question.to_vec().unwrap();
        let answer = answer(service, &octets, Tick::from_millis(at_s * 1_000)).unwrap();
        Message::from_vec(&answer).unwrap()
    };
    let address = |message: &Message| message.answers.first().map(|one| one.data.to_string());
    let booking = |service, at_s| ask(service, "booking.corriven.example", RecordType::A, at_s);
    assert_eq!(address(&booking(&services[2], 30)).as_deref(), Some("198.18.128.10"));
    assert_eq!(address(&booking(&services[3], 10)).as_deref(), Some("198.18.128.10"));
    assert_eq!(address(&booking(&services[3], 30)).as_deref(), Some("198.18.144.10"));
    let none = ask(&services[3], "booking.corriven.example", RecordType::AAAA, 0);
    assert_eq!((none.metadata.response_code, none.answers.len()), (ResponseCode::NoError, 0));
    let unknown = ask(&services[3], "other.example", RecordType::A, 0);
    assert_eq!(unknown.metadata.response_code, ResponseCode::NXDomain);
    assert!(answer(&services[3], b"\x00\x01rubbish", Tick::from_millis(0)).is_none());
}
