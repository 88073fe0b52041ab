//! A server of webhooks and actions that checks signatures (RFC 9421), and shows what all receivers have.

use super::{Habit, HabitSwitch, Inbox, Received};
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use data_encoding::BASE64;
use hmac::{Hmac, KeyInit, Mac};
use rustls::ServerConfig;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use time::OffsetDateTime;
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use tokio_util::either::Either;

/// Secrets by their names, which requests give as `keyid`.
#[derive(Debug, Clone)]
pub enum Secrets {
    /// No signature is looked at.
    None,
    /// These.
    Known(BTreeMap<String, String>),
    /// Those in a JSON file, which is read at each request.
    File(PathBuf),
}

impl Secrets {
    fn of(&self, key_id: &str) -> Option<String> {
        match self {
            Self::None => None,
            Self::Known(known) => known.get(key_id).cloned(),
            Self::File(file) => {
                let text = std::fs::read(file).ok()?;
                let known: BTreeMap<String, String> = serde_json::from_slice(&text).ok()?;
                known.get(key_id).cloned()
            }
        }
    }
}

struct Server {
    inbox: Inbox,
    habit: HabitSwitch,
    secrets: Secrets,
    origin: String,
    seen: Mutex<BTreeSet<String>>,
}

/// What a request signs, as its `Signature-Input` says, and the signature.
fn is_signed(server: &Server, headers: &HeaderMap, uri: &Uri, body: &[u8]) -> Option<bool> {
    let text = |name: &str| headers.get(name).and_then(|it| it.to_str().ok()).unwrap_or_default();
    let digest = format!("sha-256=:{}:", BASE64.encode(&Sha256::digest(body)));
    let (_, parameters) = text("signature-input").split_once('=')?;
    let (_, signature) = text("signature").split_once('=')?;
    let signature = BASE64.decode(signature.trim_matches(':').as_bytes()).ok()?;
    let key_id = parameters.split("keyid=\"").nth(1)?.split('"').next()?;
    let secret = server.secrets.of(key_id)?;
    let names = parameters.strip_prefix('(')?.split(')').next()?;
    let mut base = String::new();
    for name in names.split(' ').map(|name| name.trim_matches('"')) {
        let value = match name {
            "@method" => "POST".to_owned(),
            "@target-uri" => format!("{}{uri}", server.origin),
            header => text(header).to_owned(),
        };
        base.push_str(&format!("\"{name}\": {value}\n"));
    }
    base.push_str(&format!("\"@signature-params\": {parameters}"));
    let mut mac = Hmac::<Sha256>::new_from_slice(secret.as_bytes()).ok()?;
    mac.update(base.as_bytes());
    Some(mac.verify_slice(&signature).is_ok() && text("content-digest") == digest)
}

/// Takes a notice, or does what the receiver's habit is.
async fn take(
    server: &Server,
    channel: &'static str,
    (headers, uri, body): (HeaderMap, Uri, Bytes),
) -> Response {
    let event: serde_json::Value = serde_json::from_slice(&body).unwrap_or_default();
    let id = event["id"].as_str().map(str::to_owned);
    let status = match server.habit.now() {
        Habit::Good => StatusCode::OK,
        Habit::Refusing => StatusCode::FORBIDDEN,
        Habit::Redirecting => StatusCode::TEMPORARY_REDIRECT,
        Habit::Slow(pause) => {
            tokio::time::sleep(pause).await;
            StatusCode::OK
        }
        Habit::Greylisting => {
            let mut seen = server.seen.lock().unwrap_or_else(PoisonError::into_inner);
            match seen.insert(id.clone().unwrap_or_default()) {
                true => StatusCode::SERVICE_UNAVAILABLE,
                false => StatusCode::OK,
            }
        }
    };
    let signed = match server.secrets {
        Secrets::None => None,
        _ => Some(is_signed(server, &headers, &uri, &body).unwrap_or(false)),
    };
    server.inbox.add(Received {
        at: OffsetDateTime::now_utc(),
        channel,
        id,
        signed,
        taken: status.is_success(),
        text: serde_json::to_string_pretty(&event).unwrap_or_default(),
    });
    let words = match (channel, status) {
        ("action", StatusCode::OK) => "noted; a test receiver changes nothing",
        _ => "",
    };
    let elsewhere = (header::LOCATION, format!("{}/elsewhere", server.origin));
    match status {
        StatusCode::TEMPORARY_REDIRECT => (status, [elsewhere]).into_response(),
        _ => (status, words).into_response(),
    }
}

/// A listener that speaks TLS where it has a certificate.
struct Listener(TcpListener, Option<TlsAcceptor>);

impl axum::serve::Listener for Listener {
    type Io = Either<TcpStream, Box<TlsStream<TcpStream>>>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, SocketAddr) {
        loop {
            let Ok((stream, from)) = self.0.accept().await else { continue };
            let Some(tls) = &self.1 else { return (Either::Left(stream), from) };
            match tls.accept(stream).await {
                Ok(stream) => return (Either::Right(Box::new(stream)), from),
                Err(error) => tracing::debug!(%error, "no TLS with a client"),
            }
        }
    }

    fn local_addr(&self) -> std::io::Result<SocketAddr> {
        self.0.local_addr()
    }
}

/// Receives webhooks at `/webhook` and actions at `/action`, for as long as the runtime lives; shows at `/`
/// what the inbox has. `origin` is where clients reach it, such as `https://localhost:8443`.
pub fn serve_webhooks(
    listener: TcpListener,
    origin: &str,
    (inbox, habit, secrets): (Inbox, HabitSwitch, Secrets),
    tls: Option<Arc<ServerConfig>>,
) {
    let origin = origin.to_owned();
    let server = Arc::new(Server { inbox, habit, secrets, origin, seen: Mutex::default() });
    let of = |channel: &'static str| {
        post(
            move |State(server): State<Arc<Server>>, headers: HeaderMap, uri: Uri, body: Bytes| async move {
                take(&server, channel, (headers, uri, body)).await
            },
        )
    };
    let router = Router::new()
        .route("/webhook", of("webhook"))
        .route("/action", of("action"))
        .route("/elsewhere", of("elsewhere"))
        .route("/", get(|State(server): State<Arc<Server>>| async move { server.inbox.text() }))
        .route(
            "/received",
            get(|State(server): State<Arc<Server>>| async move { Json(server.inbox.all()) }),
        )
        .with_state(server);
    let listener = Listener(listener, tls.map(TlsAcceptor::from));
    tokio::spawn(async move {
        if let Err(error) = axum::serve(listener, router).await {
            tracing::warn!(%error, "webhooks are received no more");
        }
    });
}
