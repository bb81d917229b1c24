//! What shorter ways than step by step ask of a device, and do to it: flows and packets on fast
//! paths, and flows on ways through the network that are known.

use std::net::IpAddr;

use super::Device;
use super::bindings::Sink;
use super::fast_path::{FastOutcome, FastPacket, FastPath, FlowKey};
use super::key::{EndKey, Key};
use super::outcome::{FlowSchedule, SessionRef};
use super::pipeline::{DecidedHop, Prepared, Probe, UsualFlow};
use crate::net::{Endpoint, Instant, Packet, Protocol, Signal, Tuple};
use crate::plan::InterfaceId;

impl Device {
    /// The fast path of an interface, if it may have one. `leads_out`: whether what leaves by an
    /// interface for a destination reaches somebody outside; `edges`: where its answer may change.
    pub(crate) fn fast_path(
        &self,
        ingress: InterfaceId,
        edges: &[u64],
        leads_out: impl Fn(InterfaceId, IpAddr, IpAddr) -> bool,
    ) -> Option<FastPath> {
        self.context().fast_path(ingress, edges, leads_out)
    }

    /// What can be known of a flow before its turn comes; `None` if it is not on the fast path.
    #[inline(always)]
    pub(crate) fn flow_key(
        &self,
        path: &FastPath,
        rule: u16,
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> Option<FlowKey> {
        self.context().flow_key(path, rule, protocol, source, destination)
    }

    /// A flow with what only a new mapping needs.
    #[inline(always)]
    pub(crate) fn with_external(&self, flow: FlowKey) -> FlowKey {
        self.context().with_external(flow)
    }

    /// Looks for the mapping that a packet may belong to.
    #[inline(always)]
    pub(crate) fn find_mapping(&self, flow: &mut FlowKey) {
        self.context().find_mapping(flow);
    }

    /// Reads what a flow will be looked up by.
    #[inline(always)]
    pub(crate) fn prefetch_index(&self, flow: &FlowKey) -> u64 {
        self.context().prefetch_index(flow)
    }

    /// Reads the mapping that was found; or else what a new one needs.
    #[inline(always)]
    pub(crate) fn prefetch_mapping(&self, flow: &FlowKey) -> u64 {
        self.context().prefetch_mapping(flow)
    }

    /// Reads where a packet that goes back would have another mapping.
    #[inline(always)]
    pub(crate) fn prefetch_reverse(&self, flow: &FlowKey) -> u64 {
        self.context().prefetch_reverse(flow)
    }

    /// Reads what a flow's host is looked up by, where that is kept.
    #[inline(always)]
    pub(crate) fn prefetch_host(&self, flow: &FlowKey) -> u64 {
        self.context().prefetch_host(flow)
    }

    /// Reads what a flow's host gets its next port by.
    #[inline(always)]
    pub(crate) fn prefetch_port(&self, flow: &FlowKey) -> u32 {
        self.context().prefetch_port(flow) ^ self.recorder.touch_rule(flow.rule)
    }

    /// Whether it has to be waited for where a host's next port is entered.
    pub(crate) fn has_far_ports(&self) -> bool {
        self.context().has_far_ports()
    }

    /// Whether more decides about a new port of a host than which ones are free.
    pub(crate) fn is_careful(&self) -> bool {
        self.context().is_careful()
    }

    /// Reads the block of a flow's host, and the beginning of it.
    pub(crate) fn prefetch_block(&self, flow: &FlowKey) -> u32 {
        self.context().prefetch_block(flow)
    }

    /// Enters a whole flow on the fast path.
    #[inline(always)]
    pub(crate) fn enter_flow(
        &mut self,
        now: Instant,
        flow: &FlowKey,
        schedule: FlowSchedule,
    ) -> FastOutcome {
        self.engine().enter_flow(now, flow, schedule)
    }

    /// Enters a packet that was seen on the fast path: one of a flow from there, or `back` to who
    /// began it.
    #[inline(always)]
    pub(crate) fn enter_packet(
        &mut self,
        now: Instant,
        flow: &FlowKey,
        back: bool,
        signal: Signal,
    ) -> FastPacket {
        self.engine().enter_packet(now, flow, back, signal)
    }

    /// What becomes of a first packet of a kind whose hop is decided.
    pub(crate) fn prepare(
        &self,
        now: Instant,
        hop: &DecidedHop,
        packet: Packet,
        answer: Instant,
    ) -> Option<Prepared> {
        self.context().prepare(now, hop, packet, answer)
    }

    /// Enters a flow that was prepared.
    pub(crate) fn enter_prepared(
        &mut self,
        now: Instant,
        hop: &DecidedHop,
        packet: Packet,
        prepared: &Prepared,
        schedule: FlowSchedule,
    ) -> SessionRef {
        self.engine().enter_prepared(now, hop, packet, prepared, schedule)
    }

    /// What a flow needs on a usual hop, whose source as it leaves it tells.
    #[inline]
    pub(crate) fn prepare_usual(
        &self,
        now: Instant,
        hop: &DecidedHop,
        ends: (Protocol, EndKey, EndKey),
        schedule: FlowSchedule,
    ) -> Option<UsualFlow> {
        self.context().prepare_usual(now, hop, ends, schedule)
    }

    /// Enters a flow that was prepared for a usual hop.
    #[inline]
    pub(crate) fn enter_usual(&mut self, hop: &DecidedHop, flow: &UsualFlow) -> SessionRef {
        self.engine().enter_usual(hop, flow)
    }

    /// What a session that was just made tells of packets like its first one.
    pub(crate) fn decided_hop(
        &self,
        session: SessionRef,
        ingress: InterfaceId,
        egress: InterfaceId,
    ) -> Option<DecidedHop> {
        self.context().decided_hop(session, ingress, egress)
    }

    /// The initiator's packet of a session, as sent and as forwarded.
    pub(crate) fn tuples_of(&self, session: SessionRef) -> (Tuple, Tuple) {
        self.bindings.tuples(session.id)
    }

    /// What a first packet will be looked up by, and its source as it leaves if that can be
    /// guessed; see [`Probe`].
    #[inline]
    pub(crate) fn probe(
        &self,
        hop: &DecidedHop,
        packet: Packet,
        ahead: impl FnOnce(u32) -> u16,
    ) -> (Probe, Option<Endpoint>) {
        self.context().probe(hop, packet, ahead)
    }

    /// Reads what a first packet will be looked up by.
    #[inline(always)]
    pub(crate) fn touch(&self, probe: &Probe) -> u64 {
        self.context().touch(probe)
    }

    /// Reads what it will find of its host by that.
    #[inline(always)]
    pub(crate) fn touch_host(&self, probe: &Probe) -> u64 {
        self.context().touch_host(probe)
    }

    /// Reads the address that its host has to itself by that.
    #[inline(always)]
    pub(crate) fn touch_address(&self, probe: &Probe) -> u64 {
        self.context().touch_address(probe)
    }

    /// What the answer to a first packet will be looked up by, if that is asked.
    #[inline]
    pub(crate) fn probe_answer(&self, hop: &DecidedHop, packet: Packet) -> Option<u32> {
        self.context().probe_answer(hop, packet)
    }

    /// Reads what an answer will be looked up by.
    #[inline(always)]
    pub(crate) fn touch_ends(&self, hash: u32) -> u64 {
        self.context().touch_ends(hash)
    }

    /// Notes whether answers to an external address come in by the interface that it is used on.
    pub(crate) fn note_return(&mut self, address: Key, returns: bool) {
        let external = self.bindings.externals.obtain(address);
        self.bindings.externals.get_mut(external).returns = Some(returns);
    }
}
