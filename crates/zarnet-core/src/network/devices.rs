//! The devices of a network, and what is counted over all of them: of thousands, a flow changes a
//! few.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::ops::{Deref, Index, IndexMut};

use crate::device::Device;
use crate::net::Instant;

/// Devices by their position. Whoever gets one to change it is noted by that.
#[derive(Debug, Clone, Default)]
pub(super) struct Devices {
    list: Vec<Device>,
    /// What was known of each when it was last looked at, where they are several.
    known: Vec<Known>,
    /// Those that may have changed since, each once.
    changed: Vec<u32>,
    /// Mappings of all of them, as known.
    mappings: u64,
    /// When something becomes due where; what is not as known is of no account.
    due: BinaryHeap<Reverse<(Instant, u32)>>,
}

/// What is known of a device.
#[derive(Debug, Clone, Copy, Default)]
struct Known {
    mappings: u64,
    due: Option<Instant>,
    may_have_changed: bool,
}

impl Devices {
    pub(super) fn new(list: Vec<Device>) -> Self {
        let several = if list.len() > 1 { list.len() } else { 0 };
        let known = vec![Known { may_have_changed: true, ..Known::default() }; several];
        let changed = (0..several as u32).collect();
        Self { list, known, changed, ..Self::default() }
    }

    /// All of them, to be changed.
    pub(super) fn iter_mut(&mut self) -> impl Iterator<Item = &mut Device> {
        (0..self.known.len()).for_each(|at| self.note(at));
        self.list.iter_mut()
    }

    #[inline(always)]
    fn note(&mut self, at: usize) {
        if let Some(known) = self.known.get_mut(at)
            && !known.may_have_changed
        {
            known.may_have_changed = true;
            self.changed.push(at as u32);
        }
    }

    /// How many mappings all devices have at an instant, after everything that is due then.
    #[inline(always)]
    pub(super) fn count_mappings(&mut self, now: Instant) -> u64 {
        if self.known.is_empty() {
            // one alone has expired what was due when the packet came
            return self.list.first().map_or(0, Device::mapping_count);
        }
        self.count_of_several(now)
    }

    #[inline(never)]
    fn count_of_several(&mut self, now: Instant) -> u64 {
        while let Some(at) = self.changed.pop() {
            self.look_at(at as usize, now);
        }
        while let Some(&Reverse((due, at))) = self.due.peek().filter(|due| due.0.0 <= now) {
            self.due.pop();
            if self.known[at as usize].due == Some(due) {
                self.look_at(at as usize, now);
            }
        }
        self.mappings
    }

    /// Learns what a device is like when all that is due has expired.
    fn look_at(&mut self, at: usize, now: Instant) {
        self.list[at].expire(now);
        let (device, known) = (&self.list[at], &mut self.known[at]);
        let mappings = device.mapping_count();
        self.mappings = self.mappings - known.mappings + mappings;
        // what was due has expired, though when the next is due is known by and large only
        let due = device.next_due().map(|due| due.max(Instant(now.0.saturating_add(1))));
        if let (Some(due), true) = (due, due != known.due) {
            self.due.push(Reverse((due, at as u32)));
        }
        *known = Known { mappings, due, may_have_changed: false };
    }
}

impl Deref for Devices {
    type Target = [Device];

    fn deref(&self) -> &[Device] {
        &self.list
    }
}

impl Index<usize> for Devices {
    type Output = Device;

    #[inline(always)]
    fn index(&self, at: usize) -> &Device {
        &self.list[at]
    }
}

impl IndexMut<usize> for Devices {
    #[inline(always)]
    fn index_mut(&mut self, at: usize) -> &mut Device {
        self.note(at);
        &mut self.list[at]
    }
}
