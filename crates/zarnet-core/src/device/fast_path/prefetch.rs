//! What flows and packets are looked up by, read before their turn comes. For many at once: what
//! has to be waited for is then waited for together.

use super::FlowKey;
use crate::device::bindings::{Context, NONE};
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
        self.bindings.table.touch_internal(flow.hash)
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

    /// Reads where the next port of a flow's host will be entered.
    #[inline(always)]
    pub(in crate::device) fn prefetch_port(&self, flow: &FlowKey) -> u32 {
        let external =
            if flow.knows_external() { Some(flow.external) } else { self.external_for(flow).0 };
        let port_table =
            external.and_then(|e| self.bindings.externals.get(e).port_table(flow.protocol));
        port_table.map_or(0, |p| {
            if !flow.at_once {
                return self.prefetch_careful(flow, p);
            }
            let behaviour = &self.compiled.plan.behaviour;
            let port = match behaviour.port_assignment {
                PortAssignment::Preserve => flow.source.1,
                PortAssignment::Sequential | PortAssignment::Random => {
                    self.bindings.externals.last(p, 0).wrapping_add(1)
                }
            };
            self.bindings.externals.touch_port(p, port)
        })
    }

    /// Reads what decides about a new port of a flow's host, where that is limited, rests or comes in
    /// blocks.
    fn prefetch_careful(&self, flow: &FlowKey, port_table: u32) -> u32 {
        let (behaviour, host) = (&self.compiled.plan.behaviour, flow.source.0);
        let held = self.bindings.hosts.ports.get(&host).copied().unwrap_or(0);
        let externals = &self.bindings.externals;
        let rested = externals.resting_for(port_table, host).next().unwrap_or(0);
        let class = behaviour.port_class(flow.source.1);
        let mut blocks = externals.port_table(port_table).blocks.of_host(class, host);
        let block = blocks.next().map_or(0, |number| {
            let first = behaviour.port_classes[class].into.0;
            let port = first + number * behaviour.block_size.unwrap_or(0);
            externals.touch_port(port_table, port)
        });
        held ^ u32::from(rested) ^ block
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
