//! What is done to a device while it runs.
//!
//! Contract: §T7 of docs/semantics.md.

use std::collections::BTreeSet;

use super::Device;
use super::bindings::{Bindings, Cause, Context, Engine, NONE, Sink};
use super::key::Key;
use crate::event::{Action, Clearing};
use crate::net::Instant;
use crate::plan::RuleId;

impl Device {
    /// Does something to the device. A disabled rule's sessions go on; what is cleared ends.
    pub fn act(&mut self, now: Instant, action: &Action) {
        self.expire(now);
        self.bindings.externals.forget_returns();
        match action {
            Action::Disable(rule) => self.enable(*rule, false, now),
            Action::Enable(rule) => self.enable(*rule, true, now),
            Action::Clear(clearing) => self.engine().clear(now, *clearing, Cause::Cleared),
            Action::Restart => self.restart(now),
            // these change the world around it too: the network does them
            Action::Lease(..) | Action::Plan(..) => {}
        }
    }

    fn enable(&mut self, rule: RuleId, on: bool, now: Instant) {
        self.active.set(&self.compiled, rule.0, on);
        if !on {
            self.engine().pass_on(now);
        }
    }

    /// All dynamic state is lost, and what `in-turn` and `sequential` remember with it. What was
    /// counted stays.
    fn restart(&mut self, now: Instant) {
        self.engine().clear(now, Clearing::default(), Cause::Restarted);
        self.bindings.forget_choices();
        if let Some(history) = self.recorder.history_mut() {
            history.forget_port_tables();
        }
    }
}

impl Bindings {
    /// Forgets what choices go on from, and what rests.
    fn forget_choices(&mut self) {
        self.externals.forget();
        self.choices.last_picked.fill(None);
        self.choices.next_server.fill(0);
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Mappings of rules that take no part go to one that shares them, or end with their last
    /// session.
    pub(super) fn pass_on(&mut self, now: Instant) {
        let (active, bindings) = (self.active, &self.bindings);
        let is_left = |m: &u32| !active.has(bindings.table.mapping(*m).rule);
        let left: Vec<u32> = bindings.table.all_mappings().filter(is_left).collect();
        // all at once: their mappings may count as other rules' soon
        self.spell_out_sessions(|_, mapping| !active.has(mapping.rule));
        for mapping in left {
            let sharing = self.bindings.details.sharing.get(&mapping);
            let heir = sharing.and_then(|s| s.iter().find(|r| active.has(**r))).copied();
            match heir {
                Some(heir) => self.hand_over(now.0, mapping, heir),
                // it ends with its last session, which it has none of
                None if self.bindings.table.session_count_of(mapping) == 0 => {
                    self.close_mapping(mapping, now.0, Cause::RuleDisabled);
                }
                None => {}
            }
        }
    }

    /// Closes the sessions that are meant, and the mappings that are left without one.
    fn clear(&mut self, now: Instant, what: Clearing, cause: Cause) {
        let context = self.context();
        let sessions: Vec<u32> = context
            .bindings
            .table
            .all_sessions()
            .filter(|id| context.is_meant(*id, what))
            .collect();
        let mut left: BTreeSet<u32> = BTreeSet::new();
        for id in sessions {
            left.extend(self.bindings.table.used_by(self.bindings.table.session(id)));
            self.close_session(id, now.0, cause);
        }
        // cleared mappings do not linger
        let empty = |m: &u32| self.bindings.lingering.until(*m).is_some();
        let lingering: Vec<u32> = self.bindings.table.all_mappings().filter(empty).collect();
        for mapping in lingering {
            let m = self.bindings.table.mapping(mapping);
            let host = what.host.is_none_or(|h| Key::of(h) == Some(m.internal));
            let rule = what.rule.is_none_or(|r| r.0 == m.rule);
            let pool =
                what.pool.is_none_or(|p| self.compiled.targets.get(m.target).pool == Some(p));
            // without sessions it has no protocol
            let meant = host && rule && pool && what.protocol.is_none();
            if meant || left.contains(&mapping) {
                self.close_mapping(mapping, now.0, cause);
            }
        }
    }
}

impl Context<'_> {
    /// Whether a session is one of those that are to be cleared.
    fn is_meant(&self, id: u32, what: Clearing) -> bool {
        let session = self.bindings.table.session(id);
        let (original, translated) = self.bindings.tuples(id);
        let (inbound, outbound) = self.bindings.rules_of(session);
        let host = |h| original.source.address == h || translated.destination.address == h;
        let pool = |p: crate::plan::PoolId| {
            let m = self.bindings.table.listed_under(session);
            m != NONE
                && self.compiled.targets.get(self.bindings.table.mapping(m).target).pool == Some(p)
        };
        what.host.is_none_or(host)
            && what.rule.is_none_or(|r| inbound == Some(r) || outbound == Some(r))
            && what.pool.is_none_or(pool)
            && what.protocol.is_none_or(|p| self.bindings.protocol_of(session) == p)
    }
}
