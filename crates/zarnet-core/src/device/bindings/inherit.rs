//! Sessions from before a plan keep the ends that they hold.

use super::inherited_ends::{HeldEnd, InheritedEnds};
use super::{Context, Engine, Sink};
use crate::device::key::Key;

impl Context<'_> {
    /// What sessions of fixed rules hold, in the order of the table.
    pub(in crate::device) fn find_held_ends(&self) -> Vec<(u32, HeldEnd)> {
        let mut found = Vec::new();
        for id in self.bindings.table.all_sessions() {
            let protocol = || self.bindings.protocol_of(self.bindings.table.session(id));
            for (_, internal, external) in self.fixed_ends(id).into_iter().flatten() {
                if let Some(address) = Key::of(external.address).filter(|_| internal != external) {
                    found.push((id, (address, protocol(), external.port)));
                }
            }
        }
        found
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Sessions from before the plan keep what they hold: no other gets it.
    pub(in crate::device) fn hold_ends(&mut self, found: &[(u32, HeldEnd)]) {
        self.bindings.inherited = InheritedEnds::default();
        for &(session, end) in found {
            self.bindings.inherited.by_session.entry(session).or_default().push(end);
            if !self.bindings.inherited.ends.contains_key(&end) {
                *self.bindings.inherited.by_address.entry(end.0).or_default() += 1;
                let free = self.take_held_port(end);
                self.bindings.inherited.ends.insert(end, (0, free));
            }
            if let Some(held) = self.bindings.inherited.ends.get_mut(&end) {
                held.0 += 1;
            }
        }
        found.iter().for_each(|f| self.offer(f.1.0));
    }

    /// Takes the port of an end out, if it has one. Tells whether it was free.
    fn take_held_port(&mut self, (address, protocol, port): HeldEnd) -> bool {
        if !protocol.is_multiplexed() {
            return false;
        }
        let port_table = self.obtain_ports(address, protocol);
        let ports = &mut self.bindings.externals.port_table_mut(port_table).ports;
        let free = ports.is_free(port);
        ports.take(port);
        free
    }

    /// A session has ended: what it held is to be had again, if no other holds it.
    pub(super) fn give_back_inherited(&mut self, session: u32) {
        for end in self.bindings.inherited.by_session.remove(&session).into_iter().flatten() {
            let (address, protocol, port) = end;
            let inherited = &mut self.bindings.inherited;
            let Some((holders, free)) = inherited.ends.get_mut(&end) else { continue };
            *holders -= 1;
            if *holders > 0 {
                continue;
            }
            let free = *free;
            inherited.ends.remove(&end);
            if let Some(port_table) =
                self.bindings.externals.find_port_table(address, protocol).filter(|_| free)
            {
                self.bindings.externals.port_table_mut(port_table).ports.release(port);
            }
            if let Some(held) = self.bindings.inherited.by_address.get_mut(&address) {
                *held -= 1;
                if *held == 0 {
                    self.bindings.inherited.by_address.remove(&address);
                    self.offer(address);
                }
            }
        }
    }

    /// Targets that hand out whole addresses have one if nothing else holds it.
    fn offer(&mut self, address: Key) {
        let free = !self.bindings.holds(address);
        for target in self.compiled.targets.holding(address) {
            let position = self.compiled.targets.get(*target).space.position(address);
            if let (Some(all), Some(position)) =
                (&mut self.bindings.target_mut(*target).free, position)
            {
                if free { all.insert(position) } else { all.remove(position) }
            }
        }
    }
}
