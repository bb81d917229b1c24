//! A plan as written: every value still text, with its place. Filled by a reader of some file format.

use super::{Place, Placed};

type Text = Placed<String>;
type Texts = Vec<Text>;

/// A whole plan as written.
#[derive(Debug, Default)]
pub struct Draft {
    /// What the plan is called.
    pub title: Option<Text>,
    /// Named address groups with their elements.
    pub addresses: Vec<(Text, Texts)>,
    /// Named service groups with their elements.
    pub services: Vec<(Text, Texts)>,
    /// Segments.
    pub segments: Vec<DraftSegment>,
    /// Hosts.
    pub hosts: Vec<DraftHost>,
    /// Devices.
    pub devices: Vec<DraftDevice>,
    /// Expectations.
    pub expects: Vec<DraftExpect>,
    /// Findings that are not to be told.
    pub allow: Vec<Text>,
    /// Findings that count as errors.
    pub deny: Vec<Text>,
}

impl Draft {
    /// Whether it declares nothing; a title alone declares nothing.
    pub fn is_empty(&self) -> bool {
        self.devices.is_empty()
            && self.hosts.is_empty()
            && self.segments.is_empty()
            && self.addresses.is_empty()
            && self.services.is_empty()
            && self.expects.is_empty()
    }
}

/// A segment as written.
#[derive(Debug)]
pub struct DraftSegment {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// Whether it stands for the public network.
    pub internet: bool,
    /// Whether it looks at the sources of what enters it.
    pub checks_source: Placed<bool>,
    /// Prefixes that are routed to somebody on it: prefix and next hop.
    pub routed: Vec<(Text, Text)>,
}

/// A host as written.
#[derive(Debug)]
pub struct DraftHost {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// Address with prefix length.
    pub address: Text,
    /// Its default gateway.
    pub gateway: Option<Text>,
    /// The services it answers; everything if left out.
    pub listens: Option<Texts>,
    /// Its segment, where it cannot be inferred.
    pub segment: Option<Text>,
}

/// A device as written.
#[derive(Debug)]
pub struct DraftDevice {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// How it behaves.
    pub behaviour: BehaviourDraft,
    /// `accept` or `drop`.
    pub default_policy: Option<Text>,
    /// Whether it forwards between interfaces.
    pub forwarding: bool,
    /// Timers by name, and per service.
    pub timers: Vec<Setting>,
    /// Interfaces.
    pub interfaces: Vec<DraftInterface>,
    /// Static routes.
    pub routes: Vec<DraftRoute>,
    /// Filters.
    pub acls: Vec<DraftAcl>,
    /// Policy entries.
    pub policies: Vec<DraftPolicy>,
    /// Pools.
    pub pools: Vec<DraftPool>,
    /// Rules.
    pub rules: Vec<DraftRule>,
}

/// A preset and what differs from it.
#[derive(Debug, Default)]
pub struct BehaviourDraft {
    /// Name of the preset; `bcp` if left out.
    pub preset: Option<Text>,
    /// Keys that differ.
    pub settings: Vec<Setting>,
}

/// A key with one or several values, all as text.
#[derive(Debug)]
pub struct Setting {
    /// The key.
    pub key: Text,
    /// Its value or values.
    pub values: Texts,
}

/// An interface as written.
#[derive(Debug)]
pub struct DraftInterface {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// The realm it faces.
    pub realm: Option<Text>,
    /// Its segment, where it cannot be inferred.
    pub segment: Option<Text>,
    /// Addresses with prefix lengths.
    pub address: Texts,
    /// Whether the address is assigned dynamically.
    pub lease: bool,
    /// Further addresses of its own.
    pub also: Texts,
    /// Addresses it answers ARP for.
    pub proxy_arp: Texts,
    /// Whether it answers echo requests.
    pub ping: bool,
    /// Services that the device offers on it.
    pub services: Texts,
    /// Filter on what comes in.
    pub ingress_acl: Option<Text>,
    /// Filter on what goes out.
    pub egress_acl: Option<Text>,
}

/// A static route as written.
#[derive(Debug)]
pub struct DraftRoute {
    /// Where its table begins.
    pub place: Place,
    /// Destination prefix.
    pub to: Text,
    /// Next hop.
    pub via: Text,
    /// Senders that it is for.
    pub source: Option<Texts>,
    /// Realms or interfaces by which packets come in that it is for.
    pub from: Option<Texts>,
}

/// A filter as written.
#[derive(Debug)]
pub struct DraftAcl {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// Its entries.
    pub entries: Vec<DraftAclEntry>,
}

/// An entry of a filter as written.
#[derive(Debug)]
pub struct DraftAclEntry {
    /// Where its table begins.
    pub place: Place,
    /// Services to accept.
    pub accept: Option<Texts>,
    /// Services to drop.
    pub drop: Option<Texts>,
    /// Senders.
    pub source: Option<Texts>,
    /// Receivers.
    pub destination: Option<Texts>,
    /// Services by source port.
    pub source_service: Option<Texts>,
    /// Only answers of known sessions.
    pub answers: bool,
}

/// A policy entry as written.
#[derive(Debug)]
pub struct DraftPolicy {
    /// Where its table begins.
    pub place: Place,
    /// Realms or interfaces that packets come from.
    pub from: Option<Texts>,
    /// Realms or interfaces that packets go into.
    pub into: Option<Texts>,
    /// Services to accept.
    pub accept: Option<Texts>,
    /// Services to drop.
    pub drop: Option<Texts>,
    /// Senders.
    pub source: Option<Texts>,
    /// Receivers.
    pub destination: Option<Texts>,
}

/// A pool as written.
#[derive(Debug)]
pub struct DraftPool {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// Its addresses.
    pub addresses: Texts,
    /// How an address is picked.
    pub pick: Option<Text>,
    /// `all`: network and broadcast addresses too.
    pub usable: Option<Text>,
}

/// A rule as written; which keys are allowed depends on its type.
#[derive(Debug)]
pub struct DraftRule {
    /// Where its table begins.
    pub place: Place,
    /// Its name.
    pub name: Text,
    /// `static`, `pool`, `overload`, `forward` or `exempt`.
    pub kind: Text,
    /// Whether it takes part.
    pub enabled: bool,
    /// What it is for.
    pub note: Option<Text>,
    /// What of its translations is logged.
    pub log: Option<Text>,
    /// Realms or interfaces of the internal side.
    pub from: Option<Texts>,
    /// Realms or interfaces of the external side.
    pub into: Option<Texts>,
    /// Senders.
    pub source: Option<Texts>,
    /// Receivers.
    pub destination: Option<Texts>,
    /// Services.
    pub service: Option<Texts>,
    /// `both`, `outbound` or `inbound`.
    pub direction: Option<Text>,
    /// Limit of mappings or sessions.
    pub limit: Option<Placed<i64>>,
    /// Internal end or ends.
    pub internal: Option<Texts>,
    /// External end.
    pub external: Option<Text>,
    /// What sources are translated to.
    pub translate_as: Option<Text>,
    /// What happens when that is used up.
    pub when_exhausted: Option<Text>,
    /// How a forward spreads over several servers.
    pub spread: Option<Text>,
    /// Realms whose hosts may use the external end.
    pub hairpin: Option<Texts>,
}

/// An expectation as written.
#[derive(Debug)]
pub struct DraftExpect {
    /// Where its table begins.
    pub place: Place,
    /// The flow.
    pub flow: Text,
    /// What its source becomes.
    pub becomes: Option<Text>,
    /// Where it ends up.
    pub reaches: Option<Text>,
    /// Whether somebody decides against it.
    pub refused: Option<bool>,
    /// Whether it comes to no answer.
    pub unreachable: Option<bool>,
    /// Why.
    pub reason: Option<Text>,
    /// What is seen on the way.
    pub seen_by: Vec<DraftSeenBy>,
    /// What it is for.
    pub note: Option<Text>,
}

/// What must be seen at a place, as written.
#[derive(Debug)]
pub struct DraftSeenBy {
    /// Where its table begins.
    pub place: Place,
    /// The place.
    pub at: Text,
    /// The source there.
    pub source: Option<Text>,
    /// The destination there.
    pub destination: Option<Text>,
}
