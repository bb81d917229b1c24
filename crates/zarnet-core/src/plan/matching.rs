//! What the conditions of filters and policies ask of a packet: asked by the engine and by every
//! question about a plan, told once.

use std::borrow::Cow;
use std::net::IpAddr;

use super::{
    Acl, AclEntry, DevicePlan, InterfaceId, Parties, Policy, RealmSet, Rule, RuleId, RuleKind,
    RuleOrder, Verdict,
};
use crate::net::{AddressRange, AddressSet, Endpoint, Packet, Protocol};

impl RealmSet {
    /// Whether an interface is in it; of no realm_set, whichever it is.
    pub fn allows(realm_set: Option<&Self>, id: InterfaceId) -> bool {
        realm_set.is_none_or(|realm_set| realm_set.interfaces.contains(id))
    }
}

impl Rule {
    /// Whose packets it translates on their way out: of a fixed rule, its internal end.
    pub fn senders(&self) -> Cow<'_, AddressSet> {
        match &self.kind {
            RuleKind::Static(s) => Cow::Owned(s.internal.into()),
            RuleKind::Forward(f) => {
                Cow::Owned(f.servers.iter().map(|s| AddressRange::one(s.address)).collect())
            }
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
                Cow::Borrowed(&self.parties.source)
            }
        }
    }

    /// Whether a sender is one of these.
    pub(crate) fn is_for_sender(&self, address: IpAddr) -> bool {
        match &self.kind {
            RuleKind::Static(s) => s.internal.contains(address),
            RuleKind::Forward(f) => f.servers.iter().any(|s| s.address == address),
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
                self.parties.source.contains(address)
            }
        }
    }
}

impl DevicePlan {
    /// Puts rules into the order in which they are tried: as listed, or by `rule-order`.
    pub fn put_in_order(&self, rules: &mut [RuleId]) {
        if self.behaviour.rule_order == RuleOrder::Listed {
            return;
        }
        rules.sort_by_cached_key(|id| {
            let rule = &self.rules[id.index()];
            let group = match rule.kind {
                RuleKind::Exempt => 0,
                RuleKind::Static(_) | RuleKind::Forward(_) => 1,
                RuleKind::Pool { .. } | RuleKind::Overload { .. } => 2,
            };
            (group, rule.senders().count(), rule.parties.destination.count(), *id)
        });
    }
}

impl Parties {
    /// Whether both ends are in their lists.
    pub fn hold(&self, source: IpAddr, destination: IpAddr) -> bool {
        self.source.contains(source) && self.destination.contains(destination)
    }
}

impl AclEntry {
    /// Whether it decides about a packet. `is_answer`: the packet is one of a known session,
    /// against its initiator's direction.
    pub fn is_for(&self, packet: Packet, is_answer: bool) -> bool {
        let (from, to) = (packet.source(), packet.destination());
        (!self.answers || is_answer)
            && self.service.holds(packet.protocol, to.port)
            && self.source_service.holds(packet.protocol, from.port)
            && self.parties.hold(from.address, to.address)
    }
}

impl Acl {
    /// The first entry that decides about a packet; `None` for the drop at the end.
    pub fn first(&self, packet: Packet, is_answer: bool) -> Option<usize> {
        self.entries.iter().position(|e| e.is_for(packet, is_answer))
    }
}

impl Policy {
    /// Whether it is about packets that come in by one interface and leave by another.
    pub fn is_between(&self, ingress: InterfaceId, egress: InterfaceId) -> bool {
        RealmSet::allows(self.from.as_ref(), ingress)
            && RealmSet::allows(self.into.as_ref(), egress)
    }

    /// Whether it decides about packets of a sender to a destination between its interfaces.
    pub fn is_for(&self, protocol: Protocol, source: IpAddr, to: Endpoint) -> bool {
        self.service.holds(protocol, to.port) && self.parties.hold(source, to.address)
    }

    /// Whether it is about everything that goes between its interfaces.
    pub fn is_for_all(&self) -> bool {
        self.service.is_any() && self.parties.source.is_all() && self.parties.destination.is_all()
    }
}

impl DevicePlan {
    /// The destination that policies look at: as sent, or as step 4 made it.
    pub fn policy_destination(&self, sent: Packet, inside: Packet) -> Endpoint {
        if self.behaviour.policy_sees_translated {
            inside.destination()
        } else {
            sent.destination()
        }
    }

    /// Step 7: the first policy entry that decides about a packet; `None` for the default. `to`:
    /// its destination as policies see it.
    pub fn first_policy(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        protocol: Protocol,
        source: IpAddr,
        to: Endpoint,
    ) -> Option<usize> {
        self.policies
            .iter()
            .position(|p| p.is_between(ingress, egress) && p.is_for(protocol, source, to))
    }

    /// Whether policies accept whatever goes between two interfaces, without a look at the packet.
    pub fn accepts_all(&self, ingress: InterfaceId, egress: InterfaceId) -> bool {
        match self.policies.iter().find(|p| p.is_between(ingress, egress)) {
            Some(entry) => entry.is_for_all() && entry.verdict == Verdict::Accept,
            None => self.default_policy == Verdict::Accept,
        }
    }
}
