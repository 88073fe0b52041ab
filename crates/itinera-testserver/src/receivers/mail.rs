//! A mail server that keeps what it is sent (SMTP, RFC 5321; STARTTLS, RFC 3207).

use super::{Habit, HabitSwitch, Inbox, Received};
use mail_parser::MessageParser;
use rustls::ServerConfig;
use std::collections::BTreeSet;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use time::OffsetDateTime;
use tokio::io::{
    AsyncBufRead, AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, BufReader,
};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;

/// Bytes of a line and of a message, at most.
const LONGEST_LINE: u64 = 4_096;
const LONGEST: usize = 1 << 20;

#[derive(Clone)]
struct Server {
    inbox: Inbox,
    habit: HabitSwitch,
    tls: Option<Arc<ServerConfig>>,
    /// Ids of messages that were refused once.
    seen: Arc<Mutex<BTreeSet<String>>>,
}

/// How a conversation ended.
enum End {
    Over,
    StartTls,
}

async fn line<S: AsyncBufRead + Unpin>(stream: &mut S) -> io::Result<String> {
    let mut line = String::new();
    let length = stream.take(LONGEST_LINE).read_line(&mut line).await?;
    if length == 0 { Err(io::ErrorKind::UnexpectedEof.into()) } else { Ok(line) }
}

async fn message<S: AsyncBufRead + Unpin>(stream: &mut S) -> io::Result<String> {
    let mut text = String::new();
    while text.len() < LONGEST {
        let line = line(stream).await?;
        match line.trim_end() {
            "." => return Ok(text),
            _ => text.push_str(line.strip_prefix('.').unwrap_or(&line)),
        }
    }
    Err(io::ErrorKind::InvalidData.into())
}

impl Server {
    /// Keeps a message; gives the answer to it.
    fn keep(&self, message: &str) -> &'static str {
        let parsed = MessageParser::default().parse(message.as_bytes());
        let id = parsed.as_ref().and_then(|it| it.message_id());
        let id = id.map(|id| id.split('@').next().unwrap_or(id).to_owned());
        let text = parsed.as_ref().map(|it| {
            let to = it.to().and_then(|to| to.first()).and_then(|to| to.address());
            let subject = it.subject().unwrap_or_default();
            let body = it.body_text(0).unwrap_or_default();
            format!("To: {}\nSubject: {subject}\n\n{body}", to.unwrap_or_default())
        });
        let answer = match self.habit.now() {
            Habit::Good | Habit::Slow(_) => "250 2.0.0 accepted",
            Habit::Refusing | Habit::Redirecting => "550 5.7.1 refused",
            Habit::Greylisting => {
                let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
                match seen.insert(id.clone().unwrap_or_default()) {
                    true => "451 4.7.1 greylisted, try again later",
                    false => "250 2.0.0 accepted",
                }
            }
        };
        self.inbox.add(Received {
            at: OffsetDateTime::now_utc(),
            channel: "mail",
            id,
            signed: None,
            taken: answer.starts_with('2'),
            text: text.unwrap_or_default(),
        });
        answer
    }

    async fn converse<S: AsyncRead + AsyncWrite + Unpin>(
        &self,
        stream: &mut BufReader<S>,
        encrypted: bool,
    ) -> io::Result<End> {
        loop {
            let line = line(stream).await?;
            let verb = line.split_whitespace().next().unwrap_or_default().to_ascii_uppercase();
            let mut end = None;
            let answer = match verb.as_str() {
                "EHLO" if self.tls.is_some() && !encrypted => {
                    "250-mail.corriven.example\r\n250 STARTTLS"
                }
                "EHLO" | "HELO" => "250 mail.corriven.example",
                "STARTTLS" if self.tls.is_some() && !encrypted => {
                    end = Some(End::StartTls);
                    "220 2.0.0 ready"
                }
                "MAIL" | "RCPT" | "RSET" | "NOOP" => "250 2.1.0 ok",
                "DATA" => {
                    stream.write_all(b"354 end with a dot\r\n").await?;
                    let message = message(stream).await?;
                    self.keep(&message)
                }
                "QUIT" => {
                    end = Some(End::Over);
                    "221 2.0.0 bye"
                }
                _ => "502 5.5.2 unknown command",
            };
            stream.write_all(format!("{answer}\r\n").as_bytes()).await?;
            stream.flush().await?;
            if let Some(end) = end {
                return Ok(end);
            }
        }
    }

    async fn receive(&self, stream: TcpStream) -> io::Result<()> {
        if let Habit::Slow(pause) = self.habit.now() {
            tokio::time::sleep(pause).await;
        }
        let mut stream = BufReader::new(stream);
        stream.write_all(b"220 mail.corriven.example test receiver\r\n").await?;
        let end = self.converse(&mut stream, false).await?;
        if let (End::StartTls, Some(tls)) = (end, &self.tls) {
            let secured = TlsAcceptor::from(Arc::clone(tls)).accept(stream.into_inner()).await?;
            self.converse(&mut BufReader::new(secured), true).await?;
        }
        Ok(())
    }
}

/// Receives mail, for as long as the runtime lives. With `tls` it offers STARTTLS.
pub fn serve_mail(
    listener: TcpListener,
    inbox: Inbox,
    habit: HabitSwitch,
    tls: Option<Arc<ServerConfig>>,
) {
    let server = Server { inbox, habit, tls, seen: Arc::default() };
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let server = server.clone();
            tokio::spawn(async move {
                if let Err(error) = server.receive(stream).await {
                    tracing::debug!(%error, "a conversation about mail ended early");
                }
            });
        }
    });
}
