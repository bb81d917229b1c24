//! What the sources of packets may become on a device.

use zarnet_core::device::{Device, PrefixPair};
use zarnet_core::net::{AddressRange, AddressSet, Protocol};
use zarnet_core::plan::{RuleId, RuleKind};

use super::super::boxes::Intervals;
use super::super::number;
use super::prefix::mapped;

/// What the sources of packets may become on a device.
pub(super) struct Sources {
    /// Addresses of which one is chosen: nothing tells which senders get it, so it may be anybody.
    pub(super) chosen: AddressSet,
    /// What fixed rules put in place of their internal ends.
    pub(super) moved: Vec<Moved>,
}

/// A fixed rule on the way out.
pub(super) struct Moved {
    internal: AddressRange,
    external: AddressRange,
    /// Where a prefix stands for another.
    prefix: Option<PrefixPair>,
    /// Of a forward, whose ports move too.
    pub(super) ports: Option<MovedPorts>,
}

/// The ports of a forward.
#[derive(Clone, Copy)]
pub(super) struct MovedPorts {
    pub(super) protocol: Protocol,
    /// External ports, the first and the last.
    pub(super) external: (u16, u16),
    /// The first port of the server.
    pub(super) internal: u16,
}

impl Sources {
    /// Those of a device as it is.
    pub(super) fn of(device: &Device) -> Self {
        let mut moved = Vec::new();
        for (i, rule) in device.plan().rules.iter().enumerate() {
            if !device.is_enabled(RuleId(i as u16)) {
                continue;
            }
            match &rule.kind {
                RuleKind::Static(s) => {
                    let Some(external) = device.external_of(s.external) else { continue };
                    let (internal, prefix) = (s.internal, device.prefix_pair(s));
                    moved.push(Moved { internal, external, prefix, ports: None });
                }
                RuleKind::Forward(f) => {
                    let Some(external) = device.external_of(f.external) else { continue };
                    let (external, ends) =
                        (AddressRange::one(external.first()), (f.ports.first, f.ports.last));
                    moved.extend(f.servers.iter().map(|server| Moved {
                        internal: AddressRange::one(server.address),
                        external,
                        prefix: None,
                        ports: Some(MovedPorts {
                            protocol: f.protocol,
                            external: ends,
                            internal: server.port,
                        }),
                    }));
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {}
            }
        }
        Self { chosen: device.chosen_addresses(), moved }
    }
}

impl Moved {
    /// The sources that become those of a set.
    pub(super) fn before(&self, set: &AddressSet) -> Intervals {
        let outside = (number(self.external.first()), number(self.external.last()));
        let met = Intervals::addresses(set).intersection(&Intervals::new(vec![outside]));
        if let Some(pair) = &self.prefix {
            return mapped(&met, pair, |a| pair.inward(a));
        }
        met.moved(number(self.internal.first()).wrapping_sub(number(self.external.first())))
    }
}
