//! What services say.

use super::Service;
use crate::scenario::{Does, Speaks};
use itinera_model::unit::Tick;

/// What a test server wants done, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// Say these bytes.
    Say(Vec<u8>),
    /// Wait so many nanoseconds.
    Wait(u64),
    /// Close in order.
    Close,
    /// Tear the connection down.
    Reset,
    /// Sends the same for ever, until the client reads no more.
    Endlessly(Vec<u8>),
}

/// Bytes said at a time where a rate is kept.
const CHUNK: usize = 4_096;
/// Bytes of a command or a request's header borne.
const MAX_ASKED: usize = 16_384;
/// How late a slow service begins to answer.
const SLOW_NANOS: u64 = 1_500_000_000;
/// Between the bytes of one that trickles.
const TRICKLE_NANOS: u64 = 400_000_000;
/// Terminal escapes and controls, as hostile servers send them.
const HOSTILE: &str = "\x1b]0;owned\x07\x1b[2J\x1b[31mpay\u{9b}5m\u{202e}evil";

/// One connection's conversation.
#[derive(Debug, Clone)]
pub struct Conversation {
    speaks: Speaks,
    does: Does,
    size_bytes: usize,
    rate_bytes_per_s: Option<u64>,
    asked: Vec<u8>,
    over: bool,
}

impl Conversation {
    /// A client has connected; gives the greeting.
    pub fn open(service: &Service, now: Tick) -> (Self, Vec<Act>) {
        let mut conversation = Self {
            speaks: service.speaks,
            does: service.does(now),
            size_bytes: usize::try_from(service.entry.size_bytes).unwrap_or(usize::MAX),
            rate_bytes_per_s: service.rate_bytes_per_s(now),
            asked: Vec::new(),
            over: false,
        };
        let acts = conversation.greet();
        (conversation, acts)
    }

    /// He said something.
    pub fn on_octets(&mut self, octets: &[u8]) -> Vec<Act> {
        if self.over || self.does == Does::Silent {
            return Vec::new();
        }
        let room = MAX_ASKED.saturating_sub(self.asked.len());
        self.asked.extend_from_slice(&octets[..octets.len().min(room)]);
        if self.speaks == Speaks::Web { self.web() } else { self.lines() }
    }

    fn greet(&mut self) -> Vec<Act> {
        match self.does {
            Does::Reset => return self.end(Act::Reset),
            Does::Close => return self.end(Act::Close),
            Does::Silent | Does::Refuse => return Vec::new(),
            _ if self.speaks == Speaks::Web || self.speaks == Speaks::Name => return Vec::new(),
            Does::Endless => return self.end(Act::Endlessly(b"220-more\r\n".to_vec())),
            Does::Malformed => return vec![Act::Say(b"\x00\xffwhat is this?\r\n".to_vec())],
            Does::Flood => return self.end(Act::Endlessly(vec![b'x'; CHUNK])),
            Does::Good | Does::Slow | Does::Trickle | Does::Hostile | Does::Fail => {}
        }
        let words = match (self.speaks, self.does) {
            (Speaks::Mail, Does::Fail) => "554 no service today",
            (Speaks::Ftp, Does::Fail) => "421 no service today",
            (Speaks::Imap, Does::Fail) => "* BYE no service today",
            (Speaks::Pop3, Does::Fail) => "-ERR no service today",
            (Speaks::Mail, _) => "220 mail.corriven.example ready",
            (Speaks::Ftp, _) => "220 files.corriven.example ready",
            (Speaks::Imap, _) => "* OK mail.corriven.example ready",
            (Speaks::Pop3, _) => "+OK mail.corriven.example ready",
            (Speaks::Ssh | Speaks::Web | Speaks::Name, _) => "SSH-2.0-corriven",
        };
        let hostile = if self.does == Does::Hostile { HOSTILE } else { "" };
        self.say(format!("{words}{hostile}\r\n").into_bytes())
    }

    fn end(&mut self, act: Act) -> Vec<Act> {
        self.over = true;
        vec![act]
    }

    /// Says bytes as fast as this service does.
    fn say(&self, octets: Vec<u8>) -> Vec<Act> {
        match self.does {
            Does::Slow => vec![Act::Wait(SLOW_NANOS), Act::Say(octets)],
            Does::Trickle => octets
                .into_iter()
                .flat_map(|octet| [Act::Wait(TRICKLE_NANOS), Act::Say(vec![octet])])
                .collect(),
            _ => vec![Act::Say(octets)],
        }
    }

    /// Commands that have come whole, each with its answer.
    fn lines(&mut self) -> Vec<Act> {
        let mut acts = Vec::new();
        while let Some(end) = self.asked.iter().position(|octet| *octet == b'\n') {
            let line: Vec<u8> = self.asked.drain(..=end).collect();
            let text = String::from_utf8_lossy(&line).trim().to_ascii_uppercase();
            let command = text.split(' ').next().unwrap_or_default();
            let (words, over) = match (self.speaks, command) {
                (Speaks::Mail, "EHLO") => {
                    ("250-mail.corriven.example\r\n250-SIZE 50000000\r\n250 PIPELINING\r\n", false)
                }
                (Speaks::Mail, "QUIT") => ("221 goodbye\r\n", true),
                (Speaks::Mail, "RSET" | "NOOP") => ("250 done\r\n", false),
                (Speaks::Mail, _) => ("502 not here\r\n", false),
                (Speaks::Ftp, "QUIT") => ("221 goodbye\r\n", true),
                (Speaks::Pop3, "QUIT") => ("+OK goodbye\r\n", true),
                (Speaks::Imap, "A") => ("* BYE goodbye\r\na OK done\r\n", true),
                _ => ("", true),
            };
            acts.extend(self.say(words.as_bytes().to_vec()));
            if over {
                acts.extend(self.end(Act::Close));
                break;
            }
        }
        acts
    }

    /// A request, once its header is whole (RFC 9112).
    fn web(&mut self) -> Vec<Act> {
        let whole = self.asked.windows(4).any(|octets| octets == b"\r\n\r\n");
        if !whole {
            let plain = self.asked.first().is_none_or(|first| *first < 0x80 && *first >= 0x20);
            if plain && self.asked.len() < MAX_ASKED {
                return Vec::new();
            }
            let words = b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n".to_vec();
            self.over = true;
            return vec![Act::Say(words), Act::Close];
        }
        let text = String::from_utf8_lossy(&self.asked).into_owned();
        self.asked.clear();
        let mut words = text.lines().next().unwrap_or_default().split(' ');
        let (method, path) = (words.next().unwrap_or_default(), words.next().unwrap_or("/"));
        match self.does {
            Does::Malformed => return vec![Act::Say(b"HTTP/9 what?\r\n\r\n".to_vec()), Act::Close],
            Does::Flood => {
                let head = Act::Say(b"HTTP/1.1 200 OK\r\n".to_vec());
                let field = format!("X-More: {}\r\n", "y".repeat(1_000)).into_bytes();
                self.over = true;
                return vec![head, Act::Endlessly(field)];
            }
            Does::Endless => {
                let head = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n".to_vec();
                let chunk = format!("400\r\n{}\r\n", "z".repeat(1_024)).into_bytes();
                self.over = true;
                return vec![Act::Say(head), Act::Endlessly(chunk)];
            }
            _ => {}
        }
        self.page(method == "HEAD", path)
    }

    fn page(&self, only_head: bool, path: &str) -> Vec<Act> {
        let hostile = if self.does == Does::Hostile { HOSTILE } else { "" };
        let page = format!(
            "<!doctype html><title>Corriven Sound{hostile}</title>\
             <link rel=\"stylesheet\" href=\"/look.css\"><img src=\"/large.png\"><p>sailings today\n"
        );
        let (kind, content) = match path {
            "/" => ("text/html", page.into_bytes()),
            "/look.css" => ("text/css", b"p { color: teal }\n".to_vec()),
            _ => ("image/png", vec![0x42; self.size_bytes]),
        };
        let status = if self.does == Does::Fail { "503 Service Unavailable" } else { "200 OK" };
        let head = format!(
            "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n",
            content.len()
        );
        let mut acts = self.say(head.into_bytes());
        if only_head {
            return acts;
        }
        let pause = self
            .rate_bytes_per_s
            .map(|rate| (CHUNK as u64).saturating_mul(1_000_000_000) / rate.max(1));
        for chunk in content.chunks(CHUNK) {
            acts.push(Act::Say(chunk.to_vec()));
            acts.extend(pause.map(Act::Wait));
        }
        acts
    }
}
