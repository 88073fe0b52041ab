//! Notices to real receivers on loopback that are good, refuse, are slow, greylist, redirect, or have a wrong
//! certificate.

use crate::support::{PATIENCE, Ran, Service, eventually};
use itinera_simnet::TlsHabit;
use itinera_testserver::Authority;
use itinera_testserver::receivers::{
    Habit, HabitSwitch, Inbox, Secrets, serve_mail, serve_syslog, serve_webhooks,
};
use serde_json::Value;
use std::collections::BTreeMap;
use std::time::Duration;
use tokio::net::{TcpListener, UdpSocket};
use tokio::task::block_in_place;

async fn bound() -> (TcpListener, u16) {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.unwrap();
    let port = listener.local_addr().unwrap().port();
    (listener, port)
}

/// Where the service finds the mail server, and the CA of its certificate.
fn with_mail(text: &str, port: u16, ca: &std::path::Path) -> String {
    format!(
        "{text}\n[notices]\nca_file = {ca:?}\n[mail]\nserver = \"localhost\"\nport = {port}\n\
         from = \"Itinera <itinera@corriven.example>\"\n"
    )
}

/// Sends a test notice and waits until its first attempt has ended; gives its delivery.
fn tested(service: &Service, receiver: &str) -> (Ran, Value) {
    let ran = service.client(&["receivers", "test", receiver, "--format", "json"]);
    let notice: Value = serde_json::from_str(&ran.out).unwrap();
    let delivery = notice["deliveries"][0].clone();
    (ran, delivery)
}

/// Waits until the newest notice has a delivery in this state; gives that delivery.
fn newest(service: &Service, state: &str) -> Value {
    eventually(state, PATIENCE, || {
        let notices = service.json(&["notices", "list", "--limit", "1"]);
        let delivery = &notices[0]["deliveries"][0];
        (delivery["state"] == state).then(|| delivery.clone())
    })
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn webhooks_are_signed_tried_again_and_never_redirected() {
    let inbox = Inbox::default();
    let habit = HabitSwitch::from(Habit::Good);
    let service = block_in_place(Service::start);
    let (listener, port) = bound().await;
    let origin = format!("http://127.0.0.1:{port}");
    let secrets = service.path().join("secrets.json");
    let of_file = (inbox.clone(), habit.clone(), Secrets::File(secrets.clone()));
    serve_webhooks(listener, &origin, of_file, None);
    let url = format!("{origin}/webhook?desk=1");
    block_in_place(|| {
        let made = service.json(&["receivers", "add", "Desk", "--webhook", &url]);
        let known = BTreeMap::from([(made["id"].as_str().unwrap(), made["secret"].clone())]);
        std::fs::write(&secrets, serde_json::to_string(&known).unwrap()).unwrap();

        let (ran, delivery) = tested(&service, "Desk");
        assert_eq!((ran.code, &delivery["state"]), (Some(0), &"sent".into()), "{ran:?}");
        let received = inbox.all();
        assert_eq!((received.len(), received[0].signed), (1, Some(true)));
        let event: Value = serde_json::from_str(&received[0].text).unwrap();
        assert_eq!(
            (&event["specversion"], &event["type"]),
            (&"1.0".into(), &"itinera.notice.test".into())
        );
        assert_eq!(event["data"]["link"], format!("{}/notices", service.api()));

        habit.set(Habit::Greylisting);
        let (ran, delivery) = tested(&service, "Desk");
        assert_eq!((ran.code, &delivery["state"]), (Some(1), &"waiting".into()), "{ran:?}");
        assert!(delivery["reason"].as_str().unwrap().contains("503"), "{delivery}");
        assert_eq!(newest(&service, "sent")["attempts"], 2);
        let ids: Vec<_> = inbox.all()[1..].iter().map(|it| it.id.clone()).collect();
        assert_eq!((ids.len(), &ids[0]), (2, &ids[1]), "both attempts have one id");

        habit.set(Habit::Redirecting);
        let (_, delivery) = tested(&service, "Desk");
        assert_eq!((&delivery["state"], &delivery["attempts"]), (&"failed".into(), &1.into()));
        assert!(inbox.all().iter().all(|it| it.channel != "elsewhere"), "a redirect was followed");

        habit.set(Habit::Refusing);
        assert_eq!(tested(&service, "Desk").1["state"], "failed");
        habit.set(Habit::Good);
        let retried = service.json(&["notices", "retry", "--receiver", "Desk"]);
        assert_eq!(retried["deliveries"], 2);
        newest(&service, "sent");
        habit.set(Habit::Slow(Duration::from_secs(3)));
        assert_eq!(tested(&service, "Desk").1["state"], "sent");
    });
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn receivers_prove_their_names_and_actions_answer() {
    let authority = Authority::new().unwrap();
    let ca = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(ca.path(), authority.certificate_pem()).unwrap();
    let service = block_in_place(|| Service::start_with(|text| with_mail(text, 1, ca.path())));
    let inbox = Inbox::default();
    for (name, tls) in [
        ("Good", TlsHabit::Good),
        ("Wrong name", TlsHabit::WrongName),
        ("Untrusted", TlsHabit::Untrusted),
        ("Expired", TlsHabit::Expired),
    ] {
        let (listener, port) = bound().await;
        let origin = format!("https://localhost:{port}");
        let tls = authority.server("localhost", tls).unwrap();
        let habit = (inbox.clone(), Habit::Good.into(), Secrets::None);
        serve_webhooks(listener, &origin, habit, Some(tls));
        let url = format!("{origin}/action");
        block_in_place(|| service.json(&["receivers", "add", name, "--action", &url]));
    }
    block_in_place(|| {
        let (_, delivery) = tested(&service, "Good");
        assert_eq!(delivery["state"], "sent", "{delivery}");
        assert!(delivery["answer"].as_str().unwrap().starts_with("200 OK: noted"), "{delivery}");
        for wrong in ["Wrong name", "Untrusted", "Expired"] {
            let (_, delivery) = tested(&service, wrong);
            assert_eq!(delivery["state"], "waiting", "{wrong}: it may be mended");
            let reason = delivery["reason"].as_str().unwrap();
            assert!(reason.contains("certificate"), "{wrong}: {reason}");
        }
        assert_eq!(inbox.all().len(), 1, "nothing is told to a server that proves no name");
    });
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn mail_goes_out_encrypted_through_servers_of_every_kind() {
    let authority = Authority::new().unwrap();
    let ca = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(ca.path(), authority.certificate_pem()).unwrap();
    let (inbox, habit) = (Inbox::default(), HabitSwitch::from(Habit::Good));
    let (listener, good) = bound().await;
    let certificate = authority.server("localhost", TlsHabit::Good).unwrap();
    serve_mail(listener, inbox.clone(), habit.clone(), Some(certificate));
    let (listener, wrong) = bound().await;
    let certificate = authority.server("localhost", TlsHabit::WrongName).unwrap();
    serve_mail(listener, inbox.clone(), Habit::Good.into(), Some(certificate));
    let (listener, plain) = bound().await;
    serve_mail(listener, inbox.clone(), Habit::Good.into(), None);
    let mut service =
        block_in_place(|| Service::start_with(|text| with_mail(text, good, ca.path())));
    block_in_place(|| {
        service.json(&["receivers", "add", "Duty", "--mail", "duty@corriven.example"]);
        let (ran, delivery) = tested(&service, "Duty");
        assert_eq!(delivery["state"], "sent", "{ran:?}");
        let mail = inbox.all().remove(0);
        assert!(
            mail.text.starts_with("To: duty@corriven.example\nSubject: Test of the receiver Duty"),
            "{mail:?}"
        );
        let id = service.json(&["notices", "list"])[0]["id"].clone();
        assert_eq!(mail.id.as_deref(), id.as_str());

        habit.set(Habit::Greylisting);
        let (_, delivery) = tested(&service, "Duty");
        assert_eq!(delivery["state"], "waiting");
        assert!(delivery["reason"].as_str().unwrap().contains("451"), "{delivery}");
        assert_eq!(newest(&service, "sent")["attempts"], 2);
        habit.set(Habit::Slow(Duration::from_secs(3)));
        assert_eq!(tested(&service, "Duty").1["state"], "sent");
        habit.set(Habit::Refusing);
        let (_, delivery) = tested(&service, "Duty");
        assert_eq!(delivery["state"], "failed");
        assert!(delivery["reason"].as_str().unwrap().contains("refused"), "{delivery}");
        let taken = inbox.all().len();

        let file = service.path().join("service.toml");
        for (port, what) in [(wrong, "a wrong certificate"), (plain, "no encryption")] {
            service.stop();
            let text = std::fs::read_to_string(&file).unwrap();
            let mail = text.find("server = \"localhost\"").unwrap();
            let (before, after) = text.split_at(mail);
            let line = after.lines().find(|line| line.starts_with("port")).unwrap();
            let after = after.replacen(line, &format!("port = {port}"), 1);
            std::fs::write(&file, format!("{before}{after}")).unwrap();
            service.restart();
            let (_, delivery) = tested(&service, "Duty");
            assert_eq!(delivery["state"], "waiting", "{what}: {delivery}");
        }
        assert_eq!(inbox.all().len(), taken, "nothing is told to them");
    });
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn syslog_messages_arrive_by_both_transports() {
    let inbox = Inbox::default();
    let (streams, port) = bound().await;
    let datagrams = UdpSocket::bind(("127.0.0.1", port)).await.unwrap();
    serve_syslog(datagrams, streams, inbox.clone());
    let service = block_in_place(Service::start);
    let to = format!("127.0.0.1:{port}");
    for transport in ["udp", "tcp"] {
        block_in_place(|| {
            let add = ["receivers", "add", transport, "--syslog", &to, "--transport", transport];
            service.json(&add);
            assert_eq!(tested(&service, transport).1["state"], "sent");
        });
        let received = inbox.wait_until(|all| all.len() == if transport == "udp" { 1 } else { 2 });
        let received = tokio::time::timeout(PATIENCE, received).await.unwrap();
        let message = &received.last().unwrap().text;
        assert!(
            message.starts_with("<134>1 ") && message.contains(" itinera - test "),
            "{message}"
        );
    }
}
