//! Devices, hosts and segments together: how a packet gets from its sender to whoever has its
//! destination.

mod devices;
mod fast_flows;
mod fast_paths;
mod fate;
mod known_ways;
mod link;
mod next_hop_owner;
mod trace;
mod walk;
mod ways;
mod world;

pub use world::special;

use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use crate::device::Device;
use crate::event::{Action, Event};
use crate::net::{AddressSet, Instant};
use crate::plan::{DeviceId, Log, Plan, Renaming, RuleKind};
use devices::Devices;
use fast_paths::FastPaths;
pub(crate) use fast_paths::ShortWay;
pub use fate::{Fate, Loss, Origin, Passage, Receiver};
pub use trace::{Handover, Hop, Trace};
pub(crate) use ways::KnownWay;
use ways::Ways;
use world::World;

/// A network with the state of its devices.
#[derive(Debug, Clone)]
pub struct Network {
    plan: Arc<Plan>,
    devices: Devices,
    world: World,
    /// Addresses that send somewhere in the traffic: those that no host has are hosts of their own.
    sources: Option<HashSet<IpAddr, RandomState>>,
    missed_source: bool,
    fast_paths: FastPaths,
    ways: Ways,
}

impl Network {
    /// A network at rest. `sources`: every address that sends in the traffic to come, where it is
    /// known.
    pub fn new(plan: Arc<Plan>, seed: u64, sources: Option<HashSet<IpAddr, RandomState>>) -> Self {
        let taken = taken(&plan);
        let seeds = (0..).map(|n| seed.wrapping_add(n));
        let devices =
            plan.devices.iter().zip(seeds).map(|(d, seed)| Device::new(d, &taken, seed)).collect();
        let world = World::new(&plan);
        Self {
            plan,
            devices: Devices::new(devices),
            world,
            sources,
            missed_source: false,
            fast_paths: FastPaths::default(),
            ways: Ways::default(),
        }
    }

    /// A network without devices, to stand where one was taken from.
    pub(crate) fn empty(&self) -> Self {
        let plan = Arc::new(Plan::default());
        let world = World::new(&plan);
        Self {
            plan,
            devices: Devices::default(),
            world,
            sources: None,
            missed_source: false,
            fast_paths: FastPaths::default(),
            ways: Ways::default(),
        }
    }

    /// Lets some devices be as they are in another state of the same network.
    pub(crate) fn restore(&mut self, from: &Self, devices: &[DeviceId]) {
        for id in devices {
            self.devices[id.index()].restore(&from.devices[id.index()]);
        }
        self.missed_source = from.missed_source;
    }

    /// The plan it was made from.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// Does something to a device. Where that gives its rules other numbers, tells which.
    pub fn act(&mut self, event: &Event) -> Option<Renaming> {
        let (at, id) = (event.at, event.device.index());
        let renaming = match &event.action {
            Action::Lease(interface, address, prefix) => {
                let device = &mut self.devices[id];
                let old: Vec<IpAddr> = device.plan().interfaces[interface.index()]
                    .addresses
                    .iter()
                    .map(|a| a.0)
                    .collect();
                let lost =
                    old.into_iter().filter(|a| a.is_ipv4() == address.is_ipv4() && a != address);
                lost.for_each(|a| device.lose(at, a));
                let mut plan = (*self.plan).clone();
                let leased = device.plan_with_lease(*interface, *address, *prefix);
                plan.devices[id] = Arc::new(leased);
                self.replan(at, plan, event.device, None);
                None
            }
            Action::Plan(other, successor) => {
                // what was leased, enabled or replaced before is in the plan as it is now
                let (plan, renaming) = self.plan.with_successor(event.device, other, *successor);
                self.replan(at, plan, event.device, Some(&renaming));
                Some(renaming)
            }
            action @ Action::Disable(_)
            | action @ Action::Enable(_)
            | action @ Action::Clear(_)
            | action @ Action::Restart => {
                self.devices[id].act(at, action);
                None
            }
        };
        self.fast_paths.forget();
        self.ways.forget();
        self.devices.iter_mut().for_each(|device| device.log_fixed(at));
        renaming
    }

    /// Lets the devices and the world around them be as another plan has them.
    fn replan(&mut self, at: Instant, plan: Plan, renamed: DeviceId, renaming: Option<&Renaming>) {
        let taken = taken(&plan);
        for (i, device) in self.devices.iter_mut().enumerate() {
            let new = plan.devices[i].clone();
            match renaming.filter(|_| renamed.index() == i) {
                Some(renaming) => {
                    let enabled = new.rules.iter().map(|r| r.enabled).collect();
                    device.replace_plan(at, new, &taken, renaming, enabled);
                }
                None => {
                    let (unchanged, enabled) =
                        (Renaming::unchanged(&new), device.enabled().to_vec());
                    device.replace_plan(at, new, &taken, &unchanged, enabled);
                }
            }
        }
        self.world = World::new(&plan);
        self.ways.replan();
        self.plan = Arc::new(plan);
    }

    /// Its devices, in the order of the plan.
    pub fn devices(&self) -> &[Device] {
        &self.devices
    }

    /// A device at work, to be changed.
    pub fn device_mut(&mut self, id: DeviceId) -> &mut Device {
        &mut self.devices[id.index()]
    }

    /// From now on, notes what is in use of every device over time.
    pub(crate) fn keep_history(&mut self) {
        self.devices.iter_mut().for_each(Device::keep_history);
    }

    /// From now on keeps mappings that end.
    pub(crate) fn keep_ended(&mut self) {
        self.devices.iter_mut().for_each(Device::keep_ended);
    }

    /// From now on keeps the translation log of every device: of each rule what the plan says, or
    /// of all the same. What fixed rules map is logged at once.
    pub(crate) fn keep_log(&mut self, all_as: Option<Log>) {
        self.devices.iter_mut().for_each(|d| {
            d.keep_log(all_as);
            d.log_fixed(Instant::ZERO);
        });
    }

    /// How many entries of logs wait to be taken.
    pub(crate) fn logged(&self) -> usize {
        self.devices.iter().map(Device::logged).sum()
    }

    /// Gives back the memory of everything that is only needed for packets still to come.
    pub(crate) fn release(&mut self) {
        self.devices.iter_mut().for_each(Device::release);
    }

    /// Dynamic mappings on all devices.
    pub fn mapping_count(&self) -> u64 {
        self.devices.iter().map(Device::mapping_count).sum()
    }

    /// The same at an instant, after everything that is due then.
    pub(crate) fn count_mappings(&mut self, now: Instant) -> u64 {
        self.devices.count_mappings(now)
    }

    /// Whether a packet was lost at an address that may be a host only because it sends somewhere
    /// in the traffic: then the prediction has to be made again with its sources known.
    pub fn missed_source(&self) -> bool {
        self.missed_source
    }

    /// Who has an address as a source of traffic.
    pub fn origin(&self, address: IpAddr) -> Option<Origin> {
        self.world.origin(address)
    }

    /// Whether the flow's realms are those of a rule that translates, enabled or not, on one of the
    /// devices it passed.
    pub fn rule_was_meant(&self, passages: &[Passage]) -> bool {
        passages.iter().any(|p| {
            let Some(ingress) = p.ingress else { return false };
            self.plan.devices[p.device.index()].rules.iter().any(|r| {
                !matches!(r.kind, RuleKind::Exempt)
                    && r.from.interfaces.contains(ingress)
                    && r.into.interfaces.contains(p.egress)
            })
        })
    }
}

/// Addresses that no pool hands out: of interfaces and hosts, and every next hop and gateway.
pub fn taken(plan: &Plan) -> Arc<AddressSet> {
    let interfaces = plan.devices.iter().flat_map(|d| &d.interfaces);
    let own = interfaces.flat_map(|i| i.addresses.iter().map(|a| a.0));
    let hops = plan.devices.iter().flat_map(|d| d.routes.iter().map(|r| r.via));
    let routed = plan.segments.iter().flat_map(|s| s.routed.iter().map(|r| r.via));
    let hosts = plan.hosts.iter().flat_map(|h| std::iter::once(h.address).chain(h.gateway));
    Arc::new(
        own.chain(hops).chain(routed).chain(hosts).map(crate::net::AddressRange::one).collect(),
    )
}
