//! Sessions whose tuples followed from their mapping are given tuples of their own, where they no
//! longer do.

use super::arena::NONE;
use super::session::{INBOUND, Session};
use super::table::{ExplicitTuple, Mapping};
use super::{Bindings, Engine, Sink};

impl Bindings {
    /// The tuples that follow from a session's mapping, and whatever else a session with tuples
    /// has.
    fn explicit_of(&self, id: u32) -> ExplicitTuple {
        let session = self.table.session(id);
        let (original, translated) = self.tuples(id);
        let (inbound_rule, outbound_rule) = self.rules_of(session);
        let (source_mapping, entered) = match session.has(INBOUND) {
            true => (NONE, session.owner),
            false => (session.owner, NONE),
        };
        ExplicitTuple {
            protocol: self.protocol_of(session),
            original,
            translated,
            inbound_rule: inbound_rule.map(|r| r.0),
            outbound_rule: outbound_rule.map(|r| r.0),
            source_mapping,
            entered,
            interfaces: (u16::MAX, u16::MAX),
            serial: 0,
            comes_second: false,
        }
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Gives a session tuples of its own.
    pub(in crate::device) fn spell_out(&mut self, id: u32) {
        let explicit = self.bindings.explicit_of(id);
        let session = *self.bindings.table.session(id);
        self.bindings.leave_hairpin(&session);
        self.bindings.table.spell_out(id, explicit);
    }

    /// Gives the sessions under address mappings that are meant, by themselves and their mapping,
    /// tuples of their own.
    pub(in crate::device) fn spell_out_sessions(
        &mut self,
        is_meant: impl Fn(&Session, &Mapping) -> bool,
    ) {
        if !self.bindings.table.has_under_address() {
            return;
        }
        let table = &self.bindings.table;
        let meant = |id: &u32| {
            let session = table.session(*id);
            table.is_under_address(session) && is_meant(session, table.mapping(session.owner))
        };
        for id in table.all_sessions().filter(meant).collect::<Vec<u32>>() {
            self.spell_out(id);
        }
    }
}
