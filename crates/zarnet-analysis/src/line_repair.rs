//! The repair of answers that leave by another internet line than the one they came in by.

use std::net::IpAddr;

use zarnet_core::net::Packet;
use zarnet_core::plan::edit::{Edit, List, Table};
use zarnet_core::plan::{DeviceId, DevicePlan, InterfaceId};

/// Lets answers leave as they came. `answer`: one of them, as it comes in by `ingress` on its way
/// back over `line`. Where no route leads it over that line, one for all is listed last, so that
/// nothing else goes by it. `None`: nobody on the line is known to be a next hop.
pub fn answers_as_they_came(
    id: DeviceId,
    device: &DevicePlan,
    line: InterfaceId,
    ingress: InterfaceId,
    answer: Packet,
) -> Option<Vec<Edit>> {
    let (from, to) = (answer.source().address, answer.destination().address);
    let mut edits = Vec::new();
    if !device.behaviour.answers_leave_as_came {
        edits.push(Edit::Set(Table::Behaviour(id), "answers-leave".to_owned(), "as-came".into()));
    }
    let on_link = device.interfaces[line.index()].addresses.iter().any(|a| a.1.contains(to));
    let mut over = device.routes.iter().filter(|r| r.interface == line);
    if !on_link && !over.clone().any(|r| r.is_for(to, from, Some(ingress))) {
        let via = over.find(|r| r.via.is_ipv4() == to.is_ipv4())?.via;
        let fields = vec![("to", everywhere(to).into()), ("via", via.to_string().into())];
        edits.push(Edit::Insert(id, List::Routes, None, fields));
    }
    Some(edits)
}

/// All addresses of a family.
pub fn everywhere(family_of: IpAddr) -> &'static str {
    if family_of.is_ipv4() { "0.0.0.0/0" } else { "::/0" }
}
