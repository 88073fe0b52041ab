//! Certificates that are right, or with one fault each.

use itinera_simnet::TlsHabit;
use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, DistinguishedName, DnType, IsCa, KeyPair,
};
use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};

/// A certificate could not be made or used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AuthorityError {
    /// Not made.
    #[error("cannot make a certificate")]
    Make(#[from] rcgen::Error),
    /// Not used.
    #[error("cannot use a certificate")]
    Use(#[from] rustls::Error),
}

/// Signs the certificates of the simulated world.
#[derive(Debug)]
pub struct Authority(CertifiedIssuer<'static, KeyPair>);

impl Authority {
    /// A new one, with a key of its own.
    ///
    /// # Errors
    /// [`AuthorityError::Make`].
    pub fn new() -> Result<Self, AuthorityError> {
        let mut params = CertificateParams::new(Vec::new())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name = named("Corriven Sound test authority");
        Ok(Self(CertifiedIssuer::self_signed(params, KeyPair::generate()?)?))
    }

    /// Its certificate, for clients that trust it.
    pub fn certificate(&self) -> CertificateDer<'static> {
        self.0.der().clone()
    }

    /// Its certificate in PEM.
    pub fn certificate_pem(&self) -> String {
        self.0.pem()
    }

    /// What a server of this name needs, with a certificate that is right or wrong.
    ///
    /// # Errors
    /// [`AuthorityError`].
    pub fn server(&self, name: &str, habit: TlsHabit) -> Result<Arc<ServerConfig>, AuthorityError> {
        let shown = if habit == TlsHabit::WrongName { "elsewhere.corriven.example" } else { name };
        let mut params = CertificateParams::new(vec![shown.to_owned()])?;
        params.distinguished_name = named(shown);
        let now = OffsetDateTime::now_utc();
        (params.not_before, params.not_after) = match habit {
            TlsHabit::Expired => (now - Duration::days(90), now - Duration::days(2)),
            TlsHabit::Early => (now + Duration::days(2), now + Duration::days(90)),
            TlsHabit::Good | TlsHabit::WrongName | TlsHabit::Untrusted => {
                (now - Duration::days(2), now + Duration::days(30))
            }
        };
        let key = KeyPair::generate()?;
        let certificate = if habit == TlsHabit::Untrusted {
            params.self_signed(&key)?
        } else {
            params.signed_by(&key, &self.0)?
        };
        let private = PrivateKeyDer::Pkcs8(key.serialize_der().into());
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(vec![certificate.der().clone()], private)?;
        Ok(Arc::new(config))
    }
}

fn named(name: &str) -> DistinguishedName {
    let mut named = DistinguishedName::new();
    named.push(DnType::CommonName, name);
    named
}
