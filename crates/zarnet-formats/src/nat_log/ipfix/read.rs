//! IPFIX messages as translation events (RFC 7011, RFC 8158).

use std::collections::HashMap;

use zarnet_core::net::Protocol;

use super::record::{Record, text};
use super::template::{Slot, Template, VARIABLE};
use crate::nat_log::noted::in_this_age;
use crate::nat_log::{
    EventKind, LogNames, Missing, Name, Noted, TranslationEvent, cause_of_number,
};

/// The header of a message (RFC 7011 §3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message {
    /// Octets, the header's among them.
    pub length: usize,
    /// When it was sent, in seconds since 1970.
    pub export: u32,
    /// Data records sent before it, modulo 2^32.
    pub sequence: u32,
    /// The observation domain.
    pub domain: u32,
}

impl Message {
    /// Octets of a header.
    pub const HEADER: usize = 16;

    /// Reads the header that octets begin with; `None` if there is none.
    pub fn header(octets: &[u8]) -> Option<Self> {
        let word = |at: usize| octets.get(at..at + 4).and_then(|w| w.try_into().ok());
        let number = |at| word(at).map(u32::from_be_bytes);
        let (first, length) = (number(0)? >> 16, (number(0)? & 0xffff) as usize);
        let (export, sequence, domain) = (number(4)?, number(8)?, number(12)?);
        (first == 10 && length >= Self::HEADER).then_some(Self { length, export, sequence, domain })
    }
}

/// What was received of one sender: templates, names and how far its numbers have come.
#[derive(Debug, Default)]
pub struct Session {
    /// How to call the sender's devices that have no name.
    sender: String,
    domains: HashMap<u32, Domain>,
}

#[derive(Debug)]
struct Domain {
    name: Name,
    templates: HashMap<u16, Template>,
    pools: HashMap<u32, Name>,
    /// The number that the next message should have.
    expected: Option<u32>,
    /// When the message before was sent, in seconds since 1970.
    last_export: u32,
}

/// No sender has more domains, no domain more templates or pools.
const MOST: usize = 4096;
/// A number that is this far back is not a message that came late: the sender began anew.
const LATE: u32 = 1 << 16;

impl Session {
    /// Nothing received yet of a sender, which is called so; empty for a file.
    pub fn new(sender: &str) -> Self {
        Self { sender: sender.to_owned(), domains: HashMap::new() }
    }

    /// Reads a message. What is wrong with it is counted in `noted`, and the rest is read.
    pub fn read(
        &mut self,
        octets: &[u8],
        names: &mut LogNames,
        noted: &mut Noted,
        mut take: impl FnMut(TranslationEvent, &LogNames),
    ) {
        let Some(message) = Message::header(octets).filter(|m| m.length <= octets.len()) else {
            noted.bad_messages += 1;
            return;
        };
        if !self.domains.contains_key(&message.domain) && self.domains.len() >= MOST {
            noted.bad_messages += 1;
            return;
        }
        let sender = &self.sender;
        let domain = self.domains.entry(message.domain).or_insert_with(|| {
            let name = match sender.as_str() {
                "" => format!("domain-{}", message.domain),
                sender => format!("{sender}-domain-{}", message.domain),
            };
            Domain::new(names.obtain(&name))
        });
        let in_time = domain.arrive(&message, noted);
        let mut reader = Reader { domain, message, names, noted, records: 0, all_known: true };
        reader.read(&octets[Message::HEADER..message.length], &mut take);
        let (records, all_known) = (reader.records, reader.all_known);
        noted.messages += 1;
        if in_time {
            domain.expected = all_known.then(|| message.sequence.wrapping_add(records));
            domain.last_export = message.export;
        } else {
            noted.find_again(domain.name, records.into());
        }
    }
}

impl Domain {
    fn new(name: Name) -> Self {
        let (templates, pools) = (HashMap::new(), HashMap::new());
        Self { name, templates, pools, expected: None, last_export: 0 }
    }

    /// Compares the number of a message with what was expected. `false`: it is one that came late,
    /// and was counted as lost.
    fn arrive(&mut self, message: &Message, noted: &mut Noted) -> bool {
        let Some(expected) = self.expected else { return true };
        let ahead = message.sequence.wrapping_sub(expected);
        if ahead == 0 {
            return true;
        }
        if ahead > u32::MAX / 2 {
            // behind: late, or the sender's numbers begin anew
            let late = expected.wrapping_sub(message.sequence) <= LATE && message.sequence != 0;
            noted.late_messages += u64::from(late);
            return !late;
        }
        let milliseconds = |seconds: u32| i64::from(seconds) * 1000;
        noted.lost += u64::from(ahead);
        noted.miss(Missing {
            device: self.name,
            from: milliseconds(self.last_export),
            until: milliseconds(message.export.max(self.last_export)),
            records: u64::from(ahead),
        });
        true
    }
}

/// A message as it is read.
struct Reader<'a> {
    domain: &'a mut Domain,
    message: Message,
    names: &'a mut LogNames,
    noted: &'a mut Noted,
    /// Data records so far.
    records: u32,
    /// Whether it is known how many there are.
    all_known: bool,
}

fn number16(octets: &[u8], at: usize) -> Option<u16> {
    octets.get(at..at + 2).and_then(|n| n.try_into().ok()).map(u16::from_be_bytes)
}

impl Reader<'_> {
    /// Reads the sets of a message (RFC 7011 §3.3).
    fn read(&mut self, octets: &[u8], take: &mut impl FnMut(TranslationEvent, &LogNames)) {
        let mut at = 0;
        while at + 4 <= octets.len() {
            let (id, length) = (number16(octets, at), number16(octets, at + 2));
            let (id, length) = (id.unwrap_or(0), usize::from(length.unwrap_or(0)));
            let Some(set) = octets.get(at + 4..at + length).filter(|_| length >= 4) else {
                self.noted.bad_messages += 1;
                self.all_known = false;
                return;
            };
            at += length;
            match id {
                2 | 3 => self.templates(set, id == 3),
                256.. => self.records(id, set, take),
                _ => {
                    self.noted.bad_sets += 1;
                }
            }
        }
    }

    /// Reads templates; one without fields is withdrawn (RFC 7011 §8.1).
    fn templates(&mut self, set: &[u8], is_options: bool) {
        let mut at = 0;
        // what is left may be padding
        while let (Some(id), Some(count)) = (number16(set, at), number16(set, at + 2)) {
            at += 4;
            if count == 0 {
                let withdraws_all = id == if is_options { 3 } else { 2 };
                self.domain.templates.retain(|known, template| {
                    let meant = *known == id || withdraws_all && template.is_options == is_options;
                    !meant
                });
                continue;
            }
            if is_options {
                // how many of them are scope makes no difference to us
                at += 2;
            }
            let read = set.get(at..).and_then(|f| Template::read(f, count.into(), is_options));
            let Some((template, length)) = read.filter(|_| id >= 256) else {
                self.noted.bad_sets += 1;
                return;
            };
            at += length;
            let full = self.domain.templates.len() >= MOST;
            if full && !self.domain.templates.contains_key(&id) {
                self.noted.bad_sets += 1;
                continue;
            }
            for (slot, _) in &template.fields {
                if let Slot::Unknown(element) = slot {
                    self.noted.note_unknown(*element);
                }
            }
            self.domain.templates.insert(id, template);
        }
    }

    fn records(&mut self, id: u16, set: &[u8], take: &mut impl FnMut(TranslationEvent, &LogNames)) {
        // taken out meanwhile, for a record may tell names of the domain
        let Some(template) = self.domain.templates.remove(&id) else {
            self.noted.sets_without_template += 1;
            self.all_known = false;
            return;
        };
        let mut at = 0;
        while at + template.least <= set.len() {
            let Some((length, record)) = self.record(&template, &set[at..]) else {
                self.noted.bad_sets += 1;
                self.all_known = false;
                break;
            };
            at += length;
            self.records = self.records.wrapping_add(1);
            if template.is_options {
                self.name(&record);
            } else {
                self.event(&record, take);
            }
        }
        self.domain.templates.insert(id, template);
    }

    /// Reads a record, and tells its length; `None` where it does not fit.
    #[inline]
    fn record<'r>(&mut self, template: &Template, octets: &'r [u8]) -> Option<(usize, Record<'r>)> {
        let (mut at, mut record) = (0, Record::default());
        for (slot, length) in &template.fields {
            let length = match *length {
                VARIABLE => {
                    let short = usize::from(*octets.get(at)?);
                    at += 1;
                    if short == 255 {
                        at += 2;
                        usize::from(number16(octets, at - 2)?)
                    } else {
                        short
                    }
                }
                length => usize::from(length),
            };
            let value = octets.get(at..at + length)?;
            at += length;
            record.take(*slot, value);
        }
        Some((at, record))
    }

    /// Names that an options record tells.
    fn name(&mut self, record: &Record<'_>) {
        let is_ours = record.domain.is_none_or(|d| d == u64::from(self.message.domain));
        if let Some(name) = record.domain_name.and_then(text).filter(|_| is_ours) {
            self.domain.name = self.names.obtain(name);
        }
        if let (Some(id), Some(name)) = (record.pool, record.pool_name.and_then(text))
            && self.domain.pools.len() < MOST
        {
            self.domain.pools.insert(id as u32, self.names.obtain(name));
        }
    }

    #[inline]
    fn event(&mut self, record: &Record<'_>, take: &mut impl FnMut(TranslationEvent, &LogNames)) {
        let quota = record.quota.map(|q| q as u32);
        let kind = record.event.and_then(|e| EventKind::of_number(e as u8, quota));
        let Some(kind) = kind else {
            self.noted.other_records += 1;
            return;
        };
        let at = record.at.unwrap_or(i64::from(self.message.export) * 1000);
        let mut event = TranslationEvent::new(at, kind, self.domain.name);
        event.protocol = record.protocol.map(|p| Protocol(p as u8));
        (event.internal, event.external) = (record.internal, record.external);
        (event.internal_port, event.external_port) = (record.internal_port, record.external_port);
        if event.is_block() {
            event.external_port = record.port_first.or(event.external_port);
            event.last_port = record.port_last.or(event.external_port);
        }
        event.peer = record.translated_peer.or(record.peer);
        event.peer_port = record.translated_peer_port.or(record.peer_port);
        event.rule = record.rule.and_then(text).map(|rule| self.names.obtain(rule));
        event.cause = record.cause.and_then(|c| cause_of_number(c as u8));
        event.pool = record.pool.map(|id| match self.domain.pools.get(&(id as u32)) {
            Some(known) => *known,
            None => self.names.obtain(&format!("pool-{id}")),
        });
        event.limit = record.limit.and_then(|l| u32::try_from(l).ok());
        if event.lacks().is_some() || !in_this_age(event.at) {
            self.noted.bad_records += 1;
            return;
        }
        self.noted.events += 1;
        take(event, self.names);
    }
}
