//! Notices as signed HTTP requests.

use super::address::{check_literal, pinned};
use super::attempt::{Answer, SendError, causes, kept};
use super::cloud_event::MEDIA;
use super::signature::{SignatureHeaders, Signed, sign};
use reqwest::header::{CONTENT_TYPE, RETRY_AFTER};
use reqwest::redirect::Policy;
use reqwest::{Client, StatusCode, Url};
use std::time::Duration;

/// How long a request may take. An action may act before it answers.
const LIMIT: Duration = Duration::from_secs(20);
const CONNECT: Duration = Duration::from_secs(5);
/// Bytes of an answer that are read.
const MAX_ANSWER: usize = 4_096;

/// A request to send.
pub(super) struct Request<'a> {
    pub(super) url: &'a str,
    pub(super) content: Vec<u8>,
    pub(super) secret: &'a str,
    /// Names the secret: the receiver's id.
    pub(super) key_id: &'a str,
    /// Seconds since 1970.
    pub(super) now: i64,
    /// Its answer is recorded.
    pub(super) keeps_answer: bool,
}

/// A URL that requests go to.
pub(super) fn checked_url(text: &str) -> Result<Url, String> {
    let url: Url = text.parse().map_err(|_| format!("url: {text:?} is no URL"))?;
    if !matches!(url.scheme(), "http" | "https") || url.host_str().is_none() {
        return Err("url: http://HOST or https://HOST is needed".to_owned());
    }
    if !url.username().is_empty() || url.password().is_some() || url.fragment().is_some() {
        return Err("url: without a user, a password and a fragment".to_owned());
    }
    let host = url.host_str().unwrap_or_default();
    check_literal(host).map_err(|error| format!("url: {error}"))?;
    Ok(url)
}

/// A client that connects to addresses of the URL's host that were checked, and nowhere else.
async fn client(url: &Url, tls: rustls::ClientConfig) -> Result<Client, SendError> {
    let host = url.host_str().unwrap_or_default();
    let addresses = pinned(host, url.port_or_known_default().unwrap_or(443)).await?;
    Client::builder()
        .tls_backend_preconfigured(tls)
        .redirect(Policy::none())
        .no_proxy()
        .resolve_to_addrs(host, &addresses)
        .connect_timeout(CONNECT)
        .timeout(LIMIT)
        .build()
        .map_err(|error| SendError::permanent(causes(&error)))
}

/// Fetches a text of at most `most` bytes.
pub(super) async fn fetch(
    url: &str,
    most: usize,
    tls: rustls::ClientConfig,
) -> Result<String, SendError> {
    let url = checked_url(url).map_err(SendError::permanent)?;
    let sent = client(&url, tls).await?.get(url).send();
    let failed = |error: reqwest::Error| SendError::passing(causes(&error.without_url()));
    let mut response = sent.await.map_err(failed)?;
    if !response.status().is_success() {
        return Err(refused(response.status(), "", None));
    }
    let mut bytes = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(failed)? {
        bytes.extend_from_slice(&chunk);
        if bytes.len() > most {
            return Err(SendError::permanent(format!("more than {} KiB", most >> 10)));
        }
    }
    String::from_utf8(bytes).map_err(|_| SendError::permanent("no UTF-8 text".to_owned()))
}

/// What a status means that is no success.
fn refused(status: StatusCode, words: &str, asked: Option<Duration>) -> SendError {
    let passes = status.is_server_error()
        || matches!(
            status,
            StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_EARLY | StatusCode::TOO_MANY_REQUESTS
        );
    let words = if words.is_empty() { String::new() } else { format!(": {words}") };
    let redirects = if status.is_redirection() { "; redirects are not followed" } else { "" };
    SendError { reason: format!("answered {status}{redirects}{words}"), permanent: !passes, asked }
}

/// Sends a request to an address of its host that was checked.
pub(super) async fn send(
    request: Request<'_>,
    tls: rustls::ClientConfig,
) -> Result<Answer, SendError> {
    let url = checked_url(request.url).map_err(SendError::permanent)?;
    let client = client(&url, tls).await?;
    let signed = Signed {
        url: url.as_str(),
        media: MEDIA,
        content: &request.content,
        created: request.now,
        key_id: request.key_id,
    };
    let SignatureHeaders { content_digest, signature_input, signature } =
        sign(&signed, request.secret.as_bytes());
    let sent = client
        .post(url.clone())
        .header(CONTENT_TYPE, MEDIA)
        .header("content-digest", content_digest)
        .header("signature-input", signature_input)
        .header("signature", signature)
        .body(request.content)
        .send();
    let response = sent.await.map_err(|error| SendError::passing(causes(&error.without_url())))?;
    let status = response.status();
    let asked = response.headers().get(RETRY_AFTER).and_then(|it| it.to_str().ok());
    let asked = asked.and_then(|text| text.parse().ok()).map(Duration::from_secs);
    let words = words_of(response).await;
    match status.is_success() {
        false => Err(refused(status, &words, asked)),
        true if request.keeps_answer && words.is_empty() => Ok(Answer::Words(status.to_string())),
        true if request.keeps_answer => Ok(Answer::Words(format!("{status}: {words}"))),
        true => Ok(Answer::None),
    }
}

/// The beginning of an answer.
async fn words_of(mut response: reqwest::Response) -> String {
    let mut bytes = Vec::new();
    while bytes.len() < MAX_ANSWER {
        match response.chunk().await {
            Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
            Ok(None) | Err(_) => break,
        }
    }
    bytes.truncate(MAX_ANSWER);
    kept(String::from_utf8_lossy(&bytes).trim())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_status_says_whether_another_attempt_is_made() {
        for (status, permanent) in [
            (301, true),
            (400, true),
            (404, true),
            (408, false),
            (425, false),
            (429, false),
            (503, false),
        ] {
            let error = refused(StatusCode::from_u16(status).unwrap(), "no", None);
            assert_eq!(error.permanent, permanent, "{status}");
            assert!(error.reason.contains("no"), "{}", error.reason);
        }
    }

    #[test]
    fn only_plain_urls_are_taken() {
        assert!(checked_url("https://desk.corriven.example/in?x=1").is_ok());
        for bad in [
            "desk.corriven.example",
            "ftp://desk.corriven.example/",
            "file:///etc/passwd",
            "https://u:p@desk.corriven.example/",
            "https://desk.corriven.example/#a",
            "http://169.254.169.254/latest",
            "http://[fe80::1]/",
        ] {
            assert!(checked_url(bad).is_err_and(|reason| reason.starts_with("url: ")), "{bad}");
        }
    }
}
