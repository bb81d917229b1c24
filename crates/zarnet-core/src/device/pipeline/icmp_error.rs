//! ICMP errors: translated inside and out by the session of the packet that they are about, which
//! they neither refresh nor end. Read first: RFC 5508 §4 and §5, RFC 4787 §10, RFC 5382 §7.3.
//!
//! Contract: §D14 of docs/semantics.md.

use std::net::IpAddr;

use crate::device::bindings::Context;
use crate::device::compiled::Query;
use crate::device::key::Key;
use crate::device::outcome::Refusal;
use crate::net::{Endpoint, IcmpError, Packet, Protocol, Signal, Tuple};
use crate::plan::{InterfaceId, RuleKind};
use crate::reason::Reason;

/// An ICMP error on its way out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ForwardedError {
    /// The error as it leaves.
    pub error: IcmpError,
    /// The interface it leaves by.
    pub interface: InterfaceId,
    /// Who on that segment is to get it.
    pub next_hop: IpAddr,
}

impl Context<'_> {
    /// An ICMP error comes in on an interface, after what was due. Nothing in the table changes
    /// (RFC 5508 §4 REQ-6, RFC 4787 §10 REQ-12).
    ///
    /// # Errors
    /// The reason for which it is dropped: `no-session` if the packet that it is about belongs to
    /// none.
    pub(in crate::device) fn receive_error(
        &self,
        ingress: InterfaceId,
        error: IcmpError,
    ) -> Result<ForwardedError, Refusal> {
        // what the packet was an answer to, or what will answer it: the reverse of it would come in
        // here too
        let reverse = Packet { ends: error.about.ends.reversed(), ..error.about };
        let hit = self.find(reverse, Some(ingress));
        let plan = &self.compiled.plan;
        let acl = plan.interfaces[ingress.index()].ingress_acl;
        if let Some(refusal) = self.drops(acl, outer(error), hit.is_some(), Reason::IngressAcl) {
            return Err(refusal);
        }
        let Some(hit) = hit else { return Err(Refusal::new(Reason::NoSession, plan.place)) };
        let (original, translated) = self.bindings.tuples(hit.id);
        // the packet as its sender sent it
        let about = if hit.heading.from_initiator { translated.reversed() } else { original };
        let told = about.source.address;
        let from = self.error_source(error, reverse.ends.source, about);
        let out = IcmpError { from, to: told, about: Packet { ends: about, ..error.about } };
        if !plan.forwarding {
            return Err(Refusal::new(Reason::NotForwarding, plan.place));
        }
        let sides = self.sides(hit);
        let query = Query { source: Some(error.from), ingress: Some(ingress), ..sides.query(told) };
        let way =
            self.compiled.routes.find(query).ok_or(Refusal::new(Reason::NoRoute, plan.place))?;
        let acl = plan.interfaces[way.interface.index()].egress_acl;
        if let Some(refusal) = self.drops(acl, outer(out), true, Reason::EgressAcl) {
            return Err(refusal);
        }
        Ok(ForwardedError {
            error: out,
            interface: way.interface,
            next_hop: way.via.unwrap_or(told),
        })
    }

    /// RFC 5508 §4.2 REQ-5c: the sender of an error shows its own external address if it has one,
    /// or else the one that its side of the session has outside. From outside it stays (REQ-4).
    fn error_source(&self, error: IcmpError, end: Endpoint, about: Tuple) -> IpAddr {
        if end.address == about.destination.address {
            return error.from; // that side was not translated
        }
        if end.address == error.from {
            return about.destination.address;
        }
        self.bound_address(error.from).unwrap_or(about.destination.address)
    }

    /// The whole address that a host has outside: by a static rule, or borrowed from a pool.
    fn bound_address(&self, host: IpAddr) -> Option<IpAddr> {
        for id in self.compiled.sources.of_source(host).filter(|id| self.active.has(*id)) {
            let rule = self.rule(id);
            if let RuleKind::Static(s) = &rule.kind
                && rule.service.is_any()
                && let Some(position) = s.internal.position(host)
            {
                return self.compiled.plan.external(s.external)?.nth(position);
            }
            let RuleKind::Pool { .. } = rule.kind else { continue };
            let target = self.compiled.targets.of(id).main?;
            if let Some(mapping) =
                Key::of(host).and_then(|h| self.bindings.address_mapping(h, target))
            {
                let external =
                    self.bindings.externals.get(self.bindings.table.mapping(mapping).place());
                return Some(external.address.address());
            }
        }
        None
    }
}

/// The error itself as a packet, as filters see it.
fn outer(error: IcmpError) -> Packet {
    let protocol = if error.to.is_ipv4() { Protocol::ICMP } else { Protocol::ICMPV6 };
    let ends =
        Tuple { source: Endpoint::new(error.from, 0), destination: Endpoint::new(error.to, 0) };
    Packet { protocol, signal: Signal::Plain, ends }
}
