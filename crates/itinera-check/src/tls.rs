//! TLS: agreed as clients do, while what is wrong with a certificate is noted and not fatal, so
//! that the steps behind it can be looked at too.

use crate::first_bytes::{FirstBytes, Received};
use crate::net::{Connection, why_ended};
use crate::{Asker, Break, CheckProgress, Destination, kept};
use itinera_model::check::{Certificate, MAX_ITEMS, Step, TlsSeen, Why};
use itinera_model::unit::WallTime;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    AlertDescription, CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore,
    SignatureScheme,
};
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// A connection over TLS.
pub(crate) type Secured = TlsStream<FirstBytes<Connection>>;

/// The CA certificates of the machine.
#[derive(Debug)]
pub struct Roots(Option<Arc<WebPkiServerVerifier>>);

impl Roots {
    /// Those that the machine's own programs trust.
    pub fn of_machine() -> Self {
        Self::of(rustls_native_certs::load_native_certs().certs)
    }

    /// These.
    pub fn of(certificates: Vec<CertificateDer<'static>>) -> Self {
        let mut store = RootCertStore::empty();
        store.add_parsable_certificates(certificates);
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        // Without any root no certificate is trusted, and results say so.
        Self(WebPkiServerVerifier::builder_with_provider(Arc::new(store), provider).build().ok())
    }
}

/// Judges certificates and lets all pass; what is wrong is noted.
#[derive(Debug)]
struct Notes {
    roots: Arc<Roots>,
    schemes: Vec<SignatureScheme>,
    wrong: Mutex<Option<Why>>,
}

impl Notes {
    fn note(&self, why: Why) {
        let mut wrong = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        wrong.get_or_insert(why);
    }
}

impl ServerCertVerifier for Notes {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        stapled: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let verdict = match &self.roots.0 {
            Some(verifier) => verifier.verify_server_cert(own, between, name, stapled, now).err(),
            None => Some(Error::InvalidCertificate(CertificateError::UnknownIssuer)),
        };
        if let Some(error) = verdict {
            self.note(why_not_trusted(&error));
        }
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        own: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = rustls::crypto::ring::default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, own, signed, &known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        own: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = rustls::crypto::ring::default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, own, signed, &known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.schemes.clone()
    }
}

fn why_not_trusted(error: &Error) -> Why {
    let Error::InvalidCertificate(error) = error else {
        return Why::CertificateUntrusted;
    };
    match error {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            Why::CertificateExpired
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            Why::CertificateEarly
        }
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            Why::CertificateName
        }
        _ => Why::CertificateUntrusted,
    }
}

fn why_not_agreed(error: &io::Error, received: &Received) -> Why {
    if received.anything() && !received.is_tls() {
        return Why::SpeaksPlain;
    }
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<Error>());
    match inner {
        None => why_ended(error),
        Some(
            Error::PeerIncompatible(_)
            | Error::AlertReceived(
                AlertDescription::HandshakeFailure
                | AlertDescription::ProtocolVersion
                | AlertDescription::InsufficientSecurity
                | AlertDescription::NoApplicationProtocol,
            ),
        ) => Why::NoCommonTls,
        Some(_) => Why::NotThisProtocol,
    }
}

/// Text as a certificate has it, or a word that it cannot be read.
fn read(der: &CertificateDer<'_>) -> Option<Certificate> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let alternative = certificate.subject_alternative_name().ok().flatten();
    let general = alternative.iter().flat_map(|names| &names.value.general_names);
    let names = general.filter_map(|name| match name {
        GeneralName::DNSName(name) => Some(kept(name)),
        GeneralName::IPAddress(octets) => Some(address(octets)?.to_string()),
        _ => None,
    });
    let validity = certificate.validity();
    Some(Certificate {
        subject: kept(&certificate.subject().to_string()),
        issuer: kept(&certificate.issuer().to_string()),
        names: names.take(MAX_ITEMS).collect(),
        not_before: WallTime::from_unix_seconds(validity.not_before.timestamp()),
        not_after: WallTime::from_unix_seconds(validity.not_after.timestamp()),
    })
}

fn address(octets: &[u8]) -> Option<std::net::IpAddr> {
    let four: Result<[u8; 4], _> = octets.try_into();
    let six: Result<[u8; 16], _> = octets.try_into();
    four.map(Into::into).or_else(|_| six.map(Into::into)).ok()
}

impl Asker {
    /// Agrees on TLS over an open connection. What is wrong with the certificate is given beside
    /// the connection, because a user's program would stop there and we look further.
    pub(crate) async fn secure(
        &self,
        connection: Connection,
        name: Option<&str>,
        there: SocketAddr,
        protocols: &[&[u8]],
        course: &mut CheckProgress,
    ) -> Result<(Secured, Option<Why>), Break> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let notes = Arc::new(Notes {
            roots: Arc::clone(&self.roots),
            schemes: provider.signature_verification_algorithms.supported_schemes(),
            wrong: Mutex::new(None),
        });
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|_| (Step::Tls, Why::NoCommonTls))?;
        let verifier: Arc<dyn ServerCertVerifier> = Arc::<Notes>::clone(&notes);
        let mut config =
            config.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth();
        config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
        let name = name.and_then(|name| ServerName::try_from(name.to_owned()).ok());
        let name = name.unwrap_or_else(|| ServerName::IpAddress(there.ip().into()));
        let (stream, received) = FirstBytes::new(connection);
        let begun = Instant::now();
        let agreeing = TlsConnector::from(Arc::new(config)).connect(name, stream);
        let secured = match tokio::time::timeout(self.patience.step, agreeing).await {
            Err(_) => return Err((Step::Tls, Why::NoAnswer)),
            Ok(Err(error)) => return Err((Step::Tls, why_not_agreed(&error, &received))),
            Ok(Ok(secured)) => secured,
        };
        course.done(Step::Tls, begun);
        let (_, session) = secured.get_ref();
        let version = match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".to_owned(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
            other => other.map_or_else(String::new, |version| format!("{version:?}")),
        };
        let chain = session.peer_certificates().unwrap_or_default();
        let chain = chain.iter().take(MAX_ITEMS).filter_map(read).collect();
        course.seen.tls = Some(TlsSeen { version, chain });
        let wrong = *notes.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        Ok((secured, wrong))
    }

    /// Nothing but TLS.
    pub(crate) async fn tls_only(
        &self,
        destination: &Destination,
        port: u16,
        name: &Option<String>,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let there = self.find(destination, port, course).await?;
        let connection = self.open_at(there, course).await?;
        let name = name.as_deref().or_else(|| Self::name_of(destination));
        let (mut secured, wrong) = self.secure(connection, name, there, &[], course).await?;
        goodbye(&mut secured).await;
        wrong.map_or(Ok(()), |why| Err((Step::Tls, why)))
    }
}

/// Ends a connection in order, if the peer is still there.
pub(crate) async fn goodbye(stream: &mut (impl tokio::io::AsyncWrite + Unpin)) {
    let saying = tokio::io::AsyncWriteExt::shutdown(stream);
    let _nobody_listens = tokio::time::timeout(std::time::Duration::from_millis(500), saying).await;
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_testserver::Authority;
    use proptest::prelude::*;

    fn certificate() -> Vec<u8> {
        Authority::new().unwrap().certificate().to_vec()
    }

    #[test]
    fn a_certificate_is_read() {
        let own = read(&CertificateDer::from(certificate())).unwrap();
        assert!(own.not_before < own.not_after, "{own:?}");
    }

    proptest! {
        #[test]
        fn damaged_certificates_are_read_calmly(
            damage in prop::collection::vec((0_usize..600, any::<u8>()), 1..4),
            cut in 0_usize..600,
        ) {
            let mut der = certificate();
            let length = der.len();
            for (at, octet) in damage {
                der[at % length] = octet;
            }
            der.truncate(length.min(cut + 200));
            if let Some(own) = read(&CertificateDer::from(der)) {
                prop_assert!(own.subject.len() <= itinera_model::check::MAX_TEXT);
                prop_assert!(own.names.len() <= MAX_ITEMS);
            }
        }
    }
}
