//! Translation events as IPFIX messages (RFC 7011, RFC 8158).

use std::collections::{BTreeMap, HashMap};

use super::elements::{self, Element};
use super::shape::{MOST, Record, VARIABLE, fields};
use crate::nat_log::{LogNames, Name, TranslationEvent};

/// Templates that every domain has, and the first of those of events.
const NAMES_OF_DOMAINS: u16 = 256;
const NAMES_OF_POOLS: u16 = 257;
const DESCRIPTIONS: u16 = 258;
const FIRST: u16 = 259;

/// Writes events as messages, and hands over each one that is complete.
#[derive(Debug)]
pub struct Writer {
    domains: Vec<Domain>,
    /// Their positions by name.
    by_name: BTreeMap<Name, usize>,
    /// The domain of the event last written: the next one is mostly of the same.
    last: Option<(Name, usize)>,
    /// When that event happened, in milliseconds since 1970.
    at: i64,
    /// No message has more octets.
    most: usize,
}

/// What fits into a message (RFC 7011 §3.1).
pub const MOST_IN_FILE: usize = 65_535;
/// What fits into a datagram on any path (RFC 7011 §10.3.3).
pub const MOST_IN_DATAGRAM: usize = 1_400;

/// An observation domain: one device.
#[derive(Debug)]
struct Domain {
    id: u32,
    /// Data records written so far, modulo 2^32 (RFC 7011 §3.1).
    sequence: u32,
    /// Data records of the message under way.
    records: u32,
    message: Vec<u8>,
    /// The record under way.
    record: Record,
    /// The set that is open, and where it begins.
    set: Option<(u16, usize)>,
    /// Templates by shape, and whether the receiver has them.
    templates: HashMap<u16, (u16, bool)>,
    /// The template of the event last written: the next one is mostly like it.
    last: Option<(u16, u16)>,
    /// Numbers of pools, and whether the receiver has their names.
    pools: BTreeMap<Name, (u32, bool)>,
    /// Whether its names and the description of our elements are written.
    is_introduced: bool,
    most: usize,
}

const HEADER: usize = 16;

impl Writer {
    /// A writer of messages of at most so many octets: [`MOST_IN_FILE`], [`MOST_IN_DATAGRAM`].
    pub fn new(most: usize) -> Self {
        Self { domains: Vec::new(), by_name: BTreeMap::new(), last: None, at: 0, most }
    }

    /// Writes an event. They come in the order of their time: a message that is full is sent when
    /// the next event happens.
    ///
    /// # Errors
    /// Those of `out`.
    #[inline]
    pub fn write<E>(
        &mut self,
        event: &TranslationEvent,
        names: &LogNames,
        mut out: impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<(), E> {
        self.at = event.at;
        let domain = match self.last {
            Some((name, domain)) if name == event.device => domain,
            _ => self.domain(event.device),
        };
        self.domains[domain].write(event, names, &mut out)
    }

    /// The domain of a device, which there is from now on.
    fn domain(&mut self, device: Name) -> usize {
        let domain = *self.by_name.entry(device).or_insert(self.domains.len());
        if domain == self.domains.len() {
            self.domains.push(Domain::new(domain as u32 + 1, self.most));
        }
        self.last = Some((device, domain));
        domain
    }

    /// Hands over what is under way, in the order of the domains.
    ///
    /// # Errors
    /// Those of `out`.
    pub fn flush<E>(&mut self, mut out: impl FnMut(&[u8]) -> Result<(), E>) -> Result<(), E> {
        let at = self.at;
        self.domains.iter_mut().try_for_each(|domain| domain.finish(at, &mut out))
    }

    /// Forgets which templates were written: the next messages bring them again, as a receiver of
    /// datagrams needs them from time to time (RFC 7011 §8.4).
    pub fn introduce_again(&mut self) {
        for domain in &mut self.domains {
            domain.templates.values_mut().for_each(|t| t.1 = false);
            domain.pools.values_mut().for_each(|p| p.1 = false);
            (domain.is_introduced, domain.last) = (false, None);
        }
    }
}

impl Domain {
    fn new(id: u32, most: usize) -> Self {
        Self {
            id,
            sequence: 0,
            records: 0,
            message: vec![0; HEADER],
            record: Record::new(),
            set: None,
            templates: HashMap::new(),
            last: None,
            pools: BTreeMap::new(),
            is_introduced: false,
            most,
        }
    }

    #[inline]
    fn write<E>(
        &mut self,
        event: &TranslationEvent,
        names: &LogNames,
        out: &mut impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<(), E> {
        if !self.is_introduced {
            self.introduce(names.get(event.device));
        }
        let rule = event.rule.map_or("", |rule| names.get(rule));
        // with the set's header, its template and the name of a pool
        if self.message.len() + LONGEST + rule.len() > self.most {
            self.finish(event.at, out)?;
        }
        let pool = event.pool.map(|pool| self.pool(pool, names));
        self.record.fill(event, pool);
        let shape = self.record.shape;
        let template = match self.last {
            Some((of, template)) if of == shape => template,
            _ => self.template(shape),
        };
        self.last = Some((shape, template));
        self.open_set(template);
        self.message.extend_from_slice(self.record.octets());
        if event.rule.is_some() {
            put_text(&mut self.message, rule);
        }
        self.records += 1;
        Ok(())
    }

    /// Begins a set of this template, unless it is the one that is open.
    #[inline]
    fn open_set(&mut self, id: u16) {
        if self.set.is_some_and(|set| set.0 == id) {
            return;
        }
        self.close_set();
        self.set = Some((id, self.message.len()));
        self.message.extend(id.to_be_bytes());
        self.message.extend([0, 0]);
    }

    fn close_set(&mut self) {
        if let Some((_, at)) = self.set.take() {
            let length = (self.message.len() - at) as u16;
            self.message[at + 2..at + 4].copy_from_slice(&length.to_be_bytes());
        }
    }

    /// The template of a shape, written if it is new.
    fn template(&mut self, shape: u16) -> u16 {
        let known = self.templates.get(&shape).copied();
        if let Some((id, true)) = known {
            return id;
        }
        let id = known.map_or(FIRST + self.templates.len() as u16, |known| known.0);
        self.templates.insert(shape, (id, true));
        self.put_template(id, &fields(shape), None);
        id
    }

    /// Writes a template, or an options template with so many fields of scope (RFC 7011 §3.4).
    fn put_template(&mut self, id: u16, fields: &[(Element, u16)], scope: Option<u16>) {
        self.open_set(if scope.is_some() { 3 } else { 2 });
        self.message.extend(id.to_be_bytes());
        self.message.extend((fields.len() as u16).to_be_bytes());
        self.message.extend(scope.into_iter().flat_map(u16::to_be_bytes));
        for (element, length) in fields {
            let own = element.enterprise != 0;
            self.message.extend((element.id | u16::from(own) << 15).to_be_bytes());
            self.message.extend(length.to_be_bytes());
            if own {
                self.message.extend(element.enterprise.to_be_bytes());
            }
        }
    }

    /// Tells the name of the domain (RFC 7012), and what our own elements are (RFC 5610).
    fn introduce(&mut self, device: &str) {
        use elements::*;
        let names = [(DOMAIN_ID, 4), (DOMAIN_NAME, VARIABLE)];
        self.put_template(NAMES_OF_DOMAINS, &names, Some(1));
        self.put_template(NAMES_OF_POOLS, &[(POOL_ID, 4), (POOL_NAME, VARIABLE)], Some(1));
        let described = [
            (ENTERPRISE_NUMBER, 4),
            (ELEMENT_ID, 2),
            (ELEMENT_TYPE, 1),
            (ELEMENT_SEMANTICS, 1),
            (ELEMENT_NAME, VARIABLE),
        ];
        self.put_template(DESCRIPTIONS, &described, Some(2));
        self.open_set(NAMES_OF_DOMAINS);
        self.message.extend(self.id.to_be_bytes());
        put_text(&mut self.message, device);
        self.open_set(DESCRIPTIONS);
        for Described { element, name, data_type, semantics } in OWN {
            self.message.extend(element.enterprise.to_be_bytes());
            self.message.extend(element.id.to_be_bytes());
            self.message.extend([data_type, semantics]);
            put_text(&mut self.message, name);
        }
        self.records += 1 + OWN.len() as u32;
        self.is_introduced = true;
    }

    /// The number of a pool, which is told its name when it first comes.
    fn pool(&mut self, pool: Name, names: &LogNames) -> u32 {
        let known = self.pools.get(&pool).copied();
        if let Some((number, true)) = known {
            return number;
        }
        let number = known.map_or(self.pools.len() as u32 + 1, |known| known.0);
        self.pools.insert(pool, (number, true));
        self.open_set(NAMES_OF_POOLS);
        self.message.extend(number.to_be_bytes());
        put_text(&mut self.message, names.get(pool));
        self.records += 1;
        number
    }

    /// Hands over the message under way, if there is anything in it, at a time in milliseconds since
    /// 1970.
    fn finish<E>(
        &mut self,
        at: i64,
        out: &mut impl FnMut(&[u8]) -> Result<(), E>,
    ) -> Result<(), E> {
        self.close_set();
        if self.message.len() == HEADER {
            return Ok(());
        }
        let length = self.message.len() as u16;
        self.message[..2].copy_from_slice(&10u16.to_be_bytes());
        self.message[2..4].copy_from_slice(&length.to_be_bytes());
        self.message[4..8].copy_from_slice(&export_time(at).to_be_bytes());
        self.message[8..12].copy_from_slice(&self.sequence.to_be_bytes());
        self.message[12..16].copy_from_slice(&self.id.to_be_bytes());
        self.sequence = self.sequence.wrapping_add(self.records);
        self.records = 0;
        let written = out(&self.message);
        self.message.truncate(HEADER);
        written
    }
}

/// The most octets of a record, its template and the name of its pool, without the name of its
/// rule.
const LONGEST: usize = MOST + 4 + 20 * 8 + 4 + 4 + 3 + 255;

/// A field of variable length (RFC 7011 §7), cut where a name is longer than any.
fn put_text(out: &mut Vec<u8>, text: &str) {
    let text = &text.as_bytes()[..text.floor_char_boundary(text.len().min(254))];
    out.push(text.len() as u8);
    out.extend_from_slice(text);
}

/// When a message is sent whose last event happens at `at`, in milliseconds since 1970: in whole
/// seconds, and not before it.
fn export_time(at: i64) -> u32 {
    u32::try_from(at.div_euclid(1000) + i64::from(at.rem_euclid(1000) > 0)).unwrap_or(u32::MAX)
}
