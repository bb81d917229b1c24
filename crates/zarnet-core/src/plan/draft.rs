//! A plan as written: every value still text, with its place. Filled by a reader of some file
//! format.

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
    /// The `[[segment]]` tables, in their order.
    pub segments: Vec<DraftSegment>,
    /// The `[[host]]` tables, in their order.
    pub hosts: Vec<DraftHost>,
    /// The `[[device]]` tables, in their order.
    pub devices: Vec<DraftDevice>,
    /// The `[[expect]]` tables, in their order.
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
    /// Name of the segment, unique among segments.
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
    /// Name of the host, unique among hosts and devices.
    pub name: Text,
    /// Address with prefix length.
    pub address: Text,
    /// Address of its default gateway.
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
    /// Name of the device, unique among hosts and devices.
    pub name: Text,
    /// The `behaviour` key: a preset, and the keys that differ from it.
    pub behaviour: BehaviourDraft,
    /// What happens to packets that no policy entry matches: `accept` or `drop`.
    pub default_policy: Option<Text>,
    /// Whether it forwards between interfaces.
    pub forwarding: bool,
    /// Timers by name, and per service.
    pub timers: Vec<Setting>,
    /// The `[[device.interface]]` tables, in their order.
    pub interfaces: Vec<DraftInterface>,
    /// The `[[device.route]]` tables, in their order.
    pub routes: Vec<DraftRoute>,
    /// The `[[device.acl]]` tables, in their order.
    pub acls: Vec<DraftAcl>,
    /// The `[[device.policy]]` tables, in their order.
    pub policies: Vec<DraftPolicy>,
    /// The `[[device.pool]]` tables, in their order.
    pub pools: Vec<DraftPool>,
    /// The `[[device.rule]]` tables, in their order.
    pub rules: Vec<DraftRule>,
}

/// A preset and what differs from it.
#[derive(Debug, Default)]
pub struct BehaviourDraft {
    /// Name of the preset; `bcp` if left out.
    pub preset: Option<Text>,
    /// The keys that differ from the preset.
    pub settings: Vec<Setting>,
}

/// A key with one or several values, all as text.
#[derive(Debug)]
pub struct Setting {
    /// Name of the key, as it is written.
    pub key: Text,
    /// Its value or values.
    pub values: Texts,
}

/// An interface as written.
#[derive(Debug)]
pub struct DraftInterface {
    /// Where its table begins.
    pub place: Place,
    /// Name of the interface, unique on its device.
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
    /// Destination prefix of the route.
    pub to: Text,
    /// Address of the next hop.
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
    /// Name of the filter, unique on its device.
    pub name: Text,
    /// The entries; the first that matches decides.
    pub entries: Vec<DraftAclEntry>,
}

/// An entry of a filter as written.
#[derive(Debug)]
pub struct DraftAclEntry {
    /// Where its table begins.
    pub place: Place,
    /// Services that the entry accepts.
    pub accept: Option<Texts>,
    /// Services that the entry drops.
    pub drop: Option<Texts>,
    /// Senders that the entry matches.
    pub source: Option<Texts>,
    /// Receivers that the entry matches.
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
    /// Services that the entry accepts.
    pub accept: Option<Texts>,
    /// Services that the entry drops.
    pub drop: Option<Texts>,
    /// Senders that the entry matches.
    pub source: Option<Texts>,
    /// Receivers that the entry matches.
    pub destination: Option<Texts>,
}

/// A pool as written.
#[derive(Debug)]
pub struct DraftPool {
    /// Where its table begins.
    pub place: Place,
    /// Name of the pool, unique on its device.
    pub name: Text,
    /// Addresses, ranges and prefixes of the pool.
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
    /// Name of the rule, unique on its device.
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
    /// Senders that the rule translates.
    pub source: Option<Texts>,
    /// Receivers that the rule is for.
    pub destination: Option<Texts>,
    /// Services that the rule is for.
    pub service: Option<Texts>,
    /// `both`, `outbound` or `inbound`.
    pub direction: Option<Text>,
    /// Limit of mappings or sessions.
    pub limit: Option<Placed<i64>>,
    /// Internal end or ends.
    pub internal: Option<Texts>,
    /// The external end of a `static` or `forward` rule.
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
    /// The flow, in the notation of flows.
    pub flow: Text,
    /// What its source becomes.
    pub becomes: Option<Text>,
    /// Where it ends up.
    pub reaches: Option<Text>,
    /// Whether somebody decides against it.
    pub refused: Option<bool>,
    /// Whether it comes to no answer.
    pub unreachable: Option<bool>,
    /// The reason for which it must be dropped.
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
    /// Device and interface where the packet is seen.
    pub at: Text,
    /// The source that the packet must have there.
    pub source: Option<Text>,
    /// The destination that the packet must have there.
    pub destination: Option<Text>,
}
