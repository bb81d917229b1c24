//! What flows and packets are looked up by, read before their turn comes. For many at once: what
//! has to be waited for is then waited for together.

use super::FlowKey;
use crate::device::bindings::{AT_HAND, Context, NONE};
use crate::plan::PortAssignment;

impl Context<'_> {
    /// A flow with what only a new mapping needs.
    #[inline(always)]
    pub(in crate::device) fn with_external(&self, flow: FlowKey) -> FlowKey {
        FlowKey {
            external: self.fixed_external(flow.source.0, flow.target).unwrap_or(NONE),
            ..flow
        }
    }

    /// Reads what a flow will be looked up by.
    #[inline(always)]
    pub(in crate::device) fn prefetch_index(&self, flow: &FlowKey) -> u64 {
        let table = &self.bindings.table;
        let ends = match table.has_found_by_ends() {
            true => table.touch_between(flow.protocol, flow.source, flow.destination),
            false => 0,
        };
        table.touch_internal(flow.hash) ^ ends
    }

    /// Looks for the mapping that a packet may belong to.
    #[inline(always)]
    pub(in crate::device) fn find_mapping(&self, flow: &mut FlowKey) {
        flow.found = self.bindings.table.first_by_internal(flow.hash).unwrap_or(NONE);
    }

    /// Reads the mapping that was found; or else what a new one needs.
    #[inline(always)]
    pub(in crate::device) fn prefetch_mapping(&self, flow: &FlowKey) -> u64 {
        if flow.found == NONE {
            self.prefetch_port(flow).into()
        } else {
            self.bindings.table.mapping(flow.found).internal.number()
        }
    }

    /// Reads where a packet that goes back would have another mapping.
    #[inline(always)]
    pub(in crate::device) fn prefetch_reverse(&self, flow: &FlowKey) -> u64 {
        let table = &self.bindings.table;
        if table.may_be_inside(flow.destination.0) {
            table.touch_internal(self.reverse_hash(flow))
        } else {
            0
        }
    }

    /// What would find a mapping of a flow's receiver, as if that had begun it.
    pub(super) fn reverse_hash(&self, flow: &FlowKey) -> u32 {
        self.bindings.endpoint_hash(flow.protocol, flow.destination, flow.source)
    }

    /// Reads what a flow's host is looked up by, where that is kept.
    #[inline(always)]
    pub(in crate::device) fn prefetch_host(&self, flow: &FlowKey) -> u64 {
        let kept = self.bindings.target(flow.target).keeps_pairs();
        if kept { self.bindings.paired.touch(flow.source.0, flow.target) } else { 0 }
    }

    /// Reads what a flow's host gets its next port by: where that is entered; or, if more decides
    /// about it than which ones are free, what the host has.
    #[inline(always)]
    pub(in crate::device) fn prefetch_port(&self, flow: &FlowKey) -> u32 {
        let live = self.bindings.touch_live(flow.rule);
        let Some(table) = self.likely_table(flow) else { return live };
        live ^ match self.is_careful() {
            true => self.bindings.touch_host(table, flow.source.0),
            false => {
                let port = self.likely_port(table, flow.source.1, 1);
                self.bindings.touch_port(table, port)
            }
        }
    }

    /// The ports among which a flow gets one, if any of them have been used.
    #[inline(always)]
    fn likely_table(&self, flow: &FlowKey) -> Option<u32> {
        let external =
            if flow.knows_external() { Some(flow.external) } else { self.external_for(flow).0 };
        external.and_then(|e| self.bindings.externals.get(e).port_table(flow.protocol))
    }

    /// Whether it has to be waited for where a host's next port is entered: ports are not handed
    /// out one after the other, or on many addresses, or are counted by many rules.
    pub(in crate::device) fn has_far_ports(&self) -> bool {
        let targets = &self.compiled.targets.list;
        self.is_careful()
            || self.compiled.plan.behaviour.port_assignment != PortAssignment::Sequential
            || targets.iter().any(|target| target.space.count() as usize > AT_HAND)
            || self.bindings.has_many_rules()
    }

    /// Whether more decides about a new port of a host than which ones are free: how many it has,
    /// its blocks, and what rests.
    pub(in crate::device) fn is_careful(&self) -> bool {
        !self.compiled.mappings_are_simple
    }

    /// Reads the block of a flow's host, and the beginning of it, where that decides; after
    /// [`Self::prefetch_port`] for many.
    #[inline]
    pub(in crate::device) fn prefetch_block(&self, flow: &FlowKey) -> u32 {
        let Some(table) = self.likely_table(flow).filter(|_| self.is_careful()) else { return 0 };
        let class = self.compiled.plan.behaviour.port_class(flow.source.1);
        let own = self.bindings.externals.own_ports(table, flow.source.0);
        let Some((span, block)) = self.own_span(own, class) else { return 0 };
        let used = block.map_or(0, |n| self.bindings.externals.touch_block(table, (class, n)));
        used ^ self.bindings.touch_port(table, span.0)
    }

    /// The external address that a host has or would get, if it has been used, and where that is
    /// noted.
    #[inline(always)]
    pub(super) fn external_for(&self, flow: &FlowKey) -> (Option<u32>, Option<usize>) {
        // asked when its turn comes: what was known beforehand may hold no longer
        if flow.knows_external() && !self.bindings.target(flow.target).keeps_pairs() {
            return (Some(flow.external), None);
        }
        self.external_of_host(flow.source.0, flow.target)
    }
}
