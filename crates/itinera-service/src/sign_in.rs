//! Users of requests and their roles: passwords, sessions, tokens.
//!
//! Everything under `/api/v1` and the metrics is closed unless [`needed`] opens it to a role.
//! A browser comes with a session cookie, which a page elsewhere cannot make it send
//! (SameSite=Strict), and shows the session's proof with every change; a program comes with a
//! token.

use crate::context::Shared;
use crate::problem::ApiError;
use crate::secret_file;
use argon2::password_hash::{PasswordHash, SaltString};
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum_extra::extract::cookie::CookieJar;
use data_encoding::{BASE32_NOPAD, HEXLOWER};
use itinera_model::id::UserId;
use itinera_model::role::Role;
use itinera_store::{SessionUser, Store, StoreError};
use sha2::{Digest, Sha256};
use std::path::Path;
use std::sync::Arc;
use tokio::sync::Semaphore;

/// Name of the session's cookie.
pub(crate) const COOKIE: &str = "itinera_session";
/// The header in which a page shows its session's proof.
pub(crate) const PROOF: &str = "x-itinera-proof";
/// What a token's text begins with, so that secret scanners can know it.
const TOKEN_MARK: &str = "itinera_";
/// The file that holds the first administrator's password until it is changed.
const FIRST: &str = "first-administrator";
/// Passwords hashed at one time: each takes 19 MiB and a processor.
static HASHING: Semaphore = Semaphore::const_new(4);
/// Shortest and longest password.
pub(crate) const PASSWORD: std::ops::RangeInclusive<usize> = 10..=200;

/// An authenticated and authorised user or token.
#[derive(Debug, Clone)]
pub(crate) struct Actor {
    pub(crate) user: UserId,
    pub(crate) name: String,
    pub(crate) role: Role,
    pub(crate) csrf: Option<String>,
}

impl From<SessionUser> for Actor {
    fn from(known: SessionUser) -> Self {
        let SessionUser { user, name, role, csrf } = known;
        Self { user, name, role, csrf }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Actor {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, ApiError> {
        parts.extensions.get::<Self>().cloned().ok_or(ApiError::NotSignedIn)
    }
}

/// The role a call needs; nothing for calls that need no user. What is not named here needs
/// an administrator when it changes something, and a viewer when it does not.
pub(crate) fn needed(method: &Method, path: &str) -> Option<Role> {
    let reads = matches!(*method, Method::GET | Method::HEAD);
    let place = path.strip_prefix("/api/v1").unwrap_or(path);
    match place {
        "/openapi.json" => None,
        // The calling user may be asked for without signing in.
        "/session" if reads || *method == Method::POST => None,
        "/session" | "/session/password" => Some(Role::Viewer),
        "/audit" => Some(Role::Administrator),
        _ if place.starts_with("/users") => Some(Role::Administrator),
        // Tokens are one's own, unless an administrator asks.
        _ if place.starts_with("/tokens") => Some(Role::Viewer),
        // Views of alarms are one's own too.
        _ if place.starts_with("/alarm-views") => Some(Role::Viewer),
        _ if !reads
            && [
                "/alarms",
                "/incidents",
                "/notices",
                "/watches",
                "/suppressions",
                "/diagnoses",
                "/pairs",
                "/throughput",
                "/checks",
                "/rules/trial",
            ]
            .iter()
            .any(|theirs| place.starts_with(theirs)) =>
        {
            Some(Role::Analyst)
        }
        _ => Some(if reads { Role::Viewer } else { Role::Administrator }),
    }
}

/// Passes a request if its user or token is authorised.
pub(crate) async fn guard(
    State(shared): State<Arc<Shared>>,
    mut request: Request,
    next: Next,
) -> Response {
    let path = request.uri().path();
    let guarded = ["/api/v1", "/metrics"].iter().any(|place| path.starts_with(place));
    if !guarded {
        return next.run(request).await;
    }
    let needed = needed(request.method(), path);
    let role = needed.unwrap_or(Role::Viewer);
    match admitted(&shared.store, request.method(), request.headers(), role).await {
        Ok(actor) => {
            request.extensions_mut().insert(actor);
            next.run(request).await
        }
        Err(_) if needed.is_none() => next.run(request).await,
        Err(error) => error.into_response(),
    }
}

pub(crate) async fn admitted(
    store: &Store,
    method: &Method,
    headers: &HeaderMap,
    needed: Role,
) -> Result<Actor, ApiError> {
    let known = match (bearer(headers), session_cookie(headers)) {
        (Some(token), _) => store.token(digest(token)).await?,
        (None, Some(secret)) => {
            let known = store.session(digest(&secret)).await?;
            let safe = matches!(*method, Method::GET | Method::HEAD);
            let shown = headers.get(PROOF).and_then(|proof| proof.to_str().ok());
            if let Some(known) = &known
                && !safe
                && known.csrf.as_deref() != shown
            {
                return Err(ApiError::NoProof);
            }
            known
        }
        (None, None) => None,
    };
    let actor = Actor::from(known.ok_or(ApiError::NotSignedIn)?);
    if actor.role < needed {
        return Err(ApiError::NotAllowed { needed, has: actor.role });
    }
    Ok(actor)
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    let value = headers.get(header::AUTHORIZATION)?.to_str().ok()?;
    value.strip_prefix("Bearer ").map(str::trim)
}

/// The session's secret.
fn session_cookie(headers: &HeaderMap) -> Option<String> {
    CookieJar::from_headers(headers).get(COOKIE).map(|cookie| cookie.value().to_owned())
}

/// What is kept of a secret.
pub(crate) fn digest(secret: &str) -> [u8; 32] {
    Sha256::digest(secret.as_bytes()).into()
}

fn random<const N: usize>() -> Result<[u8; N], ApiError> {
    let mut octets = [0; N];
    let source = rustls::crypto::ring::default_provider().secure_random;
    source.fill(&mut octets).map_err(|_| ApiError::Internal("no randomness".into()))?;
    Ok(octets)
}

/// A secret of 256 bits for a session or a proof.
pub(crate) fn new_secret() -> Result<String, ApiError> {
    Ok(HEXLOWER.encode(&random::<32>()?))
}

/// The text of a new token.
pub(crate) fn new_token() -> Result<String, ApiError> {
    Ok(format!("{TOKEN_MARK}{}", BASE32_NOPAD.encode(&random::<32>()?).to_ascii_lowercase()))
}

/// A password's hash (Argon2id, RFC 9106) in the PHC format.
pub(crate) async fn hashed(password: String) -> Result<String, ApiError> {
    let failed = |error: argon2::password_hash::Error| ApiError::Internal(error.to_string().into());
    let salt = SaltString::encode_b64(&random::<16>()?).map_err(failed)?;
    let _turn = HASHING.acquire().await;
    let work = tokio::task::spawn_blocking(move || {
        let hash = Argon2::default().hash_password(password.as_bytes(), &salt);
        hash.map(|hash| hash.to_string())
    });
    work.await.map_err(|error| ApiError::Internal(error.into()))?.map_err(failed)
}

/// Whether a password is the one of this hash; takes as long without a hash.
pub(crate) async fn is_password(password: String, hash: Option<String>) -> Result<bool, ApiError> {
    // Of a random password that was not kept.
    const NO_USER: &str = "$argon2id$v=19$m=19456,t=2,p=1$YWJjZGVmZ2hpamtsbW5vcA$\
        Vr9VCOW3lHbhb4tBIQzBTeiTFbIUzkZDSuM6YOkNsT0";
    let _turn = HASHING.acquire().await;
    let work = tokio::task::spawn_blocking(move || {
        let known = hash.is_some();
        let hash = hash.unwrap_or_else(|| NO_USER.to_owned());
        let parsed = PasswordHash::new(&hash);
        let right = parsed.is_ok_and(|hash| {
            Argon2::default().verify_password(password.as_bytes(), &hash).is_ok()
        });
        known && right
    });
    work.await.map_err(|error| ApiError::Internal(error.into()))
}

/// Makes the first administrator where there is no user yet, and the password is
/// written to a file that only the service's own account can read.
pub(crate) async fn ensure_administrator(store: &Store, data: &Path) -> Result<(), FirstError> {
    if !store.users().await?.is_empty() {
        return Ok(());
    }
    let failed = |error: ApiError| FirstError::Hash(error.to_string());
    let password = BASE32_NOPAD.encode(&random::<15>().map_err(failed)?).to_ascii_lowercase();
    let hash = hashed(password.clone()).await.map_err(failed)?;
    let path = data.join(FIRST);
    secret_file::write(&path, format!("administrator\n{password}\n"))
        .map_err(|error| FirstError::File(path.display().to_string(), error))?;
    store.add_user("administrator", Role::Administrator, &hash, "first start").await?;
    tracing::info!("the first administrator's name and password are in {}", path.display());
    Ok(())
}

/// Forgets the first password's file once it is another.
pub(crate) fn discard_first(data: &Path) {
    match std::fs::remove_file(data.join(FIRST)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            tracing::warn!(%error, "the first administrator's file could not be removed");
        }
        _ => {}
    }
}

/// Why there is no first administrator.
#[derive(Debug, thiserror::Error)]
pub enum FirstError {
    /// About the database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The password cannot be hashed.
    #[error("the first administrator's password cannot be made: {0}")]
    Hash(String),
    /// The file cannot be written.
    #[error("cannot write {0}")]
    File(String, #[source] std::io::Error),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_named_is_closed() {
        let role = |method, path| needed(&method, path);
        assert_eq!(role(Method::POST, "/api/v1/session"), None);
        assert_eq!(role(Method::GET, "/api/v1/session"), None);
        assert_eq!(role(Method::DELETE, "/api/v1/session"), Some(Role::Viewer));
        assert_eq!(role(Method::GET, "/api/v1/anything"), Some(Role::Viewer));
        assert_eq!(role(Method::DELETE, "/api/v1/anything"), Some(Role::Administrator));
        assert_eq!(role(Method::GET, "/api/v1/users"), Some(Role::Administrator));
        assert_eq!(role(Method::POST, "/api/v1/incidents"), Some(Role::Analyst));
        assert_eq!(role(Method::GET, "/metrics/measurements"), Some(Role::Viewer));
    }

    #[test]
    fn the_session_is_found_among_other_cookies() {
        let mut headers = HeaderMap::new();
        headers.insert(header::COOKIE, "a=b; itinera_session=abc; c=d".parse().unwrap());
        assert_eq!(session_cookie(&headers).as_deref(), Some("abc"));
        headers.insert(header::COOKIE, "xitinera_session=abc".parse().unwrap());
        assert_eq!(session_cookie(&headers), None);
    }

    #[tokio::test]
    async fn only_the_right_password_is_right() {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let hash = hashed("a good password".to_owned()).await.unwrap();
        assert!(hash.starts_with("$argon2id$"));
        for (password, hash, right) in [
            ("a good password", Some(hash.clone()), true),
            ("a bad password", Some(hash), false),
            ("a good password", None, false),
        ] {
            assert_eq!(is_password(password.to_owned(), hash).await.unwrap(), right);
        }
    }
}
