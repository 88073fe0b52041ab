//! The first administrator of a service, as a client of its API.

use reqwest::{Method, RequestBuilder};
use std::path::Path;
use std::time::{Duration, Instant};

/// A user with a token.
pub(crate) struct User {
    client: reqwest::Client,
    api: String,
    name: String,
    password: String,
    token: String,
}

impl User {
    /// The first administrator of the service at a URL, with its data in a directory.
    pub(crate) async fn first(api: String, data: &Path) -> Self {
        let first = std::fs::read_to_string(data.join("first-administrator")).unwrap();
        let (name, password) = first.trim().split_once('\n').unwrap();
        let client = reqwest::Client::builder().no_proxy().build().unwrap();
        let (name, password) = (name.to_owned(), password.to_owned());
        let mut user = Self { client, api, name, password, token: String::new() };
        let session = user.sign_in().await;
        let cookie = session.headers()["set-cookie"].to_str().unwrap().to_owned();
        let cookie = cookie.split(';').next().unwrap().to_owned();
        let view: serde_json::Value = session.json().await.unwrap();
        let request = user.client.post(format!("{}/api/v1/tokens", user.api));
        let request = request.header("cookie", cookie);
        let request = request.header("x-itinera-proof", view["proof"].as_str().unwrap());
        let made = request.json(&serde_json::json!({ "name": "bench" })).send().await.unwrap();
        let made: serde_json::Value = made.json().await.unwrap();
        user.token = made["token"].as_str().unwrap().to_owned();
        user
    }

    /// Signs in once more.
    pub(crate) async fn sign_in(&self) -> reqwest::Response {
        let body = serde_json::json!({ "name": self.name, "password": self.password });
        let url = format!("{}/api/v1/session", self.api);
        let session = self.client.post(url).json(&body).send().await.unwrap();
        assert_eq!(session.status(), 201);
        session
    }

    /// A request that is still to be sent.
    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.client.request(method, format!("{}/api/v1/{path}", self.api));
        request.bearer_auth(&self.token)
    }

    /// Time until an answer has come whole.
    pub(crate) async fn get(&self, path: &str) -> Duration {
        let begun = Instant::now();
        let answer = self.request(Method::GET, path).send().await.unwrap();
        let status = answer.status();
        let body = answer.text().await.unwrap();
        assert_eq!(status, 200, "{path}: {body}");
        begun.elapsed()
    }
}
