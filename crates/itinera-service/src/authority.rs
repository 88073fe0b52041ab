//! The service's own certificate authority: it names the service to its agents and the agents
//! to the service, and no other program.

use crate::secret_file;
use hmac::{Hmac, KeyInit, Mac};
use itinera_model::id::{AgentId, PairId};
use itinera_model::join::JoinCode;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType,
    ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose, SigningKey,
};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig};
use sha2::{Digest, Sha256};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use time::{Duration, OffsetDateTime};

/// The name agents ask for, whatever URL they use.
const SERVICE_NAME: &str = "service.itinera.internal";
/// How long certificates are good. Agents are trusted by record, not by date: one that is
/// removed from the database is refused at once.
const LIFETIME: Duration = Duration::days(3_650);

/// What can be wrong with the authority.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AuthorityError {
    /// A file operation failed.
    #[error("cannot use {0:?}")]
    File(PathBuf, #[source] io::Error),
    /// Agents know the service by a key that is not there.
    #[error(
        "{0:?} is missing, and agents know the service by it: restore it from a backup; a new key \
         would shut all agents out"
    )]
    KeyLost(PathBuf),
    /// A certificate or key cannot be made or read.
    #[error("cannot make or read a certificate")]
    Certificate(#[from] rcgen::Error),
    /// TLS cannot be set up with it.
    #[error("cannot set up TLS")]
    Tls(#[source] Box<dyn std::error::Error + Send + Sync>),
}

/// The authority.
pub(crate) struct Authority {
    issuer: Issuer<'static, KeyPair>,
    /// What keys of sessions between agents are derived from.
    secret: [u8; 32],
    certificate: CertificateDer<'static>,
}

impl std::fmt::Debug for Authority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Authority(…)")
    }
}

fn valid_from_now(params: &mut CertificateParams) {
    let now = OffsetDateTime::now_utc();
    // Agents' clocks may be behind.
    params.not_before = now - Duration::days(30);
    params.not_after = now + LIFETIME;
}

/// HMAC-SHA-256 (RFC 2104) as a key derivation.
fn mac(key: &[u8], parts: &[&[u8]]) -> [u8; 32] {
    #[allow(clippy::expect_used, reason = "HMAC takes keys of any length")]
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length");
    parts.iter().for_each(|part| mac.update(part));
    mac.finalize().into_bytes().into()
}

/// The authority's own certificate (PEM).
fn self_signed(key: &KeyPair) -> Result<String, rcgen::Error> {
    let mut params = CertificateParams::new(Vec::new())?;
    params.distinguished_name.push(DnType::CommonName, "Itinera service authority");
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    valid_from_now(&mut params);
    Ok(params.self_signed(key)?.pem())
}

impl Authority {
    /// Reads the authority kept in a directory, or makes it where there never was one. Agents know
    /// the service by its key, so a key that is lost is never replaced.
    ///
    /// # Errors
    /// [`AuthorityError::KeyLost`] when agents have joined, or a certificate is there, without a
    /// key; [`AuthorityError`] when what is there cannot be read.
    pub(crate) fn open(directory: &Path, agents_joined: bool) -> Result<Self, AuthorityError> {
        let key_path = directory.join("authority.key");
        let certificate_path = directory.join("authority.crt");
        let file = |path: &Path| {
            let path = path.to_owned();
            move |error| AuthorityError::File(path, error)
        };
        if !key_path.exists() {
            if agents_joined || certificate_path.exists() {
                return Err(AuthorityError::KeyLost(key_path));
            }
            let key = KeyPair::generate()?;
            secret_file::write(&key_path, key.serialize_pem()).map_err(file(&key_path))?;
        }
        if !certificate_path.exists() {
            // The same key and name are the same authority to agents.
            let key_pem = fs::read_to_string(&key_path).map_err(file(&key_path))?;
            let certificate = self_signed(&KeyPair::from_pem(&key_pem)?)?;
            secret_file::write(&certificate_path, &certificate).map_err(file(&certificate_path))?;
        }
        let key_pem = fs::read_to_string(&key_path).map_err(file(&key_path))?;
        let pem = fs::read_to_string(&certificate_path).map_err(file(&certificate_path))?;
        let key = KeyPair::from_pem(&key_pem)?;
        let secret = mac(key.serialized_der(), &[b"keys of sessions between agents"]);
        let issuer = Issuer::from_ca_cert_pem(&pem, key)?;
        let certificate = CertificateDer::from_pem_slice(pem.as_bytes())
            .map_err(|error| AuthorityError::Tls(Box::new(error)))?;
        Ok(Self { issuer, secret, certificate })
    }

    /// A signature that agents know to be the service's (ECDSA over P-256 with SHA-256, ASN.1).
    pub(crate) fn sign(&self, octets: &[u8]) -> Result<Vec<u8>, AuthorityError> {
        Ok(self.issuer.key().sign(octets)?)
    }

    /// The key of a pair's session in a time.
    pub(crate) fn pair_key(&self, pair: PairId, epoch: i64) -> [u8; 32] {
        mac(&self.secret, &[pair.as_uuid().as_bytes(), &epoch.to_be_bytes()])
    }

    /// A join code of this secret.
    pub(crate) fn join_code(&self, secret: [u8; 16]) -> JoinCode {
        JoinCode::new(secret, &self.certificate)
    }

    /// A client certificate (PEM) for an agent's signing request, and its digest. Nothing of the
    /// request but its key is believed.
    pub(crate) fn certify(
        &self,
        agent: AgentId,
        request_pem: &str,
    ) -> Result<(String, [u8; 32]), AuthorityError> {
        let mut request = CertificateSigningRequestParams::from_pem(request_pem)?;
        let mut params = CertificateParams::new(Vec::new())?;
        params.distinguished_name.push(DnType::CommonName, agent.to_string());
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        valid_from_now(&mut params);
        request.params = params;
        let certificate = request.signed_by(&self.issuer)?;
        Ok((certificate.pem(), Sha256::digest(certificate.der()).into()))
    }

    /// TLS for the agents' listener: a fresh certificate for the service; client certificates
    /// of this authority are verified, none is demanded, because an agent that joins has none.
    pub(crate) fn server_tls(&self) -> Result<ServerConfig, AuthorityError> {
        let tls = |error: rustls::Error| AuthorityError::Tls(Box::new(error));
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(vec![SERVICE_NAME.to_owned()])?;
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        valid_from_now(&mut params);
        let certificate = params.signed_by(&key, &self.issuer)?;
        let chain = vec![certificate.der().clone(), self.certificate.clone()];
        let key = PrivateKeyDer::try_from(key.serialize_der())
            .map_err(|error| AuthorityError::Tls(error.into()))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut roots = RootCertStore::empty();
        roots.add(self.certificate.clone()).map_err(tls)?;
        let verifier =
            WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider))
                .allow_unauthenticated()
                .build()
                .map_err(|error| AuthorityError::Tls(Box::new(error)))?;
        ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(tls)?
            .with_client_cert_verifier(verifier)
            .with_single_cert(chain, key)
            .map_err(tls)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key_of(directory: &Path) -> String {
        fs::read_to_string(directory.join("authority.key")).unwrap()
    }

    #[test]
    fn a_key_is_never_replaced_and_a_lost_certificate_is_made_of_it() {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let place = tempfile::tempdir().unwrap();
        let directory = place.path();
        Authority::open(directory, false).unwrap();
        let key = key_of(directory);
        fs::remove_file(directory.join("authority.crt")).unwrap();
        let agents = Authority::open(directory, true).unwrap();
        assert_eq!(key_of(directory), key);
        assert!(agents.server_tls().is_ok());
        fs::remove_file(directory.join("authority.key")).unwrap();
        let lost = Authority::open(directory, false);
        assert!(matches!(lost, Err(AuthorityError::KeyLost(_))), "a certificate is there");
        fs::remove_file(directory.join("authority.crt")).unwrap();
        let lost = Authority::open(directory, true);
        assert!(matches!(lost, Err(AuthorityError::KeyLost(_))), "agents have joined");
        assert!(!directory.join("authority.key").exists());
        // Half a key is no key, and is not replaced either.
        fs::write(directory.join("authority.key"), &key[..60]).unwrap();
        assert!(Authority::open(directory, false).is_err());
        assert_eq!(key_of(directory), key[..60]);
    }
}
