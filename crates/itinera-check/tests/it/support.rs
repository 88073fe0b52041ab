//! A world of services, and who asks them.

use itinera_check::{Asker, Destination, Net, Patience, Roots};
use itinera_model::check::{Ask, AskWeb, CheckResult, Outcome, Step, Why};
use itinera_simnet::{Scenario, Service, Simnet};
use itinera_stack::Stack;
use itinera_testserver::{Authority, Clock, serve_on_loopback, serve_on_stack};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;

pub(crate) const NAME: &str = "hall.corriven.example";
pub(crate) const HALL: [u8; 4] = [198, 18, 128, 10];

/// What tests wait at most for a step: longer than anything good takes on a busy machine, and
/// for a check.
pub(crate) const PATIENCE: Patience =
    Patience { step: Duration::from_secs(3), whole: Duration::from_secs(10) };

/// Services at the hall, each an entry's further lines.
pub(crate) fn services(entries: &[&str]) -> Vec<Service> {
    let mut text = r#"name = "services"
[[site]]
id = "quay"
name = "Brannock Quay"
address = "198.18.0.2"
[[target]]
id = "hall"
name = "Hall"
address = "198.18.128.10"
[[link]]
between = ["quay", "hall"]
delay_ms = 1.0
[[record]]
name = "hall.corriven.example"
addresses = ["198.18.128.10"]
ttl_s = 60
[[record]]
name = "moved.corriven.example"
addresses = ["198.18.128.10"]
ttl_s = 60
moves = { at_s = 0, to = ["198.18.144.10"] }
"#
    .to_owned();
    for entry in entries {
        text.push_str(&format!("[[service]]\nat = \"hall\"\nname = \"{NAME}\"\n{entry}\n"));
    }
    let scenario = Scenario::parse(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
    Simnet::new(&scenario, 1).services().to_vec()
}

pub(crate) fn asker(net: Net, authority: &Authority) -> Asker {
    Asker {
        net,
        resolvers: vec![HALL.into()],
        roots: Arc::new(Roots::of(vec![authority.certificate()])),
        patience: PATIENCE,
        within: None,
    }
}

/// Serves on a host in user space; gives who may ask it over a wire without loss.
pub(crate) fn over_stack(services: &[Service]) -> Asker {
    let authority = Authority::new().unwrap();
    let (to_hall, hall_came) = mpsc::channel(1_024);
    let (to_quay, quay_came) = mpsc::channel(1_024);
    let quay = Stack::new(vec![IpAddr::from([198, 18, 0, 2])], quay_came, to_hall, 5);
    let hall = Stack::new(vec![HALL.into()], hall_came, to_quay, 6);
    let clock = Clock::since(Instant::now());
    for service in
        services.iter().filter(|service| !service.refuses(itinera_model::Tick::from_nanos(0)))
    {
        serve_on_stack(service, &hall, &authority, clock).unwrap();
    }
    // The host is there without a service.
    tokio::spawn(async move {
        std::future::pending::<()>().await;
        drop(hall);
    });
    asker(Net::Stack(quay), &authority)
}

/// Serves one on loopback; gives who may ask it, and at which port.
pub(crate) async fn over_loopback(service: &Service) -> (Asker, u16) {
    let authority = Authority::new().unwrap();
    let clock = Clock::since(Instant::now());
    let at = serve_on_loopback(service, &authority, clock).await.unwrap();
    (asker(Net::Kernel { source: None }, &authority), at.port())
}

pub(crate) fn web(tls: bool, port: u16) -> AskWeb {
    AskWeb {
        tls,
        host: Some(NAME.to_owned()),
        port,
        path: "/".to_owned(),
        content: true,
        resources: false,
        status: None,
        words: None,
        most_bytes: 1 << 20,
    }
}

/// The same question at another port.
pub(crate) fn at(ask: &Ask, port: u16) -> Ask {
    let mut moved = ask.clone();
    match &mut moved {
        Ask::Name(_) => {}
        Ask::Connect { port: old }
        | Ask::Tls { port: old, .. }
        | Ask::Mail { port: old }
        | Ask::Greeting { port: old, .. }
        | Ask::Web(AskWeb { port: old, .. }) => *old = port,
    }
    moved
}

/// Asks the service over both, and expects the same of both.
pub(crate) async fn expect(entry: &str, ask: &Ask, outcome: Outcome) -> CheckResult {
    let services = services(&[entry]);
    let asker = over_stack(&services);
    let by_stack = asker.check(&Destination::Address(HALL.into()), ask).await;
    assert_eq!(by_stack.outcome, outcome, "over a stack: {entry} {ask:?} {by_stack:?}");
    let (asker, port) = over_loopback(&services[0]).await;
    let here = Destination::Address([127, 0, 0, 1].into());
    let by_kernel = asker.check(&here, &at(ask, port)).await;
    assert_eq!(by_kernel.outcome, outcome, "over loopback: {entry} {ask:?} {by_kernel:?}");
    assert!(by_kernel.is_bounded());
    by_kernel
}

pub(crate) const fn broke(at: Step, why: Why) -> Outcome {
    Outcome::Broke { at, why }
}
