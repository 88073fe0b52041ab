//! Requests to the service.

use crate::identity::Identity;
use itinera_model::codec::{DecodeError, decode, encode};
use itinera_model::protocol::{BatchReceipt, JoinAnswer, JoinRequest, Schedule};
use reqwest::{Client, StatusCode};
use std::net::IpAddr;
use std::time::Duration;

/// The service holds a schedule request for up to this long; we wait a little longer.
const HELD: Duration = Duration::from_secs(40);
const USUAL: Duration = Duration::from_secs(20);

/// Why an exchange with the service did not succeed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ExchangeError {
    /// The service cannot be reached, or is not the one we know.
    #[error("cannot reach the service at {url}")]
    Unreachable {
        /// Where.
        url: String,
        /// Why.
        #[source]
        source: reqwest::Error,
    },
    /// The service refuses what we say, and would do so again.
    #[error("the service refuses: {detail}")]
    Refused {
        /// The problem's stable code.
        code: String,
        /// Its text.
        detail: String,
    },
    /// The service cannot serve now.
    #[error("the service answered {0}")]
    Unwell(StatusCode),
    /// The service answers something else than the protocol.
    #[error("the service's answer cannot be read")]
    Answer(#[source] DecodeError),
}

/// A connection to the service, as an agent or as one that wants to be.
#[derive(Debug, Clone)]
pub struct Exchange {
    client: Client,
    base: String,
}

impl Exchange {
    pub(crate) fn new(base: &str, tls: rustls::ClientConfig) -> Result<Self, ExchangeError> {
        let base = base.trim_end_matches('/').to_owned();
        let client = Client::builder()
            .tls_backend_preconfigured(tls)
            .https_only(true)
            .no_proxy()
            .connect_timeout(Duration::from_secs(10))
            .build()
            .map_err(|source| ExchangeError::Unreachable { url: base.clone(), source })?;
        Ok(Self { client, base })
    }

    /// A connection as this agent.
    ///
    /// # Errors
    /// [`crate::AgentError`] when the identity's keys cannot be used.
    pub fn of(identity: &Identity) -> Result<Self, crate::AgentError> {
        Ok(Self::new(&identity.service, identity.tls()?)?)
    }

    pub(crate) async fn join(&self, request: &JoinRequest) -> Result<JoinAnswer, ExchangeError> {
        let request = self.client.post(self.url("join")).body(encode(request)).timeout(USUAL);
        let body = self.send(request).await?;
        decode(&body).map_err(ExchangeError::Answer)
    }

    /// A schedule newer than `after`; absent when there was none while the service held the
    /// request. `own` are the addresses at which other agents could reach this one.
    ///
    /// # Errors
    /// [`ExchangeError`].
    pub async fn schedule(
        &self,
        after: u64,
        own: &[IpAddr],
    ) -> Result<Option<Schedule>, ExchangeError> {
        let own: Vec<String> = own.iter().map(ToString::to_string).collect();
        let url = format!("{}?after={after}&addresses={}", self.url("schedule"), own.join(","));
        let body = self.send(self.client.get(url).timeout(HELD)).await?;
        if body.is_empty() {
            return Ok(None);
        }
        decode(&body).map(Some).map_err(ExchangeError::Answer)
    }

    /// Uploads the bytes of a batch as they lie in the spool.
    ///
    /// # Errors
    /// [`ExchangeError`]; the batch may or may not have been committed when the service cannot
    /// be reached, so it is to be uploaded again.
    pub async fn upload(&self, octets: Vec<u8>) -> Result<BatchReceipt, ExchangeError> {
        let request = self.client.post(self.url("batches")).body(octets).timeout(USUAL);
        let body = self.send(request).await?;
        decode(&body).map_err(ExchangeError::Answer)
    }

    fn url(&self, what: &str) -> String {
        format!("{}/agent/v1/{what}", self.base)
    }

    async fn send(&self, request: reqwest::RequestBuilder) -> Result<Vec<u8>, ExchangeError> {
        let unreachable = |source| ExchangeError::Unreachable { url: self.base.clone(), source };
        let response = request.send().await.map_err(unreachable)?;
        let status = response.status();
        let body = response.bytes().await.map_err(unreachable)?;
        if status.is_success() {
            return Ok(body.to_vec());
        }
        // Only the service itself returns problems with a code (RFC 9457); a proxy does not. An
        // unknown, too frequent or late request may be repeated.
        let passing =
            [StatusCode::UNAUTHORIZED, StatusCode::REQUEST_TIMEOUT, StatusCode::TOO_MANY_REQUESTS];
        let problem: serde_json::Value = serde_json::from_slice(&body).unwrap_or_default();
        match (problem["code"].as_str(), problem["detail"].as_str()) {
            (Some(code), Some(detail))
                if status.is_client_error() && !passing.contains(&status) =>
            {
                Err(ExchangeError::Refused { code: code.to_owned(), detail: detail.to_owned() })
            }
            _ => Err(ExchangeError::Unwell(status)),
        }
    }
}
