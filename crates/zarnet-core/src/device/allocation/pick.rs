//! Which address of a target is picked (`pick`): every pick is told here, for whole addresses and
//! for ports.
//!
//! Contract: §B4 of docs/semantics.md.

use super::draw::Draw;
use crate::device::bindings::Context;
use crate::device::compiled::TargetConfig;
use crate::device::key::Key;
use crate::plan::{Pick, PortAssignment};

impl<'a> Context<'a> {
    /// The position of a free address for a host to borrow whole.
    pub(super) fn free_position(&self, target: u16, host: Key, draw: &mut Draw<'_>) -> Option<u32> {
        let config = self.compiled.targets.get(target);
        let free = self.bindings.target(target).free.as_ref()?;
        let from = |start: u32| free.at_or_above(start).or_else(|| free.at_or_above(0));
        match config.pick {
            _ if free.len() == 0 => None,
            Pick::Lowest => from(0),
            Pick::Highest => free.highest(),
            Pick::InTurn => from(self.turn_start(config)),
            Pick::Random => free.nth(draw.below(free.len())),
            Pick::BySource => from(config.space.first_for(host)),
        }
    }

    /// The first position at which a port is found, `found` tells at which, in the order in which
    /// they are tried.
    pub(super) fn first_position<T>(
        &self,
        config: &TargetConfig,
        host: Key,
        mut found: impl FnMut(u32, &mut Option<Draw<'_>>) -> Option<T>,
        draw: &mut Option<Draw<'_>>,
    ) -> Option<T> {
        let count = config.space.count();
        let mut from = |start: u32| (start..count).chain(0..start).find_map(|n| found(n, draw));
        match config.pick {
            Pick::Lowest => from(0),
            Pick::InTurn => from(self.turn_start(config)),
            Pick::BySource => from(if count > 0 { config.space.first_for(host) } else { 0 }),
            Pick::Highest => (0..count).rev().find_map(|n| found(n, draw)),
            Pick::Random => any_position(count, found, draw),
        }
    }

    /// Whether the device could as well pick another address of a target.
    pub(super) fn picks_freely(&self, config: &TargetConfig) -> bool {
        config.pick == Pick::Random && config.space.count() > 1
    }

    /// What is drawn for a port on a target; `None` where nothing is left to chance.
    pub(super) fn draw_for(&self, config: &TargetConfig) -> Option<Draw<'_>> {
        let by_chance = self.compiled.plan.behaviour.port_assignment == PortAssignment::Random;
        (config.pick == Pick::Random || by_chance).then(|| self.draw())
    }

    pub(in crate::device) fn draw(&self) -> Draw<'a> {
        Draw::new(&self.bindings.choices.random)
    }

    /// Where `in-turn` goes on: behind the address that the pool handed out last.
    fn turn_start(&self, config: &TargetConfig) -> u32 {
        let last = config.pool.and_then(|p| self.bindings.choices.last_picked[p.index()]);
        last.map_or(0, |a| config.space.position_after(a))
    }
}

/// Any position at which something is found, each equally likely.
fn any_position<T>(
    count: u32,
    mut found: impl FnMut(u32, &mut Option<Draw<'_>>) -> Option<T>,
    draw: &mut Option<Draw<'_>>,
) -> Option<T> {
    for _ in 0..16 {
        let position = draw.as_mut()?.below(count.max(1));
        if let Some(choice) = (count > 0).then(|| found(position, draw)).flatten() {
            return Some(choice);
        }
    }
    // nearly all are full: look at each
    let left: Vec<u32> = (0..count).filter(|n| found(*n, &mut None).is_some()).collect();
    let position = *left.get(draw.as_mut()?.below((left.len() as u32).max(1)) as usize)?;
    found(position, draw)
}
