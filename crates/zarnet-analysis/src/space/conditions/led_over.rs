//! Receivers whose packets may leave into the realms of a rule: whose sender it would translate
//! matters to no others.

use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::InterfaceSet;

use super::super::boxes::Intervals;
use super::super::{Field, MAPPED, address, number};
use super::fixed::Fixed;
use super::{Conditions, Constraint, prefixes};

/// Receivers as a condition.
#[derive(Debug, Clone, Copy)]
pub(super) enum Receivers {
    /// There are none.
    None,
    /// It may be any.
    All,
    /// Those of the condition at a position.
    Some(u32),
}

/// Receivers by the interfaces that their packets may leave by.
pub(super) struct LedOver<'a> {
    device: &'a Device,
    /// Those that a fixed rule may turn into others: who these are is not asked.
    turned: Intervals,
    /// Those that nothing is routed to: the device's own, and those that it answers for.
    unrouted: Intervals,
    known: Vec<(InterfaceSet, Receivers)>,
}

impl<'a> LedOver<'a> {
    /// `fixed`: the fixed rules that packets may come in by.
    pub(super) fn new(device: &'a Device, fixed: &[Fixed]) -> Self {
        let range = |r: AddressRange| (number(r.first()), number(r.last()));
        let turned = Intervals::new(fixed.iter().map(|f| range(f.external)).collect());
        let own = device.plan().interfaces.iter().flat_map(|i| i.own()).map(AddressRange::one);
        let own = Intervals::addresses(&own.collect::<AddressSet>());
        let unrouted = Intervals::addresses(device.claimed()).union(&own);
        Self { device, turned, unrouted, known: Vec::new() }
    }

    /// The receivers whose packets may leave by one of some interfaces, as a condition among others.
    pub(super) fn receivers(
        &mut self,
        conditions: &mut Conditions,
        interfaces: &InterfaceSet,
    ) -> Receivers {
        if let Some((_, known)) = self.known.iter().find(|known| known.0 == *interfaces) {
            return *known;
        }
        let set = self.led_over(interfaces).difference(&self.unrouted).union(&self.turned);
        let condition = Constraint::default().with(Field::Destination, set);
        let receivers = if condition.is_everything() {
            Receivers::All
        } else {
            conditions.push_for(None, condition).map_or(Receivers::None, Receivers::Some)
        };
        self.known.push((interfaces.clone(), receivers));
        receivers
    }

    /// The addresses that a route leads to over one of some interfaces, maybe for some senders only.
    fn led_over(&self, interfaces: &InterfaceSet) -> Intervals {
        let ranges = prefixes(self.device.plan()).into_iter().map(|prefix| prefix.range());
        let ends = ranges.map(|r| (number(r.first()), number(r.last())));
        let v4 = (MAPPED, MAPPED | 0xffff_ffff);
        let mut starts: Vec<u128> = ends
            .chain([v4])
            .flat_map(|(first, last)| [Some(first), last.checked_add(1)])
            .flatten()
            .chain([0])
            .collect();
        starts.sort_unstable();
        starts.dedup();
        let lasts = starts.iter().skip(1).map(|next| next - 1).chain([u128::MAX]);
        let led = starts.iter().copied().zip(lasts);
        let led = led.filter(|(first, _)| self.device.may_lead_over(interfaces, address(*first)));
        Intervals::new(led.collect())
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use zarnet_core::plan::InterfaceId;

    use super::*;

    /// Whether who sends matters to a receiver, at the inner interface of an edge with these keys of
    /// its static rule and this route besides.
    fn minds_senders(fixed: &str, route: &str, receiver: [u8; 4]) -> bool {
        let text = format!(
            "[[segment]]\nname = \"world\"\ninternet = true\n[[device]]\nname = \"edge\"\n\
             [[device.interface]]\nname = \"quay\"\nrealm = \"internal\"\naddress = \"10.0.0.1/24\"\n\
             [[device.interface]]\nname = \"yard\"\nrealm = \"yard\"\naddress = \"10.9.0.1/24\"\n\
             [[device.interface]]\nname = \"uplink\"\nrealm = \"external\"\nsegment = \"world\"\n\
             address = \"192.0.2.1/28\"\n\
             [[device.route]]\nto = \"0.0.0.0/0\"\nvia = \"192.0.2.14\"\n{route}\n\
             [[device.rule]]\nname = \"server\"\ntype = \"static\"\ninternal = \"10.9.0.4\"\n\
             external = \"192.0.2.4\"\nfrom = \"yard\"\n{fixed}\n\
             [[device.rule]]\nname = \"out\"\ntype = \"overload\"\nsource = \"10.0.0.7\"\nas = \
             \"uplink\"\n"
        );
        let loaded = zarnet_formats::plan::from_text(Path::new("edge.toml"), text).unwrap();
        let taken = zarnet_core::network::taken(&loaded.plan);
        let device = Device::new(&loaded.plan.devices[0], &taken, 0);
        let mut conditions = Conditions::default();
        conditions.add(&device, InterfaceId(0));
        let senders = |n: [u8; 4]| Intervals::one(number(n.into()));
        let wanted = Constraint::default().with(Field::Source, senders([10, 0, 0, 7]));
        let condition = conditions.list.iter().position(|c| *c == wanted).unwrap() as u32;
        let is_met = |c: &u32| {
            let set = conditions.list[*c as usize].of(Field::Destination);
            set.is_some_and(|set| set.contains(number(receiver.into())))
        };
        let met: Vec<u32> = (0..conditions.list.len() as u32).filter(is_met).collect();
        conditions.regions().matters(condition, conditions.regions().held(&met))
    }

    #[test]
    fn senders_matter_to_receivers_whose_packets_may_leave_into_the_realms_of_a_rule() {
        assert!(minds_senders("", "", [198, 51, 100, 7]), "by the default route");
        assert!(minds_senders("", "", [192, 0, 2, 9]), "on the link");
        assert!(!minds_senders("", "", [10, 0, 0, 9]), "back to where it came from");
        assert!(!minds_senders("", "", [10, 9, 0, 9]), "into another realm");
        assert!(!minds_senders("", "", [192, 0, 2, 1]), "to the device itself");
    }

    #[test]
    fn senders_matter_to_an_external_end_only_where_it_may_be_entered() {
        assert!(!minds_senders("", "", [192, 0, 2, 4]), "nothing else is routed to it");
        assert!(minds_senders("hairpin = \"internal\"", "", [192, 0, 2, 4]));
    }

    #[test]
    fn a_route_for_some_senders_leads_where_it_may() {
        let some = "[[device.route]]\nto = \"203.0.113.0/24\"\nvia = \"10.9.0.9\"\nsource = \
                    \"10.0.0.8\"";
        assert!(minds_senders("", some, [203, 0, 113, 5]), "others leave by the default route");
        let all = "[[device.route]]\nto = \"203.0.113.0/24\"\nvia = \"10.9.0.9\"";
        assert!(!minds_senders("", all, [203, 0, 113, 5]));
        let back = format!(
            "{all}\n[[device.route]]\nto = \"203.0.113.0/25\"\nvia = \"192.0.2.14\"\nsource = \
             \"10.0.0.7\""
        );
        assert!(minds_senders("", &back, [203, 0, 113, 5]), "who it is for may go there");
    }
}
