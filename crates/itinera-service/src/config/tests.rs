//! Good files, and what is said of bad ones.

use super::*;

const GOOD: &str = "listen = \"127.0.0.1:7480\"\n\
    [[site]]\nname = \"Eskerry\"\n\
    [[target]]\nname = \"Seat Booking\"\naddresses = [\"198.18.128.10\"]\n\
    [schedule]\ninterval_ms = 2000\n\
    [limits]\nloss_ratio = 0.03\n";

#[test]
fn a_good_file_and_an_empty_one_are_read() {
    let config = Config::parse(GOOD).unwrap();
    assert_eq!(config.plan.schedule.interval_ms, 2_000);
    assert_eq!(config.limits.loss_ppm, 30_000);
    assert_eq!(Config::parse("").unwrap().plan.sites, Vec::new());
    let host = "host = \"booking.example\"\nfamilies = [\"ipv6\"]";
    let named = GOOD.replacen("addresses = [\"198.18.128.10\"]", host, 1);
    let target = Config::parse(&named).unwrap().plan.targets.remove(0);
    assert_eq!(target.host.as_deref(), Some("booking.example"));
    assert_eq!(target.addresses, [IpAddr::from(Ipv6Addr::UNSPECIFIED)]);
}

#[test]
fn each_mistake_names_its_line_and_key() {
    for (from, to, line, words) in [
        ("127.0.0.1:7480", "0.0.0.0:7480", 1, "listen: 0.0.0.0:7480 is not a loopback"),
        ("127.0.0.1:7480", "here", 1, "listen"),
        ("\"Eskerry\"", "\"\"", 3, "name"),
        ("198.18.128.10", "198.18.128.999", 6, "address"),
        ("198.18.128.10\"", "198.18.128.10\", \"198.18.128.11\"", 6, "one of each version"),
        ("interval_ms = 2000", "interval_ms = 20", 8, "interval_ms is 20, which is outside"),
        ("interval_ms = 2000", "intervall_ms = 2000", 8, "intervall_ms"),
        ("addresses = [\"198.18.128.10\"]", "host = \"a b\"", 6, "host: a host name"),
        ("addresses = [\"198.18.128.10\"]", "", 5, "a target needs addresses, or a host"),
        ("addresses", "host = \"a.example\"\naddresses", 6, "either a name or addresses"),
        ("interval_ms = 2000", "two_way_size_bytes = 100", 8, "two_way_size_bytes is 100"),
        ("interval_ms = 2000", "host_facts_every_s = 1e6", 8, "host_facts_every_s"),
        ("loss_ratio = 0.03", "loss_ratio = 3", 10, "loss_ratio"),
        ("loss_ratio = 0.03", "seal_after_s = 1", 10, "seal_after_s is 1, which is outside"),
        (
            "[limits]",
            "[disk]\nfull_mb = 4096\n[limits]",
            10,
            "full_mb: 4096 is above low_mb, which is 2048",
        ),
        ("[limits]", "[disk]\ndatabase_mb = 0\n[limits]", 10, "database_mb is 0, which is outside"),
        (
            "[limits]",
            "[retention]\nrounds_days = 0\n[limits]",
            10,
            "rounds_days is 0, which is outside",
        ),
        (
            "[limits]",
            "[retention]\nrounds_days = 100\n[limits]",
            10,
            "findings_days: 90 is below rounds_days, which is 100",
        ),
        (
            "[limits]",
            "[retention]\nfindings_days = 7\n[limits]",
            10,
            "findings_days: 7 is below rounds_days, which is 14",
        ),
        (
            "[limits]",
            "[connections]\njudgement = 1\n[limits]",
            10,
            "judgement: 1 is outside 2 to 200",
        ),
    ] {
        let error = Config::parse(&GOOD.replacen(from, to, 1)).unwrap_err();
        assert_eq!(error.line, line, "{to}: {error}");
        assert!(error.reason.contains(words), "{to}: {error}");
    }
}

#[test]
fn checks_are_read_and_their_mistakes_named() {
    let with = |lines: &str| GOOD.replacen("[schedule]", &format!("{lines}\n[schedule]"), 1);
    let check = "[[target.check]]\nkind = \"page\"\nhost = \"booking.example\"\nevery_s = 30\n\
         [[target.check]]\nkind = \"name\"\nhost = \"booking.example\"\n\
         beside = [\"198.18.128.53\"]\n[target.intended]\nowners = [64500]\n";
    let target = Config::parse(&with(check)).unwrap().plan.targets.remove(0);
    let kinds: Vec<String> =
        target.checks.iter().map(|check| check.ask.kind().to_string()).collect();
    assert_eq!(
        (kinds, target.checks[0].interval_ms),
        (vec!["page".to_owned(), "name".to_owned()], 30_000)
    );
    assert_eq!(target.checks[0].ask.port(), Some(443));
    assert_eq!(target.intended.unwrap().owners, [64500]);
    for (from, to, line, words) in [
        ("\"page\"", "\"pages\"", 8, "kind"),
        ("\"page\"", "\"connect\"", 8, "connect needs a port"),
        ("every_s = 30", "every_s = 1", 10, "every_s is 1, which is outside"),
        ("every_s = 30", "path = \"x\"", 10, "path: it begins with a slash"),
        ("host = \"booking.example\"\nbeside", "beside", 12, "needs host"),
        ("host = \"booking.example\"\nevery", "host = \"a b\"\nevery", 9, "host: a host name"),
        ("owners = [64500]", "owners = []", 16, "say owners, tunnel or dscp_kept"),
    ] {
        let error = Config::parse(&with(&check.replacen(from, to, 1))).unwrap_err();
        assert_eq!(error.line, line, "{to}: {error}");
        assert!(error.reason.contains(words), "{to}: {error}");
    }
}

#[test]
fn rules_for_throughput_are_read_and_their_mistakes_named() {
    let with = |lines: &str| format!("{GOOD}[[site]]\nname = \"Dunverra\"\n{lines}");
    let rule = "[[throughput]]\nfrom = \"Eskerry\"\nto = \"Dunverra\"\nby = \"udp\"\n\
         least_mbit_s = 4\n";
    let read = Config::parse(&with(rule)).unwrap().throughput.remove(0);
    assert_eq!((read.from.as_str(), read.to.as_str()), ("Eskerry", "Dunverra"));
    assert_eq!((read.every_s, read.spec.least_bit_s), (21_600, Some(4_000_000)));
    for (from, to, line, words) in [
        ("to = \"Dunverra\"", "to = \"Dunvera\"", 15, "to: no site is called"),
        ("to = \"Dunverra\"", "to = \"Eskerry\"", 15, "to: another site than from"),
        ("\"udp\"", "\"sctp\"", 16, "by"),
        ("least_mbit_s = 4", "every_s = 60", 17, "every_s is 60, which is outside"),
        ("least_mbit_s = 4", "most_bytes = 1", 17, "most_bytes is 1, which is outside"),
    ] {
        let error = Config::parse(&with(&rule.replacen(from, to, 1))).unwrap_err();
        assert_eq!(error.line, line, "{to}: {error}");
        assert!(error.reason.contains(words), "{to}: {error}");
    }
}

#[test]
fn elsewhere_needs_a_proxy_that_ends_tls() {
    let open = GOOD.replacen(
        "127.0.0.1:7480\"",
        "0.0.0.0:7480\"\npublic_url = \"https://itinera.example/\"",
        1,
    );
    let config = Config::parse(&open).unwrap();
    assert_eq!(config.public_url.unwrap().host, "itinera.example");
    let error = Config::parse(&open.replace("https:", "http:")).unwrap_err();
    assert_eq!((error.line, error.reason.contains("public_url")), (2, true), "{error}");
}

#[test]
fn two_of_a_name_are_refused() {
    let twice = format!("{GOOD}[[site]]\nname = \"Eskerry\"\n");
    let error = Config::parse(&twice).unwrap_err();
    assert_eq!((error.line, error.reason.contains("Eskerry")), (12, true), "{error}");
}
