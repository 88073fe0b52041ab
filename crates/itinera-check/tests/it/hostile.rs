//! Servers that attack who asks them: it costs a bounded time and a bounded memory, and what they
//! say is kept as text, for printers to make harmless.

use crate::support::{HALL, PATIENCE, asker, over_loopback, over_stack, services, web};
use itinera_check::{Destination, Net};
use itinera_model::check::{Ask, AskWeb, Greeting, MAX_TEXT, Outcome, Step, Why};
use itinera_testserver::Authority;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

#[tokio::test]
async fn what_never_ends_is_cut_within_its_budgets() {
    let most = 100_000;
    let endless = services(&["port = 80\nspeaks = \"web\"\ndoes = \"endless\""]);
    let (asker, port) = over_loopback(&endless[0]).await;
    let ask = Ask::Web(AskWeb { most_bytes: most, ..web(false, port) });
    let result = asker.check(&Destination::Address([127, 0, 0, 1].into()), &ask).await;
    let seen = result.seen.web.clone().unwrap();
    assert_eq!((result.outcome, seen.cut), (Outcome::Good, true), "{result:?}");
    assert_eq!(seen.size_bytes, u64::from(most));
}

#[tokio::test]
async fn who_trickles_is_given_up_in_time() {
    for (entry, ask) in [
        ("port = 80\nspeaks = \"web\"\ndoes = \"trickle\"", Ask::Web(web(false, 80))),
        ("port = 25\nspeaks = \"mail\"\ndoes = \"trickle\"", Ask::Mail { port: 25 }),
    ] {
        let asker = over_stack(&services(&[entry]));
        let begun = Instant::now();
        let result = asker.check(&Destination::Address(HALL.into()), &ask).await;
        let Outcome::Broke { why, .. } = result.outcome else { panic!("{result:?}") };
        assert!(matches!(why, Why::Unfinished | Why::NoAnswer), "{result:?}");
        let bound = PATIENCE.whole + Duration::from_secs(5);
        assert!(begun.elapsed() < bound, "{:?}", begun.elapsed());
    }
}

#[tokio::test]
async fn what_hostile_servers_say_is_bounded_text() {
    let entry = "port = 21\nspeaks = \"ftp\"\ndoes = \"hostile\"";
    let asker = over_stack(&services(&[entry]));
    let ask = Ask::Greeting { protocol: Greeting::Ftp, port: 21 };
    let result = asker.check(&Destination::Address(HALL.into()), &ask).await;
    assert_eq!(result.outcome, Outcome::Good);
    let said = result.seen.said.clone().unwrap();
    assert!(said.contains('\u{1b}') && said.len() <= MAX_TEXT, "kept as it came: {said:?}");
    assert!(result.is_bounded());
}

#[tokio::test]
async fn redirects_lead_nowhere_else() {
    // A server that sends its visitors to the machine's own metadata, or in a circle.
    for (location, ends) in [
        ("http://192.0.2.1/inside", Outcome::Good),
        ("/again", Outcome::Broke { at: Step::FirstByte, why: Why::Redirects }),
    ] {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let answer = format!(
            "HTTP/1.1 302 Found\r\nLocation: {location}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        );
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let mut asked = [0; 2_048];
                let _read = AsyncReadExt::read(&mut stream, &mut asked).await;
                let _said = AsyncWriteExt::write_all(&mut stream, answer.as_bytes()).await;
            }
        });
        let asker = asker(Net::Kernel { source: None }, &Authority::new().unwrap());
        let here = Destination::Address([127, 0, 0, 1].into());
        let result = asker.check(&here, &Ask::Web(web(false, port))).await;
        assert_eq!(result.outcome, ends, "{location}: {result:?}");
        let seen = result.seen.web.unwrap();
        assert_eq!(seen.redirects[0], location);
    }
}

/// What good servers say, each to be damaged.
const SAID: [&[u8]; 5] = [
    b"220-hall\r\n220 ready\r\n250-hall\r\n250-PIPELINING\r\n250 HELP\r\n250 ok\r\n221 bye\r\n",
    b"* OK hall\r\n* BYE\r\na OK\r\n",
    b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 29\r\n\r\n<img src=/a><script src=\"b\">x",
    b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    b"\x16\x03\x03\x00\x2a\x02\x00\x00\x26\x03\x03 and so on and on and on and on",
];

#[test]
fn whatever_servers_say_is_judged_and_bounded() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let (whose, damage) = (0..SAID.len(), prop::collection::vec((0_usize..200, any::<u8>()), 0..4));
    let mut runner = TestRunner::new(Config::with_cases(150));
    let judged =
        runner.run(&(whose, damage, 0_usize..9, 0_usize..200), |(whose, damage, asked, cut)| {
            let mut says = SAID[whose].to_vec();
            for (at, octet) in damage {
                let at = at % says.len();
                says[at] = octet;
            }
            says.truncate(says.len().min(cut + 20));
            let result = runtime.block_on(async {
                let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
                let port = listener.local_addr().unwrap().port();
                let greeting = |protocol| Ask::Greeting { protocol, port };
                let pages = AskWeb { content: true, resources: true, ..web(false, port) };
                let ask = match asked {
                    0 => Ask::Mail { port },
                    1 => greeting(Greeting::Pop3),
                    2 => greeting(Greeting::Imap),
                    3 => greeting(Greeting::Ftp),
                    4 => greeting(Greeting::Ssh),
                    5 => Ask::Tls { port, name: None },
                    6 => Ask::Web(web(true, port)),
                    7 => Ask::Web(web(false, port)),
                    _ => Ask::Web(pages),
                };
                let serving = tokio::spawn(async move {
                    while let Ok((mut stream, _)) = listener.accept().await {
                        let _gone = stream.write_all(&says).await;
                        let _gone = stream.shutdown().await;
                        let _until_closed = stream.read_to_end(&mut Vec::new()).await;
                    }
                });
                let asker = asker(Net::Kernel { source: None }, &Authority::new().unwrap());
                let result = asker.check(&Destination::Address([127, 0, 0, 1].into()), &ask).await;
                serving.abort();
                result
            });
            prop_assert!(result.is_bounded(), "{result:?}");
            Ok(())
        });
    judged.unwrap();
}

#[tokio::test]
async fn headers_without_end_are_not_gathered() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let serving = tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        stream.write_all(b"HTTP/1.1 200 OK\r\n").await.unwrap();
        let bomb = format!("X-Bomb: {}\r\n", "b".repeat(8_000));
        let mut sent = 0_usize;
        while stream.write_all(bomb.as_bytes()).await.is_ok() {
            sent += bomb.len();
        }
        sent
    });
    let asker = asker(Net::Kernel { source: None }, &Authority::new().unwrap());
    let here = Destination::Address([127, 0, 0, 1].into());
    let result = asker.check(&here, &Ask::Web(web(false, port))).await;
    assert!(matches!(result.outcome, Outcome::Broke { .. }), "{result:?}");
    assert!(result.is_bounded());
    let sent = serving.await.unwrap();
    assert!(sent < 16 << 20, "taken before it was cut, with the sockets' buffers: {sent}");
}
