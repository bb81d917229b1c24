//! A device's plan, turned into what the pipeline looks things up in.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::addresses::Space;
use super::first_match::{FirstMatch, Wants, service_number};
use super::intervals::IntervalMap;
use super::ports::PortMap;
use super::routes::Routes;
use super::session::Spans;
use super::table::bits;
use crate::limits;
use crate::net::{AddressRange, AddressSet, Packet, Protocol, Service};
use crate::plan::{
    self, Behaviour, Dependence, External, Fallback, InterfaceId, Pick, Pool, PoolId, Rule, RuleKind, RuleOrder, Target,
};

/// What addresses a rule may hand out, and how they are picked.
#[derive(Debug, Clone)]
pub(super) struct TargetConfig {
    pub target: Target,
    /// Whole addresses, for a pool rule; endpoints, for an overload.
    pub whole: bool,
    pub space: Space,
    pub pick: Pick,
    pub pool: Option<PoolId>,
}

/// Positions of a rule's targets.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct RuleTargets {
    /// What it translates to, or of a fixed rule what it overloads senders to.
    pub main: Option<u16>,
    pub fallback: Option<u16>,
}

/// So many rules are looked at one by one.
const FEW: usize = 64;

/// A run of external ends, as numbers, and the rule that claims it.
type Claimed = ((u64, u64), u16);

/// A device ready for packets.
#[derive(Debug, Clone)]
pub(super) struct Config {
    pub plan: plan::Device,
    /// The plan's interfaces, hosts and next hops, which no pool hands out.
    taken: Arc<AddressSet>,
    /// External addresses that mappings and sessions from before were on when this description took over.
    used: AddressSet,
    pub own: HashMap<IpAddr, InterfaceId, RandomState>,
    /// External addresses of rules and those it answers ARP for: never routed.
    pub claimed: AddressSet,
    /// All of these and its own, for IPv4: any other address needs no second look.
    concerned: IntervalMap<bool>,
    /// Whether an endpoint mapping is known by its internal end alone, and leaves nothing behind but a free port.
    pub plain: bool,
    /// Whether no rule takes part for ICMP queries.
    lacks_icmp: bool,
    /// By ingress, then egress: whether no filter and no policy between them can drop a packet or its answer.
    open: Vec<Vec<bool>>,
    /// External addresses of enabled rules, for which it answers ARP.
    pub arp: AddressSet,
    pub routes: Routes,
    pub spans: Spans,
    pub targets: Vec<TargetConfig>,
    target_positions: HashMap<(Target, bool), u16, RandomState>,
    /// External ends that fixed rules bind wholly; and all of them.
    bound: [AddressSet; 2],
    pub rule_targets: Vec<RuleTargets>,
    targets_of: IntervalMap<Vec<u16>>,
    by_source: IntervalMap<Vec<u16>>,
    /// In place of the former where rules are many.
    first_match: Option<FirstMatch>,
    by_source_v6: Vec<u16>,
    forwards: HashMap<Protocol, IntervalMap<Vec<u16>>, RandomState>,
    /// Forward rules by external address.
    forwards_at: HashMap<u32, Vec<u16>, RandomState>,
    statics: IntervalMap<Vec<u16>>,
    statics_v6: Vec<u16>,
}

fn is_plain(b: &Behaviour) -> bool {
    b.mapping == Dependence::EndpointIndependent
        && b.paired
        && !b.port_overloading
        && b.hold_down.is_zero()
        && b.ports_per_host.is_none()
        && b.block_size.is_none()
}

impl Config {
    pub(super) fn new(plan: plan::Device, taken: Arc<AddressSet>, enabled: &[bool], used: AddressSet) -> Self {
        let mut config = Self {
            own: HashMap::default(),
            claimed: AddressSet::default(),
            concerned: IntervalMap::from_edges(Vec::new(), |_| true),
            plain: is_plain(&plan.behaviour),
            lacks_icmp: plan.behaviour.cannot.contains(&plan::Lack::Icmp),
            open: Vec::new(),
            arp: AddressSet::default(),
            routes: Routes::new(&plan),
            spans: Spans::new(&plan.timers, plan.behaviour.hold_down),
            targets: Vec::new(),
            target_positions: HashMap::default(),
            bound: Default::default(),
            rule_targets: Vec::new(),
            targets_of: IntervalMap::new(&[], |_| Vec::new()),
            by_source: IntervalMap::new(&[], |_| Vec::new()),
            first_match: None,
            by_source_v6: Vec::new(),
            forwards: HashMap::default(),
            forwards_at: HashMap::default(),
            statics: IntervalMap::new(&[], |_| Vec::new()),
            statics_v6: Vec::new(),
            plan,
            taken,
            used,
        };
        for (i, interface) in config.plan.interfaces.iter().enumerate() {
            let addresses = interface.own();
            config.own.extend(addresses.map(|a| (a, InterfaceId(i as u16))));
        }
        config.bound = [config.bound(false), config.bound(true)];
        config.find_targets();
        config.find_sources();
        config.find_destinations();
        config.claim(enabled);
        config.find_open();
        config
    }

    fn find_open(&mut self) {
        let plan = &self.plan;
        let unfiltered = |i: usize| plan.interfaces[i].ingress_acl.is_none() && plan.interfaces[i].egress_acl.is_none();
        let accepts = |i: usize, e: usize| {
            let side = |zone: &Option<plan::Zone>, n: usize| {
                zone.as_ref().is_none_or(|z| z.interfaces.contains(InterfaceId(n as u16)))
            };
            let all =
                |p: &plan::Policy| p.service.is_any() && p.parties.source.is_all() && p.parties.destination.is_all();
            match plan.policies.iter().find(|p| side(&p.from, i) && side(&p.into, e)) {
                Some(entry) => all(entry) && entry.verdict == plan::Verdict::Accept,
                None => plan.default_policy == plan::Verdict::Accept,
            }
        };
        let open = |i, e| plan.forwarding && self.routes.are_plain() && unfiltered(i) && unfiltered(e) && accepts(i, e);
        let count = plan.interfaces.len();
        // that nothing can object is only a short way: with very many pairs it is not looked for
        let few = count * count * (plan.policies.len() + 1) <= limits::OPEN_PAIRS;
        let open = |i, e| few && open(i, e);
        self.open = (0..count).map(|i| (0..count).map(|e| open(i, e)).collect()).collect();
    }

    /// Whether a packet is of a protocol that no rule takes part for: ICMP queries, where the device cannot translate them.
    #[inline]
    pub(super) fn is_beyond_rules(&self, protocol: Protocol) -> bool {
        self.lacks_icmp && protocol.has_query_id()
    }

    /// Whether the way of a session's packets depends on the interfaces that its first packet passed.
    pub(super) fn remembers_interfaces(&self) -> bool {
        self.routes.ambiguous || self.plan.behaviour.answers_leave_as_came
    }

    /// Whether nothing on the device can drop a packet of a known session.
    pub(super) fn is_unfiltered(&self) -> bool {
        let unfiltered = |i: &plan::Interface| i.ingress_acl.is_none() && i.egress_acl.is_none();
        self.plan.forwarding && self.plan.interfaces.iter().all(unfiltered)
    }

    /// Whether no filter and no policy between two interfaces can drop a packet or its answer.
    #[inline]
    pub(super) fn is_open(&self, ingress: InterfaceId, egress: InterfaceId) -> bool {
        self.open[ingress.index()][egress.index()]
    }

    /// The addresses of a fixed rule's external end, as they are now.
    pub(super) fn external(&self, external: External) -> Option<AddressRange> {
        match external {
            External::Range(range) => Some(range),
            External::Interface(i) => self.plan.interfaces[i.index()].primary().map(AddressRange::one),
        }
    }

    /// Its rules, but for those of a former plan.
    fn in_force(&self) -> impl Iterator<Item = (u16, &Rule)> {
        (0..).zip(&self.plan.rules).filter(|r| !r.1.retired)
    }

    fn find_targets(&mut self) {
        for i in 0..self.plan.rules.len() {
            let (main, fallback) = match &self.plan.rules[i].kind {
                RuleKind::Exempt => (None, None),
                RuleKind::Static(s) => (s.translate_as.map(|t| (t, false)), None),
                RuleKind::Forward(f) => (f.translate_as.map(|t| (t, false)), None),
                RuleKind::Pool { pool, fallback } => (Some((Target::Pool(*pool), true)), Some(*fallback)),
                RuleKind::Overload { target, fallback } => (Some((*target, false)), Some(*fallback)),
            };
            let fallback = match fallback {
                Some(Fallback::Overload(target)) => Some(self.target(target, false)),
                _ => None,
            };
            let main = main.map(|(target, whole)| self.target(target, whole));
            self.rule_targets.push(RuleTargets { main, fallback });
        }
        let runs = self.targets.iter().enumerate();
        let runs = runs.flat_map(|(i, t)| t.space.runs().map(move |r| (i as u16, (r.0.into(), r.1.into()))));
        let (owners, ranges): (Vec<u16>, Vec<(u64, u64)>) = runs.unzip();
        self.targets_of = IntervalMap::new(&ranges, |active| active.iter().map(|r| owners[*r]).collect());
    }

    /// Targets that can hand out an address.
    pub(super) fn targets_of(&self, address: u32) -> &[u16] {
        self.targets_of.get(address.into())
    }

    /// The position of a target, new if need be.
    pub(super) fn target(&mut self, target: Target, whole: bool) -> u16 {
        if let Some(known) = self.target_positions.get(&(target, whole)) {
            return *known;
        }
        let one = |address: Option<IpAddr>| address.map(AddressRange::one).into_iter().collect();
        let (set, pick, pool) = match target {
            Target::Interface(i) => (one(self.plan.interfaces[i.index()].primary()), Pick::Lowest, None),
            Target::Address(address) => (one(Some(address)), Pick::Lowest, None),
            Target::Pool(id) => {
                let pool = &self.plan.pools[id.index()];
                (self.usable(pool, whole), pool.pick, Some(id))
            }
        };
        self.targets.push(TargetConfig { target, whole, space: Space::new(&set), pick, pool });
        let position = (self.targets.len() - 1) as u16;
        self.target_positions.insert((target, whole), position);
        position
    }

    /// What a pool can hand out: what it lists, less network and broadcast of its prefixes, less what somebody has.
    fn usable(&self, pool: &Pool, whole: bool) -> AddressSet {
        let mut set = pool.listed();
        pool.lost_to_prefixes().for_each(|a| set.remove(AddressRange::one(a)));
        for gone in [&self.taken, &self.bound[usize::from(whole)]] {
            pool.parts.iter().flat_map(|p| gone.overlapping(p.0)).for_each(|r| set.remove(r));
        }
        set
    }

    /// How many addresses a pool has for any use: those with forwards count.
    pub(super) fn assignable(&self, pool: &Pool) -> u64 {
        u64::try_from(self.usable(pool, false).count()).unwrap_or(u64::MAX)
    }

    /// The external ends of fixed rules: of those that bind an address wholly, or of all of them.
    fn bound(&self, all: bool) -> AddressSet {
        let end = |(_, rule): (u16, &Rule)| match &rule.kind {
            RuleKind::Static(s) if all || rule.service.is_any() => self.external(s.external),
            RuleKind::Forward(f) if all => self.external(f.external),
            _ => None,
        };
        self.in_force().filter_map(end).collect()
    }

    /// Takes out the ports of an address that fixed rules or the device itself use.
    pub(super) fn reserve(&self, address: IpAddr, protocol: Protocol, ports: &mut PortMap) {
        let mut take = |first: u16, last: u16| (first..=last).for_each(|p| ports.take(p));
        let forwards = bits(address).and_then(|a| self.forwards_at.get(&a)).into_iter().flatten();
        for id in forwards.chain(self.static_rules(address)) {
            let rule = &self.plan.rules[usize::from(*id)];
            match &rule.kind {
                RuleKind::Forward(f) if f.protocol == protocol => take(f.ports.first, f.ports.last),
                RuleKind::Static(_) => {
                    let services = rule.service.0.iter();
                    let held = services.filter(|s| s.protocol.is_none_or(|p| p == protocol));
                    held.for_each(|s| take(s.ports.first, s.ports.last));
                }
                _ => {}
            }
        }
        if let Some(interface) = self.own.get(&address) {
            let services = self.plan.interfaces[interface.index()].services.0.iter();
            let offered = services.filter(|s| s.protocol.is_none_or(|p| p == protocol));
            offered.for_each(|s| take(s.ports.first, s.ports.last));
        }
    }

    /// Where anything that is looked up by an IPv4 address changes.
    pub(super) fn edges(&self) -> Vec<u64> {
        let sources = self.first_match.as_ref().map_or(self.by_source.edges(), FirstMatch::source_edges);
        [self.concerned.edges(), sources, self.routes.edges()].concat()
    }

    /// Whose sources each rule is for, and in which order they are looked at.
    fn find_sources(&mut self) {
        let mut order: Vec<u16> = self.in_force().map(|r| r.0).collect();
        if self.plan.behaviour.rule_order == RuleOrder::FixedFirst {
            order.sort_by_cached_key(|&i| {
                let rule = &self.plan.rules[usize::from(i)];
                let group = match rule.kind {
                    RuleKind::Exempt => 0,
                    RuleKind::Static(_) | RuleKind::Forward(_) => 1,
                    _ => 2,
                };
                (group, senders(rule).count(), rule.parties.destination.count(), i)
            });
        }
        let v6 = |i: &u16| senders(&self.plan.rules[usize::from(*i)]).ranges().any(|r| r.first().is_ipv6());
        self.by_source_v6 = order.iter().copied().filter(v6).collect();
        if order.len() > FEW {
            let rules: Vec<(u16, Wants)> =
                order.iter().map(|i| (*i, wants(&self.plan.rules[usize::from(*i)]))).collect();
            self.first_match = Some(FirstMatch::new(&rules));
            return;
        }
        let (mut ranges, mut owners) = (Vec::new(), Vec::new());
        for (position, &i) in order.iter().enumerate() {
            let space = v4_ranges(&senders(&self.plan.rules[usize::from(i)]));
            owners.extend(std::iter::repeat_n(position, space.len()));
            ranges.extend(space);
        }
        self.by_source = IntervalMap::new(&ranges, |active| {
            let mut rules: Vec<u16> = active.iter().map(|r| order[owners[*r]]).collect();
            rules.dedup();
            rules
        });
    }

    /// Rules that may translate a source, in the order in which they are looked at.
    #[inline]
    pub(super) fn source_rules(&self, source: IpAddr) -> impl Iterator<Item = u16> + '_ {
        let many = bits(source).zip(self.first_match.as_ref()).map(|(a, many)| many.of_source(a.into()));
        let few = many.is_none().then(|| self.few_rules(source));
        many.into_iter().flatten().chain(few.into_iter().flatten().copied())
    }

    /// The same for a packet: those are left out that its destination or service does not suit.
    #[inline]
    pub(super) fn packet_rules(&self, sent: Packet) -> impl Iterator<Item = u16> + '_ {
        let (from, to) = (sent.source(), sent.destination());
        let many = bits(from.address).zip(bits(to.address)).zip(self.first_match.as_ref());
        let service = service_number(sent.protocol, to.port);
        let many = many.map(|((a, b), many)| many.candidates(a.into(), b.into(), service));
        let few = many.is_none().then(|| self.few_rules(from.address));
        many.into_iter().flatten().chain(few.into_iter().flatten().copied())
    }

    fn few_rules(&self, source: IpAddr) -> &[u16] {
        match bits(source) {
            Some(a) => self.by_source.get(a.into()),
            None => &self.by_source_v6,
        }
    }

    /// Which fixed rules hold an external end. Among statics, those limited to services come first.
    fn find_destinations(&mut self) {
        let mut forwards: HashMap<Protocol, Vec<Claimed>> = HashMap::new();
        let mut forwards_at: HashMap<u32, Vec<u16>, RandomState> = HashMap::default();
        let mut statics: Vec<(bool, u16, AddressRange)> = Vec::new();
        for (i, rule) in self.in_force() {
            match &rule.kind {
                RuleKind::Forward(f) => {
                    if let Some(a) = self.external(f.external).and_then(|r| bits(r.first())) {
                        let range = (port_key(a, f.ports.first), port_key(a, f.ports.last));
                        forwards.entry(f.protocol).or_default().push((range, i));
                        forwards_at.entry(a).or_default().push(i);
                    }
                }
                RuleKind::Static(s) => {
                    if let Some(range) = self.external(s.external) {
                        statics.push((rule.service.is_any(), i, range));
                    }
                }
                _ => {}
            }
        }
        self.forwards_at = forwards_at;
        for (protocol, list) in forwards {
            let ranges: Vec<_> = list.iter().map(|l| l.0).collect();
            let map = IntervalMap::new(&ranges, |active| active.iter().map(|r| list[*r].1).collect());
            self.forwards.insert(protocol, map);
        }
        statics.sort_by_key(|s| (s.0, s.1));
        self.statics_v6 = statics.iter().filter(|s| s.2.first().is_ipv6()).map(|s| s.1).collect();
        let v4: Vec<_> = statics.iter().filter_map(|s| Some((bits(s.2.first())?, bits(s.2.last())?, s.1))).collect();
        let ranges: Vec<_> = v4.iter().map(|s| (s.0.into(), s.1.into())).collect();
        self.statics = IntervalMap::new(&ranges, |active| active.iter().map(|r| v4[*r].2).collect());
    }

    /// Forward rules whose external end holds a destination.
    pub(super) fn forward_rules(&self, protocol: Protocol, address: IpAddr, port: u16) -> &[u16] {
        let map = self.forwards.get(&protocol);
        map.zip(bits(address)).map_or(&[], |(m, a)| m.get(port_key(a, port)).as_slice())
    }

    /// Static rules whose external end holds an address.
    pub(super) fn static_rules(&self, address: IpAddr) -> &[u16] {
        match bits(address) {
            Some(a) => self.statics.get(a.into()),
            None => &self.statics_v6,
        }
    }

    /// Looks up what rules claim, and what enabled rules answer for.
    pub(super) fn claim(&mut self, enabled: &[bool]) {
        let (mut arp, mut claimed) = (AddressSet::default(), AddressSet::default());
        self.plan.interfaces.iter().for_each(|i| claimed.extend(&i.proxy_arp));
        for (i, rule) in self.in_force() {
            let mut ends = AddressSet::default();
            match &rule.kind {
                RuleKind::Static(s) => self.external(s.external).into_iter().for_each(|r| ends.insert(r)),
                RuleKind::Forward(f) => self.external(f.external).into_iter().for_each(|r| ends.insert(r)),
                _ => {}
            }
            let targets = self.rule_targets[usize::from(i)];
            for target in targets.main.into_iter().chain(targets.fallback) {
                for (first, last) in self.targets[usize::from(target)].space.runs() {
                    let range = |n: u32| IpAddr::V4(n.into());
                    if let Ok(range) = AddressRange::new(range(first), range(last)) {
                        ends.insert(range);
                    }
                }
            }
            if enabled[usize::from(i)] {
                arp.extend(&ends);
            }
            claimed.extend(&ends);
        }
        (self.arp, self.claimed) = (arp, claimed);
        let own = self.own.keys().map(|a| AddressRange::one(*a));
        let all: AddressSet = self.claimed.ranges().chain(self.used.ranges()).chain(own).collect();
        self.concerned =
            IntervalMap::new(&v4_ranges(&all), |active| !active.is_empty()).favouring(|concerned| !concerned);
    }

    /// Whether an address is one of its own, or an external one of its rules or of what is from before them. If not, it
    /// is somebody else's, and only the route matters.
    #[inline]
    pub(super) fn concerns(&self, address: IpAddr) -> bool {
        bits(address).is_none_or(|a| *self.concerned.get(a.into()))
    }
}

fn port_key(address: u32, port: u16) -> u64 {
    u64::from(address) << 16 | u64::from(port)
}

/// Whose packets a rule is for in step 8: of a fixed rule, those of its internal end.
pub(super) fn senders(rule: &Rule) -> AddressSet {
    match &rule.kind {
        RuleKind::Static(s) => s.internal.into(),
        RuleKind::Forward(f) => f.servers.iter().map(|s| AddressRange::one(s.address)).collect(),
        _ => rule.parties.source.clone(),
    }
}

/// What a rule minds about a packet, as far as it can be told by numbers: of a fixed rule, its source and destination.
fn wants(rule: &Rule) -> Wants {
    let all = (0, service_number(Protocol(u8::MAX), u16::MAX));
    let fixed = rule.kind.is_fixed();
    let span = |s: &Service| match s.protocol {
        None => all,
        Some(p) if !p.has_ports() => (service_number(p, 0), service_number(p, u16::MAX)),
        Some(p) => (service_number(p, s.ports.first), service_number(p, s.ports.last)),
    };
    let services = if fixed || rule.service.is_any() { vec![all] } else { rule.service.0.iter().map(span).collect() };
    let (sources, destinations) = (v4_ranges(&senders(rule)), v4_ranges(&rule.parties.destination));
    Wants { sources, destinations, services }
}

fn v4_ranges(set: &AddressSet) -> Vec<(u64, u64)> {
    set.ranges().filter_map(|r| Some((bits(r.first())?.into(), bits(r.last())?.into()))).collect()
}
