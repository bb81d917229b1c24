//! What of a target is in use, and how it is known which of its addresses a host has.

use super::arena::NONE;
use super::free_addresses::FreeSet;
use crate::device::compiled::TargetConfig;
use crate::plan::Pick;

/// What of a target is in use.
#[derive(Debug, Clone)]
pub(in crate::device) struct TargetUse {
    /// Addresses that can be borrowed whole, where they are.
    pub free: Option<FreeSet>,
    /// Addresses with a mapping.
    pub in_use: u32,
    pub pairing: Pairing,
    /// Of a target with one address, or with stable ones: where its first addresses stand among
    /// those that have been used, by position; [`NONE`] for one that has not been.
    pub used_as: Vec<u32>,
}

/// How it is known which address of a target a host has, so that it gets the same one again (RFC
/// 4787 §4.1 REQ-2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::device) enum Pairing {
    /// There is one address only, or any other would do.
    Needless,
    /// It is kept by host.
    Kept,
    /// Every host with mappings has them where `by-source` begins for it. As long as that is so,
    /// nothing is kept.
    StableBySource,
}

impl TargetUse {
    /// A target of which nothing is in use.
    pub(super) fn unused(config: &TargetConfig) -> Self {
        let free = config.whole.then(|| FreeSet::full(config.space.count()));
        Self { free, in_use: 0, pairing: Pairing::Needless, used_as: Vec::new() }
    }

    /// Of a target that no host has mappings on. `paired`: whether the device pairs addresses.
    pub(super) fn set_pairing(&mut self, config: &TargetConfig, paired: bool) {
        let stable =
            paired && !config.whole && config.pick == Pick::BySource && config.space.count() > 1;
        self.keep_pairs(config, paired);
        if stable {
            self.pairing = Pairing::StableBySource;
        }
    }

    /// From now on it is kept who has which address, where that matters.
    pub(super) fn keep_pairs(&mut self, config: &TargetConfig, paired: bool) {
        let several = paired && config.space.count() > 1;
        self.pairing = if several { Pairing::Kept } else { Pairing::Needless };
    }

    #[inline(always)]
    pub(in crate::device) fn keeps_pairs(&self) -> bool {
        self.pairing == Pairing::Kept
    }

    #[inline(always)]
    pub(in crate::device) fn is_stable(&self) -> bool {
        self.pairing == Pairing::StableBySource
    }

    /// Notes where the address at a position stands among those that have been used.
    pub(super) fn note_place(&mut self, position: u32, external: u32) {
        let position = position as usize;
        if self.used_as.len() <= position {
            self.used_as.resize(position + 1, NONE);
        }
        self.used_as[position] = external;
    }
}
