//! Each engine alone on small simulated internets that lie as real ones do.

use itinera_lab::drive;
use itinera_model::ensemble::{Balancing, RouteEnsemble};
use itinera_model::path::Method;
use itinera_model::path_mtu::{MtuLimit, PathMtu};
use itinera_model::reading::AnswerForm;
use itinera_model::unit::{HopLimit, Micros, Tick};
use itinera_probe::{
    Branches, BranchesConfig, Budget, HopSweep, MtuConfig, MtuSearch, ProbeSpec, Sweep, SweepConfig,
};
use itinera_simnet::{Scenario, Simnet};
use itinera_wire::Addresses;
use std::net::IpAddr;

/// s - a - b - c - d - t, with changes to its parts.
struct World {
    site: &'static str,
    target: &'static str,
    /// What is said of each router.
    routers: [&'static str; 4],
    /// What is said of each link.
    links: [&'static str; 5],
    more: &'static str,
}

impl Default for World {
    fn default() -> Self {
        Self { site: "198.18.0.1", target: "", routers: [""; 4], links: [""; 5], more: "" }
    }
}

impl World {
    fn net(&self, seed: u64) -> Simnet {
        let mut text = format!(
            "name = \"w\"\n[[site]]\nid = \"s\"\nname = \"S\"\naddress = \"{}\"\n\
             address6 = \"2001:db8::1\"\n[[target]]\nid = \"t\"\nname = \"T\"\n\
             address = \"198.18.0.9\"\naddress6 = \"2001:db8::9\"\n{}\n",
            self.site, self.target
        );
        for (id, (said, last)) in ["a", "b", "c", "d"].iter().zip(self.routers.iter().zip(2..)) {
            text += &format!(
                "[[router]]\nid = \"{id}\"\naddress = \"198.18.0.{last}\"\n\
                 address6 = \"2001:db8::{last}\"\n{said}\n"
            );
        }
        for (ends, said) in ["s a", "a b", "b c", "c d", "d t"].iter().zip(self.links) {
            let (from, to) = ends.split_once(' ').unwrap();
            text +=
                &format!("[[link]]\nbetween = [\"{from}\", \"{to}\"]\ndelay_ms = 2.0\n{said}\n");
        }
        text += self.more;
        Simnet::new(&Scenario::parse(&text).unwrap_or_else(|e| panic!("{e}\n{text}")), seed)
    }

    fn addresses(&self, six: bool) -> Addresses {
        let (own, other) =
            if six { ("2001:db8::1", "2001:db8::9") } else { (self.site, "198.18.0.9") };
        Addresses::try_new(own.parse().unwrap(), other.parse().unwrap()).unwrap()
    }

    fn probe(&self, method: Method) -> ProbeSpec {
        ProbeSpec {
            addresses: self.addresses(false),
            method,
            destination_port: 443,
            port_answers: false,
            dscp: 46,
            size_bytes: 64,
            dont_fragment: false,
            secret: 99,
        }
    }

    fn config(&self, method: Method) -> SweepConfig {
        SweepConfig {
            probe: self.probe(method),
            source_ports: vec![40_000],
            interval: Micros::from_millis(1_000),
            probes_per_hop: 3,
            timeout: Micros::from_millis(900),
            first_hop: HopLimit::try_new(1).unwrap(),
            last_hop: HopLimit::try_new(30).unwrap(),
            full_every: 1,
            rounds: None,
            seed: 3,
        }
    }

    fn sweep(&self, change: impl FnOnce(&mut SweepConfig), seconds: u64) -> Vec<Sweep> {
        let mut config = self.config(Method::Udp);
        change(&mut config);
        self.sweep_within(config, &mut Budget::unbounded(), seconds)
    }

    fn sweep_within(&self, config: SweepConfig, budget: &mut Budget, seconds: u64) -> Vec<Sweep> {
        let mut engine = HopSweep::new(config, Tick::ZERO).unwrap().at_once(Tick::ZERO);
        drive(&mut engine, &mut self.net(5), budget, Tick::from_millis(seconds * 1_000));
        std::iter::from_fn(|| engine.poll_event()).collect()
    }

    fn branches(&self, method: Method, seed: u64) -> RouteEnsemble {
        let config = BranchesConfig {
            probe: self.probe(method),
            first_port: 40_000,
            max_flows: 256,
            error_ppm: 10_000,
            timeout: Micros::from_millis(300),
            gap: Micros::from_millis(5),
            last_hop: HopLimit::try_new(30).unwrap(),
            seed,
        };
        let mut engine = Branches::new(config, Tick::ZERO).unwrap();
        let until = Tick::from_millis(600_000);
        drive(&mut engine, &mut self.net(seed), &mut Budget::unbounded(), until);
        engine.poll_event().unwrap()
    }

    fn mtu(&self, six: bool) -> PathMtu {
        let probe = ProbeSpec { addresses: self.addresses(six), ..self.probe(Method::IcmpEcho) };
        let config = MtuConfig {
            probe,
            source_port: 40_000,
            largest_bytes: 1_500,
            timeout: Micros::from_millis(300),
            last_hop: HopLimit::try_new(30).unwrap(),
        };
        let mut engine = MtuSearch::new(config, Tick::ZERO).unwrap();
        let until = Tick::from_millis(600_000);
        drive(&mut engine, &mut self.net(7), &mut Budget::unbounded(), until);
        engine.poll_event().unwrap()
    }
}

/// Probes of a hop in so many rounds of three.
fn asked(rounds: &[Sweep]) -> u32 {
    u32::try_from(rounds.len()).unwrap() * 3
}

fn lost(rounds: &[Sweep], hop: usize) -> u32 {
    let hops = rounds.iter().filter_map(|round| round.hops.get(hop - 1));
    hops.map(|hop| u32::from(hop.sent - hop.answers())).sum()
}

#[test]
fn misleading_answers_of_hops_are_recognised() {
    let world = World {
        routers: [
            "silent = true",
            "rate_limits = [0.4, 0.5]",
            "answer_delay_ms = 20.0\nanswer_jitter_ms = 5.0",
            "hidden = true",
        ],
        ..World::default()
    };
    let rounds = world.sweep(|_| {}, 40);
    let settled = &rounds[1..rounds.len() - 2];
    assert!(settled.iter().all(|round| round.reached_at == Some(4)), "d is not counted");
    assert_eq!(lost(settled, 1), asked(settled), "a never answers");
    assert!(lost(settled, 2) > asked(settled) / 6, "b rate_limits");
    assert_eq!((lost(settled, 3), lost(settled, 4)), (0, 0), "and traffic passes all the same");
    let fastest = |hop: usize| settled.iter().flat_map(|r| &r.hops[hop - 1].rtt).min().unwrap();
    assert!(*fastest(3) > Micros::from_millis(30) && *fastest(4) < Micros::from_millis(21));
    let read = &settled.last().unwrap().reading.hops;
    assert_eq!(read[3].hops_back(), Some(3), "the hidden hop counts in no direction");
    assert_eq!((read[3].form, read[2].quoted_dscp), (Some(AnswerForm::PortUnreachable), Some(46)));
}

#[test]
fn dscp_labels_and_tunnels_are_read() {
    let world = World {
        routers: ["", "marks_dscp = 0", "labels = [24001, 99]\nquotes_hop_limit = 2", ""],
        ..World::default()
    };
    let rounds = world.sweep(|_| {}, 6);
    let read = &rounds[2].reading.hops;
    let marks: Vec<Option<u8>> = read.iter().map(|hop| hop.quoted_dscp).collect();
    assert_eq!(
        marks,
        [Some(46), Some(46), Some(0), Some(0), Some(0)],
        "b rewrites: c is the first to see it"
    );
    assert_eq!(read[2].labels.iter().map(|label| label.label).collect::<Vec<_>>(), [24_001, 99]);
    assert_eq!((read[1].hidden_before(), read[2].hidden_before()), (0, 1));
}

#[test]
fn every_method_gets_through_a_translator_whatever_it_does_to_quotes() {
    for method in [Method::IcmpEcho, Method::Udp, Method::TcpSyn] {
        for quotes in ["", "leaves_quotes = true"] {
            let edge: &'static str =
                Box::leak(format!("translates_to = \"100.64.0.1\"\n{quotes}").into_boxed_str());
            let world = World { site: "10.0.0.1", routers: [edge, "", "", ""], ..World::default() };
            let rounds = world.sweep(|config| config.probe.method = method, 6);
            let round = &rounds[2];
            assert_eq!(round.reached_at, Some(5), "{method} {quotes}");
            assert!(round.hops.iter().all(|hop| hop.answers() == 3), "{method} {quotes} {round:?}");
            let seen = round.reading.hops[2].translated_source;
            let outside = (!quotes.is_empty()).then_some(IpAddr::from([100, 64, 0, 1]));
            assert_eq!(seen, outside, "{method}");
            let renewed = round.reading.hops[2].rewritten;
            assert_eq!(renewed, method == Method::Udp && !quotes.is_empty(), "{method} {quotes}");
        }
    }
}

#[test]
fn a_target_that_drops_echo_but_accepts_tcp_is_reached_by_tcp() {
    let world =
        World { target: "ignores = [\"echo\", \"udp\"]\ntcp_open = [443]", ..World::default() };
    for (method, reached) in
        [(Method::IcmpEcho, None), (Method::Udp, None), (Method::TcpSyn, Some(5))]
    {
        let rounds = world.sweep(|config| config.probe.method = method, 12);
        let round = &rounds[rounds.len() - 2];
        assert_eq!(round.reached_at, reached, "{method}");
        assert_eq!(round.hops[3].answers(), 3);
    }
    let closed = World::default();
    let rounds = closed.sweep(|config| config.probe.method = Method::TcpSyn, 6);
    assert_eq!(rounds[2].reading.hops[4].form, Some(AnswerForm::Reset));
}

#[test]
fn a_port_that_answers_by_itself_is_probed_one_by_one() {
    let world = World { target: "udp_open = [443]", ..World::default() };
    let rounds = world.sweep(|config| config.probe.port_answers = true, 10);
    let round = &rounds[3];
    assert_eq!((round.reached_at, round.hops[4].answers()), (Some(5), 3));
    assert_eq!(round.reading.hops[4].form, Some(AnswerForm::Datagram));
    assert!(rounds.iter().all(|round| round.hops.iter().all(|hop| hop.ambiguous == 0)));
    // Not knowing that it answers, several are in flight and none is guessed.
    let rounds = world.sweep(|config| config.interval = Micros::from_millis(100), 4);
    assert!(rounds.iter().any(|round| round.hops.iter().any(|hop| hop.ambiguous > 0)));
}

#[test]
fn duplicates_and_reordering_are_counted_apart_from_loss() {
    let world =
        World { links: ["", "duplicates = 0.2", "reorders = 0.5", "", ""], ..World::default() };
    let quick = |config: &mut SweepConfig| {
        config.interval = Micros::from_millis(100);
        config.probes_per_hop = 16;
    };
    let rounds = world.sweep(quick, 20);
    let rounds = &rounds[1..rounds.len() - 3];
    let sum = |of: fn(&itinera_model::HopCounts) -> u8| -> u32 {
        rounds.iter().flat_map(|round| &round.hops).map(|hop| u32::from(of(hop))).sum()
    };
    assert!(sum(|hop| hop.duplicate) > 100);
    assert!(sum(|hop| hop.reordered) > 0);
    assert_eq!((1..=5).map(|hop| lost(rounds, hop)).sum::<u32>(), 0);
}

#[test]
fn a_budget_makes_no_loss_where_a_router_answers_once_a_second() {
    let world = World { routers: ["answers_per_s = 1.0"; 4], ..World::default() };
    let share_lost = |budget: &mut Budget| {
        let rounds = world.sweep_within(world.config(Method::IcmpEcho), budget, 120);
        let sent: u32 = rounds.iter().map(|round| u32::from(round.hops[1].sent)).sum();
        f64::from(lost(&rounds, 2)) / f64::from(sent)
    };
    let hasty = share_lost(&mut Budget::unbounded());
    assert!(hasty > 0.5, "asked three times a second it looks lossy: {hasty}");
    assert!(share_lost(&mut Budget::default()) < 0.01);
}

/// Two routes of two hops each between a and d, by b and c and by e and f.
const DIAMOND: &str = "[[router]]\nid = \"e\"\naddress = \"198.18.0.12\"\n\
    [[router]]\nid = \"f\"\naddress = \"198.18.0.13\"\n\
    [[link]]\nbetween = [\"a\", \"e\"]\ndelay_ms = 2.0\n\
    [[link]]\nbetween = [\"e\", \"f\"]\ndelay_ms = 2.0\nMEMBER\n\
    [[link]]\nbetween = [\"f\", \"d\"]\ndelay_ms = 2.0\n";

fn diamond(balances: &'static str, member: &str) -> World {
    let more: &'static str = Box::leak(DIAMOND.replace("MEMBER", member).into_boxed_str());
    World { routers: [balances, "", "", ""], more, ..World::default() }
}

#[test]
fn member_routes_are_enumerated_and_balancers_told_apart() {
    for (balances, kind) in [
        ("balances = \"flow\"", Balancing::PerFlow),
        ("balances = \"packet\"", Balancing::PerPacket),
    ] {
        for method in [Method::Udp, Method::TcpSyn] {
            let found = diamond(balances, "").branches(method, 4);
            assert_eq!(found.balancers.len(), 1, "{found:?}");
            let first = &found.balancers[0];
            assert_eq!((first.hop, first.balancing), (2, kind), "{method}");
            assert_eq!(first.address, Some([198, 18, 0, 2].into()));
            assert_eq!(first.next, [IpAddr::from([198, 18, 0, 3]), [198, 18, 0, 12].into()]);
            assert!(found.is_complete);
            if kind == Balancing::PerFlow {
                assert_eq!(found.members.len(), 2, "{found:?}");
                for member in &found.members {
                    assert_eq!(member.route.hops.len(), 5, "{member:?}");
                    assert!(member.route.hops.iter().all(Option::is_some));
                }
                assert_eq!(found.one_flow_each(16).len(), 2);
            }
        }
    }
    let plain = World::default().branches(Method::Udp, 4);
    assert_eq!((plain.balancers.len(), plain.members.len()), (0, 1));
    // Eight probes for each of five hops, and nothing more.
    assert_eq!(plain.probes, 40);
}

#[test]
fn a_route_is_missed_as_rarely_as_stated() {
    let world = diamond("balances = \"flow\"", "");
    let missed =
        (0..400).filter(|seed| world.branches(Method::Udp, *seed).members.len() < 2).count();
    // One in a hundred at most; twelve of 400 would be improbable.
    assert!(missed < 12, "{missed} of 400");
}

#[test]
fn rounds_that_rotate_over_members_show_the_bad_one() {
    let world = diamond("balances = \"flow\"", "loss = 0.5");
    let found = world.branches(Method::Udp, 4);
    let flows = found.one_flow_each(16);
    assert_eq!(flows.len(), 2);
    let rounds = world.sweep(|config| config.source_ports = flows.clone(), 60);
    let rounds = &rounds[2..rounds.len() - 2];
    let by_flow: Vec<(u32, u32)> = flows
        .iter()
        .map(|port| {
            let of_flow: Vec<Sweep> =
                rounds.iter().filter(|r| r.flow.source_port == *port).cloned().collect();
            (lost(&of_flow, 5), asked(&of_flow))
        })
        .collect();
    let (mut shares, bad): (Vec<f64>, usize) = (
        by_flow.iter().map(|(lost, sent)| f64::from(*lost) / f64::from(*sent)).collect(),
        by_flow.iter().filter(|(lost, _)| *lost > 0).count(),
    );
    shares.sort_by(f64::total_cmp);
    assert_eq!(bad, 1, "{by_flow:?}");
    assert!(shares[1] > 0.3, "{shares:?}");
}

#[test]
fn the_largest_packet_is_found_with_and_without_the_routers_word() {
    for six in [false, true] {
        let full = World::default().mtu(six);
        assert_eq!((full.mtu_bytes, full.limit), (Some(1_500), MtuLimit::NotReached));
        let by: IpAddr = if six { "2001:db8::4".parse().unwrap() } else { [198, 18, 0, 4].into() };
        for mtu in [1_492u16, 1_437] {
            let link: &'static str = Box::leak(format!("mtu = {mtu}").into_boxed_str());
            let world = World { links: ["", "", "", link, ""], ..World::default() };
            let said = world.mtu(six);
            assert_eq!(said.mtu_bytes, Some(mtu));
            let stated_bytes = u32::from(mtu);
            assert_eq!(said.limit, MtuLimit::Reported { by, stated_bytes });
            assert!(said.probes <= 8, "{said:?}");
            let hiding = World { routers: ["", "", "hides_too_big = true", ""], ..world }.mtu(six);
            assert_eq!(hiding.mtu_bytes, Some(mtu), "{hiding:?}");
            let after = Some(by.to_string());
            assert_eq!(hiding.limit, MtuLimit::Silent { after_hop: 3, after });
        }
    }
    let lossy = World { links: ["loss = 0.4", "", "mtu = 1400", "", ""], ..World::default() };
    assert_eq!(lossy.mtu(false).mtu_bytes, Some(1_400), "loss is not taken for size");
    let nobody = World { target: "ignores = [\"echo\"]", ..World::default() }.mtu(false);
    assert_eq!((nobody.mtu_bytes, nobody.limit), (None, MtuLimit::NotReached));
}

#[test]
fn large_probes_feel_a_queue_that_small_ones_do_not() {
    let world = World {
        links: ["", "", "queue = { mbit_per_s = 2.0, longest_ms = 40.0, load = 0.3 }", "", ""],
        ..World::default()
    };
    let median = |size: u16| {
        let rounds = world.sweep(|config| config.probe.size_bytes = size, 60);
        let mut delays: Vec<u32> =
            rounds.iter().flat_map(|round| &round.hops[4].rtt).map(|rtt| rtt.as_micros()).collect();
        delays.sort_unstable();
        delays[delays.len() / 2]
    };
    let (small, large) = (median(64), median(1_200));
    // 1136 bytes more at 2 Mbit/s take 4.5 ms longer.
    assert!(large > small + 4_000, "{small} {large}");
}
