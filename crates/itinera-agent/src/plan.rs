//! What of a schedule is to be done at a moment.

use crate::limits::LocalLimits;
use crate::names::Names;
use crate::pair_routes;
use itinera_model::batch::RefusedTask;
use itinera_model::check::CheckTask;
use itinera_model::path::Family;
use itinera_model::protocol::{Pacing, Schedule, Task};
use itinera_model::two_way::Ticket;
use itinera_model::unit::WallTime;

const SECONDS_A_DAY: u64 = 86_400;
/// Routes between agents change seldom.
const PAIR_ROUTE_EVERY_S: u32 = 300;

/// What is to be done now.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Plan {
    pub(crate) tasks: Vec<Task>,
    pub(crate) tickets: Vec<Ticket>,
    pub(crate) pacing: Pacing,
    pub(crate) enumerate_every_s: u32,
    /// From one sweep of a pair's route to the next, in seconds.
    pub(crate) pair_route_every_s: u32,
}

/// A schedule as it is to be followed now, with tickets that have been verified: suppressed tasks taken out, denser ones made denser,
/// names turned into addresses, and all of it within what the site allows. Gives with it the tasks
/// that cannot be done, and why.
///
/// Limits: names that have not been resolved yet are left out without a word until they have.
pub(crate) fn at(
    schedule: &Schedule,
    tickets: &[Ticket],
    now: WallTime,
    names: &Names,
    limits: &LocalLimits,
) -> (Plan, Vec<RefusedTask>) {
    let mut plan = Plan {
        tasks: schedule.tasks.clone(),
        tickets: tickets
            .iter()
            .filter(|ticket| now < ticket.not_after)
            .map(|ticket| ticket.at(now))
            .collect(),
        pacing: schedule.pacing.clone(),
        enumerate_every_s: schedule.enumerate_every_s,
        pair_route_every_s: PAIR_ROUTE_EVERY_S,
    };
    let mut unresolved = Vec::new();
    let rests = |task: Option<&Task>| {
        schedule.suppressions.iter().any(|rest| {
            let meant = rest.paths.is_empty() || task.is_some_and(|t| rest.paths.contains(&t.path));
            meant && (rest.from..rest.until).contains(&now)
        })
    };
    plan.tasks.retain_mut(|task| {
        if rests(Some(task)) {
            return false;
        }
        if let Some(denser) = task.denser.take().filter(|denser| now < denser.until) {
            task.interval_ms = task.interval_ms.min(denser.interval_ms);
        }
        let Some(name) = &task.name else {
            return true;
        };
        match names.known(name, Family::of(task.address)) {
            Some(Ok(address)) => {
                task.address = address;
                true
            }
            Some(Err(reason)) => {
                unresolved.push(RefusedTask::of_path(task.path, reason));
                false
            }
            None => false,
        }
    });
    if rests(None) {
        plan.tickets.clear();
    }
    let (plan, mut refused) = limited(limits, plan);
    refused.append(&mut unresolved);
    (plan, refused)
}

/// What of a plan may be done, within what it may cost: refused tasks are taken out, and
/// given with the reason; budgets become the smaller ones; where the bytes a day would not
/// suffice, rounds are made as much rarer as needed.
fn limited(limits: &LocalLimits, mut plan: Plan) -> (Plan, Vec<RefusedTask>) {
    let mut refused = Vec::new();
    plan.tasks.retain(|task| match limits.refusal(task) {
        Some(reason) => {
            refused.push(RefusedTask::of_path(task.path, reason));
            false
        }
        None => true,
    });
    plan.tickets.retain(|ticket| match limits.refusal_of_pair(ticket) {
        Some(reason) => {
            refused.push(RefusedTask::of_pair(ticket.pair, reason));
            false
        }
        None => true,
    });
    if let Some(most) = limits.probes_per_s {
        let agent_per_s = plan.pacing.agent_per_s.min(most);
        plan.pacing = Pacing { agent_per_s, ..plan.pacing };
    }
    if let Some(most) = limits.bytes_per_day {
        let tasks = plan.tasks.iter().map(bytes_per_day);
        let pairs = plan.tickets.iter().map(pair_bytes_per_day);
        let routes = plan.tickets.len() as u64 * route_bytes_per_day(plan.pair_route_every_s);
        let wanted = tasks.chain(pairs).sum::<u64>() + routes;
        if wanted > most {
            let every = u64::from(plan.pair_route_every_s).saturating_mul(wanted);
            let every = every.div_ceil(most.max(1));
            plan.pair_route_every_s = u32::try_from(every).unwrap_or(u32::MAX);
            for ticket in &mut plan.tickets {
                let interval = u64::from(ticket.interval_ms).saturating_mul(wanted);
                let interval = interval.div_ceil(most.max(1));
                ticket.interval_ms = u32::try_from(interval).unwrap_or(u32::MAX);
            }
            for task in &mut plan.tasks {
                let interval = u64::from(task.interval_ms).saturating_mul(wanted);
                let interval = interval.div_ceil(most.max(1));
                task.interval_ms = u32::try_from(interval).unwrap_or(u32::MAX);
            }
        }
    }
    (plan, refused)
}

/// Bytes that a task sends a day at most: as if every round were whole, and the route as long as
/// it may be.
fn bytes_per_day(task: &Task) -> u64 {
    let hops = u64::from(task.last_hop.min(TYPICAL_LONG));
    let round = hops * u64::from(task.probes_per_hop) * u64::from(task.size_bytes);
    round.saturating_mul(SECONDS_A_DAY * 1_000) / u64::from(task.interval_ms.max(1))
}

/// Bytes that a pair sends a day from one end: as many back as there.
fn pair_bytes_per_day(ticket: &Ticket) -> u64 {
    u64::from(ticket.size_bytes) * SECONDS_A_DAY * 1_000 / u64::from(ticket.interval_ms.max(1))
}

/// Bytes that the sweeps of a pair's route send a day at most.
fn route_bytes_per_day(every_s: u32) -> u64 {
    pair_routes::BYTES_A_SWEEP * SECONDS_A_DAY / u64::from(every_s.max(1))
}

/// Routes are seldom longer: hops behind the target are not probed.
const TYPICAL_LONG: u8 = 20;

/// The checks that are to be asked now, and those that may not be, with the reason. One with paths that
/// all rest rests with them.
pub(crate) fn checks_at(
    schedule: &Schedule,
    now: WallTime,
    limits: &LocalLimits,
) -> (Vec<CheckTask>, Vec<RefusedTask>) {
    let mut refused = Vec::new();
    let mut checks = schedule.checks.clone();
    checks.retain(|task| {
        let rests = schedule.suppressions.iter().any(|rest| {
            let all = rest.paths.is_empty()
                || (!task.paths.is_empty() && task.paths.iter().all(|it| rest.paths.contains(it)));
            all && (rest.from..rest.until).contains(&now)
        });
        let reason = limits.refusal_of_check(task);
        if let (Some(reason), false) = (reason.clone(), rests) {
            refused.push(RefusedTask::of_check(task.check, reason));
        }
        !rests && reason.is_none()
    });
    (checks, refused)
}

#[cfg(test)]
mod tests {
    use super::*;
    use itinera_model::id::PathId;
    use itinera_model::path::Method;
    use itinera_model::protocol::{Denser, Suppression};
    use std::net::IpAddr;
    use uuid::Uuid;

    fn second(second: i64) -> WallTime {
        WallTime::from_unix_seconds(second)
    }

    fn task(number: u128, name: Option<&str>) -> Task {
        Task {
            path: PathId::from_uuid(Uuid::from_u128(number)),
            address: [0, 0, 0, 0].into(),
            name: name.map(str::to_owned),
            method: Method::IcmpEcho,
            port: None,
            dscp: 0,
            size_bytes: 64,
            interval_ms: 10_000,
            probes_per_hop: 3,
            timeout_ms: 1_000,
            last_hop: 30,
            full_every: 1,
            denser: None,
        }
    }

    fn paths(plan: &Plan) -> Vec<u128> {
        plan.tasks.iter().map(|task| task.path.as_uuid().as_u128()).collect()
    }

    #[test]
    fn a_watch_is_denser_until_it_ends_and_suppressed_tasks_rest() {
        let denser = Some(Denser { interval_ms: 1_000, until: second(100) });
        let rest =
            Suppression { paths: vec![task(2, None).path], from: second(50), until: second(60) };
        let all = Suppression { paths: Vec::new(), from: second(200), until: second(210) };
        let schedule = Schedule {
            tasks: vec![Task { denser, ..task(1, None) }, task(2, None)],
            suppressions: vec![rest, all],
            ..Schedule::default()
        };
        let tickets = [crate::ticket::tests::ticket()];
        let at = |now| {
            at(&schedule, &tickets, second(now), &Names::default(), &LocalLimits::default()).0
        };
        assert_eq!((paths(&at(49)), at(49).tasks[0].interval_ms), (vec![1, 2], 1_000));
        assert_eq!(paths(&at(50)), [1]);
        assert_eq!(paths(&at(60)), [1, 2]);
        assert_eq!(at(100).tasks[0].interval_ms, 10_000);
        assert_eq!((paths(&at(205)), at(205).tickets.len()), (vec![], 0), "pairs rest as well");
        assert_eq!((at(199).tickets.len(), at(4_000_000_000).tickets.len()), (1, 0), "expired");
        assert_eq!(at(101), at(199), "nothing in it that time alone would change");
    }

    #[test]
    fn a_name_keeps_its_address_and_a_failure_is_reported() {
        let schedule = Schedule {
            tasks: vec![task(1, Some("a.example")), task(2, Some("b.example"))],
            ..Schedule::default()
        };
        let mut names = Names::default();
        let limits = LocalLimits::default();
        assert_eq!(paths(&at(&schedule, &[], second(1), &names, &limits).0), [], "not asked yet");
        let address: IpAddr = [198, 18, 1, 1].into();
        names.on_answer("a.example", Ok(vec![address]));
        names.on_answer("b.example", Err("no such name".to_owned()));
        let (plan, refused) = at(&schedule, &[], second(1), &names, &limits);
        assert_eq!((paths(&plan), plan.tasks[0].address), (vec![1], address));
        assert_eq!(refused.len(), 1);
        assert!(refused[0].reason.contains("b.example") && refused[0].reason.contains("no such"));
    }

    fn limits(text: &str) -> LocalLimits {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        LocalLimits::read(file.path()).unwrap()
    }

    fn planned() -> Plan {
        let to = |number, address: [u8; 4], method| Task {
            address: address.into(),
            method,
            ..task(number, None)
        };
        let ticket = crate::ticket::tests::ticket();
        Plan {
            tickets: vec![ticket],
            tasks: vec![
                to(1, [198, 18, 128, 10], Method::IcmpEcho),
                to(2, [192, 0, 2, 1], Method::IcmpEcho),
                to(3, [198, 18, 128, 10], Method::Udp),
            ],
            pacing: Pacing::default(),
            enumerate_every_s: 0,
            pair_route_every_s: PAIR_ROUTE_EVERY_S,
        }
    }

    #[test]
    fn the_service_cannot_widen_what_the_site_allows() {
        let limits =
            limits("targets = [\"198.18.0.0/15\"]\nmethods = [\"icmp-echo\"]\nprobes_per_s = 5\n");
        let (allowed, refused) = limited(&limits, planned());
        assert_eq!((allowed.tickets.len(), allowed.tasks.len()), (1, 1));
        assert_eq!(allowed.pacing.agent_per_s, 5);
        let reasons: Vec<&str> = refused.iter().map(|refused| refused.reason.as_str()).collect();
        assert_eq!(
            reasons,
            ["the site does not allow probing 192.0.2.1", "the site does not allow udp"]
        );
        let (same, none) = limited(&LocalLimits::default(), planned());
        assert_eq!((same, none.len()), (planned(), 0));
    }

    #[test]
    fn a_site_may_do_without_two_way_measurement() {
        for text in ["two_way = false", "targets = [\"198.18.0.0/24\"]"] {
            let (allowed, refused) = limited(&limits(text), planned());
            assert!(allowed.tickets.is_empty(), "{text}");
            assert!(refused.iter().any(|refused| refused.pair.is_some()), "{text}");
        }
        let ticket = &planned().tickets[0];
        let before = pair_bytes_per_day(ticket);
        let (after, _) = limited(&limits("bytes_per_day = 20_000_000"), planned());
        assert!(pair_bytes_per_day(&after.tickets[0]) < before / 10);
        assert!(after.pair_route_every_s > 10 * planned().pair_route_every_s);
    }

    #[test]
    fn too_many_octets_make_rounds_rarer() {
        let before: u64 = planned().tasks.iter().map(bytes_per_day).sum();
        let wanted = Plan { tickets: Vec::new(), ..planned() };
        let (after, _) = limited(&limits("bytes_per_day = 20_000_000"), wanted);
        let sent: u64 = after.tasks.iter().map(bytes_per_day).sum();
        assert!(before > 90_000_000 && sent <= 20_000_000 && sent > 19_000_000, "{before} {sent}");
        assert_eq!(after.tasks.len(), 3);
    }
}
