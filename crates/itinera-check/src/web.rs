//! HTTP/1.1 and HTTP/2, with the phases of a request apart.

use crate::first_bytes::FirstBytes;
use crate::{Asker, Break, CheckProgress, Destination, kept, since};
use http::{Method, Request, Response, StatusCode, Uri, header};
use http_body_util::{BodyExt, Empty};
use hyper::body::{Bytes, Incoming};
use hyper_util::rt::{TokioExecutor, TokioIo};
use itinera_model::check::{AskWeb, Step, WebSeen, Why};
use itinera_model::unit::Micros;
use std::net::SocketAddr;
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncWrite};

/// Redirects followed at most.
const MAX_REDIRECTS: usize = 5;
/// Fields and bytes of an answer's header borne at most.
const MAX_FIELDS: usize = 100;
const MAX_HEADER: usize = 64 * 1_024;
/// Fewer bytes are too few for a rate.
const ENOUGH_FOR_A_RATE: u64 = 32 * 1_024;
/// User agent of requests.
const AGENT: &str = concat!("itinera/", env!("CARGO_PKG_VERSION"));

/// One answer, read as far as wanted.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) status: StatusCode,
    pub(crate) location: Option<String>,
    pub(crate) content: Vec<u8>,
    pub(crate) cut: bool,
    pub(crate) first_byte_us: Micros,
    pub(crate) rate_bytes_per_s: Option<u64>,
    pub(crate) version: &'static str,
}

/// A place on a server.
#[derive(Debug, Clone)]
pub(crate) struct Endpoint {
    pub(crate) tls: bool,
    /// Name and port as the server is to hear them.
    pub(crate) authority: String,
    pub(crate) name: Option<String>,
    pub(crate) there: SocketAddr,
    pub(crate) path: String,
}

impl Asker {
    /// Asks for a resource, follows redirects on the same host, and reads the content.
    pub(crate) async fn web(
        &self,
        destination: &Destination,
        question: &AskWeb,
        course: &mut CheckProgress,
    ) -> Result<(), Break> {
        let there = self.find(destination, question.port, course).await?;
        let name =
            question.host.as_deref().or_else(|| Self::name_of(destination)).map(str::to_owned);
        let host = name.clone().unwrap_or_else(|| match there {
            SocketAddr::V4(there) => there.ip().to_string(),
            SocketAddr::V6(there) => format!("[{}]", there.ip()),
        });
        let usual = if question.tls { 443 } else { 80 };
        let authority =
            if question.port == usual { host } else { format!("{host}:{}", question.port) };
        let mut spot =
            Endpoint { tls: question.tls, authority, name, there, path: question.path.clone() };
        course.seen.web = Some(WebSeen::default());
        let begun = Instant::now();
        let mut wrong = None;
        for _ in 0..=MAX_REDIRECTS {
            let (answer, untrusted) = self.fetch(&spot, question, course).await?;
            wrong = wrong.or(untrusted);
            let next = self.note(&mut spot, &answer, course);
            if next {
                // Its phases are those of the last answer.
                course.phases.retain(|phase| phase.step < Step::Connect);
                continue;
            }
            if let Some(why) = wrong {
                return Err((Step::Tls, why));
            }
            judge(&answer, question)?;
            if question.resources {
                self.resources(&spot, question, &answer, begun, course).await;
                let seen = course.seen.web.as_ref();
                let failed = seen.and_then(|web| web.resources.iter().find_map(|one| one.why));
                return failed.map_or(Ok(()), |why| Err((Step::Transfer, why)));
            }
            return Ok(());
        }
        Err((Step::FirstByte, Why::Redirects))
    }

    /// Notes an answer; true when it leads on to another place on the same host.
    #[allow(clippy::unused_self, reason = "reads as a step of what is around it")]
    fn note(&self, spot: &mut Endpoint, answer: &Answer, course: &mut CheckProgress) -> bool {
        let Some(web) = &mut course.seen.web else { return false };
        answer.version.clone_into(&mut web.version);
        web.status = Some(answer.status.as_u16());
        web.size_bytes = answer.content.len() as u64;
        web.cut = answer.cut;
        web.rate_bytes_per_s = answer.rate_bytes_per_s;
        let Some(location) = answer.location.as_deref().filter(|_| answer.status.is_redirection())
        else {
            return false;
        };
        web.redirects.push(kept(location));
        let Ok(uri) = location.parse::<Uri>() else { return false };
        let path = uri.path_and_query().map_or("/", |path| path.as_str()).to_owned();
        if !path.starts_with('/') {
            return false;
        }
        if let Some(authority) = uri.authority() {
            // Only the same host: a server must not send its visitors' probes elsewhere.
            let same = spot.authority.split(':').next() == Some(authority.host());
            let tls = uri.scheme_str() == Some("https");
            if !same {
                return false;
            }
            let port = authority.port_u16().unwrap_or(if tls { 443 } else { 80 });
            spot.there.set_port(port);
            authority.as_str().clone_into(&mut spot.authority);
            spot.tls = tls;
        }
        spot.path = path;
        true
    }

    /// One request over a connection of its own; beside the answer, what is wrong with the
    /// certificate.
    pub(crate) async fn fetch(
        &self,
        spot: &Endpoint,
        question: &AskWeb,
        course: &mut CheckProgress,
    ) -> Result<(Answer, Option<Why>), Break> {
        let connection = self.open_at(spot.there, course).await?;
        if !spot.tls {
            let (stream, received) = FirstBytes::new(connection);
            let asked = self.request(stream, false, spot, question, course).await;
            return match asked {
                Err((at, _)) if received.is_tls() => Err((at, Why::ExpectsTls)),
                asked => asked.map(|answer| (answer, None)),
            };
        }
        let protocols: [&[u8]; 2] = [b"h2", b"http/1.1"];
        let (secured, wrong) =
            self.secure(connection, spot.name.as_deref(), spot.there, &protocols, course).await?;
        let two = secured.get_ref().1.alpn_protocol() == Some(b"h2");
        let answer = self.request(secured, two, spot, question, course).await?;
        Ok((answer, wrong))
    }

    async fn request<S>(
        &self,
        stream: S,
        two: bool,
        spot: &Endpoint,
        question: &AskWeb,
        course: &mut CheckProgress,
    ) -> Result<Answer, Break>
    where
        S: AsyncRead + AsyncWrite + Send + Unpin + 'static,
    {
        let method =
            if question.content || question.resources { Method::GET } else { Method::HEAD };
        let scheme = if spot.tls { "https" } else { "http" };
        // HTTP/2 has the whole of it in fields of its own; HTTP/1.1 has the path, and `Host`.
        let target = if two {
            format!("{scheme}://{}{}", spot.authority, spot.path)
        } else {
            spot.path.clone()
        };
        let mut request = Request::builder()
            .method(method)
            .uri(target)
            .header(header::USER_AGENT, AGENT)
            .header(header::ACCEPT, "*/*");
        if !two {
            request = request.header(header::HOST, &spot.authority);
        }
        let request = request
            .body(Empty::<Bytes>::new())
            .map_err(|_| (Step::FirstByte, Why::NotThisProtocol))?;
        let begun = Instant::now();
        let asking = tokio::time::timeout(self.patience.step, send(stream, two, request));
        let (response, driving) = match asking.await {
            Err(_) => return Err((Step::FirstByte, Why::NoAnswer)),
            Ok(Err(error)) => return Err((Step::FirstByte, why_no_answer(&error))),
            Ok(Ok(response)) => response,
        };
        let first_byte_us = since(begun);
        course.done(Step::FirstByte, begun);
        let reading = self.read(response, question, two, first_byte_us, course).await;
        driving.abort();
        reading
    }

    async fn read(
        &self,
        response: Response<Incoming>,
        question: &AskWeb,
        two: bool,
        first_byte_us: Micros,
        course: &mut CheckProgress,
    ) -> Result<Answer, Break> {
        let location = response.headers().get(header::LOCATION);
        let mut answer = Answer {
            status: response.status(),
            location: location.and_then(|to| to.to_str().ok()).map(kept),
            content: Vec::new(),
            cut: false,
            first_byte_us,
            rate_bytes_per_s: None,
            version: if two { "2" } else { "1.1" },
        };
        let begun = Instant::now();
        let (mut body, mut first) = (response.into_body(), None);
        let most = usize::try_from(question.most_bytes).unwrap_or(usize::MAX);
        let broke = |why| Err((Step::Transfer, why));
        loop {
            let frame = match tokio::time::timeout(self.patience.step, body.frame()).await {
                Err(_) => return broke(Why::Unfinished),
                Ok(None) => break,
                Ok(Some(Err(error))) => return broke(why_no_answer(&error)),
                Ok(Some(Ok(frame))) => frame,
            };
            let Ok(octets) = frame.into_data() else { continue };
            first.get_or_insert_with(|| (Instant::now(), octets.len()));
            let room = most.saturating_sub(answer.content.len());
            answer.content.extend_from_slice(&octets[..octets.len().min(room)]);
            if let Some(web) = &mut course.seen.web {
                web.size_bytes = answer.content.len() as u64;
            }
            if octets.len() > room {
                answer.cut = true;
                break;
            }
        }
        course.done(Step::Transfer, begun);
        if let Some((at, length)) = first {
            let rest = (answer.content.len() as u64).saturating_sub(length as u64);
            let micros = u64::from(since(at).as_micros()).max(1);
            let enough = rest >= ENOUGH_FOR_A_RATE;
            answer.rate_bytes_per_s = enough.then(|| rest.saturating_mul(1_000_000) / micros);
        }
        Ok(answer)
    }
}

/// Whether an answer is what was asked for.
fn judge(answer: &Answer, question: &AskWeb) -> Result<(), Break> {
    let status = answer.status.as_u16();
    let right = match question.status {
        Some(wanted) => status == wanted,
        None => (200..400).contains(&status),
    };
    if !right {
        return Err((Step::Content, Why::Status));
    }
    let Some(words) = &question.words else { return Ok(()) };
    let found = answer.content.windows(words.len().max(1)).any(|part| part == words.as_bytes());
    if found { Ok(()) } else { Err((Step::Content, Why::Words)) }
}

type Driving = tokio::task::JoinHandle<()>;

/// Sends a request; gives the answer's beginning, and the task that drives the connection.
async fn send<S>(
    stream: S,
    two: bool,
    request: Request<Empty<Bytes>>,
) -> Result<(Response<Incoming>, Driving), hyper::Error>
where
    S: AsyncRead + AsyncWrite + Send + Unpin + 'static,
{
    let io = TokioIo::new(stream);
    if two {
        let (mut sender, connection) =
            hyper::client::conn::http2::Builder::new(TokioExecutor::new())
                .max_header_list_size(u32::try_from(MAX_HEADER).unwrap_or(u32::MAX))
                .handshake(io)
                .await?;
        let driving = drive(async { drop(connection.await) });
        let sent = sender.send_request(request).await;
        return Ok((sent.inspect_err(|_| driving.abort())?, driving));
    }
    let (mut sender, connection) = hyper::client::conn::http1::Builder::new()
        .max_buf_size(MAX_HEADER)
        .max_headers(MAX_FIELDS)
        .handshake(io)
        .await?;
    let driving = drive(async { drop(connection.await) });
    let sent = sender.send_request(request).await;
    Ok((sent.inspect_err(|_| driving.abort())?, driving))
}

fn drive(connection: impl Future<Output = ()> + Send + 'static) -> Driving {
    tokio::spawn(connection)
}

fn why_no_answer(error: &hyper::Error) -> Why {
    // The library tells this apart in words only.
    if error.to_string().contains("too large") {
        return Why::TooMuch;
    }
    if error.is_parse() || error.is_parse_status() {
        return Why::NotThisProtocol;
    }
    if error.is_incomplete_message() {
        return Why::Closed;
    }
    if error.is_timeout() {
        return Why::NoAnswer;
    }
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        if let Some(io) = inner.downcast_ref::<std::io::Error>() {
            return crate::net::why_ended(io);
        }
        cause = inner.source();
    }
    if error.is_closed() || error.is_canceled() { Why::Closed } else { Why::NotThisProtocol }
}
