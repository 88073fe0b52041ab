//! A world as a scenario file and as an owner map.

use super::{Blueprint, Changes, FaultPlan, HostPlan, LinkPlan, RouterPlan, WorldFamily};
use std::fmt::Write;

/// Share of the time in which routers follow their habits.
const HABIT_SHARE: f64 = 0.8;
/// Autonomous system numbers for documentation (RFC 5398): sixteen, then sixteen.
const FIRST_NUMBERS: u32 = 64_496;
const FURTHER_NUMBERS: u32 = 65_536;

impl Blueprint {
    /// The world with what changes in it, as a scenario file.
    pub fn scenario(&self, changes: &Changes) -> String {
        let mut text = format!(
            "# Drawn by seed {} of the family {}. Format: docs/scenario.md.\n\
             name = \"World {} ({})\"\nweek_hour = {:?}\nlife = {}\nexits = \"{}\"\n",
            self.seed,
            self.family,
            self.seed,
            self.family,
            self.week_hour,
            self.life,
            if self.family.has(WorldFamily::Routing) { "least" } else { "nearest" },
        );
        for (number, site) in self.sites.iter().enumerate() {
            self.site(&mut text, number, site, changes);
        }
        for target in &self.targets {
            host(&mut text, "target", target);
        }
        for owner in &self.owners {
            let ids = |owners: &[usize]| {
                let ids: Vec<String> =
                    owners.iter().map(|owner| format!("\"{}\"", self.owners[*owner].id)).collect();
                ids.join(", ")
            };
            add(
                &mut text,
                format_args!("\n[[owner]]\nid = \"{}\"\nname = \"{}\"\n", owner.id, owner.name),
            );
            if !owner.upstreams.is_empty() {
                add(&mut text, format_args!("upstreams = [{}]\n", ids(&owner.upstreams)));
            }
            if !owner.peers.is_empty() {
                add(&mut text, format_args!("peers = [{}]\n", ids(&owner.peers)));
            }
        }
        for router in &self.routers {
            self.router(&mut text, router);
        }
        for link in &self.links {
            self.link(&mut text, link);
        }
        for fault in &changes.faults {
            self.fault(&mut text, fault, changes);
        }
        for (ends, metric) in &changes.reroutes {
            let [a, b] = ends.map(|node| self.id(node));
            add(
                &mut text,
                format_args!(
                    "\n[[reroute]]\nbetween = [\"{a}\", \"{b}\"]\nat_s = {:?}\nmetric = {metric:?}\n",
                    changes.at_s,
                ),
            );
        }
        text
    }

    fn site(&self, text: &mut String, number: usize, site: &HostPlan, changes: &Changes) {
        host(text, "site", site);
        let law = if self.family.has(WorldFamily::Noise) {
            "median_ms = 0.2, sigma = 1.4, spike_share = 0.03, spike_ms = 4.0, tail = 1.1, \
             second = [0.3, 1.5]"
        } else {
            "median_ms = 0.15, sigma = 1.0, spike_share = 0.02, spike_ms = 5.0"
        };
        let jitter = match site.jitter_ms {
            ms if ms > 0.0 => format!(", jitter_ms = {ms:?}"),
            _ => String::new(),
        };
        add(text, format_args!("noise = {{ {law}{jitter} }}\n"));
        let [offset_ms, drift_ppm] = site.clock;
        add(
            text,
            format_args!("clock_offset_ms = {offset_ms:?}\nclock_drift_ppm = {drift_ppm:?}\n"),
        );
        let steps: Vec<String> = changes
            .clock_steps
            .iter()
            .filter(|(stepped, _)| *stepped == number)
            .map(|(_, ms)| format!("[{:?}, {ms:?}]", changes.at_s))
            .collect();
        if !steps.is_empty() {
            add(text, format_args!("clock_steps = [{}]\n", steps.join(", ")));
        }
    }

    fn router(&self, text: &mut String, router: &RouterPlan) {
        add(
            text,
            format_args!(
                "\n[[router]]\nid = \"{}\"\naddress = \"{}\"\nowner = \"{}\"\n",
                router.id, router.address, self.owners[router.owner].id,
            ),
        );
        let flags = [
            ("silent", router.silent),
            ("hidden", router.hidden),
            ("limits_all", router.limits_all),
        ];
        for (key, is_so) in flags {
            if is_so {
                add(text, format_args!("{key} = true\n"));
            }
        }
        if let Some(rate_limits) = router.rate_limits {
            add(text, format_args!("rate_limits = {rate_limits:?}\n"));
        }
        if let Some([share, mean_ms]) = router.slow {
            add(text, format_args!("slow = {{ share = {share:?}, mean_ms = {mean_ms:?} }}\n"));
        }
        if router.rate_limits.is_some() || router.slow.is_some() {
            add(text, format_args!("habit_share = {HABIT_SHARE:?}\n"));
        }
        if let Some(per_s) = router.answers_per_s {
            add(text, format_args!("answers_per_s = {per_s:?}\n"));
        }
        if let Some(answers_by) = router.answers_by {
            add(text, format_args!("answers_by = \"{answers_by}\"\n"));
        }
        if router.answer_hop_limit != 64 {
            add(text, format_args!("answer_hop_limit = {}\n", router.answer_hop_limit));
        }
        if router.balances {
            add(text, format_args!("balances = \"ports\"\n"));
        }
    }

    fn link(&self, text: &mut String, link: &LinkPlan) {
        let [a, b] = link.between.map(|node| self.id(node));
        add(
            text,
            format_args!(
                "\n[[link]]\nbetween = [\"{a}\", \"{b}\"]\ndelay_ms = {:?}\nmetric = {:?}\nloss = {:?}\n\
             spells = {{ share = {:?}, loss = {:?} }}\n",
                link.delay_ms, link.metric, link.loss, link.spells[0], link.spells[1],
            ),
        );
        if let Some([peak_ms, loss, hour]) = link.daily {
            add(
                text,
                format_args!(
                    "daily = {{ peak_ms = {peak_ms:?}, loss = {loss:?}, peak_hour = {hour:?} }}\n"
                ),
            );
        }
        if link.jitter_ms > 0.0 {
            add(text, format_args!("jitter_ms = {:?}\n", link.jitter_ms));
        }
        if link.members > 1 {
            add(text, format_args!("members = {}\n", link.members));
        }
        if let Some(ends) = &link.interfaces {
            let [near, far] = ends.each_ref().map(|end| {
                let all: Vec<String> = end.iter().map(|address| format!("\"{address}\"")).collect();
                all.join(", ")
            });
            add(text, format_args!("interfaces = [[{near}], [{far}]]\n"));
        }
    }

    fn fault(&self, text: &mut String, fault: &FaultPlan, changes: &Changes) {
        let at_s = changes.at_s + fault.after_s;
        add(
            text,
            format_args!(
                "\n[[fault]]\nfrom = \"{}\"\nto = \"{}\"\nat_s = [{at_s:?}, {at_s:?}]\n",
                self.id(fault.from),
                self.id(fault.to),
            ),
        );
        if let Some(for_s) = changes.for_s {
            add(text, format_args!("for_s = {for_s:?}\n"));
        }
        if let Some(member) = fault.member {
            add(text, format_args!("member = {member}\n"));
        }
        if let Some(loss) = fault.loss {
            add(text, format_args!("loss = [{loss:?}, {loss:?}]\n"));
        }
        if let Some([ms, jitter]) = fault.delay_ms {
            add(text, format_args!("added_delay_ms = [{ms:?}, {ms:?}]\njitter_ms = {jitter:?}\n"));
        }
        if fault.spells < 1.0 {
            add(text, format_args!("spells = {:?}\n", fault.spells));
        }
    }

    /// Number and contact of an owner.
    pub fn registration(&self, owner: usize) -> (u32, String) {
        let index = u32::try_from(owner).unwrap_or(u32::MAX);
        let number = if index < 16 { FIRST_NUMBERS + index } else { FURTHER_NUMBERS + index - 16 };
        let label = self.owners[owner].name.to_lowercase().replace(' ', "-");
        (number, format!("noc@{label}.example"))
    }

    /// The owner map that belongs to the world, with its holes and errors: prefix, owner by index.
    pub fn holdings(&self) -> Vec<(String, usize)> {
        let blocks = self.owners.iter().enumerate().map(|(index, owner)| {
            (format!("{}/20", super::topology::address_in(owner.block, 0)), index)
        });
        let blocks = blocks.filter(|(_, owner)| !self.unmapped.contains(owner));
        let wrong = self.mismapped.iter().map(|(block, nth, owner)| {
            (format!("{}/24", super::topology::address_in(*block, nth * 256)), *owner)
        });
        let hosts = self
            .targets
            .iter()
            .filter_map(|target| Some((format!("{}/32", target.address), target.operator?)));
        blocks.chain(wrong).chain(hosts).collect()
    }

    /// The owner map as CSV.
    pub fn owner_map(&self) -> String {
        let mut text = "prefix,as_number,owner,contact\n".to_owned();
        for (prefix, owner) in self.holdings() {
            let (number, contact) = self.registration(owner);
            add(
                &mut text,
                format_args!("{prefix},{number},{},{contact}\n", self.owners[owner].name),
            );
        }
        text
    }
}

fn host(text: &mut String, kind: &str, host: &HostPlan) {
    add(
        text,
        format_args!(
            "\n[[{kind}]]\nid = \"{}\"\nname = \"{}\"\naddress = \"{}\"\n",
            host.id, host.name, host.address,
        ),
    );
}

fn add(text: &mut String, more: std::fmt::Arguments<'_>) {
    // Writing to a string cannot fail.
    let _always = text.write_fmt(more);
}
