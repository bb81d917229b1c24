//! Where a rule's senders matter.

use std::path::Path;

use zarnet_core::plan::InterfaceId;

use super::*;
use crate::space::number;

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
