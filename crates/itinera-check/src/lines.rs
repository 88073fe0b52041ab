//! Servers that speak first and in lines: mail, and greetings; closed politely.

use crate::first_bytes::{FirstBytes, Received};
use crate::net::{Connection, why_ended};
use crate::{Asker, Break, CheckProgress, Destination, kept, phase};
use itinera_model::check::{Greeting, Phase, Step, Why};
use itinera_model::text::from_octets;
use std::io;
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};

/// Bytes of a line, longer than any protocol allows, and lines of a reply borne at most.
const MAX_LINE: u64 = 2_048;
const MAX_LINES: usize = 100;
/// Commands that do nothing, sent at once: more than two full-sized packets of them.
const HARMLESS: usize = 500;
/// How we call ourselves to mail servers (RFC 5321 section 4.1.4 demands some name).
const OWN_NAME: &str = "[127.0.0.1]";
/// How long a silent server is asked by TLS, to learn whether it wants that first.
const TLS_TRIAL: Duration = Duration::from_secs(2);

/// A conversation in lines.
struct Lines<'a> {
    stream: BufReader<FirstBytes<Connection>>,
    received: Received,
    wait: Duration,
    said: &'a mut Option<String>,
}

impl Lines<'_> {
    /// The next line, without its end.
    async fn line(&mut self, at: Step) -> Result<String, Break> {
        let mut octets = Vec::new();
        let mut bounded = (&mut self.stream).take(MAX_LINE);
        let reading = bounded.read_until(b'\n', &mut octets);
        let length = match tokio::time::timeout(self.wait, reading).await {
            Err(_) if octets.is_empty() => return Err((at, Why::NoAnswer)),
            Err(_) => return Err((at, Why::Unfinished)),
            Ok(Err(error)) => return Err((at, why_ended(&error))),
            Ok(Ok(length)) => length,
        };
        if length == 0 {
            return Err((at, Why::Closed));
        }
        if !octets.ends_with(b"\n") {
            let why = if length as u64 == MAX_LINE { Why::TooMuch } else { Why::Closed };
            return Err((at, why));
        }
        if self.received.is_tls() {
            return Err((at, Why::ExpectsTls));
        }
        let text = from_octets(&octets);
        let text = text.trim_end_matches(['\r', '\n']).to_owned();
        let said = self.said.get_or_insert_default();
        let all = if said.is_empty() { text.clone() } else { format!("{said}\n{text}") };
        *said = kept(&all);
        Ok(text)
    }

    /// A mail server's reply: its code and lines (RFC 5321 section 4.2).
    async fn reply(&mut self, at: Step) -> Result<(u16, Vec<String>), Break> {
        let mut lines = Vec::new();
        loop {
            let line = self.line(at).await?;
            let code = line.get(..3).and_then(|code| code.parse().ok());
            let code = code.filter(|code| (200..600).contains(code));
            let code: u16 = code.ok_or((at, Why::NotThisProtocol))?;
            let goes_on = line.as_bytes().get(3) == Some(&b'-');
            lines.push(line.get(4..).unwrap_or_default().to_owned());
            if !goes_on {
                return Ok((code, lines));
            }
            if lines.len() >= MAX_LINES {
                return Err((at, Why::TooMuch));
            }
        }
    }

    async fn say(&mut self, octets: &[u8], at: Step) -> Result<(), Break> {
        let saying = async {
            self.stream.get_mut().write_all(octets).await?;
            self.stream.get_mut().flush().await
        };
        match tokio::time::timeout(self.wait, saying).await {
            Err(_) => Err((at, Why::NoAnswer)),
            Ok(said) => said.map_err(|error: io::Error| (at, why_ended(&error))),
        }
    }

    /// Ends the session as the protocol requires, if the peer is still there.
    async fn farewell(&mut self, words: &[u8]) {
        if self.say(words, Step::Dialogue).await.is_ok() {
            let rest = self.line(Step::Dialogue);
            let _nobody_listens = tokio::time::timeout(Duration::from_millis(500), rest).await;
        }
        crate::tls::goodbye(self.stream.get_mut()).await;
    }
}

impl Asker {
    fn lines<'a>(&self, connection: Connection, said: &'a mut Option<String>) -> Lines<'a> {
        let (stream, received) = FirstBytes::new(connection);
        Lines { stream: BufReader::new(stream), received, wait: self.patience.step, said }
    }

    /// What a silence at the greeting means: a server that wants TLS first, or none.
    async fn silence(&self, broke: Break, course: &CheckProgress) -> Break {
        let (Step::Greeting, Why::NoAnswer, Some(there)) = (broke.0, broke.1, course.spoke_to)
        else {
            return broke;
        };
        let trial =
            Self { patience: crate::Patience { step: TLS_TRIAL, ..self.patience }, ..self.clone() };
        let mut aside = CheckProgress::new();
        let Ok(connection) = trial.open_at(there, &mut aside).await else {
            return broke;
        };
        match trial.secure(connection, None, there, &[], &mut aside).await {
            Ok(_) => (Step::Greeting, Why::ExpectsTls),
            Err(_) => broke,
        }
    }

    /// Speaks with a mail server up to where a message would begin, and lets full-sized packets
    /// of harmless commands go there where the server takes commands in advance (RFC 2920): where
    /// those are lost and short ones are not, large mails hang.
    pub(crate) async fn mail(
        &self,
        destination: &Destination,
        port: u16,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let spoken = self.mail_dialogue(destination, port, course).await;
        match spoken {
            Err(broke) => Err(self.silence(broke, course).await),
            Ok(()) => Ok(()),
        }
    }

    async fn mail_dialogue(
        &self,
        destination: &Destination,
        port: u16,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let connection = self.open(destination, port, course).await?;
        let CheckProgress { phases, seen, .. } = course;
        let mut lines = self.lines(connection, &mut seen.said);
        let begun = Instant::now();
        let (code, _) = lines.reply(Step::Greeting).await?;
        phases.push(phase(Step::Greeting, begun));
        if code != 220 {
            lines.farewell(b"QUIT\r\n").await;
            return Err((Step::Greeting, Why::Status));
        }
        let begun = Instant::now();
        lines.say(format!("EHLO {OWN_NAME}\r\n").as_bytes(), Step::Dialogue).await?;
        let (mut code, mut words) = lines.reply(Step::Dialogue).await?;
        // An old server that knows no extensions is a good one (RFC 5321 section 3.2).
        if (500..505).contains(&code) {
            lines.say(format!("HELO {OWN_NAME}\r\n").as_bytes(), Step::Dialogue).await?;
            (code, words) = lines.reply(Step::Dialogue).await?;
        }
        phases.push(phase(Step::Dialogue, begun));
        let outcome = if code != 250 {
            Err((Step::Dialogue, Why::Status))
        } else if words.iter().any(|word| word.eq_ignore_ascii_case("PIPELINING")) {
            large(&mut lines, phases).await
        } else {
            Ok(())
        };
        if outcome != Err((Step::Transfer, Why::LargeLost)) {
            lines.farewell(b"QUIT\r\n").await;
        }
        outcome
    }

    /// Hears what a server says first, and closes as its protocol has it.
    pub(crate) async fn greeting(
        &self,
        destination: &Destination,
        protocol: Greeting,
        port: u16,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let connection = self.open(destination, port, course).await?;
        let CheckProgress { phases, seen, .. } = &mut *course;
        let mut lines = self.lines(connection, &mut seen.said);
        let begun = Instant::now();
        let (expected, goodbye): (&str, &[u8]) = match protocol {
            Greeting::Pop3 => ("+OK", b"QUIT\r\n"),
            Greeting::Imap => ("* OK", b"a LOGOUT\r\n"),
            Greeting::Ftp => ("220", b"QUIT\r\n"),
            // A server that knows the client's name need not wait for a key exchange that does not come.
            Greeting::Ssh => ("SSH-2.0-", b"SSH-2.0-itinera\r\n"),
        };
        let received = lines.line(Step::Greeting).await;
        let outcome = match received {
            Ok(line) if line.starts_with(expected) => Ok(()),
            Ok(line) if refuses(protocol, &line) => Err((Step::Greeting, Why::Status)),
            Ok(_) => Err((Step::Greeting, Why::NotThisProtocol)),
            Err(broke) => Err(broke),
        };
        match outcome {
            Ok(()) => {
                phases.push(phase(Step::Greeting, begun));
                lines.farewell(goodbye).await;
                Ok(())
            }
            Err(broke) => {
                drop(lines);
                Err(self.silence(broke, course).await)
            }
        }
    }
}

/// The right protocol, saying that it will not serve.
fn refuses(protocol: Greeting, line: &str) -> bool {
    match protocol {
        Greeting::Pop3 => line.starts_with("-ERR"),
        Greeting::Imap => line.starts_with("* BYE"),
        Greeting::Ftp => line.starts_with("421") || line.starts_with("120"),
        Greeting::Ssh => false,
    }
}

/// Sends full-sized packets of commands that change nothing, and waits for the replies.
async fn large(lines: &mut Lines<'_>, phases: &mut Vec<Phase>) -> Result<(), Break> {
    let (kept, begun) = (lines.said.clone(), Instant::now());
    lines.say("RSET\r\n".repeat(HARMLESS).as_bytes(), Step::Transfer).await?;
    for _ in 0..HARMLESS {
        match lines.reply(Step::Transfer).await {
            Ok((250, _)) => {}
            Ok(_) => break,
            // The line stands, short commands were answered, and these are not.
            Err((at, Why::NoAnswer | Why::Unfinished)) => {
                *lines.said = kept;
                return Err((at, Why::LargeLost));
            }
            Err(broke) => return Err(broke),
        }
    }
    *lines.said = kept;
    phases.push(phase(Step::Transfer, begun));
    Ok(())
}
