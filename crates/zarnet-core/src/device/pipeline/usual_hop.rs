//! A hop that leaves nothing to ask about a first packet but its port: no filter and no policy, and
//! a rule that gives the next port of its address or a whole address. Of all packets on known ways
//! these are most; ends are keys here, not addresses of either family.

use super::hop::{DecidedHop, Gives};
use super::source::Source;
use crate::device::bindings::{
    Context, Engine, HairpinEnd, Kind, Mapping, NONE, NewPort, Session, Sink,
};
use crate::device::key::{EndKey, Key, first_packet};
use crate::device::outcome::{FlowSchedule, SessionRef};
use crate::net::{Endpoint, Instant, Packet, Protocol, Tuple};
use crate::plan::{RuleId, RuleKind};

/// A flow that is about to begin a session on such a hop.
#[derive(Debug, Clone, Copy)]
pub(crate) struct UsualFlow {
    /// Its ends as it leaves.
    pub source: EndKey,
    pub destination: EndKey,
    session: Session,
    /// Where it is turned to, if it is hairpinned.
    hairpin: Option<HairpinEnd>,
    under: Under,
}

/// What the session begins under.
#[derive(Debug, Clone, Copy)]
enum Under {
    /// A mapping of the next port.
    NextPort(NewPort),
    /// An address mapping that is there.
    Address,
}

/// What a first packet is looked up by; what it is not, by 0.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Probe {
    /// By its internal end.
    inside: u32,
    /// By both ends.
    ends: u32,
    /// By its host.
    whole: u32,
    /// The port table and port that it will most likely get.
    pub place: Option<(u32, u16)>,
}

impl Context<'_> {
    /// What a rule gives a host, under whose mapping sessions need no tuples of their own.
    pub(super) fn gives(&self, rule: RuleId) -> Gives {
        if let Some((target, freely)) = self.next_port_on(rule.0) {
            return Gives::NextPort(target, freely);
        }
        match self.compiled.targets.of(rule.0).main {
            Some(main)
                if self.compiled.targets.get(main).whole
                    && self.compiled.admits_everybody()
                    && !self.compiled.remembers_interfaces() =>
            {
                Gives::Whole(main)
            }
            Some(_) | None => Gives::Any,
        }
    }

    /// The same for flows that a fixed rule turns back inside to its only end there.
    pub(super) fn gives_in_hairpin(&self, entry: RuleId, rule: RuleId) -> Gives {
        let alone = match &self.rule(entry.0).kind {
            RuleKind::Forward(forward) => forward.servers.len() == 1,
            RuleKind::Static(_) => true,
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => false,
        };
        let next_port = self.next_port_on(rule.0).filter(|_| alone && entry != rule);
        next_port.map_or(Gives::Any, |(target, freely)| Gives::NextPort(target, freely))
    }

    /// Where a fixed rule turns a flow to, if no mapping has its external end.
    fn turned_to(
        &self,
        id: RuleId,
        protocol: Protocol,
        from: EndKey,
        to: EndKey,
    ) -> Option<HairpinEnd> {
        let entry = self.fixed_entry(id.0, first_packet(protocol, from, to))?.ok()?;
        let destination = entry.destination?;
        let internal = (Key::of(destination.address)?, destination.port);
        let turned = HairpinEnd { rule: id.0, internal };
        let table = self.bindings.externals.find_port_table(to.0, protocol);
        let is_mapped = table.is_some_and(|t| self.bindings.mappings_at(t, to.1).next().is_some());
        let holds = !is_mapped && self.bindings.hairpins.may_hold(protocol, to, turned);
        holds.then_some(turned)
    }

    /// A flow that is the first between two ends of which nothing else is known, and what it needs
    /// on a hop that [is usual](DecidedHop::is_usual); `None` where all the steps have to tell.
    #[inline]
    pub(in crate::device) fn prepare_usual(
        &self,
        now: Instant,
        hop: &DecidedHop,
        (protocol, from, to): (Protocol, EndKey, EndKey),
        schedule: FlowSchedule,
    ) -> Option<UsualFlow> {
        let table = &self.bindings.table;
        if table.has_explicit() || table.may_be_inside(to.0) || self.check_sessions().is_err() {
            return None;
        }
        let hash = self.bindings.endpoint_hash(protocol, from, to);
        let timing = self.compiled.timing(protocol, to.1);
        let mut session = Session::new(now.0, timing, NONE, 0);
        if session.expires <= schedule.answer.0
            || self.bindings.find_endpoint(hash, protocol, from).is_some()
        {
            return None;
        }
        let hairpin = match hop.entry {
            Some(id) => Some(self.turned_to(id, protocol, from, to)?),
            None => None,
        };
        let destination = hairpin.map_or(to, |end| end.internal);
        (session.remote, session.remote_port) = to;
        session.run_from_start(schedule.end.0, schedule.ending, timing);
        let rule = hop.source?;
        match hop.gives {
            Gives::NextPort(..) if table.has_under_address() => None,
            Gives::NextPort(target, freely) => {
                let (external, pair) = self.external_of_host(from.0, target);
                let address = self.bindings.externals.get(external?);
                let used = address.port_table(protocol).filter(|_| address.endpoints > 0);
                let new = self.new_port((rule.0, target, freely), (from, hash), used?, pair)?;
                let source = (address.address, new.port);
                let under = Under::NextPort(new);
                Some(UsualFlow { source, destination, session, hairpin, under })
            }
            Gives::Whole(target) => {
                if table.find_under_address(protocol, from, to, None).is_some() {
                    return None;
                }
                let mapping = self.bindings.address_mapping(from.0, target)?;
                let m = table.mapping(mapping);
                session.owner = mapping;
                session = session.with_internal(protocol, from.1);
                let source = (self.bindings.externals.get(m.place()).address, from.1);
                let own = RuleId(m.rule) == rule;
                let under = Under::Address;
                own.then_some(UsualFlow { source, destination, session, hairpin, under })
            }
            Gives::Any => None,
        }
    }

    /// What a first packet will be looked up by, and its source as it leaves if that is known
    /// beforehand. `ahead`: how many ports of a port table others will have taken by then, and now
    /// this one too.
    pub(in crate::device) fn probe(
        &self,
        hop: &DecidedHop,
        packet: Packet,
        ahead: impl FnOnce(u32) -> u16,
    ) -> (Probe, Option<Endpoint>) {
        let (bindings, protocol) = (self.bindings, packet.protocol);
        let (from, to) = (packet.source(), packet.destination());
        let mut probe = Probe::default();
        if !matches!(hop.gives, Gives::NextPort(..)) {
            probe.ends = bindings.table.hash_of_ends(protocol, packet.ends);
        }
        let Some((host, peer)) = Key::of(from.address).zip(Key::of(to.address)) else {
            return (probe, None);
        };
        probe.inside = bindings.endpoint_hash(protocol, (host, from.port), (peer, to.port));
        match hop.gives {
            Gives::Any => (probe, None),
            Gives::Whole(target) => {
                probe.whole = bindings.hash_of_address_mapping(host, target);
                (probe, None)
            }
            Gives::NextPort(target, _) => {
                let external = self.external_of_host(host, target).0;
                let address = external.map(|e| bindings.externals.get(e));
                let Some((address, port_table)) =
                    address.and_then(|a| Some((a.address, a.port_table(protocol)?)))
                else {
                    return (probe, None);
                };
                let port = self.likely_port(port_table, from.port, ahead(port_table));
                probe.place = Some((port_table, port));
                (probe, Some(address.with_port(port)))
            }
        }
    }

    /// Reads what a first packet will be looked up by.
    #[inline(always)]
    pub(in crate::device) fn touch(&self, probe: &Probe) -> u64 {
        let table = &self.bindings.table;
        let place = probe.place.map_or(0, |(table, port)| self.bindings.touch_port(table, port));
        table.touch_internal(probe.inside)
            ^ table.touch_internal(probe.whole)
            ^ table.touch_ends(probe.ends)
            ^ u64::from(place)
    }

    /// Reads the mapping of its host; after [`Self::touch`] for many.
    #[inline(always)]
    pub(in crate::device) fn touch_host(&self, probe: &Probe) -> u64 {
        let mapping = self.mapping_of_whole(probe);
        mapping.map_or(0, |mapping| mapping.internal.number())
    }

    /// Reads the address that its host has to itself; after [`Self::touch_host`] for many.
    #[inline(always)]
    pub(in crate::device) fn touch_address(&self, probe: &Probe) -> u64 {
        let mapping = self.mapping_of_whole(probe).filter(|m| m.kind() == Kind::Address);
        mapping.map_or(0, |m| self.bindings.externals.get(m.place()).address.number())
    }

    /// What is likely the address mapping of its host.
    #[inline(always)]
    fn mapping_of_whole(&self, probe: &Probe) -> Option<&Mapping> {
        let table = &self.bindings.table;
        let likely = (probe.whole != 0).then(|| table.first_by_internal(probe.whole));
        likely.flatten().map(|mapping| table.mapping(mapping))
    }

    /// What the answer to a first packet will be looked up by, where that is asked and does not
    /// depend on a port still to be found. For many at once, after [`Self::touch`].
    pub(in crate::device) fn probe_answer(&self, hop: &DecidedHop, packet: Packet) -> Option<u32> {
        let table = &self.bindings.table;
        if hop.gives != Gives::Any || !table.has_explicit() {
            return None;
        }
        let entry = hop.entry.and_then(|id| self.fixed_entry(id.0, packet)?.ok());
        let inside = Packet { ends: entry.unwrap_or_default().ends(packet), ..packet };
        let out = match hop.source {
            None => inside.ends,
            Some(id) if self.rule(id.0).kind.is_fixed() => {
                let inner = (hop.entry, inside.destination());
                match self.source_by(id.0, hop.ingress, packet, inner) {
                    Ok(Some(Source::Fixed(_, source))) => Tuple { source, ..inside.ends },
                    _ => return None,
                }
            }
            Some(_) => return None,
        };
        Some(table.hash_of_ends(packet.protocol, out.reversed()))
    }

    /// Reads where the session with some ends would be.
    pub(in crate::device) fn touch_ends(&self, hash: u32) -> u64 {
        self.bindings.table.touch_ends(hash)
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Enters a flow that was prepared, from its first packet to its last, and tells its session.
    #[inline]
    pub(in crate::device) fn enter_usual(
        &mut self,
        hop: &DecidedHop,
        flow: &UsualFlow,
    ) -> SessionRef {
        let created = flow.session.created;
        let id = match &flow.under {
            Under::NextPort(new) => self.open_both(flow.session, new, flow.hairpin),
            Under::Address => self.open_session(flow.session, None, [hop.source, None]),
        };
        SessionRef { id, created }
    }
}
