//! Each fault is told apart from every other.

use crate::support::{HALL, NAME, broke, expect, over_stack, services, web};
use itinera_check::Destination;
use itinera_model::check::{Ask, AskName, AskWeb, CheckResult, Greeting, Outcome, Step, Why};

const GOOD: Outcome = Outcome::Good;

#[tokio::test]
async fn connections() {
    let ask = Ask::Connect { port: 80 };
    let web = "port = 80\nspeaks = \"web\"\n";
    let good = expect(web, &ask, GOOD).await;
    assert!(good.took(Step::Connect).is_some() && good.spoke_to.is_some());
    let refusing = format!("{web}does = \"refuse\"");
    expect(&refusing, &ask, broke(Step::Connect, Why::Refused)).await;
}

#[tokio::test]
async fn certificates() {
    for (habit, why) in [
        ("good", None),
        ("expired", Some(Why::CertificateExpired)),
        ("early", Some(Why::CertificateEarly)),
        ("wrong-name", Some(Why::CertificateName)),
        ("untrusted", Some(Why::CertificateUntrusted)),
    ] {
        let entry = format!("port = 443\nspeaks = \"web\"\ntls = \"{habit}\"");
        let outcome = why.map_or(GOOD, |why| broke(Step::Tls, why));
        let ask = Ask::Tls { port: 443, name: Some(NAME.to_owned()) };
        let seen = expect(&entry, &ask, outcome).await.seen.tls.unwrap();
        assert_eq!((seen.version.as_str(), seen.chain.len()), ("TLS 1.3", 1), "{habit}");
        let shown = if habit == "wrong-name" { "elsewhere.corriven.example" } else { NAME };
        assert_eq!(seen.chain[0].names, [shown]);
        // What a user's program would stop at does not stop us.
        let result = expect(&entry, &Ask::Web(web(true, 443)), outcome).await;
        assert_eq!(result.seen.web.unwrap().status, Some(200), "{habit}");
    }
}

#[tokio::test]
async fn a_mismatch_differs_from_a_failure() {
    let plain = "port = 80\nspeaks = \"web\"\n";
    let ask = Ask::Tls { port: 80, name: None };
    expect(plain, &ask, broke(Step::Tls, Why::SpeaksPlain)).await;
    let secured = "port = 443\nspeaks = \"web\"\ntls = \"good\"";
    let ask = Ask::Web(web(false, 443));
    expect(secured, &ask, broke(Step::FirstByte, Why::ExpectsTls)).await;
    let mail = "port = 25\nspeaks = \"mail\"";
    let ask = Ask::Tls { port: 25, name: None };
    expect(mail, &ask, broke(Step::Tls, Why::SpeaksPlain)).await;
    let mails = "port = 465\nspeaks = \"mail\"\ntls = \"good\"";
    let ask = Ask::Mail { port: 465 };
    expect(mails, &ask, broke(Step::Greeting, Why::ExpectsTls)).await;
    let ask = Ask::Greeting { protocol: Greeting::Imap, port: 25 };
    expect(mail, &ask, broke(Step::Greeting, Why::NotThisProtocol)).await;
}

#[tokio::test]
async fn web_servers() {
    let web_at = |does: &str| format!("port = 80\nspeaks = \"web\"\nsize_bytes = 90000\n{does}");
    let ask = Ask::Web(web(false, 80));
    let good = expect(&web_at(""), &ask, GOOD).await;
    assert!(good.took(Step::FirstByte).is_some() && good.took(Step::Transfer).is_some());
    let slow = expect(&web_at("does = \"slow\""), &ask, GOOD).await;
    assert!(slow.took(Step::FirstByte) > good.took(Step::FirstByte));
    for (does, at, why) in [
        ("fail", Step::Content, Why::Status),
        ("reset", Step::FirstByte, Why::Reset),
        ("close", Step::FirstByte, Why::Closed),
        ("silent", Step::FirstByte, Why::NoAnswer),
        ("malformed", Step::FirstByte, Why::NotThisProtocol),
        ("flood", Step::FirstByte, Why::TooMuch),
    ] {
        expect(&web_at(&format!("does = \"{does}\"")), &ask, broke(at, why)).await;
    }
    for (words, outcome) in
        [("sailings", GOOD), ("no such words", broke(Step::Content, Why::Words))]
    {
        let ask = Ask::Web(AskWeb { words: Some(words.to_owned()), ..web(false, 80) });
        expect(&web_at(""), &ask, outcome).await;
    }
    let ask = Ask::Web(AskWeb { status: Some(204), ..web(false, 80) });
    expect(&web_at(""), &ask, broke(Step::Content, Why::Status)).await;
    let head = Ask::Web(AskWeb { content: false, ..web(false, 80) });
    let result = expect(&web_at(""), &head, GOOD).await;
    assert_eq!(result.seen.web.unwrap().size_bytes, 0);
}

#[tokio::test]
async fn a_page_shows_which_part_is_slow() {
    // 20 kB a second: the picture takes three seconds, though its first byte is prompt.
    let entry = "port = 80\nspeaks = \"web\"\nsize_bytes = 60000\nrate_bytes_per_s = 20000";
    let ask = Ask::Web(AskWeb { resources: true, ..web(false, 80) });
    let seen = expect(entry, &ask, GOOD).await.seen.web.unwrap();
    let paths: Vec<&str> = seen.resources.iter().map(|one| one.path.as_str()).collect();
    assert_eq!(paths, ["/look.css", "/large.png"]);
    let picture = &seen.resources[1];
    assert_eq!((picture.size_bytes, picture.why), (60_000, None));
    assert!(picture.took_us.as_micros() > 2_000_000, "{picture:?}");
    assert!(picture.first_byte_us.unwrap().as_micros() < 1_500_000, "{picture:?}");
}

#[tokio::test]
async fn mail_and_greetings() {
    let ask = Ask::Mail { port: 25 };
    let good = expect("port = 25\nspeaks = \"mail\"", &ask, GOOD).await;
    assert!(good.seen.said.unwrap().contains("PIPELINING"));
    for (does, at, why) in [
        ("fail", Step::Greeting, Why::Status),
        ("silent", Step::Greeting, Why::NoAnswer),
        ("close", Step::Greeting, Why::Closed),
        ("reset", Step::Greeting, Why::Reset),
        ("malformed", Step::Greeting, Why::NotThisProtocol),
        ("endless", Step::Greeting, Why::TooMuch),
        ("flood", Step::Greeting, Why::TooMuch),
    ] {
        let entry = format!("port = 25\nspeaks = \"mail\"\ndoes = \"{does}\"");
        expect(&entry, &ask, broke(at, why)).await;
    }
    for (speaks, protocol) in [
        ("pop3", Greeting::Pop3),
        ("imap", Greeting::Imap),
        ("ftp", Greeting::Ftp),
        ("ssh", Greeting::Ssh),
    ] {
        let ask = Ask::Greeting { protocol, port: 99 };
        expect(&format!("port = 99\nspeaks = \"{speaks}\""), &ask, GOOD).await;
        if protocol != Greeting::Ssh {
            let entry = format!("port = 99\nspeaks = \"{speaks}\"\ndoes = \"fail\"");
            expect(&entry, &ask, broke(Step::Greeting, Why::Status)).await;
        }
    }
}

async fn name(entry: &str, name: &str, ipv6: bool, tcp: bool) -> CheckResult {
    let asker = over_stack(&services(&[entry]));
    let question = AskName { tcp, ..AskName::of(name.to_owned(), ipv6) };
    asker.check(&Destination::Address(HALL.into()), &Ask::Name(question)).await
}

#[tokio::test]
async fn resolvers_have_their_own_failures() {
    let resolver = |does: &str| format!("port = 53\nspeaks = \"name\"\n{does}");
    for tcp in [false, true] {
        let good = name(&resolver("authoritative = true"), NAME, false, tcp).await;
        assert_eq!(good.outcome, GOOD, "{good:?}");
        let said = &good.seen.resolved[0];
        assert_eq!((said.addresses.len(), said.ttl_s, said.authoritative), (1, Some(60), true));
        let unknown = name(&resolver(""), "nobody.corriven.example", false, tcp).await;
        assert_eq!(unknown.outcome, broke(Step::Name, Why::NoSuchName));
        let empty = name(&resolver(""), NAME, true, tcp).await;
        assert_eq!(empty.outcome, broke(Step::Name, Why::NoAddress));
    }
    for (does, why) in [
        ("silent", Why::NoAnswer),
        ("close", Why::Refused),
        ("fail", Why::ResolverFailed),
        // What cannot be read is as good as nothing: an answer may still come.
        ("malformed", Why::NoAnswer),
    ] {
        let result = name(&resolver(&format!("does = \"{does}\"")), NAME, false, false).await;
        assert_eq!(result.outcome, broke(Step::Name, why), "{does}");
    }
}

#[tokio::test]
async fn a_name_leads_to_its_address_or_says_why_not() {
    let asker = over_stack(&services(&[
        "port = 53\nspeaks = \"name\"",
        "port = 443\nspeaks = \"web\"\ntls = \"good\"",
    ]));
    let by_name = Destination::Name(NAME.to_owned(), None);
    let result = asker.check(&by_name, &Ask::Web(AskWeb { host: None, ..web(true, 443) })).await;
    assert_eq!(result.outcome, GOOD, "{result:?}");
    assert_eq!(result.spoke_to.unwrap().ip(), std::net::IpAddr::from(HALL));
    let steps: Vec<Step> = result.phases.iter().map(|phase| phase.step).collect();
    assert_eq!(steps, [Step::Name, Step::Connect, Step::Tls, Step::FirstByte, Step::Transfer]);
    let nobody = Destination::Name("nobody.corriven.example".to_owned(), None);
    let result = asker.check(&nobody, &Ask::Connect { port: 443 }).await;
    assert_eq!(result.outcome, broke(Step::Name, Why::NoSuchName));
}
