//! What time does to the table.
//!
//! Contract: §D1 and §T1 of docs/semantics.md.

use super::keys::endpoint_hash;
use super::table::{Kind, Mapping};
use super::{Bindings, Cause, Engine, Sink};
use crate::net::Instant;

impl<S: Sink> Engine<'_, S> {
    /// Ends everything whose time is up at `now`, in the order of expiry.
    #[inline(always)]
    pub(in crate::device) fn expire(&mut self, now: Instant) {
        if now.0 >= self.bindings.next_expiry {
            self.expire_due(now);
        }
    }

    #[inline(never)]
    fn expire_due(&mut self, now: Instant) {
        'next: loop {
            let until = now.0.min(self.bindings.lingering.next_end());
            while let Some(id) = self.bindings.table.next_due(until) {
                if self.bindings.table.has_expiring() {
                    self.bindings.prefetch_expiring();
                    if self.bindings.has_many_rules() {
                        self.prefetch_rules();
                    }
                }
                if !self.close_both(id) {
                    let at = self.bindings.table.session(id).expires;
                    self.close_session(id, at, Cause::Expired);
                    // its address mapping may linger, and for less than the next session lives
                    continue 'next;
                }
            }
            let Some((until, mapping)) = self.bindings.lingering.next_over(now.0) else { break };
            if let Some(mapping) = mapping {
                self.close_mapping(mapping, until, Cause::Expired);
            }
        }
        self.bindings.externals.wake(now.0);
        self.bindings.find_next_expiry();
    }

    /// Reads what is kept of the rules of sessions that are about to expire.
    #[inline(never)]
    fn prefetch_rules(&self) {
        let touch = |rule| {
            let live = self.bindings.touch_live(rule);
            live ^ self.sink.touch_rule(rule) ^ self.compiled.targets.touch(rule)
        };
        let expiring = self.bindings.expiring.iter();
        std::hint::black_box(expiring.fold(0, |sum, l| sum ^ touch(l.0.rule)));
    }
}

impl Bindings {
    fn find_next_expiry(&mut self) {
        let next = self.table.next_expiry().min(self.lingering.next_end());
        self.next_expiry = next.min(self.externals.next_wake());
    }

    /// Whatever is due is to be looked at anew.
    pub(in crate::device) fn forget_next_expiry(&mut self) {
        self.next_expiry = 0;
    }

    /// Reads what the sessions that are about to expire are found by, and hold. For many at once:
    /// what has to be waited for is then waited for together.
    fn prefetch_expiring(&mut self) {
        let mut expiring = std::mem::take(&mut self.expiring);
        let mut explicit = std::mem::take(&mut self.expiring_explicit);
        expiring.clear();
        explicit.clear();
        let (externals, dependence) = (&self.externals, self.dependence);
        let by_mapping = |m: &Mapping, peer| {
            if m.kind() == Kind::Endpoint {
                let end = (m.internal, m.internal_port);
                let protocol = externals.protocol_of(m.place());
                expiring.push((*m, endpoint_hash(dependence, protocol, end, peer)));
            }
        };
        self.table.next_expiring(by_mapping, |record| explicit.push(record));
        let found = expiring.iter().fold(0, |sum, l| sum ^ self.table.by_internal.touch(l.1));
        if self.externals.has_own_ports() {
            let host = |m: &Mapping| self.touch_host(m.place(), m.internal);
            let hosts = expiring.iter().fold(0, |sum, l| sum ^ host(&l.0));
            let block = |m: &Mapping| self.externals.touch_first_block(m.place(), m.internal);
            let blocks = expiring.iter().fold(0, |sum, l| sum ^ block(&l.0));
            std::hint::black_box((hosts, blocks));
        }
        let port = |m: &Mapping| self.touch_port(m.place(), m.external_port);
        let ports = expiring.iter().fold(0, |sum, l| sum ^ port(&l.0));
        std::hint::black_box((found, ports, self.table.touch_explicit(&explicit)));
        if !self.paired.is_empty() {
            let pair = |m: &Mapping| self.paired.touch(m.internal, m.target);
            std::hint::black_box(expiring.iter().fold(0, |sum, l| sum ^ pair(&l.0)));
        }
        (self.expiring, self.expiring_explicit) = (expiring, explicit);
    }
}
