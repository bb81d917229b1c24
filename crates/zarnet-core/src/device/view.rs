//! The table as it is at a moment.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::bindings::{Context, Kind, NONE, SHARED, Session};
use super::key::Key;
use super::session_state::State;
use super::sinks::Supply;
use crate::net::{AddressRange, Endpoint, Instant, Protocol, Tuple};
use crate::plan::{Dependence, RuleId, RuleKind};

/// A mapping of the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MappingRow {
    /// The rule that made it.
    pub rule: RuleId,
    /// Type of the entry; `overload` for one on a fallback.
    pub kind: &'static str,
    /// Its protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal end; port 0 for none.
    pub internal: Endpoint,
    /// ExternalAddress end; port 0 for none.
    pub external: Endpoint,
    /// The peer, where the mapping is for one only; port 0 for any.
    pub peer: Option<Endpoint>,
    /// Whether it is there for ever.
    pub fixed: bool,
    /// Whether the device could as well have chosen another external end.
    pub freely: bool,
    /// When it was made; `None` for a fixed one.
    pub created: Option<Instant>,
    /// When it ends if nothing more comes; `None` for a fixed one whose rule is enabled.
    pub expires: Option<Instant>,
    /// Number of living sessions under the mapping.
    pub sessions: u32,
    /// State of its session that lasts longest; `None` without sessions.
    pub state: Option<State>,
    /// The last packet of any of its sessions.
    pub last_active: Option<Instant>,
}

/// A session of the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionRow {
    /// Rule of step 4, then of step 8.
    pub rules: [Option<RuleId>; 2],
    /// Number of the session's protocol above IP.
    pub protocol: Protocol,
    /// State of the session (RFC 7857 figure 1).
    pub state: State,
    /// The initiator's packet as sent.
    pub original: Tuple,
    /// The same as forwarded.
    pub translated: Tuple,
    /// When it was made.
    pub created: Instant,
    /// When its last packet passed that refreshed it.
    pub last_active: Instant,
    /// When it ends if nothing more comes.
    pub expires: Instant,
}

/// A fixed rule with more address or port pairs than this lists only those with sessions.
const MOST_UNUSED: u128 = 256;

/// The sessions of a mapping, summed up.
#[derive(Debug, Clone, Copy, Default)]
struct Use {
    sessions: u32,
    expires: u64,
    state: Option<State>,
    last_active: Option<Instant>,
}

/// The sessions of fixed rules, by rule and the ends that it puts in place of each other.
type FixedUse = HashMap<RuleId, HashMap<(Endpoint, Endpoint), Use, RandomState>, RandomState>;

impl Use {
    fn count(&mut self, session: &Session) {
        self.sessions += 1;
        self.last_active = self.last_active.max(Some(Instant(session.last)));
        if session.expires >= self.expires {
            self.expires = session.expires;
            self.state = Some(session.state);
        }
    }
}

impl<'a> Context<'a> {
    fn session_at(&self, id: u32, now: Instant) -> Session {
        let session = self.bindings.table.session(id);
        let mut at = session.at(now.0, self.timing(session));
        // of several flows on it one may go on behind the end of another that closed it
        if session.has(SHARED)
            && let Some(latest) = self.bindings.table.latest_of_several(id)
        {
            at.last = at.last.max(latest.min(now.0));
        }
        at
    }

    /// The sessions in which something was changed, at `now`, which must not lie before the last
    /// packet.
    pub(super) fn sessions(self, now: Instant) -> impl Iterator<Item = SessionRow> + 'a {
        self.bindings.table.all_sessions().filter_map(move |id| {
            let (original, translated) = self.bindings.tuples(id);
            if original == translated {
                return None;
            }
            let session = self.session_at(id, now);
            let (inbound, outbound) = self.bindings.rules_of(&session);
            Some(SessionRow {
                rules: [inbound, outbound],
                protocol: self.bindings.protocol_of(&session),
                state: session.state,
                original,
                translated,
                created: Instant(session.created),
                last_active: Instant(session.last),
                expires: Instant(session.expires),
            })
        })
    }

    /// Appends the dynamic mappings at `now`, by protocol, internal end, external end and peer.
    pub(super) fn list_mappings(&self, now: Instant, rows: &mut Vec<MappingRow>) {
        // most of it is settled by protocol and internal end, which fit into one word
        let mut order: Vec<(u64, u32)> =
            self.bindings.table.all_mappings().map(|id| (self.rank(id), id)).collect();
        order.sort_unstable();
        let mut start = rows.len();
        rows.reserve_exact(order.len());
        rows.extend(self.mapping_rows(now, order.iter().map(|o| o.1)));
        for equal in order.chunk_by(|a, b| a.0 == b.0) {
            if equal.len() > 1 {
                let rows = &mut rows[start..start + equal.len()];
                rows.sort_unstable_by_key(|m| (m.external, m.peer, m.created));
            }
            start += equal.len();
        }
    }

    /// The dynamic mappings that draw on a supply, in no order.
    pub(super) fn mappings_on(
        self,
        supply: Supply,
        now: Instant,
    ) -> impl Iterator<Item = MappingRow> + use<'a> {
        let on_port_table =
            |address: std::net::IpAddr, protocol: Protocol, range: (u16, u16)| -> Vec<u32> {
                let port_table = Key::of(address)
                    .and_then(|a| self.bindings.externals.find_port_table(a, protocol));
                let ports = port_table
                    .into_iter()
                    .flat_map(move |p| (range.0..=range.1).map(move |port| (p, port)));
                ports
                    .flat_map(|(port_table, port)| self.bindings.mappings_at(port_table, port))
                    .collect()
            };
        let keys = |(first, last): (Key, Key)| (0..=last.minus(first)).map(move |n| first.plus(n));
        let ids: Vec<u32> = match supply {
            Supply::Pool(pool) => {
                let whole =
                    self.compiled.targets.list.iter().filter(|t| t.whole && t.pool == Some(pool));
                let spaces = whole.flat_map(|t| t.space.runs());
                let used = spaces.flat_map(keys).filter_map(|a| self.bindings.externals.find(a));
                used.map(|e| self.bindings.externals.get(e).whole).filter(|m| *m != NONE).collect()
            }
            Supply::Ports(address, protocol, range) | Supply::Blocks(address, protocol, range) => {
                on_port_table(address, protocol, range)
            }
            Supply::PortsOfAll(target, protocol, range)
            | Supply::BlocksOfAll(target, protocol, range) => {
                let own =
                    self.compiled.targets.list.iter().filter(|t| !t.whole && t.target == target);
                let addresses = own.flat_map(|t| t.space.runs()).flat_map(keys);
                addresses.flat_map(|a| on_port_table(a.address(), protocol, range)).collect()
            }
            Supply::Mappings | Supply::Sessions => self.bindings.table.all_mappings().collect(),
        };
        self.mapping_rows(now, ids.into_iter())
    }

    /// A number that orders mappings by protocol, internal address and internal port.
    fn rank(&self, id: u32) -> u64 {
        let m = self.bindings.table.mapping(id);
        let (protocol, port) = match m.kind() {
            Kind::Address => (self.rule(m.rule).service.protocol(), 0),
            Kind::Portless => (Some(Protocol(m.internal_port as u8)), 0),
            Kind::Endpoint => {
                (Some(self.bindings.externals.protocol_of(m.place())), m.internal_port)
            }
        };
        let protocol = protocol.map_or(0, |p| u64::from(p.0) + 1);
        protocol << 48 | m.internal.port_number(port)
    }

    /// The sessions that address mappings only count, by mapping.
    fn use_of_counted(self, now: Instant) -> HashMap<u32, Use, RandomState> {
        let mut counted: HashMap<u32, Use, RandomState> = HashMap::default();
        let table = &self.bindings.table;
        if table.has_under_address() {
            for id in table.all_sessions() {
                let session = table.session(id);
                if table.is_under_address(session) {
                    counted.entry(session.owner).or_default().count(&self.session_at(id, now));
                }
            }
        }
        counted
    }

    fn mapping_rows<I: Iterator<Item = u32>>(
        self,
        now: Instant,
        ids: I,
    ) -> impl Iterator<Item = MappingRow> + use<'a, I> {
        let counted = self.use_of_counted(now);
        ids.map(move |id| {
            let m = self.bindings.table.mapping(id);
            let binding = self.binding_of(m);
            let also = self.bindings.table.entered.get(&id).into_iter().flatten().copied();
            let mut used = counted.get(&id).copied().unwrap_or_default();
            self.bindings
                .table
                .sessions_of(id)
                .chain(also)
                .for_each(|s| used.count(&self.session_at(s, now)));
            let longest = (used.sessions > 0).then_some(used.expires);
            let (mut expires, mut external, mut peer) = (longest.unwrap_or(now.0), m.place(), None);
            let protocol;
            let head = || {
                self.bindings.table.sessions_of(id).next().map(|s| self.bindings.table.session(s))
            };
            match m.kind() {
                Kind::Address => {
                    protocol = self.rule(m.rule).service.protocol();
                    expires = longest.map_or(expires, |e| e.saturating_add(binding));
                    expires = self
                        .bindings
                        .lingering
                        .until(id)
                        .filter(|_| longest.is_none())
                        .unwrap_or(expires);
                }
                Kind::Portless => {
                    protocol = Some(Protocol(m.internal_port as u8));
                    peer = head().map(|s| s.remote.with_port(0));
                }
                Kind::Endpoint => {
                    protocol = Some(self.bindings.externals.protocol_of(m.place()));
                    external = self.bindings.externals.external_of(m.place());
                    let by_port =
                        self.compiled.plan.behaviour.mapping == Dependence::AddressAndPortDependent;
                    peer = self
                        .bindings
                        .peer_of(id)
                        .map(|p| p.0.with_port(if by_port { p.1 } else { 0 }));
                }
            }
            let has_port = m.kind() == Kind::Endpoint;
            MappingRow {
                rule: RuleId(m.rule),
                kind: if m.kind() == Kind::Address { "pool" } else { "overload" },
                protocol,
                internal: m.internal.with_port(if has_port { m.internal_port } else { 0 }),
                external: self.bindings.externals.get(external).address.with_port(m.external_port),
                peer,
                fixed: false,
                freely: m.freely(),
                created: Some(Instant(self.bindings.table.made(id))),
                expires: Some(Instant(expires)),
                sessions: self.bindings.table.session_count_of(id),
                state: used.state,
                last_active: used.last_active,
            }
        })
    }

    /// The fixed mappings: of enabled rules all, up to a number that can still be read; of the
    /// others those in use.
    pub(super) fn fixed_mappings(&self, now: Instant) -> Vec<MappingRow> {
        let mut rows = Vec::new();
        let mut used = self.fixed_in_use(now);
        for (i, rule) in self.compiled.plan.rules.iter().enumerate() {
            let id = RuleId(i as u16);
            let row = |kind, protocol, internal, external| MappingRow {
                rule: id,
                kind,
                protocol,
                internal,
                external,
                peer: None,
                fixed: true,
                freely: false,
                created: None,
                expires: None,
                sessions: 0,
                state: None,
                last_active: None,
            };
            let (mut pairs, kind, protocol) = match &rule.kind {
                RuleKind::Static(s) => {
                    let external = self.compiled.plan.external(s.external).unwrap_or(s.internal);
                    let pair = |n: u128| {
                        Some((
                            Endpoint::new(s.internal.nth(n)?, 0),
                            Endpoint::new(external.nth(n)?, 0),
                        ))
                    };
                    let count =
                        if s.internal.count() > MOST_UNUSED { 0 } else { s.internal.count() };
                    (
                        (0..count).filter_map(pair).collect::<Vec<_>>(),
                        "static",
                        rule.service.protocol(),
                    )
                }
                RuleKind::Forward(f) => {
                    let external = self.compiled.plan.external(f.external).map(AddressRange::first);
                    let count = u128::from(f.ports.count()) * f.servers.len() as u128;
                    let ports = if count > MOST_UNUSED { 0 } else { f.ports.count() as u16 };
                    let all = (0..ports).flat_map(|n| f.servers.iter().map(move |s| (n, s)));
                    let pair = |(n, s): (u16, &crate::plan::Server)| {
                        Some((
                            Endpoint::new(s.address, s.port + n),
                            Endpoint::new(external?, f.ports.first + n),
                        ))
                    };
                    (all.filter_map(pair).collect(), "forward", Some(f.protocol))
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => continue,
            };
            let in_use = used.remove(&id).unwrap_or_default();
            // what a disabled rule, or a lease that moved, has left lives as long as its sessions
            let is_whole = !pairs.is_empty();
            let is_enabled = self.active.has(i as u16);
            if !is_enabled {
                pairs.clear();
            }
            let permanent = if is_enabled && is_whole { pairs.len() } else { 0 };
            let ends = !is_enabled || is_whole;
            let mut unlisted =
                in_use.keys().filter(|p| !pairs.contains(p)).copied().collect::<Vec<_>>();
            unlisted.sort_unstable();
            pairs.extend(unlisted);
            rows.extend(pairs.into_iter().enumerate().map(|(n, pair)| {
                let Use { sessions, state, last_active, expires } =
                    in_use.get(&pair).copied().unwrap_or_default();
                let expires = (ends && n >= permanent).then_some(Instant(expires));
                let row = row(kind, protocol, pair.0, pair.1);
                MappingRow { sessions, state, last_active, expires, ..row }
            }));
        }
        rows
    }

    /// Sessions by fixed rule and pair of ends.
    fn fixed_in_use(&self, now: Instant) -> FixedUse {
        let mut used = FixedUse::default();
        if self.compiled.plan.rules.iter().all(|r| !r.kind.is_fixed()) {
            return used;
        }
        for id in self.bindings.table.all_sessions() {
            let [inbound, outbound] = self.fixed_ends(id);
            // one rule has one session, though it translated both ends
            let outbound = outbound.filter(|o| inbound.is_none_or(|i| i.0 != o.0));
            for (rule, internal, external) in inbound.into_iter().chain(outbound) {
                let pair = match self.rule(rule.0).kind {
                    RuleKind::Static(_) => {
                        (Endpoint { port: 0, ..internal }, Endpoint { port: 0, ..external })
                    }
                    RuleKind::Forward(_) => (internal, external),
                    RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
                        continue;
                    }
                };
                used.entry(rule)
                    .or_default()
                    .entry(pair)
                    .or_default()
                    .count(&self.session_at(id, now));
            }
        }
        used
    }
}
