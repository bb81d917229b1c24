//! The table of a device as rows of the standard.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;

use zarnet_core::device::MappingRow;
use zarnet_core::net::{Endpoint, Instant};
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::ietf_nat::{ModuleForm, Row, Told};

use super::estate::Estate;

/// A table at an instant, with what its rows are called.
pub(super) struct Snapshot {
    rows: Vec<(MappingRow, u32)>,
    rules: Vec<String>,
    at: Instant,
    begins: i128,
    with_policy: bool,
    /// Sessions of configured entries, by external end.
    fixed: HashMap<Endpoint, u32>,
}

impl Estate<'_> {
    /// The table of a device as it is now.
    pub(super) fn snapshot(&mut self, id: DeviceId) -> Snapshot {
        let at = self.live().now();
        let device = &self.live().network().devices()[id.index()];
        let configured = device.fixed_mappings(at);
        let mut dynamic = Vec::new();
        device.list_mappings(at, &mut dynamic);
        let plan = self.plan();
        let state = self.device_mut(id);
        state.indices.keep(&dynamic);
        let rows = dynamic.iter().map(|r| (*r, state.indices.of(r))).collect();
        let with_policy = state.datastore.form == ModuleForm::WithPolicy;
        let mut fixed: HashMap<Endpoint, u32> = HashMap::new();
        for row in configured.iter().filter(|r| r.sessions > 0) {
            *fixed.entry(row.external).or_default() += row.sessions;
        }
        let begins = self.clock.begins();
        Snapshot { rows, rules: rule_names(&plan, id), at, begins, with_policy, fixed }
    }
}

fn rule_names(plan: &Plan, id: DeviceId) -> Vec<String> {
    plan.devices[id.index()].rules.iter().map(|r| r.name.clone()).collect()
}

impl Snapshot {
    /// The dynamic rows that have ports, or those of whole addresses, in their order.
    pub(super) fn rows_of(&self, with_ports: bool) -> impl Iterator<Item = Row> + '_ {
        let own = move |(row, _): &&(MappingRow, u32)| (row.kind == "overload") == with_ports;
        self.rows.iter().filter(own).map(|(row, index)| self.row(row, *index))
    }

    /// Sessions of a configured entry of one pair of ends; none where nobody counts them.
    pub(super) fn sessions_of(&self, external: Endpoint) -> Option<u32> {
        self.with_policy.then(|| self.fixed.get(&external).copied().unwrap_or(0))
    }

    fn row(&self, row: &MappingRow, index: u32) -> Row {
        let seconds = |until: Option<Instant>| {
            until.map(|t| {
                (t.0.saturating_sub(self.at.0) / 1_000_000_000).min(u32::MAX.into()) as u32
            })
        };
        let idle = row.last_active.map(|l| (self.at.0.saturating_sub(l.0) / 1_000_000_000) as u32);
        let date = |at: Instant| {
            let nanoseconds = self.begins + i128::from(at.0);
            let date = jiff::Timestamp::from_nanosecond(nanoseconds).unwrap_or_default();
            date.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
        };
        let told = match self.with_policy {
            false => Told::default(),
            true => Told {
                rule: self.rules.get(row.rule.index()).cloned(),
                state: row.state.map(|s| s.name().to_owned()),
                created: row.created.map(date),
                idle,
                sessions: Some(row.sessions),
                chosen_freely: row.freely.then_some(true),
            },
        };
        Row {
            index,
            fixed: false,
            protocol: row.protocol,
            lifetime: seconds(row.expires),
            told,
            ..Row::between(row.internal, row.external, row.peer)
        }
    }

    /// What statistics count of the rows with ports, or of those of whole addresses.
    pub(super) fn totals(&self, with_ports: bool) -> Totals {
        let mut totals = Totals::default();
        let mut hosts = std::collections::HashSet::new();
        for (row, _) in self.rows.iter().filter(|r| (r.0.kind == "overload") == with_ports) {
            hosts.insert(row.internal.address);
            totals.rows += 1;
            *totals.by_protocol.entry(row.protocol.map(|p| p.0)).or_default() += 1;
            *totals.by_address.entry(row.external.address).or_default() += 1;
        }
        totals.hosts = hosts.len() as u64;
        totals
    }
}

/// What statistics count of rows.
#[derive(Debug, Default)]
pub(super) struct Totals {
    pub(super) rows: u64,
    /// Internal addresses.
    pub(super) hosts: u64,
    pub(super) by_protocol: BTreeMap<Option<u8>, u64>,
    /// By external address.
    pub(super) by_address: HashMap<IpAddr, u64>,
}
