//! Against real servers of their protocols, on loopback.

use crate::support::{NAME, asker, web};
use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use itinera_check::{Net, Whom};
use itinera_model::check::{Ask, Outcome};
use itinera_simnet::TlsHabit;
use itinera_standin::Authority;
use std::convert::Infallible;
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
        let here = Whom::Address([127, 0, 0, 1].into());
        let mut question = web(true, port);
        question.words = Some(format!("HTTP/{}", if two { "2.0" } else { "1.1" }));
        let result = asker.check(&here, &Ask::Web(question)).await;
        assert_eq!(result.outcome, Outcome::Good, "{result:?}");
        let seen = result.seen.web.unwrap();
        assert_eq!((seen.version.as_str(), seen.status), (version, Some(200)));
    }
}
