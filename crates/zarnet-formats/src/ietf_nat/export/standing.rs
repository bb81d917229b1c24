//! What stands for rules in the standard modules, and what of them it says.

use zarnet_core::plan::Rule;

use super::super::instance;

/// What stands for a rule in the standard modules, and which of its keys that says.
#[derive(Debug, Clone, Default)]
pub(super) struct Standing {
    /// The instance it is in.
    pub(super) instance: u64,
    /// Its policy.
    pub(super) policy: Option<u64>,
    /// Its entries.
    pub(super) entries: Vec<u64>,
    /// Whether that says who may send.
    pub(super) says_source: bool,
    /// Whether it says the services.
    pub(super) says_service: bool,
    /// Whether it says the receivers.
    pub(super) says_destination: bool,
    /// Whether it says the external end, of a fixed rule.
    pub(super) says_external: bool,
}

/// How many entries and parts of pools an instance has so far: what comes is numbered on.
#[derive(Clone, Copy)]
pub(super) struct SoFar {
    pub(super) entries: u64,
    pub(super) policies: u64,
    pub(super) pools: u64,
}

/// The instance whose limit of mappings is that of the device: the only one that makes any.
pub(super) fn limited_instance(standing: &[Option<Standing>]) -> Option<u64> {
    let dynamic = |id| standing.iter().flatten().any(|s| s.policy.is_some() && s.instance == id);
    match (dynamic(instance::BASIC.0), dynamic(instance::NAPT.0)) {
        (true, false) => Some(instance::BASIC.0),
        (false, true) => Some(instance::NAPT.0),
        _ => None,
    }
}

/// Whether no packet is for a rule.
pub(super) fn matches_nothing(rule: &Rule) -> bool {
    rule.parties.source.is_empty()
        || rule.parties.destination.is_empty()
        || rule.service.0.is_empty()
}
