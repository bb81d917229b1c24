//! The fixed ends that hairpinned sessions without tuples of their own go to (RFC 4787 §6 REQ-9).
//!
//! Such a session runs under the endpoint mapping of its host. Its far end is the external end of
//! the fixed rule that turned its first packet back inside; that rule and the internal end follow
//! from it, and are noted here once for all sessions that go there. No other session has the
//! answers of one: before another comes to have them, it is given tuples.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::device::key::EndKey;
use crate::net::Protocol;

/// Where a fixed rule turns packets to that are for its external end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::device) struct HairpinEnd {
    pub rule: u16,
    pub internal: EndKey,
}

/// An end of a protocol.
type Service = (Protocol, EndKey);

/// The ends that living sessions go to.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct Hairpins {
    /// By external end, with the number of sessions.
    by_external: HashMap<Service, (HairpinEnd, u32), RandomState>,
    /// External ends by internal one.
    by_internal: HashMap<Service, Vec<EndKey>, RandomState>,
}

impl Hairpins {
    #[inline(always)]
    pub(in crate::device) fn is_empty(&self) -> bool {
        self.by_external.is_empty()
    }

    /// Whether an external end can stand for another end: it stands for no other already, as it
    /// does for sessions from before a change of its rule.
    pub(in crate::device) fn may_hold(
        &self,
        protocol: Protocol,
        external: EndKey,
        end: HairpinEnd,
    ) -> bool {
        self.find(protocol, external).is_none_or(|known| known == end)
    }

    pub(super) fn find(&self, protocol: Protocol, external: EndKey) -> Option<HairpinEnd> {
        self.by_external.get(&(protocol, external)).map(|known| known.0)
    }

    /// The external ends whose packets come to an internal one.
    pub(in crate::device) fn externals_of(
        &self,
        protocol: Protocol,
        internal: EndKey,
    ) -> impl Iterator<Item = EndKey> + '_ {
        let found = (!self.is_empty()).then(|| self.by_internal.get(&(protocol, internal)));
        found.flatten().into_iter().flatten().copied()
    }

    /// A session begins.
    pub(super) fn enter(&mut self, protocol: Protocol, external: EndKey, end: HairpinEnd) {
        let (_, sessions) = self.by_external.entry((protocol, external)).or_insert((end, 0));
        *sessions += 1;
        if *sessions == 1 {
            self.by_internal.entry((protocol, end.internal)).or_default().push(external);
        }
    }

    /// A session ends, or is given tuples.
    pub(super) fn leave(&mut self, protocol: Protocol, external: EndKey) {
        let Some((end, sessions)) = self.by_external.get_mut(&(protocol, external)) else { return };
        *sessions -= 1;
        if *sessions > 0 {
            return;
        }
        let internal = (protocol, end.internal);
        self.by_external.remove(&(protocol, external));
        if let Some(list) = self.by_internal.get_mut(&internal) {
            list.retain(|other| *other != external);
            if list.is_empty() {
                self.by_internal.remove(&internal);
            }
        }
    }

    /// Gives rules other numbers.
    pub(super) fn rename(&mut self, rule: impl Fn(u16) -> u16) {
        self.by_external.values_mut().for_each(|known| known.0.rule = rule(known.0.rule));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::testing::key;

    #[test]
    fn an_end_is_known_as_long_as_sessions_go_there() {
        let mut hairpins = Hairpins::default();
        let (tcp, udp) = (Protocol::TCP, Protocol::UDP);
        let internal = (key("10.0.0.5"), 443);
        let [a, b] = ["203.0.113.6", "203.0.113.7"].map(|address| (key(address), 443));
        let [old, new] = [1, 2].map(|rule| HairpinEnd { rule, internal });
        let externals = |hairpins: &Hairpins, protocol| {
            hairpins.externals_of(protocol, internal).collect::<Vec<_>>()
        };
        hairpins.enter(tcp, a, old);
        hairpins.enter(tcp, a, old);
        hairpins.enter(tcp, b, new);
        assert_eq!(externals(&hairpins, tcp), [a, b]);
        assert_eq!(externals(&hairpins, udp), []);
        assert!(hairpins.may_hold(tcp, a, old) && !hairpins.may_hold(tcp, a, new));
        hairpins.leave(tcp, a);
        assert_eq!(hairpins.find(tcp, a), Some(old), "one goes there still");
        hairpins.rename(|rule| rule + 10);
        assert_eq!(hairpins.find(tcp, b).map(|end| end.rule), Some(12));
        hairpins.leave(tcp, a);
        assert_eq!((hairpins.find(tcp, a), externals(&hairpins, tcp)), (None, vec![b]));
        hairpins.leave(tcp, b);
        assert!(hairpins.is_empty());
    }
}
