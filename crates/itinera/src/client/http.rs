//! Requests to the service's API, and its problems as failures.

use crate::exit::{Code, Failure};
use reqwest::header::{self, HeaderMap, HeaderValue};
use reqwest::{RequestBuilder, Response, StatusCode, Url};
use serde_json::Value;
use std::time::Duration;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Pages fetched for one list at most.
const MAX_PAGES: usize = 1_000;

/// The API of one service.
#[derive(Debug)]
pub(crate) struct Client {
    http: reqwest::Client,
    base: Url,
}

/// What a session answered at sign-in: its cookie and its proof.
fn session_headers(cookie: &HeaderValue, proof: &str) -> Option<HeaderMap> {
    let pair = cookie.to_str().ok()?.split(';').next()?;
    let mut headers = HeaderMap::new();
    headers.insert(header::COOKIE, pair.parse().ok()?);
    headers.insert("x-itinera-proof", proof.parse().ok()?);
    Some(headers)
}

impl Client {
    /// The API at a URL, with a token where there is one.
    pub(crate) fn new(service: &str, token: Option<&str>) -> Result<Self, Failure> {
        let bad =
            |reason: &str| Failure::say(Code::Unreachable, format!("--api {service}: {reason}"));
        let base: Url = service.parse().map_err(|_| bad("no URL such as http://127.0.0.1:7480"))?;
        if !matches!(base.scheme(), "http" | "https") || base.cannot_be_a_base() {
            return Err(bad("no URL such as http://127.0.0.1:7480"));
        }
        let mut headers = HeaderMap::new();
        if let Some(token) = token {
            let value = HeaderValue::from_str(&format!("Bearer {token}"));
            let mut value = value.map_err(|_| bad("the token holds what no token does"))?;
            value.set_sensitive(true);
            headers.insert(header::AUTHORIZATION, value);
        }
        Self::with(base, headers)
    }

    fn with(base: Url, headers: HeaderMap) -> Result<Self, Failure> {
        let http = reqwest::Client::builder()
            .default_headers(headers)
            .no_proxy()
            .connect_timeout(Duration::from_secs(5))
            .timeout(Duration::from_secs(60))
            .build()
            .map_err(|error| Failure::new(Code::Failed, error))?;
        Ok(Self { http, base })
    }

    fn url(&self, place: &str) -> String {
        format!("{}/api/v1{place}", self.base.as_str().trim_end_matches('/'))
    }

    /// Parameters of a query, encoded.
    pub(crate) fn parameters(&self, fields: &[(&str, String)]) -> String {
        let mut url = self.base.clone();
        url.query_pairs_mut().clear().extend_pairs(fields);
        url.query().unwrap_or_default().to_owned()
    }

    pub(crate) async fn get(&self, place: &str) -> Result<Value, Failure> {
        self.send(self.http.get(self.url(place))).await
    }

    pub(crate) async fn post(&self, place: &str, body: &Value) -> Result<Value, Failure> {
        self.send(self.http.post(self.url(place)).json(body)).await
    }

    pub(crate) async fn patch(&self, place: &str, body: &Value) -> Result<Value, Failure> {
        self.send(self.http.patch(self.url(place)).json(body)).await
    }

    pub(crate) async fn put(&self, place: &str, body: &Value) -> Result<Value, Failure> {
        self.send(self.http.put(self.url(place)).json(body)).await
    }

    /// Replaces what has this version still.
    pub(crate) async fn put_version(
        &self,
        place: &str,
        version: i64,
        body: &Value,
    ) -> Result<Value, Failure> {
        let request =
            self.http.put(self.url(place)).header(header::IF_MATCH, format!("\"{version}\""));
        self.send(request.json(body)).await
    }

    pub(crate) async fn delete(&self, place: &str) -> Result<Value, Failure> {
        self.send(self.http.delete(self.url(place))).await
    }

    /// The same API by a session of its own, as a browser would come.
    pub(crate) async fn session(&self, name: &str, password: &str) -> Result<Self, Failure> {
        let body = serde_json::json!({ "name": name, "password": password });
        let request = self.http.post(self.url("/session")).json(&body);
        let response = request.send().await.map_err(|error| self.unreachable(error))?;
        let odd = || {
            let text = format!("what answers at {} is not Itinera's API", self.base);
            Failure::say(Code::Unreachable, text)
        };
        let cookie = response.headers().get(header::SET_COOKIE).cloned();
        let view = self.answer(response).await?;
        let cookie = cookie.ok_or_else(odd)?;
        let headers = session_headers(&cookie, view["proof"].as_str().unwrap_or_default());
        Self::with(self.base.clone(), headers.ok_or_else(odd)?)
    }

    /// The stream of news, after the news that was seen last.
    pub(crate) async fn live(&self, last: Option<&str>) -> Result<Response, Failure> {
        // It lasts as long as changes may come.
        let mut request = self.http.get(self.url("/live")).timeout(Duration::from_secs(3_600));
        if let Some(last) = last {
            request = request.header("last-event-id", last);
        }
        let response = request.send().await.map_err(|error| self.unreachable(error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        match self.answer(response).await {
            Err(failure) => Err(failure),
            Ok(_) => Err(Failure::say(Code::Failed, "the service returned no change feed")),
        }
    }

    /// Imports an owner map that became true at a time, or now.
    pub(crate) async fn import_owners(
        &self,
        source: &str,
        csv: Vec<u8>,
        valid_from: Option<OffsetDateTime>,
    ) -> Result<Value, Failure> {
        let mut url: Url = self
            .url("/owner-maps")
            .parse()
            .map_err(|_| Failure::say(Code::Unreachable, "the service's address is no URL"))?;
        url.query_pairs_mut().append_pair("source", source);
        if let Some(Ok(at)) = valid_from.map(|at| at.format(&Rfc3339)) {
            url.query_pairs_mut().append_pair("valid_from", &at);
        }
        self.send(self.http.post(url).header("content-type", "text/csv").body(csv)).await
    }

    /// The items of all pages of a list.
    pub(crate) async fn all_pages(&self, place: &str) -> Result<Value, Failure> {
        let mut items = Vec::new();
        let mut next = place.to_owned();
        for _ in 0..MAX_PAGES {
            let mut page = self.get(&next).await?;
            if let Value::Array(some) = page["items"].take() {
                items.extend(some);
            }
            match page["next"].as_str() {
                Some(after) => next = format!("{place}&after={}", after.replace('+', "%2B")),
                None => return Ok(Value::Array(items)),
            }
        }
        Err(Failure::say(Code::Failed, "the list does not end"))
    }

    async fn send(&self, request: RequestBuilder) -> Result<Value, Failure> {
        let response = request.send().await.map_err(|error| self.unreachable(error))?;
        self.answer(response).await
    }

    fn unreachable(&self, error: reqwest::Error) -> Failure {
        let text = format!("cannot reach the service at {}; is it running?", self.base);
        Failure::new(Code::Unreachable, error).context(text)
    }

    /// A response's content, or its problem as a failure.
    async fn answer(&self, response: Response) -> Result<Value, Failure> {
        let status = response.status();
        let body = response.bytes().await.map_err(|error| self.unreachable(error))?;
        let is_done = matches!(status, StatusCode::NO_CONTENT | StatusCode::ACCEPTED);
        if is_done && body.is_empty() {
            return Ok(Value::Null);
        }
        let value: Option<Value> = serde_json::from_slice(&body).ok();
        if status.is_success() {
            let text = format!("what answers at {} is not Itinera's API", self.base);
            return value.ok_or_else(|| Failure::say(Code::Unreachable, text));
        }
        let code = if status.is_client_error() { Code::Refused } else { Code::Unreachable };
        let problem = value.unwrap_or_default();
        let text = match (problem["detail"].as_str(), problem["request_id"].as_str()) {
            (Some(detail), Some(id)) => format!("{detail} ({}, request {id})", status.as_u16()),
            _ => format!("the service at {} answered {status}", self.base),
        };
        Err(Failure::say(code, text))
    }
}
