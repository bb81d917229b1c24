//! An external end for a new mapping: a whole address, or an address and a port.
//!
//! Contract: §M6 to §M9 of docs/semantics.md.

use super::draw::Draw;
use super::port::Wish;
use crate::device::bindings::{Context, ExternalEnd, Kind, NONE};
use crate::device::key::Key;
use crate::net::{Endpoint, Packet};
use crate::reason::Reason;

impl Context<'_> {
    /// A whole address of a target for a host; `None` if there is none left.
    pub(in crate::device) fn address_on(&self, target: u16, host: Key) -> Option<ExternalEnd> {
        let mut draw = self.draw();
        let position = self.free_position(target, host, &mut draw)?;
        let config = self.compiled.targets.get(target);
        let freely = self.picks_freely(config);
        let end = end_of(Kind::Address, target, config.space.nth(position));
        Some(ExternalEnd { freely, picked: true, random: draw.position(), ..end })
    }

    /// An address and port on a target for the sender of a packet.
    ///
    /// # Errors
    /// Why there is none.
    pub(in crate::device) fn endpoint_on(
        &self,
        target: u16,
        sent: Packet,
        peer: Endpoint,
    ) -> Result<ExternalEnd, Reason> {
        let config = self.compiled.targets.get(target);
        let Some(host) = Key::of(sent.source().address) else {
            return Err(Reason::UnsupportedFamily);
        };
        let mut draw = self.draw_for(config);
        let wish = Wish { protocol: sent.protocol, host, port: sent.source().port, peer };
        let none_left = if wish.protocol.is_multiplexed() {
            Reason::PortsExhausted
        } else {
            Reason::UnsupportedProtocol
        };
        let paired = self.compiled.plan.behaviour.paired && config.space.count() > 1;
        let is_stable = self.bindings.target(target).is_stable();
        if let Some(address) = self.paired_address(host, target).filter(|_| paired) {
            let end = self.end_on((target, address), is_stable, wish, &mut draw);
            // who is nowhere yet may go elsewhere
            if end.is_some() || !is_stable || self.bindings.is_on(host, target) {
                return end.ok_or(none_left);
            }
        }
        let found = |n: u32, draw: &mut Option<Draw<'_>>| {
            self.end_on((target, config.space.nth(n)), true, wish, draw)
        };
        self.first_position(config, host, found, &mut draw).ok_or(none_left)
    }

    /// An end on one address of a target. `picked`: the address came out of the target's turn.
    fn end_on(
        &self,
        (target, address): (u16, Key),
        picked: bool,
        wish: Wish,
        draw: &mut Option<Draw<'_>>,
    ) -> Option<ExternalEnd> {
        let external = self.bindings.externals.find(address);
        if external.is_some_and(|e| self.bindings.externals.get(e).whole != NONE) {
            return None;
        }
        let freely = self.picks_freely(self.compiled.targets.get(target));
        let mut end = ExternalEnd { freely, picked, ..end_of(Kind::Endpoint, target, address) };
        if wish.protocol.is_multiplexed() {
            self.port_on(&mut end, wish, draw)?;
        } else {
            end.kind = Kind::Portless;
            if !self.is_free_portless((external, address), wish)? {
                return None;
            }
        }
        end.random = draw.as_ref().and_then(Draw::position);
        Some(end)
    }

    /// Whether a protocol without ports may use an address for a peer; `None` for a peer that no
    /// state is kept of.
    fn is_free_portless(
        &self,
        (external, address): (Option<u32>, Key),
        wish: Wish,
    ) -> Option<bool> {
        let peer = Key::of(wish.peer.address)?;
        // the address of a static rule is its own for whatever it serves, enabled or not
        let mut statics = self.compiled.destinations.statics(address.address()).iter();
        let is_bound = statics.any(|r| self.rule(*r).service.holds(wish.protocol, 0));
        let portless = &self.bindings.details.portless;
        let is_taken = external.is_some_and(|e| portless.contains_key(&(e, wish.protocol, peer)));
        Some(!is_bound && !is_taken && !self.bindings.inherited.hold(address, wish.protocol))
    }
}

/// An end on an address of a target, with nothing chosen yet but the address.
fn end_of(kind: Kind, target: u16, address: Key) -> ExternalEnd {
    let (freely, picked, class, block, random) = (false, false, 0, None, None);
    ExternalEnd { kind, target, address, port: 0, freely, picked, class, block, random }
}
