//! What things of a plan are called.

use serde::Serialize;
use zarnet_core::plan::{DeviceId, HostId, InterfaceId, Place, Plan, RuleId};
use zarnet_core::traffic::{Flow, Party};
use zarnet_formats::source::Sources;

/// A plan and its files.
#[derive(Clone, Copy)]
pub struct Naming<'a> {
    /// The plan whose pieces are named.
    pub plan: &'a Plan,
    /// The files that the plan was read from.
    pub sources: &'a Sources,
}

/// A place in a file, as answers show it.
#[derive(Debug, Clone, Serialize)]
pub struct Position {
    /// Path of the file.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

impl Position {
    /// A place as file, line and column.
    pub fn of(place: Place, sources: &Sources) -> Option<Self> {
        let at = sources.line_column(place)?;
        Some(Self {
            file: sources.file(place)?.path.display().to_string(),
            line: at.line,
            column: at.column,
        })
    }
}

/// Short, for people: the file without its folders, and the line.
impl std::fmt::Display for Position {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let name = std::path::Path::new(&self.file)
            .file_name()
            .map_or_else(|| self.file.clone().into(), |n| n.to_string_lossy());
        write!(f, "{name}:{}", self.line)
    }
}

impl<'a> Naming<'a> {
    /// The name of a device.
    pub fn device(self, id: DeviceId) -> &'a str {
        &self.plan.devices[id.index()].name
    }

    /// An address, by the name of the host that has it, if one has.
    pub fn address(self, address: std::net::IpAddr) -> String {
        let host = self.plan.hosts.iter().find(|h| h.address == address);
        host.map_or_else(|| address.to_string(), |h| h.name.clone())
    }

    /// The name of a host.
    pub fn host(self, id: HostId) -> &'a str {
        &self.plan.hosts[id.index()].name
    }

    /// An interface, without its device.
    pub fn interface(self, device: DeviceId, id: InterfaceId) -> &'a str {
        &self.plan.devices[device.index()].interfaces[id.index()].name
    }

    /// A rule, without its device.
    pub fn rule(self, device: DeviceId, id: RuleId) -> &'a str {
        &self.plan.devices[device.index()].rules[id.index()].name
    }

    /// File, line and column of a place.
    pub fn position(self, place: Place) -> Option<Position> {
        Position::of(place, self.sources)
    }

    /// A flow as it was written.
    pub fn flow(self, flow: &Flow) -> String {
        let end = |party: Party, port: Option<u16>| {
            let name = match party {
                Party::Address(std::net::IpAddr::V6(a)) if port.is_some() => format!("[{a}]"),
                Party::Address(a) => a.to_string(),
                Party::Host(id) => self.host(id).to_owned(),
                Party::Device(id) => self.device(id).to_owned(),
                Party::Interface(id, interface) => {
                    let device = &self.plan.devices[id.index()];
                    format!("{}/{}", device.name, device.interfaces[interface.index()].name)
                }
            };
            port.map_or(name.clone(), |p| format!("{name}:{p}"))
        };
        let source = end(flow.source, flow.source_port);
        format!("{source} -> {}/{}", end(flow.destination, flow.destination_port), flow.protocol)
    }
}
