//! An analysis of capacity with the names of its plan.

use std::net::IpAddr;
use std::time::Duration;

use serde::Serialize;

use zarnet_core::device::Supply;
use zarnet_core::plan::{DeviceId, Plan, Pool, RuleId};
use zarnet_formats::plan::Loaded;

use crate::answer::ends::ProtocolName;
use crate::answer::naming::Naming;
use crate::capacity::{CapacityAnalysis, Resource, supply_name};

/// An analysis with the names of its plan.
#[derive(Clone, Copy)]
pub struct CapacityAnswer<'a> {
    /// The plan with its files.
    pub loaded: &'a Loaded,
    /// What was found out.
    pub analysis: &'a CapacityAnalysis,
    /// The share of flows that may be refused.
    pub target: f64,
    /// How many users are to be served, if that is asked.
    pub users: Option<u64>,
    /// How much time an alert is to leave, if that is asked.
    pub alert: Option<Duration>,
    /// Whether every change of use is listed, and not a summary.
    pub over_time: bool,
}

/// What a resource is called, as JSON has it.
#[derive(Serialize, Clone)]
#[serde(rename_all = "kebab-case")]
pub struct Which<'a> {
    pub device: &'a str,
    pub kind: &'static str,
    pub name: String,
    pub address: Option<IpAddr>,
    pub protocol: Option<ProtocolName>,
    pub ports: Option<String>,
}

impl<'a> CapacityAnswer<'a> {
    /// What a resource is called.
    pub(super) fn which(self, r: &Resource) -> Which<'a> {
        let name = supply_name(self.plan(), r.device, r.supply).swap_remove(0);
        let device = self.naming().device(r.device);
        let span = |(low, high): (u16, u16)| Some(format!("{low}-{high}"));
        let (kind, address, protocol, ports) = match r.supply {
            Supply::Pool(_) => ("pool", None, None, None),
            Supply::PortsOfAll(_, protocol, range) => ("ports", None, Some(protocol), span(range)),
            Supply::BlocksOfAll(_, protocol, range) => {
                ("blocks", None, Some(protocol), span(range))
            }
            Supply::Ports(address, protocol, range) => {
                ("ports", Some(address), Some(protocol), span(range))
            }
            Supply::Blocks(address, protocol, range) => {
                ("blocks", Some(address), Some(protocol), span(range))
            }
            Supply::Mappings => ("mappings", None, None, None),
            Supply::Sessions => ("sessions", None, None, None),
        };
        Which {
            device,
            kind,
            name,
            address,
            protocol: protocol.map(|p| ProtocolName(Some(p))),
            ports,
        }
    }

    /// The plan that the supplies are of.
    pub fn plan(self) -> &'a Plan {
        self.analysis.replaced.as_deref().unwrap_or(&self.loaded.plan)
    }

    /// The names of the plan.
    pub fn naming(self) -> Naming<'a> {
        Naming { plan: self.plan(), sources: &self.loaded.sources }
    }

    /// A resource in a few words.
    pub fn title(self, r: &Resource) -> String {
        let which = self.which(r);
        match (which.kind, which.protocol) {
            ("pool", _) => format!("pool {}", which.name),
            ("ports", Some(protocol)) if r.is_query() => {
                format!("{} {protocol} query ids", which.name)
            }
            (kind, Some(protocol)) => format!("{} {protocol} {kind}", which.name),
            (kind, None) => kind.to_owned(),
        }
    }

    /// What it is counted in.
    pub fn unit(self, r: &Resource) -> &'static str {
        match r.supply {
            Supply::Pool(_) => "addresses",
            Supply::Mappings => "mappings",
            Supply::Sessions => "sessions",
            Supply::Blocks(..) | Supply::BlocksOfAll(..) => "blocks",
            Supply::PortsOfAll(..) | Supply::Ports(..) if r.is_query() => "query ids",
            Supply::PortsOfAll(..) | Supply::Ports(..) => "ports",
        }
    }

    /// For how long at least 80, 90 and 95 % of it were in use, or resting.
    pub fn time_above(self, r: &Resource) -> [(f64, Duration); 3] {
        let unavailable = r.series.unavailable();
        let usable = r.series.usable.unwrap_or(u64::MAX) as f64;
        let (from, until) = (self.analysis.from, self.analysis.until);
        [0.8, 0.9, 0.95].map(|share| {
            (share, Duration::from_nanos(unavailable.above(usable * share, from, until)))
        })
    }

    /// Names of rules of a device.
    pub fn rules(self, device: DeviceId, rules: &[RuleId]) -> Vec<&'a str> {
        rules.iter().map(|r| self.naming().rule(device, *r)).collect()
    }

    /// The pool that a resource is, if it is one.
    pub fn pool_of(self, r: &Resource) -> Option<&'a Pool> {
        match r.supply {
            Supply::Pool(pool) => Some(&self.plan().devices[r.device.index()].pools[pool.index()]),
            Supply::PortsOfAll(..)
            | Supply::Ports(..)
            | Supply::Blocks(..)
            | Supply::BlocksOfAll(..)
            | Supply::Mappings
            | Supply::Sessions => None,
        }
    }
}
