//! The identity of an agent on disk: its key, its certificate, its service.

use itinera_model::id::AgentId;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde::{Deserialize, Serialize};
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

const FILE: &str = "identity.json";

/// An identity that cannot be kept or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum IdentityError {
    /// There is none.
    #[error("no identity in {0:?}: join first with `itinera agent join`")]
    Missing(PathBuf),
    /// There is one already.
    #[error(
        "{0:?} holds an agent's identity already: use another directory, or delete it to join again"
    )]
    Exists(PathBuf),
    /// A file operation failed.
    #[error("cannot use the identity in {0:?}")]
    File(PathBuf, #[source] io::Error),
    /// Its content cannot be read.
    #[error("the identity in {path:?} has an unreadable {what}")]
    Unreadable {
        /// Which file.
        path: PathBuf,
        /// What of it.
        what: &'static str,
    },
}

/// An agent's identity.
#[derive(Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Identity {
    /// Its name.
    pub agent: AgentId,
    /// Its site's name.
    pub site: String,
    /// Where the service listens for agents.
    pub service: String,
    /// The service's authority (PEM).
    pub(crate) authority_pem: String,
    /// The agent's certificate (PEM).
    pub(crate) certificate_pem: String,
    /// The agent's key (PEM).
    pub(crate) key_pem: String,
}

impl std::fmt::Debug for Identity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Identity({} at {})", self.agent, self.site)
    }
}

impl Identity {
    /// Says whether a directory is free for a new identity.
    ///
    /// # Errors
    /// [`IdentityError::Exists`] when it is not; [`IdentityError::File`] when it cannot be made.
    pub fn check_free(directory: &Path) -> Result<(), IdentityError> {
        let path = directory.join(FILE);
        if path.exists() {
            return Err(IdentityError::Exists(path));
        }
        fs::create_dir_all(directory).map_err(|e| IdentityError::File(directory.to_owned(), e))
    }

    /// Writes it, for this account's eyes only; never over another one.
    ///
    /// # Errors
    /// [`IdentityError`].
    pub fn write(&self, directory: &Path) -> Result<(), IdentityError> {
        Self::check_free(directory)?;
        let path = directory.join(FILE);
        let write = || self.draft_in(directory)?.persist_noclobber(&path).map_err(|e| e.error);
        write().map(drop).map_err(|error| IdentityError::File(path.clone(), error))
    }

    /// Records that the service is to be found at another place.
    ///
    /// # Errors
    /// [`IdentityError`].
    pub fn moved_to(mut self, service: &str, directory: &Path) -> Result<(), IdentityError> {
        self.service = service.to_owned();
        let path = directory.join(FILE);
        let replace = || self.draft_in(directory)?.persist(&path).map_err(|e| e.error);
        replace().map(drop).map_err(|error| IdentityError::File(path.clone(), error))
    }

    /// It in a new file that only this account may read.
    fn draft_in(&self, directory: &Path) -> io::Result<NamedTempFile> {
        let mut draft = NamedTempFile::new_in(directory)?;
        draft.write_all(serde_json::to_string_pretty(self)?.as_bytes())?;
        draft.as_file().sync_all()?;
        Ok(draft)
    }

    /// Reads it.
    ///
    /// # Errors
    /// [`IdentityError`].
    pub fn read(directory: &Path) -> Result<Self, IdentityError> {
        let path = directory.join(FILE);
        let text = match fs::read_to_string(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(IdentityError::Missing(directory.to_owned()));
            }
            other => other.map_err(|error| IdentityError::File(path.clone(), error))?,
        };
        serde_json::from_str(&text).map_err(|_| IdentityError::Unreadable { path, what: "JSON" })
    }

    /// The certificate of the service's authority.
    pub(crate) fn authority(&self) -> Result<CertificateDer<'static>, IdentityError> {
        let path = PathBuf::from(FILE);
        CertificateDer::from_pem_slice(self.authority_pem.as_bytes())
            .map_err(|_| IdentityError::Unreadable { path, what: "authority" })
    }

    pub(crate) fn tls(&self) -> Result<rustls::ClientConfig, IdentityError> {
        let unreadable = |what| IdentityError::Unreadable { path: PathBuf::from(FILE), what };
        let certificate = |pem: &str, what| {
            CertificateDer::from_pem_slice(pem.as_bytes()).map_err(|_| unreadable(what))
        };
        let authority = self.authority()?;
        let own = certificate(&self.certificate_pem, "certificate")?;
        let key = PrivateKeyDer::from_pem_slice(self.key_pem.as_bytes())
            .map_err(|_| unreadable("key"))?;
        crate::tls::for_agent(authority, own, key).map_err(|_| unreadable("certificate or key"))
    }
}
