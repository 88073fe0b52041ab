//! Against real servers of their protocols, on loopback.

use crate::support::{NAME, asker, web};
use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use itinera_check::{Destination, Net};
use itinera_model::check::{Ask, AskName, Greeting, Outcome, Step, Why};
use itinera_simnet::TlsHabit;
use itinera_testserver::Authority;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::io::{BufRead, BufReader};
use std::net::IpAddr;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use tokio_rustls::TlsAcceptor;

/// Says how it was asked.
async fn says(request: Request<Incoming>) -> Result<Response<Full<Bytes>>, Infallible> {
    let words = format!("{:?} {}", request.version(), request.uri().path());
    Ok(Response::new(Full::new(Bytes::from(words))))
}

#[tokio::test]
async fn the_library_server_is_spoken_to_by_both_versions() {
    let authority = Authority::new().unwrap();
    for (two, version) in [(true, "2"), (false, "1.1")] {
        let config = authority.server(NAME, TlsHabit::Good).unwrap();
        let mut config = rustls::ServerConfig::clone(&config);
        config.alpn_protocols = vec![if two { b"h2".to_vec() } else { b"http/1.1".to_vec() }];
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let Ok(secured) = acceptor.accept(stream).await else { continue };
                let io = TokioIo::new(secured);
                let served = if two {
                    let server = hyper::server::conn::http2::Builder::new(TokioExecutor::new());
                    server.serve_connection(io, service_fn(says)).await
                } else {
                    let server = hyper::server::conn::http1::Builder::new();
                    server.serve_connection(io, service_fn(says)).await
                };
                drop(served);
            }
        });
        let asker = asker(Net::Kernel { source: None }, &authority);
        let here = Destination::Address([127, 0, 0, 1].into());
        let mut question = web(true, port);
        question.words = Some(format!("HTTP/{}", if two { "2.0" } else { "1.1" }));
        let result = asker.check(&here, &Ask::Web(question)).await;
        assert_eq!(result.outcome, Outcome::Good, "{result:?}");
        let seen = result.seen.web.unwrap();
        assert_eq!((seen.version.as_str(), seen.status), (version, Some(200)));
    }
}

/// Servers of Debian's Python packages, in a process that ends when this is dropped.
struct Servers {
    process: Child,
    ports: BTreeMap<String, u16>,
}

impl Servers {
    /// With a resolver at an address with a free port 53.
    fn start(resolver: [u8; 4]) -> Self {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/it/servers.py");
        let mut process = Command::new("/usr/bin/python3")
            .args(["-W", "ignore", script, &IpAddr::from(resolver).to_string()])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap_or_else(|error| panic!("is python3-twisted installed? {error}"));
        let mut line = String::new();
        BufReader::new(process.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let ports = serde_json::from_str(&line)
            .unwrap_or_else(|_| panic!("is python3-twisted installed? It said {line:?}"));
        Self { process, ports }
    }
}

impl Drop for Servers {
    fn drop(&mut self) {
        // It ends with its standard input.
        drop(self.process.stdin.take());
        let _ended = self.process.wait();
    }
}

#[tokio::test]
async fn servers_of_other_authors_are_classified_exactly() {
    let servers = Servers::start([127, 53, 7, 1]);
    let port = |name: &str| servers.ports[name];
    let authority = Authority::new().unwrap();
    let asker = asker(Net::Kernel { source: None }, &authority);
    let here = Destination::Address([127, 0, 0, 1].into());
    let greet = |protocol, name: &str| Ask::Greeting { protocol, port: port(name) };
    let broke = |at, why| Outcome::Broke { at, why };
    let cases = [
        (Ask::Connect { port: port("ssh") }, Outcome::Good),
        (Ask::Mail { port: port("smtp") }, Outcome::Good),
        (Ask::Mail { port: port("esmtp") }, Outcome::Good),
        (greet(Greeting::Pop3, "pop3"), Outcome::Good),
        (greet(Greeting::Imap, "imap"), Outcome::Good),
        (greet(Greeting::Ftp, "ftp"), Outcome::Good),
        (greet(Greeting::Ssh, "ssh"), Outcome::Good),
        (Ask::Web(web(false, port("web"))), Outcome::Good),
        // Asked by another protocol than theirs.
        (greet(Greeting::Imap, "pop3"), broke(Step::Greeting, Why::NotThisProtocol)),
        (greet(Greeting::Pop3, "ssh"), broke(Step::Greeting, Why::NotThisProtocol)),
        (Ask::Mail { port: port("imap") }, broke(Step::Greeting, Why::NotThisProtocol)),
        (Ask::Tls { port: port("smtp"), name: None }, broke(Step::Tls, Why::SpeaksPlain)),
    ];
    for (ask, outcome) in cases {
        let result = asker.check(&here, &ask).await;
        assert_eq!(result.outcome, outcome, "{ask:?}: {result:?}");
    }
}

#[tokio::test]
async fn a_resolver_that_others_wrote_is_understood() {
    const RESOLVER: [u8; 4] = [127, 53, 7, 2];
    let _servers = Servers::start(RESOLVER);
    let asker = asker(Net::Kernel { source: None }, &Authority::new().unwrap());
    let broke = |why| Outcome::Broke { at: Step::Name, why };
    for tcp in [false, true] {
        let cases = [
            (NAME, false, Outcome::Good),
            (NAME, true, Outcome::Good),
            ("four-only.corriven.example", true, broke(Why::NoAddress)),
            ("nobody.corriven.example", false, broke(Why::NoSuchName)),
        ];
        for (name, ipv6, outcome) in cases {
            let resolvers = vec![RESOLVER.into()];
            let question = AskName { tcp, resolvers, ..AskName::of(name.to_owned(), ipv6) };
            let here = Destination::Address(RESOLVER.into());
            let result = asker.check(&here, &Ask::Name(question)).await;
            assert_eq!(result.outcome, outcome, "{name} {tcp}: {result:?}");
            if outcome == Outcome::Good {
                let said = &result.seen.resolved[0];
                assert_eq!((said.ttl_s, said.authoritative), (Some(60), true), "{said:?}");
            }
        }
    }
}
