//! Several lines to the internet: a packet leaves by one of them with the address of another.

use super::{At, Case};
use crate::diagnose::Cause;
use crate::line_repair::answers_as_they_came;
use crate::line_repair::everywhere;
use zarnet_core::plan::edit::{Edit, List};
use zarnet_core::plan::{DeviceId, InterfaceId};

impl Case<'_> {
    /// The provider drops a packet, because its source belongs to another line than the one that it
    /// came in by.
    pub(super) fn of_other_line(&mut self) {
        let Some((hop, exit)) = self.last().and_then(|hop| Some((hop, hop.exit?))) else { return };
        let (id, device, source) =
            (hop.device, self.device(hop.device), exit.packet.source().address);
        let left_by = &device.interfaces[exit.interface.index()].name;
        // the line that the address is of: by its prefix, or because the interface has it
        let mut lines = device.interfaces.iter().filter(|i| self.is_internet(i.segment));
        let of = |i: &&zarnet_core::plan::Interface| {
            i.owns(source) || i.addresses.iter().any(|a| a.1.contains(source))
        };
        let line = lines.find(of).filter(|i| i.name != *left_by);
        let whose = line.map_or("another line".to_owned(), |i| format!("interface {}", i.name));
        let what = if self.back { "the answer" } else { "the packet" };
        let verdict = format!(
            "{what} leaves {} by {left_by} from {source}, which is of {whose}",
            device.name
        );
        let at = At::device(id, device.place);
        if let (true, Some(came), Some(ingress)) = (self.back, self.came_by(id), hop.ingress)
            && let Some(edits) = answers_as_they_came(id, device, came, ingress, hop.packet)
                .filter(|e| !e.is_empty())
        {
            let by = &device.interfaces[came.index()].name;
            let route = if edits.len() > 1 {
                format!(", and give {by} a route for them")
            } else {
                String::new()
            };
            let title = format!(
                "let answers leave {} by the line that their session came in by{route}",
                device.name
            );
            self.suspect(Cause::AnswerByOtherLine, at, verdict.clone(), title, edits);
        }
        // what is sent from inside goes by a route of its own
        let inside = hop.packet.source().address;
        let by_line = |r: &&zarnet_core::plan::Route| {
            line.is_some_and(|l| device.interfaces[r.interface.index()].name == l.name)
        };
        let gateway = device.routes.iter().find(by_line).map(|r| r.via);
        if let (Some(via), Some(line)) = (gateway.filter(|_| hop.ingress.is_some()), line) {
            let fields = vec![
                ("to", everywhere(inside).into()),
                ("via", via.to_string().into()),
                ("source", inside.to_string().into()),
            ];
            let title = format!("route what {inside} sends out by {}", line.name);
            let edit = Edit::Insert(id, List::Routes, None, fields);
            self.suspect(Cause::AnswerByOtherLine, at, verdict.clone(), title, vec![edit]);
        }
        let title = "send it out by the line whose address it shows".to_owned();
        self.suspect(Cause::AnswerByOtherLine, at, verdict, title, Vec::new());
    }

    /// Where the first packet came in at a device.
    fn came_by(&self, id: DeviceId) -> Option<InterfaceId> {
        self.followed.forth.hops.iter().find(|h| h.device == id)?.ingress
    }
}
