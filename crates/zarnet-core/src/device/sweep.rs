//! The end of a run: what is due by then ends at once, in no order. Nothing is looked up any more, so that ports, indexes and
//! pairs are left as they are, and only what is counted and listed matters.

use super::Device;
use super::session::NONE;
use crate::net::Instant;

impl Device {
    /// Ends everything whose time is up at `now`, after [`Device::release`].
    pub(crate) fn sweep(&mut self, now: Instant) {
        // use over time is told in its order
        if !self.config.plain || self.history.is_some() {
            return self.expire(now);
        }
        let mut others = Vec::new();
        for id in 0..self.table.places() {
            let session = self.table.session(id);
            let (expires, is_none) = (session.expires, session.owner == NONE);
            if !is_none && expires <= now.0 && !self.dismiss(id, expires) {
                others.push((expires, id));
            }
        }
        others.sort_unstable();
        for (at, id) in others {
            self.end_session(id, at, true);
        }
        self.table.file_anew();
        self.calm_until = 0;
        self.expire(now);
    }

    /// Ends a session that is due, and its mapping with it, if there is nothing more to either: `false` if there is, or
    /// might be.
    fn dismiss(&mut self, id: u32, at: u64) -> bool {
        let Some(m) = self.table.lone_mapping(id) else { return false };
        if self.config.rule_targets[usize::from(m.rule)].fallback.is_some() {
            return false;
        }
        self.table.forget_lone(id);
        self.count_end(m.rule);
        if let Some(address) = self.externals.leave(m.place()) {
            self.note_use(address, false, at);
        }
        true
    }
}
