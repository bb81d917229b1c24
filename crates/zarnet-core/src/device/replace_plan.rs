//! Another description for a device that runs: its sessions and mappings stay, all that follows
//! from the description is found anew.
//!
//! Contract: §T7 of docs/semantics.md.

use std::net::IpAddr;
use std::sync::Arc;

use super::Device;
use super::bindings::{Cause, Renumbered};
use super::compiled::{ActiveRules, Compiled};
use super::key::Key;
use crate::net::{AddressRange, AddressSet, Instant, Prefix};
use crate::plan::{self, InterfaceId, Renaming};

impl Device {
    /// Takes another description over. `taken` as for a new device; `enabled`: which of its rules
    /// take part.
    pub(crate) fn replace_plan(
        &mut self,
        now: Instant,
        plan: Arc<plan::DevicePlan>,
        taken: &Arc<AddressSet>,
        renaming: &Renaming,
        enabled: Vec<bool>,
    ) {
        self.expire(now);
        let held = self.context().find_held_ends();
        let used = self.bindings.externals.used().chain(held.iter().map(|h| h.1.0));
        let used: AddressSet = used.map(|key| AddressRange::one(key.address())).collect();
        let old = self.compiled.clone();
        let before =
            || old.targets.list.iter().map(|t| (renaming.target(t.target, &old.plan), t.whole));
        let compiled = Arc::new(Compiled::new(plan, taken, &used, before()));
        let targets: Vec<u16> = before().filter_map(|t| compiled.targets.position(t)).collect();
        self.active = ActiveRules::new(&compiled, enabled);
        self.recorder.rename(&compiled, renaming, &targets, &old.plan);
        self.compiled = compiled;
        let mut engine = self.engine();
        engine.rebuild(now.0, &Renumbered { renaming, targets: &targets });
        engine.hold_ends(&held);
        engine.pass_on(now);
        if let Some(log) = self.recorder.log_mut() {
            log.update_blocks(now, &self.bindings);
        }
        self.bindings.externals.forget_returns();
        self.bindings.forget_next_expiry();
    }

    /// An address of its own is no longer: all sessions and dynamic mappings on it end.
    pub(crate) fn lose(&mut self, now: Instant, address: IpAddr) {
        self.expire(now);
        let bindings = &self.bindings;
        let has_it = |id: &u32| {
            let (original, translated) = bindings.tuples(*id);
            [original.source, original.destination, translated.source, translated.destination]
                .iter()
                .any(|end| end.address == address)
        };
        let doomed: Vec<u32> = bindings.table.all_sessions().filter(has_it).collect();
        doomed
            .into_iter()
            .for_each(|id| self.engine().close_session(id, now.0, Cause::AddressLost));
        let external = Key::of(address).and_then(|a| self.bindings.externals.find(a));
        let whole = external.map(|e| self.bindings.externals.get(e).whole);
        if let Some(mapping) = whole.filter(|m| self.bindings.lingering.until(*m).is_some()) {
            self.engine().close_mapping(mapping, now.0, Cause::AddressLost);
        }
    }

    /// A description with an interface at another address.
    pub(crate) fn plan_with_lease(
        &self,
        interface: InterfaceId,
        address: IpAddr,
        prefix: Prefix,
    ) -> plan::DevicePlan {
        let mut plan = plan::DevicePlan::clone(&self.compiled.plan);
        let addresses = &mut plan.interfaces[interface.index()].addresses;
        match addresses.iter_mut().find(|a| a.0.is_ipv4() == address.is_ipv4()) {
            Some(old) => *old = (address, prefix),
            None => addresses.push((address, prefix)),
        }
        plan
    }
}
