//! Notices as e-mail messages, through one server (SMTP, RFC 5321).

use super::address::{connect, pinned};
use super::attempt::{Answer, SendError, causes};
use super::content::NoticeContent;
use crate::config::{MailServer, MailTls};
use lettre::message::header::ContentType;
use lettre::message::{Mailbox, MessageBuilder};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::transport::smtp::extension::ClientId;
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use rustls::pki_types::CertificateDer;
use std::time::Duration;

/// How long the server may take for each step. A slow one is not given up at once.
const LIMIT: Duration = Duration::from_secs(20);

/// An address of e-mail.
pub(super) fn checked_address(text: &str) -> Result<Mailbox, String> {
    text.parse().map_err(|_| format!("to: {text:?} is no address such as desk@corriven.example"))
}

/// The message. Its id is that of the notice, the same at every attempt.
pub(super) fn message(
    content: &NoticeContent,
    from: &Mailbox,
    to: &[String],
) -> Result<Message, String> {
    let domain = from.email.domain();
    let mut builder: MessageBuilder = Message::builder()
        .from(from.clone())
        .message_id(Some(format!("<{}@{domain}>", content.id)))
        .date(std::time::SystemTime::from(content.at))
        .subject(content.subject());
    // The notices of an incident are one thread.
    if let Some(no) = content.incident {
        builder = builder.references(format!("<incident-{no}.itinera@{domain}>"));
    }
    for address in to {
        builder = builder.to(checked_address(address)?);
    }
    let built = builder.header(ContentType::TEXT_PLAIN).body(content.text());
    built.map_err(|error| causes(&error))
}

/// Sends a message through the server. A certificate in `roots` must vouch for it. `hello` is the name of
/// this machine, beside user and password where the server asks for them.
pub(super) async fn send(
    message: Message,
    server: &MailServer,
    (hello, credentials): (&str, Option<&(String, String)>),
    roots: &[CertificateDer<'static>],
) -> Result<Answer, SendError> {
    // Which address accepts connections; the transport then takes that one.
    let address = {
        let stream = connect(&pinned(&server.host, server.port).await?).await?;
        stream.peer_addr()?
    };
    let parameters = || -> Result<TlsParameters, SendError> {
        let mut builder =
            TlsParameters::builder(server.host.clone()).certificate_store(CertificateStore::None);
        for root in roots {
            if let Ok(root) = Certificate::from_der(root.to_vec()) {
                builder = builder.add_root_certificate(root);
            }
        }
        builder.build().map_err(|error| SendError::passing(causes(&error)))
    };
    let tls = match server.tls {
        MailTls::StartTls => Tls::Required(parameters()?),
        MailTls::Implicit => Tls::Wrapper(parameters()?),
        MailTls::None => Tls::None,
    };
    let mut transport =
        AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(address.ip().to_string())
            .port(address.port())
            .hello_name(ClientId::Domain(hello.to_owned()))
            .timeout(Some(LIMIT))
            .tls(tls);
    if let Some((user, password)) = credentials {
        transport = transport.credentials(Credentials::new(user.clone(), password.clone()));
    }
    let sent = transport.build().send(message).await;
    sent.map_err(|error| SendError {
        permanent: error.is_permanent(),
        reason: causes(&error),
        asked: None,
    })?;
    Ok(Answer::None)
}

#[cfg(test)]
mod tests {
    use super::super::content::tests::raised;
    use super::*;

    #[test]
    fn a_message_is_the_same_at_every_attempt_and_foreign_text_adds_no_header() {
        let from: Mailbox = "Itinera <itinera@corriven.example>".parse().unwrap();
        let to = ["desk@corriven.example".to_owned()];
        let odd =
            NoticeContent { headline: "loss\r\nBcc: all@corriven.example".to_owned(), ..raised() };
        let text = |content: &NoticeContent| {
            String::from_utf8(message(content, &from, &to).unwrap().formatted()).unwrap()
        };
        assert_eq!(text(&odd), text(&odd));
        let lines = text(&odd);
        let header = lines.split("\r\n\r\n").next().unwrap();
        assert!(!header.lines().any(|line| line.starts_with("Bcc")), "{header}");
        let id = "Message-ID: <01990000-0000-7000-8000-000000000007@corriven.example>";
        assert!(header.contains(id), "{header}");
        assert!(header.contains("incident-12.itinera@corriven.example"), "{header}");
        assert!(message(&odd, &from, &["no address".to_owned()]).is_err());
    }
}
