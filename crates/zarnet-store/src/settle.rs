//! Translations as they were found, in files and elsewhere, made one list of.

use std::collections::HashSet;

use foldhash::fast::RandomState;

use crate::record::{Record, Unseen};

/// Translations that were found, each with its device.
#[derive(Default)]
pub(crate) struct Settled(pub Vec<(String, Record)>);

impl Settled {
    /// Leaves each translation once: with both its ends if they are known.
    pub(crate) fn settle(&mut self) {
        let key = |(device, record): &(String, Record)| {
            (record.begun, record.unseen, device.clone(), record.external_order())
        };
        self.0.sort_by_cached_key(key);
        self.0.dedup();
        self.leave_whole();
        self.join();
        self.leave_whole();
        self.bound();
    }

    /// Joins ends of which the one was written before the other came.
    fn join(&mut self) {
        let beginnings: Vec<usize> =
            (0..self.0.len()).filter(|n| self.0[*n].1.unseen == Some(Unseen::Beginning)).collect();
        let mut spent = HashSet::new();
        for end in beginnings {
            let (device, ended) = self.0[end].clone();
            let fits = |(of, record): &(String, Record)| {
                *of == device
                    && record.unseen == Some(Unseen::End)
                    && ends_of(record) == ends_of(&ended)
                    && record.begun <= ended.begun
                    && record.gone_by().is_none_or(|by| ended.begun <= by)
            };
            // the last one that began before
            if let Some(begin) = (0..self.0.len()).rev().find(|n| fits(&self.0[*n])) {
                let begun = &mut self.0[begin].1;
                (begun.lasted, begun.unseen) = (ended.begun.abs_diff(begun.begun), None);
                begun.cause = ended.cause;
                spent.insert(end);
            }
        }
        let mut place = 0;
        self.0.retain(|_| {
            place += 1;
            !spent.contains(&(place - 1))
        });
    }

    /// Leaves out what has one end, where the same is known with both.
    fn leave_whole(&mut self) {
        let mut whole = HashSet::with_hasher(RandomState::default());
        for (device, record) in self.0.iter().filter(|f| f.1.unseen.is_none()) {
            whole.insert((device.clone(), ends_of(record), record.begun, true));
            let ended = record.ended().unwrap_or(record.begun);
            whole.insert((device.clone(), ends_of(record), ended, false));
        }
        self.0.retain(|(device, record)| {
            let begins = record.unseen == Some(Unseen::End);
            let known = (device.clone(), ends_of(record), record.begun, begins);
            record.unseen.is_none() || !whole.contains(&known)
        });
    }

    /// What had an external end has it no more when another begins there.
    fn bound(&mut self) {
        for n in 0..self.0.len() {
            let (device, record) = &self.0[n];
            if record.unseen != Some(Unseen::End) || record.lasted > 0 || record.is_range() {
                continue;
            }
            let end = |r: &Record| (r.external, r.ports, r.protocol);
            let later = self.0[n + 1..].iter().find(|(of, other)| {
                of == device
                    && end(other) == end(record)
                    && other.begun > record.begun
                    && other.since().is_some()
                    && other.internal != record.internal
                    && !other.is_told_apart(record)
            });
            if let Some(at) = later.map(|(_, other)| other.begun) {
                self.0[n].1 = self.0[n].1.gone_when(at);
            }
        }
    }
}

/// What two records of one translation have in common.
fn ends_of(record: &Record) -> impl Eq + std::hash::Hash + use<> {
    let Record { external, ports, protocol, internal, internal_port, peer, peer_port, .. } =
        *record;
    (external, ports, protocol, internal, internal_port, peer, peer_port)
}
