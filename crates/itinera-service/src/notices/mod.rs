//! Sending a notice to a receiver. What is sent was composed before and is the same at every attempt, under
//! one id.

mod address;
pub(crate) mod attempt;
mod cloud_event;
pub(crate) mod content;
mod mail;
mod signature;
mod syslog;
mod webhook;

use crate::config::{Config, MailServer};
use attempt::{Answer, SendError};
use content::NoticeContent;
use itinera_model::notice::{Channel, Receiver};
use itinera_store::Claim;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;
use std::path::PathBuf;
use std::sync::Arc;
use time::OffsetDateTime;

/// Fetches a text of at most `most` bytes, under the same rules as notices are sent.
///
/// # Errors
/// Why not.
pub(crate) async fn fetch(sending: &Sending, url: &str, most: usize) -> Result<String, String> {
    let fetched = webhook::fetch(url, most, sending.tls.as_ref().clone()).await;
    fetched.map_err(|error| error.reason)
}

/// Why notices cannot be sent.
#[derive(Debug, thiserror::Error)]
pub enum SendingError {
    /// A file is not read.
    #[error("cannot read {0}")]
    File(PathBuf, #[source] std::io::Error),
    /// The file of CA certificates holds something else.
    #[error("{0} holds no certificate in PEM")]
    Certificates(PathBuf),
    /// TLS is not set up.
    #[error("cannot set up TLS")]
    Tls(#[from] rustls::Error),
}

/// What sending needs, beside the receivers themselves.
#[derive(Debug)]
pub(crate) struct Sending {
    /// The URL of the service, as users type it.
    pub(crate) base_url: String,
    mail: Option<MailAccount>,
    roots: Vec<CertificateDer<'static>>,
    tls: Arc<rustls::ClientConfig>,
    /// Name of this machine.
    host: String,
}

#[derive(Debug)]
struct MailAccount {
    server: MailServer,
    hello: String,
    credentials: Option<(String, String)>,
}

impl Sending {
    /// Reads the files that the configuration names.
    ///
    /// # Errors
    /// [`SendingError`].
    pub(crate) fn open(config: &Config) -> Result<Self, SendingError> {
        let mut roots = rustls_native_certs::load_native_certs().certs;
        if let Some(file) = &config.notices.ca_file {
            let text = std::fs::read(file).map_err(|e| SendingError::File(file.clone(), e))?;
            let own: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(&text).collect();
            match own {
                Ok(own) if !own.is_empty() => roots.extend(own),
                _ => return Err(SendingError::Certificates(file.clone())),
            }
        }
        let mut store = rustls::RootCertStore::empty();
        store.add_parsable_certificates(roots.iter().cloned());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = rustls::ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_root_certificates(store)
            .with_no_client_auth();
        let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
        let mail = config.notices.mail.clone().map(|server| {
            let credentials = server.user.as_ref().map(|(user, file)| {
                let text = std::fs::read_to_string(file);
                let text = text.map_err(|e| SendingError::File(file.clone(), e))?;
                Ok::<_, SendingError>((user.clone(), text.trim_end().to_owned()))
            });
            let hello = server.hello.clone().unwrap_or_else(|| host.clone());
            Ok::<_, SendingError>(MailAccount {
                credentials: credentials.transpose()?,
                server,
                hello,
            })
        });
        let base_url = match &config.public_url {
            Some(public) => public.url.clone(),
            None => format!("http://{}", config.listen),
        };
        Ok(Self { base_url, mail: mail.transpose()?, roots, tls: Arc::new(tls), host })
    }

    /// Refuses a receiver that nothing can be sent to, with the field's name and the reason.
    pub(crate) fn check(&self, receiver: &Receiver) -> Result<(), String> {
        for route in &receiver.routes {
            route.hours.as_ref().map_or(Ok(()), |hours| hours.check())?;
        }
        match &receiver.channel {
            Channel::Webhook { url } => webhook::checked_url(url).map(drop),
            Channel::Action { url, per_hour } => {
                if !(1..=1_000).contains(per_hour) {
                    return Err(format!("per_hour: {per_hour} is outside 1 to 1000"));
                }
                webhook::checked_url(url).map(drop)
            }
            Channel::Mail { to } => {
                if self.mail.is_none() {
                    return Err("channel: no mail server is configured; set [mail] in the \
                                configuration"
                        .to_owned());
                }
                if !(1..=50).contains(&to.len()) {
                    return Err("to: 1 to 50 addresses are needed".to_owned());
                }
                to.iter().try_for_each(|address| mail::checked_address(address).map(drop))
            }
            Channel::Syslog { host, port, .. } => {
                let odd = |c: char| c.is_control() || c.is_whitespace();
                if host.is_empty() || host.chars().count() > 253 || host.chars().any(odd) {
                    return Err(format!("host: {host:?} is no name or address of a host"));
                }
                address::check_literal(host).map_err(|error| format!("host: {error}"))?;
                if *port == 0 { Err("port: 1 to 65535 is needed".to_owned()) } else { Ok(()) }
            }
        }
    }

    /// Sends a notice to its receiver.
    pub(crate) async fn send(&self, claim: &Claim) -> Result<Answer, SendError> {
        let content: NoticeContent = serde_json::from_value(claim.content.clone())
            .map_err(|error| SendError::permanent(format!("the notice is unreadable: {error}")))?;
        match &claim.receiver.channel {
            Channel::Webhook { url } | Channel::Action { url, .. } => {
                let request = webhook::Request {
                    url,
                    content: cloud_event::json(&content, &self.base_url),
                    secret: claim.secret.as_deref().unwrap_or_default(),
                    key_id: &claim.receiver_id.to_string(),
                    now: OffsetDateTime::now_utc().unix_timestamp(),
                    keeps_answer: matches!(claim.receiver.channel, Channel::Action { .. }),
                };
                webhook::send(request, self.tls.as_ref().clone()).await
            }
            Channel::Mail { to } => {
                let Some(account) = &self.mail else {
                    let reason = "no mail server is configured; set [mail] in the configuration";
                    return Err(SendError::permanent(reason.to_owned()));
                };
                let message = mail::message(&content, &account.server.from, to);
                let message = message.map_err(SendError::permanent)?;
                let login = (account.hello.as_str(), account.credentials.as_ref());
                mail::send(message, &account.server, login, &self.roots).await
            }
            Channel::Syslog { host, port, transport } => {
                let message = syslog::message(&content, &self.host);
                syslog::send((host, *port, *transport), &message, &self.tls).await
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::notice::SyslogTransport;

    #[test]
    fn a_receiver_that_nothing_can_be_sent_to_is_refused_by_its_field() {
        let config = Config::parse("").unwrap();
        let sending = Sending::open(&config).unwrap();
        let with_mail = "[mail]\nserver = \"mail.corriven.example\"\nfrom = \"i@corriven.example\"";
        let mailing = Sending::open(&Config::parse(with_mail).unwrap()).unwrap();
        let receiver = |channel| Receiver {
            name: "Desk".to_owned(),
            enabled: true,
            channel,
            routes: Vec::new(),
        };
        let url = || "https://desk.corriven.example/".to_owned();
        let to = |to: &str| Channel::Mail { to: vec![to.to_owned()] };
        let syslog = |host: &str, port| Channel::Syslog {
            host: host.to_owned(),
            port,
            transport: SyslogTransport::Udp,
        };
        for (sending, channel, field) in [
            (&sending, Channel::Webhook { url: "desk".to_owned() }, "url"),
            (&sending, Channel::Action { url: url(), per_hour: 0 }, "per_hour"),
            (&sending, to("desk@corriven.example"), "channel"),
            (&mailing, to("desk"), "to"),
            (&mailing, Channel::Mail { to: Vec::new() }, "to"),
            (&sending, syslog("a b", 514), "host"),
            (&sending, syslog("224.0.0.1", 514), "host"),
            (&sending, syslog("log.corriven.example", 0), "port"),
        ] {
            let refused = sending.check(&receiver(channel.clone()));
            assert!(refused.is_err_and(|it| it.starts_with(field)), "{channel:?}");
        }
        assert_eq!(mailing.check(&receiver(to("desk@corriven.example"))), Ok(()));
        assert_eq!(sending.check(&receiver(Channel::Webhook { url: url() })), Ok(()));
    }
}
