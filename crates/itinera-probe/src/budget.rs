//! How much may be sent: token budgets that all tasks of an agent share.
//!
//! A router that answers once a second must not be made to look lossy by us: what would be too
//! much is not sent, so that it is not counted as lost either.

use itinera_model::protocol::{Pacing, Turn};
use itinera_model::unit::Tick;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// Probes that may go to a hop at once after silence. Linux routers grant six by default; two are
/// left for the network, which brings packets closer together than they left.
const HOP_BURST: u64 = 4;
/// Probes that may leave at once.
const AGENT_BURST: u64 = 64;
/// Probes that may reach a target at once.
const TARGET_BURST: u64 = 64;
/// Addresses remembered; when there are more, those whose budget is full again are forgotten.
const MAX_REMEMBERED: usize = 8_192;

/// One budget: a rate and a burst, kept as the time at which it is full again.
///
/// Source: the generic cell rate algorithm in its virtual scheduling form, ITU-T I.371 annex A.
#[derive(Debug, Clone, Copy)]
struct Rate {
    /// Nanoseconds that one probe costs.
    cost: u64,
    /// Nanoseconds of credit that may be used at once.
    credit: u64,
}

impl Rate {
    fn new(per_1000_s: u64, burst: u64) -> Self {
        let cost = 1_000_000_000_000 / per_1000_s.max(1);
        Self { cost, credit: cost.saturating_mul(burst.saturating_sub(1)) }
    }

    /// When one more may go, given when the budget will be full.
    fn earliest(self, full_at: Tick) -> Tick {
        Tick::from_nanos(full_at.as_nanos().saturating_sub(self.credit))
    }
}

/// What became of a wish to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Admission {
    /// It may leave now; it has been counted.
    Now,
    /// The agent or the target has had enough until then.
    Later(Tick),
    /// The hop has been asked often enough: leave it out of this round.
    Spare,
}

/// A hop that is asked for an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Asked {
    /// The hop limit it is at.
    pub hop_limit: u8,
    /// The address it answered from before; absent for one that is not known.
    pub address: Option<IpAddr>,
}

/// The budgets of one agent.
#[derive(Debug, Clone)]
pub struct Budget {
    agent: Rate,
    target: Rate,
    hop: Rate,
    turn: Turn,
    /// The service's clock at tick zero, in microseconds since 1970.
    epoch_us: i64,
    agent_full_at: Tick,
    full_at: BTreeMap<Limited, Tick>,
    spared: u64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Limited {
    Target(IpAddr),
    Hop(IpAddr),
    HopLimit(u8),
}

impl Default for Budget {
    fn default() -> Self {
        Self::new(&Pacing::default())
    }
}

impl Budget {
    /// Full budgets.
    pub fn new(pacing: &Pacing) -> Self {
        Self {
            agent: Rate::new(u64::from(pacing.agent_per_s) * 1_000, AGENT_BURST),
            target: Rate::new(u64::from(pacing.target_per_s) * 1_000, TARGET_BURST),
            // A member of a turn may not save up for it.
            hop: Rate::new(
                u64::from(pacing.hop_per_1000_s),
                if pacing.hop_turn.of > 1 { 1 } else { HOP_BURST },
            ),
            turn: pacing.hop_turn,
            epoch_us: 0,
            agent_full_at: Tick::ZERO,
            full_at: BTreeMap::new(),
            spared: 0,
        }
    }

    /// A budget that never refuses, for one task that paces itself.
    pub fn unbounded() -> Self {
        Self::new(&Pacing {
            agent_per_s: u32::MAX,
            target_per_s: u32::MAX,
            hop_per_1000_s: u32::MAX,
            hop_turn: Turn::default(),
        })
    }

    /// Other rates from now on; what has been used stays used.
    pub fn set(&mut self, pacing: &Pacing) {
        let Self { agent, target, hop, turn, .. } = Self::new(pacing);
        (self.agent, self.target, self.hop, self.turn) = (agent, target, hop, turn);
    }

    /// Where several agents take turns, the seconds are counted by the service's clock: this is
    /// what it shows at tick zero, in microseconds since 1970.
    pub const fn set_epoch(&mut self, epoch_us: i64) {
        self.epoch_us = epoch_us;
    }

    /// Whether the service's seconds matter, which [`Self::set_epoch`] tells.
    pub const fn takes_turns(&self) -> bool {
        self.turn.of > 1
    }

    fn has_turn(&self, now: Tick) -> bool {
        let of = i64::from(self.turn.of.max(1));
        let us = i64::try_from(now.as_nanos() / 1_000).unwrap_or(i64::MAX);
        let second = self.epoch_us.saturating_add(us).div_euclid(1_000_000);
        second.rem_euclid(of) == i64::from(self.turn.index)
    }

    /// Probes left out so that a hop was not asked too often, since the start.
    pub const fn spared(&self) -> u64 {
        self.spared
    }

    /// Asks to send one probe now: to `target` when it may get that far, and for an answer of a
    /// hop that may be limited.
    pub fn admit(&mut self, now: Tick, target: Option<IpAddr>, hop: Option<Asked>) -> Admission {
        self.forget(now);
        let agent_at = self.agent.earliest(self.agent_full_at);
        let target_at =
            target.map_or(now, |address| self.target.earliest(self.used(Limited::Target(address))));
        let later = agent_at.max(target_at);
        if later > now {
            return Admission::Later(later);
        }
        if let Some(asked) = hop {
            let address = asked.address.map(Limited::Hop);
            // One unknown address gets a few probes at most; together that is too much.
            let unknown = (self.turn.of > 1).then_some(Limited::HopLimit(asked.hop_limit));
            let destination: Vec<Limited> = address.into_iter().chain(unknown).collect();
            let had_enough =
                |destination: &Limited| self.hop.earliest(self.used(*destination)) > now;
            if destination.iter().any(had_enough) || !self.has_turn(now) {
                self.spared = self.spared.saturating_add(1);
                return Admission::Spare;
            }
            destination.into_iter().for_each(|destination| self.charge(destination, self.hop, now));
        }
        if let Some(address) = target {
            self.charge(Limited::Target(address), self.target, now);
        }
        self.agent_full_at = self.agent_full_at.max(now).plus_nanos(self.agent.cost);
        Admission::Now
    }

    fn used(&self, destination: Limited) -> Tick {
        self.full_at.get(&destination).copied().unwrap_or(Tick::ZERO)
    }

    fn charge(&mut self, destination: Limited, rate: Rate, now: Tick) {
        let full_at = self.used(destination).max(now).plus_nanos(rate.cost);
        self.full_at.insert(destination, full_at);
    }

    fn forget(&mut self, now: Tick) {
        if self.full_at.len() > MAX_REMEMBERED {
            self.full_at.retain(|_, full_at| *full_at > now);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn address(last: u8) -> IpAddr {
        IpAddr::from([198, 18, 0, last])
    }

    fn hop(last: u8) -> Option<Asked> {
        Some(Asked { hop_limit: last, address: Some(address(last)) })
    }

    #[test]
    fn a_hop_is_asked_as_often_as_linux_answers_whatever_the_tasks() {
        let mut budget = Budget::default();
        let asked = |budget: &mut Budget, from_s: u64, to_s: u64| {
            let ticks = (from_s * 50..to_s * 50).map(|n| Tick::from_millis(n * 20));
            ticks.filter(|now| budget.admit(*now, None, hop(1)) == Admission::Now).count()
        };
        // A burst, then one a second.
        assert_eq!(asked(&mut budget, 0, 1), 4);
        assert_eq!(asked(&mut budget, 1, 61), 60);
        assert_eq!(budget.spared(), 60 * 50 + 50 - 64);
        assert_eq!(budget.admit(Tick::from_millis(61_000), None, hop(2)), Admission::Now);
    }

    #[test]
    fn agents_behind_one_address_take_turns_whoever_the_hop_is() {
        let taking_turns = |index| {
            let hop_turn = Turn { index, of: 10 };
            let mut budget = Budget::new(&Pacing { hop_turn, ..Pacing::default() });
            budget.set_epoch(1_700_000_000_400_000);
            budget
        };
        for asked in [hop(1), Some(Asked { hop_limit: 3, address: None })] {
            let mut budgets: Vec<Budget> = (0..10).map(taking_turns).collect();
            let mut by_second = BTreeMap::<u64, u32>::new();
            for ms in (0..60_000u64).step_by(50) {
                for budget in &mut budgets {
                    if budget.admit(Tick::from_millis(ms), None, asked) == Admission::Now {
                        *by_second.entry((ms + 400) / 1_000).or_default() += 1;
                    }
                }
            }
            assert!(by_second.len() >= 59, "one has the turn in every second");
            assert!(by_second.values().all(|count| *count == 1), "{by_second:?}");
        }
    }

    proptest! {
        #[test]
        fn agent_and_target_never_get_more_than_their_rate(gaps in prop::collection::vec(0u64..30, 1..400)) {
            let pacing = Pacing { agent_per_s: 100, target_per_s: 50, ..Pacing::default() };
            let mut budget = Budget::new(&pacing);
            let (mut now, mut sent) = (0u64, [0u64; 2]);
            for (n, gap) in gaps.iter().enumerate() {
                now += gap;
                let which = n % 2;
                let target = Some(address(u8::try_from(which).unwrap()));
                match budget.admit(Tick::from_millis(now), target, None) {
                    Admission::Now => sent[which] += 1,
                    Admission::Later(at) => prop_assert!(at > Tick::from_millis(now)),
                    Admission::Spare => prop_assert!(false, "no hop was asked"),
                }
            }
            prop_assert!(sent[0].max(sent[1]) <= TARGET_BURST + now * 50 / 1_000 + 1);
            prop_assert!(sent[0] + sent[1] <= AGENT_BURST + now * 100 / 1_000 + 1);
        }
    }
}
