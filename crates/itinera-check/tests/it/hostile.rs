//! Servers that attack who asks them: it costs a bounded time and a bounded memory, and what they
//! say is kept as text, for printers to make harmless.

use crate::support::{HALL, PATIENCE, over_loopback, over_stack, services, web};
use itinera_check::Whom;
use itinera_model::check::{Ask, AskWeb, Greeting, MAX_TEXT, Outcome, Step, Why};
use std::time::{Duration, Instant};

#[tokio::test]
async fn what_never_ends_is_cut_within_its_budgets() {
    let most = 100_000;
    let endless = services(&["port = 80\nspeaks = \"web\"\ndoes = \"endless\""]);
    let (asker, port) = over_loopback(&endless[0]).await;
    let ask = Ask::Web(AskWeb { most_bytes: most, ..web(false, port) });
    let result = asker.check(&Whom::Address([127, 0, 0, 1].into()), &ask).await;
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
        let result = asker.check(&Whom::Address(HALL.into()), &ask).await;
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
    let result = asker.check(&Whom::Address(HALL.into()), &ask).await;
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
                let _read = tokio::io::AsyncReadExt::read(&mut stream, &mut asked).await;
                let _said =
                    tokio::io::AsyncWriteExt::write_all(&mut stream, answer.as_bytes()).await;
            }
        });
        let asker = crate::support::asker(
            itinera_check::Net::Kernel { source: None },
            &itinera_standin::Authority::new().unwrap(),
        );
        let here = Whom::Address([127, 0, 0, 1].into());
        let result = asker.check(&here, &Ask::Web(web(false, port))).await;
        assert_eq!(result.outcome, ends, "{location}: {result:?}");
        let seen = result.seen.web.unwrap();
        assert_eq!(seen.redirects[0], location);
    }
}
