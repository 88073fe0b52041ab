//! Every name and number of a scenario checked, before anything is drawn from it.

use super::{
    Burst, CLOCK, Daily, FaultEntry, HostEntry, LinkEntry, NoiseEntry, Queue, RouterEntry,
    Scenario, ScenarioError, ServiceEntry, Spells, at,
};
use std::collections::BTreeSet;
use std::net::Ipv4Addr;
use toml::Spanned;

pub(super) struct Checker<'a> {
    pub(super) text: &'a str,
    pub(super) scenario: &'a Scenario,
}

impl Checker<'_> {
    fn fail<T>(&self, value: &Spanned<T>, reason: String) -> ScenarioError {
        at(self.text, value.span().start, reason)
    }

    pub(super) fn check(&self) -> Result<(), ScenarioError> {
        let s = self.scenario;
        let hosts = s.sites.iter().chain(&s.targets);
        let ids = hosts.clone().map(|h| &h.id).chain(s.routers.iter().map(|r| &r.id));
        self.unique(ids)?;
        let routers = s.routers.iter();
        let four = hosts.clone().filter_map(|h| h.address.as_ref());
        let four = four.chain(routers.clone().filter_map(|r| r.address.as_ref()));
        self.unique(four.clone())?;
        self.interfaces(four.map(|address| *address.as_ref()).collect())?;
        let six = hosts.clone().filter_map(|h| h.address6.as_ref());
        self.unique(six.chain(routers.clone().filter_map(|r| r.address6.as_ref())))?;
        let nodes = hosts.map(|h| (&h.id, h.address.is_some() || h.address6.is_some()));
        let nodes =
            nodes.chain(routers.map(|r| (&r.id, r.address.is_some() || r.address6.is_some())));
        if let Some((id, _)) = nodes.into_iter().find(|(_, addressed)| !addressed) {
            let reason = format!("{:?} needs an address, an address6, or both", id.as_ref());
            return Err(self.fail(id, reason));
        }
        for (host, bound) in s.sites.iter().flat_map(|site| site.clock().into_iter().zip(CLOCK)) {
            if let Some(value) = host
                && !(-bound..=bound).contains(value.as_ref())
            {
                let reason = format!("a clock is off by at most {bound} in either direction");
                return Err(self.fail(value, reason));
            }
        }
        if let Some(value) = s.targets.iter().flat_map(HostEntry::clock).flatten().next() {
            return Err(self.fail(value, "only sites have clocks".to_owned()));
        }
        if let Some(noise) = s.targets.iter().find_map(|target| target.noise.as_ref()) {
            return Err(self.fail(noise, "only sites measure, and so have noise".to_owned()));
        }
        s.sites.iter().filter_map(|site| site.noise.as_ref()).try_for_each(|n| self.noise(n))?;
        self.unique(s.owners.iter().map(|o| &o.id))?;
        for owner in s.owners.iter().flat_map(|owner| owner.upstreams.iter().chain(&owner.peers)) {
            self.known_owner(owner)?;
        }
        s.routers.iter().try_for_each(|router| self.router(router))?;
        for link in &s.links {
            link.between.iter().try_for_each(|end| self.known_node(end))?;
            self.at_least_zero(Some(&link.delay_ms))?;
            self.at_least_zero(link.jitter_ms.as_ref())?;
            self.link(link)?;
        }
        s.faults.iter().try_for_each(|fault| self.fault(fault))?;
        for reroute in &s.reroutes {
            reroute.between.iter().try_for_each(|end| self.known_node(end))?;
            self.linked(&reroute.between[0], &reroute.between[1])?;
            self.at_least_zero(Some(&reroute.at_s))?;
            self.metric(Some(&reroute.metric))?;
        }
        s.services.iter().try_for_each(|service| self.service(service))?;
        if let Some(host_facts) = s.targets.iter().find_map(|target| target.host_facts.as_ref()) {
            return Err(self.fail(host_facts, "only sites have agents with host facts".to_owned()));
        }
        for draw in &s.draws {
            if draw.options.is_empty() {
                return Err(self.fail(&draw.name, "a draw needs at least one option".to_owned()));
            }
            for option in &draw.options {
                for router in option.silent.iter().chain(&option.rate_limits) {
                    if !s.routers.iter().any(|r| r.id.as_ref() == router.as_ref()) {
                        let id = router.as_ref();
                        return Err(self.fail(router, format!("no router has the id {id:?}")));
                    }
                }
                self.share_range(option.rate_limiting_share.as_ref())?;
                option.faults.iter().try_for_each(|fault| self.fault(fault))?;
            }
        }
        Ok(())
    }

    fn service(&self, service: &ServiceEntry) -> Result<(), ScenarioError> {
        if !self.scenario.targets.iter().any(|target| target.id.as_ref() == service.at.as_ref()) {
            let reason = format!("no target has the id {:?}", service.at.as_ref());
            return Err(self.fail(&service.at, reason));
        }
        let spot = |one: &ServiceEntry| (one.at.as_ref().clone(), *one.port.as_ref());
        let same = self.scenario.services.iter().filter(|other| spot(other) == spot(service));
        if same.count() > 1 || *service.port.as_ref() == 0 {
            let reason = "each service needs a port of its own, over 0".to_owned();
            return Err(self.fail(&service.port, reason));
        }
        Ok(())
    }

    fn router(&self, router: &RouterEntry) -> Result<(), ScenarioError> {
        router.owner.iter().try_for_each(|owner| self.known_owner(owner))?;
        self.shares(router.habit_share.iter().map(|share| (share, *share.as_ref())))?;
        self.shares(router.slow.iter().map(|slow| (slow, slow.as_ref().share)))?;
        if let Some(slow) = router.slow.as_ref().filter(|s| !is_time(s.as_ref().mean_ms)) {
            return Err(self.fail(slow, "a time is finite and not negative".to_owned()));
        }
        self.share_range(router.rate_limits.as_ref())?;
        self.at_least_zero(router.answer_delay_ms.as_ref())?;
        self.at_least_zero(router.answer_jitter_ms.as_ref())?;
        if let Some(rate) = &router.answers_per_s
            && !(*rate.as_ref() > 0.0 && rate.as_ref().is_finite())
        {
            return Err(self.fail(rate, "a rate is finite and over zero".to_owned()));
        }
        if let Some(dscp) = router.marks_dscp.as_ref().filter(|dscp| *dscp.as_ref() > 63) {
            return Err(self.fail(dscp, "a DSCP is between 0 and 63".to_owned()));
        }
        Ok(())
    }

    fn link(&self, link: &LinkEntry) -> Result<(), ScenarioError> {
        let share = |value: f64| (0.0..=1.0).contains(&value);
        for value in [&link.loss, &link.duplicates, &link.reorders].into_iter().flatten() {
            if !share(*value.as_ref()) {
                return Err(self.fail(value, "a share is between 0 and 1".to_owned()));
            }
        }
        self.metric(link.metric.as_ref())?;
        if let Some(daily) = &link.daily {
            let Daily { peak_ms, loss, peak_hour } = *daily.as_ref();
            if !(is_time(peak_ms) && share(loss) && (0.0..=24.0).contains(&peak_hour)) {
                let reason = "a daily load has peak_ms, a loss of 0 to 1, a peak_hour of 0 to 24";
                return Err(self.fail(daily, reason.to_owned()));
            }
        }
        if let Some(spells) = &link.spells {
            let Spells { share, loss } = *spells.as_ref();
            self.shares([share, loss].map(|value| (spells, value)))?;
        }
        let members = link.members.as_ref().map_or(1, |members| *members.as_ref());
        if let Some(entry) = link.members.as_ref().filter(|_| !(2..=16).contains(&members)) {
            return Err(self.fail(entry, "a bundle has 2 to 16 members".to_owned()));
        }
        if let Some(interfaces) = &link.interfaces {
            let fits = |end: &Vec<_>| end.len() == 1 || end.len() == usize::from(members);
            if !interfaces.as_ref().iter().all(fits) {
                let reason = "each end has one address, or one for each member";
                return Err(self.fail(interfaces, reason.to_owned()));
            }
        }
        if let Some(burst) = &link.burst {
            let Burst { enter, leave, loss } = *burst.as_ref();
            if ![enter, leave, loss].into_iter().all(share) {
                return Err(self.fail(burst, "shares are between 0 and 1".to_owned()));
            }
        }
        if let Some(mtu) = link.mtu.as_ref().filter(|mtu| *mtu.as_ref() < 68) {
            return Err(self.fail(mtu, "an MTU is 68 bytes or more (RFC 791)".to_owned()));
        }
        if let Some(queue) = &link.queue {
            let Queue { mbit_per_s, longest_ms, load } = *queue.as_ref();
            let fits = mbit_per_s.is_finite()
                && mbit_per_s > 0.0
                && longest_ms.is_finite()
                && longest_ms >= 0.0
                && (0.0..1.0).contains(&load);
            if !fits {
                let reason = "a queue has a rate over zero, a longest wait, and a load under 1";
                return Err(self.fail(queue, reason.to_owned()));
            }
        }
        Ok(())
    }

    /// No interface has the address of a node or of another interface.
    fn interfaces(&self, mut taken: BTreeSet<Ipv4Addr>) -> Result<(), ScenarioError> {
        for entry in self.scenario.links.iter().filter_map(|link| link.interfaces.as_ref()) {
            if let Some(twice) = entry.as_ref().iter().flatten().find(|own| !taken.insert(**own)) {
                return Err(self.fail(entry, format!("{twice:?} is used twice")));
            }
        }
        Ok(())
    }

    fn unique<'b, T: Ord + std::fmt::Debug + 'b>(
        &self,
        values: impl Iterator<Item = &'b Spanned<T>>,
    ) -> Result<(), ScenarioError> {
        let mut seen = BTreeSet::new();
        for value in values {
            if !seen.insert(value.as_ref()) {
                return Err(self.fail(value, format!("{:?} is used twice", value.as_ref())));
            }
        }
        Ok(())
    }

    fn shares<'b, T: 'b>(
        &self,
        values: impl IntoIterator<Item = (&'b Spanned<T>, f64)>,
    ) -> Result<(), ScenarioError> {
        match values.into_iter().find(|(_, share)| !(0.0..=1.0).contains(share)) {
            Some((entry, _)) => Err(self.fail(entry, "a share is between 0 and 1".to_owned())),
            None => Ok(()),
        }
    }

    fn noise(&self, entry: &Spanned<NoiseEntry>) -> Result<(), ScenarioError> {
        let noise = entry.as_ref();
        self.shares([(entry, noise.spike_share), (entry, noise.second.map_or(0.0, |s| s[0]))])?;
        let times = [noise.median_ms, noise.sigma, noise.spike_ms, noise.jitter_ms];
        let second = noise.second.map_or(0.0, |second| second[1]);
        if times.into_iter().all(is_time) && (0.0..400.0).contains(&second) && noise.tail > 0.0 {
            Ok(())
        } else {
            Err(self.fail(entry, "times are finite and not negative, tail is over zero".to_owned()))
        }
    }

    fn metric(&self, metric: Option<&Spanned<[f64; 2]>>) -> Result<(), ScenarioError> {
        let wrong = |metric: &&Spanned<[f64; 2]>| {
            !metric.as_ref().iter().all(|metric| metric.is_finite() && *metric > 0.0)
        };
        match metric.filter(wrong) {
            Some(metric) => Err(self.fail(metric, "a metric is finite and over zero".to_owned())),
            None => Ok(()),
        }
    }

    fn known_owner(&self, id: &Spanned<String>) -> Result<(), ScenarioError> {
        let known = self.scenario.owners.iter().any(|owner| owner.id.as_ref() == id.as_ref());
        if known {
            Ok(())
        } else {
            Err(self.fail(id, format!("no owner has the id {:?}", id.as_ref())))
        }
    }

    /// The number of members of the link between two nodes.
    fn linked(&self, from: &Spanned<String>, to: &Spanned<String>) -> Result<u8, ScenarioError> {
        let ends = [from.as_ref(), to.as_ref()];
        let link = self.scenario.links.iter().find(|link| {
            let between = [link.between[0].as_ref(), link.between[1].as_ref()];
            between == ends || between == [ends[1], ends[0]]
        });
        match link {
            Some(link) => Ok(link.members.as_ref().map_or(1, |members| *members.as_ref())),
            None => {
                let reason = format!("no link is between {:?} and {:?}", ends[0], ends[1]);
                Err(self.fail(to, reason))
            }
        }
    }

    fn known_node(&self, id: &Spanned<String>) -> Result<(), ScenarioError> {
        let s = self.scenario;
        let hosts = s.sites.iter().chain(&s.targets).map(|h| &h.id);
        let known = hosts.chain(s.routers.iter().map(|r| &r.id)).any(|k| k.as_ref() == id.as_ref());
        if known {
            Ok(())
        } else {
            let reason = format!("no site, router or target has the id {:?}", id.as_ref());
            Err(self.fail(id, reason))
        }
    }

    fn at_least_zero(&self, value: Option<&Spanned<f64>>) -> Result<(), ScenarioError> {
        match value {
            Some(v) if !v.as_ref().is_finite() || *v.as_ref() < 0.0 => {
                Err(self.fail(v, "a time is finite and not negative".to_owned()))
            }
            _ => Ok(()),
        }
    }

    fn range(&self, value: Option<&Spanned<[f64; 2]>>, max: f64) -> Result<(), ScenarioError> {
        let Some(value) = value else { return Ok(()) };
        let [low, high] = *value.as_ref();
        if low >= 0.0 && low <= high && high <= max {
            Ok(())
        } else {
            Err(self.fail(value, format!("[from, to] with 0 <= from <= to <= {max} expected")))
        }
    }

    fn share_range(&self, value: Option<&Spanned<[f64; 2]>>) -> Result<(), ScenarioError> {
        self.range(value, 1.0)
    }

    fn fault(&self, fault: &FaultEntry) -> Result<(), ScenarioError> {
        self.known_node(&fault.from)?;
        self.known_node(&fault.to)?;
        let members = self.linked(&fault.from, &fault.to)?;
        if let Some(member) = &fault.member
            && !(members > 1 && (1..=members).contains(member.as_ref()))
        {
            let reason = format!("the link has no member {}", member.as_ref());
            return Err(self.fail(member, reason));
        }
        self.at_least_zero(fault.jitter_ms.as_ref())?;
        self.shares(fault.spells.iter().map(|share| (share, *share.as_ref())))?;
        let none = fault.loss.is_none() && fault.added_delay_ms.is_none();
        if none && fault.swallows_over.is_none() {
            let reason = "a fault needs loss, added_delay_ms or swallows_over".to_owned();
            return Err(self.fail(&fault.from, reason));
        }
        self.range(Some(&fault.at_s), 1e9)?;
        self.at_least_zero(fault.for_s.as_ref())?;
        self.share_range(fault.loss.as_ref())?;
        self.range(fault.added_delay_ms.as_ref(), 60_000.0)
    }
}

fn is_time(ms: f64) -> bool {
    ms.is_finite() && ms >= 0.0
}
