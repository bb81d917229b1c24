//! What a flow that found nothing left was looking for.

use std::net::IpAddr;

use super::{History, MAPPINGS, SESSIONS, Supply};
use crate::device::bindings::{Context, NONE};
use crate::device::key::Key;
use crate::net::{Instant, Protocol};
use crate::plan::RuleId;
use crate::reason::Reason;

/// A flow that was refused, as far as it tells what it looked for.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct RefusedFlow {
    pub reason: Reason,
    pub rule: Option<RuleId>,
    pub host: IpAddr,
    pub protocol: Protocol,
    pub port: u16,
}

impl History {
    /// Notes that a flow found nothing left, and tells of what: up to three positions in
    /// [`History::supplies`].
    pub(in crate::device) fn refuse(
        &mut self,
        now: Instant,
        context: Context<'_>,
        flow: RefusedFlow,
    ) -> [Option<u32>; 3] {
        let room = self.room;
        let lines = self.lines_sought(context, flow);
        lines.map(|line| {
            self.lines.get_mut(line as usize)?.1.refuse(now.0, room);
            Some(line)
        })
    }

    /// What a flow would have had to find something of.
    fn lines_sought(&mut self, context: Context<'_>, flow: RefusedFlow) -> [u32; 3] {
        let mut lines = [NONE; 3];
        match (flow.reason, flow.rule) {
            (Reason::DeviceFull, _) => {
                let most = self.compiled.plan.behaviour.max_sessions;
                let full = most.is_some_and(|m| context.bindings.table.session_count() >= m);
                lines[0] = if full { SESSIONS } else { MAPPINGS };
            }
            (
                Reason::PoolExhausted | Reason::PortsExhausted | Reason::PassedExhausted,
                Some(rule),
            ) => {
                let tried = context.tried_targets(rule.0, flow.host);
                let sought = tried
                    .into_iter()
                    .flatten()
                    .flat_map(|target| self.lines_of(context, target, flow));
                let found: Vec<u32> = sought.filter(|line| *line != NONE).collect();
                lines.iter_mut().zip(found).for_each(|(place, line)| *place = line);
            }
            _ => {}
        }
        lines
    }

    /// What a host would have had to find on a target.
    fn lines_of(&mut self, context: Context<'_>, target: u16, flow: RefusedFlow) -> [u32; 2] {
        let compiled = self.compiled.clone();
        let config = compiled.targets.get(target);
        if config.whole {
            return [self.pool_line(target).unwrap_or(NONE), NONE];
        }
        if !flow.protocol.is_multiplexed() || config.space.count() == 0 {
            return [NONE; 2];
        }
        let one = match config.space.count() {
            1 => Some(config.space.nth(0)),
            _ => Key::of(flow.host).and_then(|h| context.paired_address(h, target)),
        };
        let behaviour = &compiled.plan.behaviour;
        let range = behaviour.port_classes[behaviour.port_class(flow.port)].into;
        let lines = self.new_port_lines(one.unwrap_or(config.space.nth(0)), flow.protocol, range);
        // where ports come in blocks, a block is what is wanted
        let (own, all) = match behaviour.block_size {
            Some(_) => (lines.blocks[0], Supply::BlocksOfAll(config.target, flow.protocol, range)),
            None => (lines.ports[0], Supply::PortsOfAll(config.target, flow.protocol, range)),
        };
        let all = self.known.get(&all).copied().unwrap_or(NONE);
        [if one.is_some() { own } else { NONE }, all]
    }
}
