//! Notices as syslog messages (RFC 5424), by UDP (RFC 5426), TCP (RFC 6587) or TLS (RFC 5425).

use super::address::{connect, pinned};
use super::attempt::{Answer, SendError};
use super::content::NoticeContent;
use itinera_model::alarm::Severity;
use itinera_model::notice::{NoticeKind, SyslogTransport};
use rustls::pki_types::ServerName;
use std::sync::Arc;
use time::format_description::well_known::Rfc3339;
use tokio::io::{AsyncWrite, AsyncWriteExt};
use tokio::net::UdpSocket;
use tokio_rustls::TlsConnector;

/// Facility "local use 0".
const FACILITY: u8 = 16;
/// Enterprise number of documentation (RFC 5612): Itinera has none of its own.
const ENTERPRISE: u32 = 32_473;
/// Bytes of a message, at most: a datagram that every network carries holds it.
const LONGEST: usize = 1_200;

/// A parameter of structured data, escaped.
fn parameter(name: &str, value: &str) -> String {
    let mut escaped = String::new();
    for c in value.chars().map(|c| if c.is_control() { ' ' } else { c }) {
        if matches!(c, '"' | '\\' | ']') {
            escaped.push('\\');
        }
        escaped.push(c);
    }
    format!(" {name}=\"{escaped}\"")
}

/// A name that a header may hold: printable ASCII without spaces, at most 255 characters.
fn header_name(name: &str) -> String {
    let name: String = name.chars().filter(char::is_ascii_graphic).take(255).collect();
    if name.is_empty() { "-".to_owned() } else { name }
}

/// The message. `host` is the name of the machine that sends it.
pub(super) fn message(content: &NoticeContent, host: &str) -> String {
    let severity = match (content.kind, content.severity) {
        (NoticeKind::Cleared, _) => 5,
        (_, Some(Severity::Critical)) => 2,
        (_, Some(Severity::Major)) => 3,
        (_, Some(Severity::Minor)) => 4,
        (_, None) => 6,
    };
    let priority = FACILITY * 8 + severity;
    let at = content.at.format(&Rfc3339).unwrap_or_else(|_| "-".to_owned());
    let numbers = [("incident", content.incident), ("alarm", content.alarm)];
    let numbers: String = numbers
        .iter()
        .filter_map(|(name, no)| Some(parameter(name, &(*no)?.to_string())))
        .collect();
    let data = format!(
        "[itinera@{ENTERPRISE}{}{numbers}{}]",
        parameter("id", &content.id.to_string()),
        parameter("link", &content.link)
    );
    let contact = content.contact.as_deref().map(|contact| format!(" {contact}"));
    let text = format!("{}.{}", content.subject(), contact.unwrap_or_default());
    let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let (kind, host) = (content.kind.name(), header_name(host));
    // The byte order mark says that the text is UTF-8.
    let mut message = format!("<{priority}>1 {at} {host} itinera - {kind} {data} \u{feff}{text}");
    message.truncate(message.floor_char_boundary(LONGEST));
    message
}

async fn write<S: AsyncWrite + Unpin>(mut stream: S, message: &str) -> Result<(), std::io::Error> {
    // Octet counting: the length, a space, the message.
    stream.write_all(format!("{} {message}", message.len()).as_bytes()).await?;
    stream.flush().await?;
    stream.shutdown().await
}

/// Sends a message.
pub(super) async fn send(
    (host, port, transport): (&str, u16, SyslogTransport),
    message: &str,
    tls: &Arc<rustls::ClientConfig>,
) -> Result<Answer, SendError> {
    let addresses = pinned(host, port).await?;
    match transport {
        SyslogTransport::Udp => {
            let to = addresses[0];
            let from = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
            let socket = UdpSocket::bind(from).await?;
            socket.connect(to).await?;
            socket.send(message.as_bytes()).await?;
        }
        SyslogTransport::Tcp => write(connect(&addresses).await?, message).await?,
        SyslogTransport::Tls => {
            let name = ServerName::try_from(host.to_owned());
            let name = name.map_err(|_| SendError::permanent(format!("{host}: no host name")))?;
            let stream = connect(&addresses).await?;
            let stream = TlsConnector::from(Arc::clone(tls)).connect(name, stream).await?;
            write(stream, message).await?;
        }
    }
    Ok(Answer::None)
}

#[cfg(test)]
mod tests {
    use super::super::content::tests::raised;
    use super::*;

    #[test]
    fn a_message_has_priority_header_data_and_text() {
        let expected = "<131>1 2026-03-02T10:05:00Z itinera-1 itinera - raised [itinera@32473 \
            id=\"01990000-0000-7000-8000-000000000007\" incident=\"12\" alarm=\"34\" \
            link=\"https://itinera.corriven.example/alarms?show=all&alarm=34\"] \
            \u{feff}Raised, major: 13 % loss inside Northmere Carriage. \
            Call Northmere Carriage (AS 64501), noc@northmere.example.";
        assert_eq!(message(&raised(), "itinera-1"), expected);
        let cleared = NoticeContent { kind: NoticeKind::Cleared, ..raised() };
        assert!(message(&cleared, "a b\n").starts_with("<133>1 2026-03-02T10:05:00Z ab itinera"));
    }

    #[test]
    fn foreign_text_forges_no_field_and_no_second_message() {
        let odd = "\"] x\n<34>1 - - - - - - forged\\".to_owned();
        let content = NoticeContent {
            headline: odd.clone(),
            contact: Some(odd.clone()),
            link: odd,
            ..raised()
        };
        let text = message(&content, "");
        assert!(!text.contains('\n'));
        assert!(text.contains("link=\"\\\"\\] x "), "{text}");
        let long = NoticeContent { headline: "ä".repeat(10_000), ..raised() };
        assert!(message(&long, "h").len() <= LONGEST);
    }
}
