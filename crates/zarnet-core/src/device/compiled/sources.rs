//! Which rules look at a packet's source, and in which order: by its address where rules are few,
//! by all that rules ask of it where they are many.

use std::net::IpAddr;

use super::first_match::{FirstMatch, Wants, all_services, service_number, service_spans};
use crate::device::key::{Key, numbered};
use crate::net::{IntervalMap, Packet};
use crate::plan::{self, Rule};

/// So many rules are looked at one by one.
const FEW: usize = 64;

/// The rules of step 8, found by source.
#[derive(Debug, Clone)]
pub(in crate::device) struct SourceRules {
    by_source: IntervalMap<Vec<u16>>,
    /// In place of the former where rules are many.
    first_match: Option<FirstMatch<3>>,
    /// The rules by their position in that.
    order: Vec<u16>,
    v6: Vec<u16>,
}

impl SourceRules {
    /// Whose sources each rule is for, and in which order they are looked at.
    pub(super) fn new(plan: &plan::DevicePlan) -> Self {
        let mut order: Vec<plan::RuleId> =
            super::in_force(plan).map(|r| plan::RuleId(r.0)).collect();
        plan.put_in_order(&mut order);
        let order: Vec<u16> = order.into_iter().map(|r| r.0).collect();
        let v6 =
            |i: &u16| plan.rules[usize::from(*i)].senders().ranges().any(|r| r.first().is_ipv6());
        let v6: Vec<u16> = order.iter().copied().filter(v6).collect();
        if order.len() > FEW {
            let rules: Vec<Wants<3>> =
                order.iter().map(|i| wants(&plan.rules[usize::from(*i)])).collect();
            let by_source = IntervalMap::new(&[], |_| Vec::new());
            return Self { by_source, first_match: Some(FirstMatch::new(rules)), order, v6 };
        }
        let (mut ranges, mut owners) = (Vec::new(), Vec::new());
        for (position, &i) in order.iter().enumerate() {
            let space = numbered(&plan.rules[usize::from(i)].senders());
            owners.extend(std::iter::repeat_n(position, space.len()));
            ranges.extend(space);
        }
        let by_source = IntervalMap::new(&ranges, |active| {
            let mut rules: Vec<u16> = active.iter().map(|r| order[owners[*r]]).collect();
            rules.dedup();
            rules
        });
        Self { by_source, first_match: None, order, v6 }
    }

    /// Rules that may translate a source, in the order in which they are looked at.
    #[inline]
    pub(in crate::device) fn of_source(&self, source: IpAddr) -> impl Iterator<Item = u16> + '_ {
        let many = Key::of(source)
            .zip(self.first_match.as_ref())
            .map(|(a, many)| many.of_one(0, a.number()).map(|i| self.order[i]));
        let few = many.is_none().then(|| self.few_rules(source));
        many.into_iter().flatten().chain(few.into_iter().flatten().copied())
    }

    /// The same for a packet: those are left out that its destination or service does not suit.
    #[inline]
    pub(in crate::device) fn of_packet(&self, sent: Packet) -> impl Iterator<Item = u16> + '_ {
        let (from, to) = (sent.source(), sent.destination());
        let many = Key::of(from.address).zip(Key::of(to.address)).zip(self.first_match.as_ref());
        let service = service_number(sent.protocol, to.port);
        let many = many.map(|((a, b), many)| {
            many.candidates([a.number(), b.number(), service]).map(|i| self.order[i])
        });
        let few = many.is_none().then(|| self.few_rules(from.address));
        many.into_iter().flatten().chain(few.into_iter().flatten().copied())
    }

    fn few_rules(&self, source: IpAddr) -> &[u16] {
        match Key::of(source) {
            Some(a) => self.by_source.get(a.number()),
            None => &self.v6,
        }
    }

    /// Where the rules of a source may change.
    pub(super) fn edges(&self) -> Vec<u64> {
        self.first_match.as_ref().map_or(self.by_source.edges().to_vec(), |f| f.edges(0))
    }
}

/// What a rule does not mind about a packet, as far as it can be told by numbers: of a fixed rule,
/// its source and destination.
fn wants(rule: &Rule) -> Wants<3> {
    let fixed = rule.kind.is_fixed();
    let services = if fixed { all_services() } else { service_spans(&rule.service) };
    [numbered(&rule.senders()), numbered(&rule.parties.destination), services]
}
