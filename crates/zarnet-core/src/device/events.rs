//! What is done to a device while it runs.

use std::collections::BTreeSet;

use super::Device;
use super::session::NONE;
use super::table::bits;
use crate::net::Instant;
use crate::plan::RuleId;
use crate::traffic::{Action, Clearing};

impl Device {
    /// Does something to the device. A disabled rule's sessions go on; what is cleared ends.
    pub fn act(&mut self, now: Instant, action: &Action) {
        self.expire(now);
        self.externals.forget_returns();
        match action {
            Action::Disable(rule) => self.enable(*rule, false, now),
            Action::Enable(rule) => self.enable(*rule, true, now),
            Action::Clear(clearing) => self.clear(now, *clearing),
            Action::Restart => self.restart(now),
            // these change the world around it too: the network does them
            Action::Lease(..) | Action::Plan(..) => {}
        }
    }

    fn enable(&mut self, rule: RuleId, on: bool, now: Instant) {
        self.enabled[rule.index()] = on;
        self.config.claim(&self.enabled);
        if !on {
            self.pass_on(now);
        }
    }

    /// Mappings of rules that take no part go to one that shares them, or end with their last session.
    pub(super) fn pass_on(&mut self, now: Instant) {
        let is_left = |m: &u32| !self.enabled[usize::from(self.table.mapping(*m).rule)];
        let left: Vec<u32> = self.table.all_mappings().filter(is_left).collect();
        for mapping in left {
            let heir = self.sharing.get(&mapping).and_then(|s| s.iter().find(|r| self.enabled[usize::from(**r)]));
            match heir.copied() {
                Some(heir) => self.hand_over(mapping, heir),
                // it ends with its last session, which it has none of
                None if self.table.session_count_of(mapping) == 0 => self.remove_mapping(mapping, 0, 0, now.0),
                None => {}
            }
        }
    }

    fn clear(&mut self, now: Instant, what: Clearing) {
        let sessions: Vec<u32> = self.table.all_sessions().filter(|id| self.is_meant(*id, what)).collect();
        let mut left: BTreeSet<u32> = BTreeSet::new();
        for id in sessions {
            let mappings = self.table.used_by(self.table.session(id));
            self.end_session(id, now.0, false);
            left.extend(mappings);
        }
        // cleared mappings do not linger
        let empty = |m: &u32| self.lingers_until(*m).is_some();
        let lingering: Vec<u32> = self.table.all_mappings().filter(empty).collect();
        for mapping in lingering {
            let m = self.table.mapping(mapping);
            let host = what.host.is_none_or(|h| bits(h) == Some(m.internal));
            let rule = what.rule.is_none_or(|r| r.0 == m.rule);
            let pool = what.pool.is_none_or(|p| self.config.targets[usize::from(m.target)].pool == Some(p));
            // without sessions it has no protocol
            let meant = host && rule && pool && what.protocol.is_none();
            if meant || left.contains(&mapping) {
                self.remove_mapping(mapping, 0, 0, now.0);
            }
        }
    }

    fn is_meant(&self, id: u32, what: Clearing) -> bool {
        let session = self.table.session(id);
        let (original, translated) = self.tuples(id);
        let (inbound, outbound) = self.rules_of(session);
        let host = |h| original.source.address == h || translated.destination.address == h;
        let pool = |p: crate::plan::PoolId| {
            let m = self.table.listed_under(session);
            m != NONE && self.config.targets[usize::from(self.table.mapping(m).target)].pool == Some(p)
        };
        what.host.is_none_or(host)
            && what.rule.is_none_or(|r| inbound == Some(r) || outbound == Some(r))
            && what.pool.is_none_or(pool)
            && what.protocol.is_none_or(|p| self.protocol_of(session) == p)
    }

    /// All dynamic state is lost, and what `in-turn` and `sequential` remember with it. What was counted stays.
    fn restart(&mut self, now: Instant) {
        self.clear(now, Clearing::default());
        self.externals.forget();
        if let Some(history) = &mut self.history {
            history.forget_pages();
        }
        self.last_picked.fill(None);
        self.turns.fill(0);
    }
}
