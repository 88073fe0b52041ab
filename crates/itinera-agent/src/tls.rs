//! TLS toward the service: its authority is known by the join code's digest, later by its
//! certificate; names in the URL do not matter, because no other program has that key.

use itinera_model::join::pin_of;
use rustls::SignatureScheme;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore};
use std::sync::{Arc, Mutex};

/// The name every service's certificate bears; agents ask for this one whatever the URL says.
const SERVICE_NAME: &str = "service.itinera.internal";

/// The authority's certificate, once the service has shown it.
pub(crate) type SeenAuthority = Arc<Mutex<Option<CertificateDer<'static>>>>;

/// What is known of the service's authority.
#[derive(Debug)]
enum Trust {
    /// Its digest, from a join code; the certificate it turned out to be is kept here.
    Pin { pin: [u8; 16], seen: SeenAuthority },
    /// Its certificate.
    Authority(CertificateDer<'static>),
}

#[derive(Debug)]
struct Verifier {
    trust: Trust,
    provider: Arc<CryptoProvider>,
}

impl Verifier {
    /// The authority that these certificates lead to, when it is the one we trust.
    fn authority(
        &self,
        presented: &[CertificateDer<'_>],
    ) -> Result<CertificateDer<'static>, Error> {
        match &self.trust {
            Trust::Authority(certificate) => Ok(certificate.clone()),
            Trust::Pin { pin, seen } => {
                let found = presented.iter().find(|certificate| pin_of(certificate) == *pin);
                let found =
                    found.ok_or(Error::InvalidCertificate(CertificateError::UnknownIssuer))?;
                let found = found.clone().into_owned();
                if let Ok(mut seen) = seen.lock() {
                    *seen = Some(found.clone());
                }
                Ok(found)
            }
        }
    }

    fn chain(
        &self,
        authority: CertificateDer<'static>,
    ) -> Result<Arc<WebPkiServerVerifier>, Error> {
        let mut roots = RootCertStore::empty();
        roots.add(authority)?;
        WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider))
            .build()
            .map_err(|error| Error::General(error.to_string()))
    }
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        _name_in_url: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let name = ServerName::try_from(SERVICE_NAME)
            .map_err(|_| Error::General("the service's fixed name is no name".to_owned()))?;
        let chain = self.chain(self.authority(intermediates)?)?;
        let verify =
            |at| chain.verify_server_cert(end_entity, intermediates, &name, ocsp_response, at);
        // Our clock may be years off, and the service tells us so only once we are connected. It is
        // known by its key: the date of its certificate says nothing more.
        match verify(now) {
            Err(Error::InvalidCertificate(CertificateError::NotValidYetContext {
                not_before,
                ..
            })) => verify(not_before),
            Err(Error::InvalidCertificate(CertificateError::ExpiredContext {
                not_after, ..
            })) => verify(not_after),
            verified => verified,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, cert, dss, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, cert, dss, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

/// A configuration for joining, and where the authority's certificate appears once the service
/// has proved itself.
pub(crate) fn for_joining(pin: [u8; 16]) -> Result<(ClientConfig, SeenAuthority), Error> {
    let seen = Arc::new(Mutex::new(None));
    let verifier =
        Verifier { trust: Trust::Pin { pin, seen: Arc::clone(&seen) }, provider: provider() };
    let config = ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    Ok((config, seen))
}

/// A configuration for an agent that has joined.
pub(crate) fn for_agent(
    authority: CertificateDer<'static>,
    certificate: CertificateDer<'static>,
    key: PrivateKeyDer<'static>,
) -> Result<ClientConfig, Error> {
    let verifier = Verifier { trust: Trust::Authority(authority), provider: provider() };
    ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_client_auth_cert(vec![certificate], key)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};
    use std::time::Duration;

    /// An authority, and a certificate that it has given to the service.
    fn authority() -> (CertificateDer<'static>, CertificateDer<'static>) {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let own = params.self_signed(&key).unwrap().der().clone();
        let mut service = CertificateParams::new(vec![SERVICE_NAME.to_owned()]).unwrap();
        service.not_before = rcgen::date_time_ymd(2026, 1, 1);
        service.not_after = rcgen::date_time_ymd(2036, 1, 1);
        let issuer = Issuer::new(params, key);
        let service = service.signed_by(&KeyPair::generate().unwrap(), &issuer).unwrap();
        (own, service.der().clone())
    }

    #[test]
    fn a_clock_that_is_years_off_keeps_no_agent_from_its_own_service() {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let (own, service) = authority();
        let (other, _) = authority();
        let verify = |trusted: &CertificateDer<'static>, second| {
            let trust = Trust::Authority(trusted.clone());
            let now = UnixTime::since_unix_epoch(Duration::from_secs(second));
            let name = ServerName::try_from("anything.example").unwrap();
            let verifier = Verifier { trust, provider: provider() };
            verifier.verify_server_cert(&service, &[], &name, &[], now)
        };
        let (year_1970, in_force, year_2106) = (1_000, 1_790_000_000, 4_294_967_000);
        for second in [year_1970, in_force, year_2106] {
            assert!(verify(&own, second).is_ok(), "at {second}: {:?}", verify(&own, second));
            assert!(verify(&other, second).is_err(), "another's at {second}");
        }
    }
}
