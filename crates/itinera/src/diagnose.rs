//! `itinera diagnose`: checks each step from this machine to a service, with
//! no other service needed.

use crate::args::DiagnoseArgs;
use crate::client::{self, Client};
use crate::exit::{Code, Failure};
use crate::output::{Output, plain};
use crate::survey::owner_map;
use indicatif::{ProgressBar, ProgressStyle};
use itinera_agent::{Announcements, DiagnosisPlan, DiagnosisProgress, Place, diagnose};
use itinera_analysis::diagnosis::{Context, judge, text};
use itinera_check::{Destination, Roots};
use itinera_model::check::{Ask, AskWeb, Greeting};
use itinera_model::diagnosis::{Diagnosis, Observations, Part};
use serde::Serialize;
use serde_json::json;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;

/// Bytes of content read at most.
const MOST_BYTES: u32 = 1 << 20;

/// What programs get: the steps and the conclusion, with the observations they were judged by.
#[derive(Serialize)]
struct Printed<'a> {
    diagnosis: &'a Diagnosis,
    observed: &'a Observations,
}

pub(crate) async fn run(args: &DiagnoseArgs, output: &Output) -> Result<(), Failure> {
    let map = owner_map(args.owners.as_deref())?;
    let place = match args.simulation {
        Some(simulation) => Place::Simulated(simulation, args.address.clone()),
        None => Place::Kernel {
            interface: args.interface.clone(),
            announced: Announcements::open().ok(),
        },
    };
    let plan = plan(args)?;
    let progress = Progress::new(output);
    let (news, mut heard) = mpsc::channel(64);
    let looking = diagnose(&place, &plan, news);
    let following = async {
        while let Some(news) = heard.recv().await {
            progress.say(&news);
        }
    };
    let (observed, ()) = tokio::join!(looking, following);
    progress.clear();
    let observed = observed.map_err(|error| Failure::new(Code::Failed, error))?;
    let diagnosis = judge(&observed, &map, &Context::default());
    output.either(&Printed { diagnosis: &diagnosis, observed: &observed }, |output| {
        output.part(&text(&diagnosis, &observed, &map))
    })?;
    match code(diagnosis.part) {
        None => Ok(()),
        Some(code) => Err(Failure::found(code)),
    }
}

/// How often an agent is asked how far it is, and how long it may take at most.
const GLANCE: Duration = Duration::from_millis(500);
const PATIENCE: Duration = Duration::from_secs(200);

/// Has the agent at a site look, and waits for what it sees.
pub(crate) async fn ask_agent(
    client: &Client,
    output: &Output,
    args: &DiagnoseArgs,
    site: &str,
) -> Result<(), Failure> {
    if args.target == site {
        let words = format!(
            "{site} is where the diagnosis starts: name another site, a service or a target"
        );
        return Err(Failure::say(Code::Refused, words));
    }
    let incident = match args.incident {
        Some(number) => Some(client::incidents::id_of(client, number).await?),
        None => None,
    };
    // What is not the name of a service may be that of a target, or of a site with an agent.
    let mut ordered = Err(Failure::found(Code::Refused as u8));
    for kind in ["service", "target", "to_site"] {
        let wanted = json!({ "site": site, kind: args.target, "incident": incident });
        let answer = client.post("/diagnoses", &wanted).await;
        let other_kind = matches!(&answer, Err(failure) if !failure.is_unreachable());
        // The first refusal names what there is.
        if answer.is_ok() || kind == "service" || !other_kind {
            ordered = answer;
        }
        if !other_kind {
            break;
        }
    }
    let diagnosis = ordered?;
    let id = diagnosis["id"].as_str().unwrap_or_default().to_owned();
    let progress = Progress::new(output);
    let begun = Instant::now();
    let diagnosis = loop {
        let diagnosis = client.get(&format!("/diagnoses/{id}")).await?;
        let over = matches!(diagnosis["state"].as_str(), Some("done" | "failed" | "late"));
        if over || begun.elapsed() > PATIENCE {
            break diagnosis;
        }
        progress.words(diagnosis["progress"].as_str().unwrap_or_default());
        tokio::time::sleep(GLANCE).await;
    };
    progress.clear();
    output.either(&diagnosis, |output| match diagnosis["text"].as_str() {
        Some(text) => output.part(text),
        None => output.line(&plain(diagnosis["progress"].as_str().unwrap_or("It took too long."))),
    })?;
    let part = match diagnosis["part"].as_str() {
        Some("nothing") => return Ok(()),
        Some("machine") => Part::Machine,
        Some("site") => Part::Site,
        Some("names") => Part::Names,
        Some("network") => Part::Network,
        Some("service") => Part::Service,
        _ => return Err(Failure::found(Code::Failed as u8)),
    };
    code(part).map_or(Ok(()), |code| Err(Failure::found(code)))
}

/// What to reach: a URL, a name or an address, with a port where that says more.
fn plan(args: &DiagnoseArgs) -> Result<DiagnosisPlan, Failure> {
    let wrong = |text: String| Failure::say(Code::Failed, text);
    let (scheme, rest) = match args.target.split_once("://") {
        Some((scheme @ ("http" | "https"), rest)) => (Some(scheme), rest),
        Some((other, _)) => {
            let text = format!(
                "{:?} begins with {other:?}; a URL with http or https, a name or an address is needed",
                args.target
            );
            return Err(wrong(text));
        }
        None => (None, args.target.as_str()),
    };
    let (authority, path) = match rest.find('/') {
        Some(at) if scheme.is_some() => (&rest[..at], &rest[at..]),
        None if scheme.is_some() => (rest, "/"),
        _ => (rest, "/"),
    };
    let (host, said_port) = host_and_port(authority)
        .ok_or_else(|| wrong(format!("{:?} is no name, address or URL", args.target)))?;
    let port = args.port.or(said_port);
    let destination = match host.parse::<IpAddr>() {
        Ok(address) => Destination::Address(address),
        Err(_) => Destination::Name(host.clone(), args.family),
    };
    let roots = roots(args.trust.as_deref())?;
    Ok(DiagnosisPlan {
        target: args.target.clone(),
        asks: asks(scheme, port, path, &destination),
        destination,
        roots: Arc::new(roots),
        within: None,
    })
}

/// CA certificates: those of a file (PEM), or those of the machine.
pub(crate) fn roots(file: Option<&std::path::Path>) -> Result<Roots, Failure> {
    use rustls::pki_types::CertificateDer;
    use rustls::pki_types::pem::PemObject;
    let Some(file) = file else { return Ok(Roots::of_machine()) };
    let cannot = || format!("cannot read certificates from {}", file.display());
    let certificates = CertificateDer::pem_file_iter(file)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|error| Failure::new(Code::BadFile, error).context(cannot()))?;
    Ok(Roots::of(certificates))
}

/// `name`, `name:25`, `[2001:db8::1]:25` or a bare address of either version.
fn host_and_port(authority: &str) -> Option<(String, Option<u16>)> {
    if authority.is_empty() {
        return None;
    }
    if authority.parse::<IpAddr>().is_ok() {
        return Some((authority.to_owned(), None));
    }
    if let Some(rest) = authority.strip_prefix('[') {
        let (host, port) = rest.split_once(']')?;
        let port = port.strip_prefix(':').map(str::parse).transpose().ok()?;
        return Some((host.to_owned(), port));
    }
    match authority.split_once(':') {
        Some((host, port)) if !host.is_empty() => Some((host.to_owned(), Some(port.parse().ok()?))),
        Some(_) => None,
        None => Some((authority.to_owned(), None)),
    }
}

/// The check follows from the URL or a well-known port (RFC 6335); otherwise it is a connection.
fn asks(
    scheme: Option<&str>,
    port: Option<u16>,
    path: &str,
    destination: &Destination,
) -> Vec<Ask> {
    let host = match destination {
        Destination::Name(name, _) => Some(name.clone()),
        Destination::Address(_) => None,
    };
    let web = |tls: bool, port: u16| {
        Ask::Web(AskWeb {
            tls,
            host: host.clone(),
            port,
            path: path.to_owned(),
            content: scheme.is_some(),
            resources: false,
            status: None,
            words: None,
            most_bytes: MOST_BYTES,
        })
    };
    let greeting = |protocol, port| Ask::Greeting { protocol, port };
    match (scheme, port) {
        (Some("http"), port) => vec![web(false, port.unwrap_or(80))],
        (Some(_), port) => vec![web(true, port.unwrap_or(443))],
        (None, Some(25 | 587)) => vec![Ask::Mail { port: port.unwrap_or(25) }],
        (None, Some(21)) => vec![greeting(Greeting::Ftp, 21)],
        (None, Some(22)) => vec![greeting(Greeting::Ssh, 22)],
        (None, Some(110)) => vec![greeting(Greeting::Pop3, 110)],
        (None, Some(143)) => vec![greeting(Greeting::Imap, 143)],
        (None, Some(80)) => vec![web(false, 80)],
        (None, None | Some(443)) => vec![web(true, 443)],
        (None, Some(port)) => vec![Ask::Connect { port }],
    }
}

/// The exit code of the part at fault.
const fn code(part: Part) -> Option<u8> {
    match part {
        Part::Nothing | Part::Itinera => None,
        Part::Machine => Some(10),
        Part::Site => Some(11),
        Part::Names => Some(12),
        Part::Network => Some(13),
        Part::Service => Some(14),
    }
}

/// A line on a terminal while it runs.
struct Progress(Option<ProgressBar>);

impl Progress {
    fn new(output: &Output) -> Self {
        if output.is_json() || !std::io::IsTerminal::is_terminal(&std::io::stderr()) {
            return Self(None);
        }
        let bar = ProgressBar::new_spinner();
        let style = ProgressStyle::with_template("{spinner} {msg} ({elapsed})");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
        bar.enable_steady_tick(Duration::from_millis(120));
        Self(Some(bar))
    }

    fn words(&self, words: &str) {
        if let Some(bar) = &self.0 {
            bar.set_message(plain(words));
        }
    }

    fn say(&self, news: &DiagnosisProgress) {
        self.words(&match news {
            DiagnosisProgress::Looking(step) => format!("Step: {step}"),
            DiagnosisProgress::Swept(round, of) => {
                format!("Probing hops, target and service: round {round} of {of}")
            }
        });
    }

    fn clear(&self) {
        if let Some(bar) = &self.0 {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::check::AskKind;

    #[test]
    fn targets_are_read_in_every_form() {
        let read = |text: &str| host_and_port(text);
        let host = |name: &str, port| Some((name.to_owned(), port));
        assert_eq!(read("booking.corriven.example"), host("booking.corriven.example", None));
        assert_eq!(read("booking.corriven.example:25"), host("booking.corriven.example", Some(25)));
        assert_eq!(read("2001:db8::1"), host("2001:db8::1", None));
        assert_eq!(read("[2001:db8::1]:443"), host("2001:db8::1", Some(443)));
        for wrong in ["", ":25", "a:b", "a:99999", "[2001:db8::1"] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
        let destination = Destination::Name("a.example".to_owned(), None);
        let kinds = |scheme, port| -> Vec<AskKind> {
            asks(scheme, port, "/", &destination).iter().map(Ask::kind).collect()
        };
        assert_eq!(kinds(Some("http"), None), [AskKind::Web]);
        assert_eq!(kinds(None, Some(25)), [AskKind::Mail]);
        assert_eq!(kinds(None, Some(7_000)), [AskKind::Connect]);
    }
}
