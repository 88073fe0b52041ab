//! Signing in as a browser does and as a program does, and what each role is refused.

use crate::support::{Ran, Service, fed, itinera, run};
use reqwest::header::{COOKIE, SET_COOKIE};
use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};

/// A client, with or without a session or token.
struct Asking {
    client: Client,
    base: String,
    cookie: String,
    proof: String,
}

impl Asking {
    fn stranger(service: &Service) -> Self {
        let _installed_before = rustls::crypto::ring::default_provider().install_default();
        let client = Client::builder().no_proxy().build().unwrap();
        let base = format!("{}/api/v1", service.api());
        Self { client, base, cookie: String::new(), proof: String::new() }
    }

    async fn ask(&self, method: Method, place: &str, body: Value) -> Response {
        let request = self.client.request(method, format!("{}{place}", self.base)).json(&body);
        let request = request.header(COOKIE, &self.cookie).header("x-itinera-proof", &self.proof);
        request.send().await.unwrap()
    }

    async fn sign_in(&mut self, name: &str, password: &str) -> StatusCode {
        let body = json!({ "name": name, "password": password });
        let response = self.ask(Method::POST, "/session", body).await;
        let status = response.status();
        if status == StatusCode::CREATED {
            let cookie = response.headers()[SET_COOKIE].to_str().unwrap().to_owned();
            assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
            cookie.split(';').next().unwrap().clone_into(&mut self.cookie);
            let view: Value = response.json().await.unwrap();
            view["proof"].as_str().unwrap().clone_into(&mut self.proof);
        }
        status
    }
}

async fn problem(response: Response) -> (u16, String) {
    let status = response.status().as_u16();
    let problem: Value = response.json().await.unwrap();
    (status, problem["code"].as_str().unwrap_or_default().to_owned())
}

fn refused(status: u16, code: &str) -> (u16, String) {
    (status, code.to_owned())
}

fn add(service: &Service, name: &str, role: &str) -> Ran {
    let mut command = itinera();
    command.args(["users", "add", name, "--role", role, "--api", &service.api()]);
    command.arg("--token-file").arg(service.token());
    fed(&mut command, &format!("{name}s long password"))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_user_signs_in_and_does_what_the_role_allows() {
    let service = tokio::task::block_in_place(Service::start);
    tokio::task::block_in_place(|| {
        assert_eq!(add(&service, "ailsa", "analyst").code, Some(0));
        assert_eq!(add(&service, "bran", "viewer").code, Some(0));
        let twice = add(&service, "bran", "viewer");
        assert!(twice.code == Some(4) && twice.err.contains("this name is taken"), "{twice:?}");
    });
    strangers(&service).await;
    sessions(&service).await;
    guessing(&service).await;
    tokio::task::block_in_place(|| {
        tokens(&service);
        leaving(&service);
    });
    let log = service.log();
    assert!(!log.contains("long password") && !log.contains("itinera_"), "a secret is in the log");
}

async fn strangers(service: &Service) {
    let stranger = Asking::stranger(service);
    for (method, place) in [
        (Method::GET, "/status"),
        (Method::GET, "/live"),
        (Method::POST, "/incidents"),
        (Method::GET, "/users"),
        (Method::DELETE, "/session"),
    ] {
        let answer = stranger.ask(method, place, json!({})).await;
        assert_eq!(problem(answer).await, refused(401, "not-signed-in"), "{place}");
    }
    let session: Value =
        stranger.ask(Method::GET, "/session", json!({})).await.json().await.unwrap();
    assert_eq!(session["name"], Value::Null);
    let metrics = stranger.client.get(format!("{}/metrics", service.api())).send().await.unwrap();
    assert_eq!(metrics.status(), 401);
}

async fn sessions(service: &Service) {
    let mut bran = Asking::stranger(service);
    assert_eq!(bran.sign_in("bran", "brans long password").await, StatusCode::CREATED);
    assert_eq!(bran.ask(Method::GET, "/status", json!({})).await.status(), 200);
    let complaint = json!({ "site": "Carrock Pier", "service": "Crew Mail" });
    let answer = bran.ask(Method::POST, "/incidents", complaint.clone()).await;
    assert_eq!(problem(answer).await, refused(403, "not-allowed"));
    let action = json!({ "alarms": ["1"], "action": "acknowledge" });
    let answer = bran.ask(Method::POST, "/alarms/actions", action.clone()).await;
    assert_eq!(problem(answer).await, refused(403, "not-allowed"));
    let answer = bran.ask(Method::POST, "/tokens", json!({ "name": "x", "role": "analyst" })).await;
    assert_eq!(problem(answer).await, refused(403, "not-allowed"));

    let mut ailsa = Asking::stranger(service);
    assert_eq!(ailsa.sign_in("ailsa", "ailsas long password").await, StatusCode::CREATED);
    let proof = std::mem::replace(&mut ailsa.proof, "forged".to_owned());
    let answer = ailsa.ask(Method::POST, "/incidents", complaint.clone()).await;
    assert_eq!(problem(answer).await, refused(403, "no-proof"));
    ailsa.proof = proof;
    // No agent has joined: there is no path yet that could be complained of.
    let answer = ailsa.ask(Method::POST, "/incidents", complaint).await;
    assert_eq!(problem(answer).await, refused(422, "bad-input"));
    let answer: Value =
        ailsa.ask(Method::POST, "/alarms/actions", action).await.json().await.unwrap();
    assert_eq!(answer["items"][0]["code"], "unknown-id", "{answer}");
    for (field, value) in [("until", json!("2199-01-01T00:00:00Z")), ("painted", json!(1))] {
        let action = json!({ "alarms": ["1"], "action": "shelve", "text": "x", field: value });
        let answer = ailsa.ask(Method::POST, "/alarms/actions", action).await;
        assert_eq!(problem(answer).await, refused(422, "bad-input"), "{field}");
    }
    let names: Value = ailsa.ask(Method::GET, "/assignees", json!({})).await.json().await.unwrap();
    assert_eq!(names["items"], json!(["administrator", "ailsa"]), "no viewer");
    let answer = ailsa.ask(Method::GET, "/audit", json!({})).await;
    assert_eq!(problem(answer).await, refused(403, "not-allowed"));

    assert_eq!(ailsa.ask(Method::DELETE, "/session", json!({})).await.status(), 204);
    let answer = ailsa.ask(Method::GET, "/status", json!({})).await;
    assert_eq!(problem(answer).await, refused(401, "not-signed-in"));

    // Another password ends every session of one's own.
    let change = json!({ "old": "brans long password", "new": "short" });
    let answer = bran.ask(Method::PUT, "/session/password", change).await;
    assert_eq!(problem(answer).await, refused(422, "bad-input"));
    let change = json!({ "old": "brans long password", "new": "another long password" });
    assert_eq!(bran.ask(Method::PUT, "/session/password", change).await.status(), 204);
    assert_eq!(bran.ask(Method::GET, "/status", json!({})).await.status(), 401);
    assert_eq!(bran.sign_in("bran", "another long password").await, StatusCode::CREATED);
}

async fn guessing(service: &Service) {
    let mut guesser = Asking::stranger(service);
    for _ in 0..8 {
        assert_eq!(guesser.sign_in("ailsa", "guess").await, StatusCode::FORBIDDEN);
        assert_eq!(guesser.sign_in("nobody", "guess").await, StatusCode::FORBIDDEN);
    }
    for name in ["ailsa", "nobody"] {
        assert_eq!(guesser.sign_in(name, "guess").await, StatusCode::TOO_MANY_REQUESTS);
    }
    let right = guesser.sign_in("ailsa", "ailsas long password").await;
    assert_eq!(right, StatusCode::TOO_MANY_REQUESTS, "the right one has to wait as well");
    assert_eq!(guesser.sign_in("bran", "another long password").await, StatusCode::CREATED);
}

fn tokens(service: &Service) {
    let made = service.json(&["tokens", "make", "scraper", "--role", "viewer"]);
    let file = service.path().join("scraper");
    std::fs::write(&file, made["token"].as_str().unwrap()).unwrap();
    let scraper = file.display().to_string();
    let with = |arguments: &[&str]| {
        run(&[arguments, &["--api", &service.api(), "--token-file", &scraper]].concat())
    };
    assert_eq!(with(&["status"]).code, Some(0));
    let users = with(&["users", "list"]);
    assert!(users.code == Some(4) && users.err.contains("administrator"), "{users:?}");
    let listed = service.client(&["tokens", "list"]);
    assert!(listed.out.contains("scraper") && !listed.out.contains("itinera_"), "{listed:?}");
    assert_eq!(service.client(&["tokens", "revoke", made["id"].as_str().unwrap()]).code, Some(0));
    let after = with(&["status"]);
    assert!(after.code == Some(4) && after.err.contains("sign in first"), "{after:?}");
}

/// Signing out takes the kept token back, and a disabled user cannot sign in.
fn leaving(service: &Service) {
    let home = service.path().join("elsewhere");
    let as_bran = |arguments: &[&str], input: &str| {
        let mut command = itinera();
        command.args(arguments).args(["--api", &service.api()]).env("XDG_CONFIG_HOME", &home);
        fed(&mut command, input)
    };
    let signing = ["sign-in", "--name", "bran", "--password-stdin"];
    let wrong = as_bran(&signing, "not my password");
    assert!(wrong.code == Some(4) && wrong.err.contains("name or password is wrong"), "{wrong:?}");
    assert_eq!(as_bran(&signing, "another long password").code, Some(0));
    let kept = home.join("itinera/sign-ins.json");
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&kept).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    assert_eq!(as_bran(&["status"], "").code, Some(0));
    let out = as_bran(&["sign-out"], "");
    assert!(out.code == Some(0) && out.out.contains("opens nothing any more"), "{out:?}");
    assert_eq!(as_bran(&["status"], "").code, Some(4));
    assert_eq!(as_bran(&signing, "another long password").code, Some(0));
    let gone = service.client(&["users", "change", "bran", "--active", "false"]);
    assert!(gone.code == Some(0) && gone.out.contains("may not sign in"), "{gone:?}");
    assert_eq!(as_bran(&["status"], "").code, Some(4));
    let last = service.client(&["users", "change", "administrator", "--role", "viewer"]);
    assert!(last.code == Some(4) && last.err.contains("last active administrator"), "{last:?}");
    let audit = service.client(&["audit"]);
    for done in ["user-added", "token-revoked", "signed-in", "signed-out", "user-changed"] {
        assert!(audit.out.contains(done), "{done}: {audit:?}");
    }
}
