//! Where conditions matter: some do to certain receivers only, and for all others are as if they were
//! not there.

/// Where each of some conditions matters, in their order.
#[derive(Debug, Clone)]
pub(super) struct Regions {
    /// By condition, a position in `list`.
    of: Vec<u32>,
    /// Conditions on receivers, one of which has to be met; the first has none: everywhere.
    list: Vec<Vec<u32>>,
}

impl Default for Regions {
    fn default() -> Self {
        Self { of: Vec::new(), list: vec![Vec::new()] }
    }
}

/// Of the regions that a receiver is in, a bit each; those behind the 64th hold every receiver.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Held(u64);

impl Regions {
    /// A further condition matters to the receivers of another one, or to all.
    pub(super) fn add(&mut self, receivers: Option<u32>) {
        let region = self.region(receivers.into_iter().collect());
        self.of.push(region);
    }

    /// A condition matters to these receivers, too.
    pub(super) fn widen(&mut self, condition: u32, receivers: Option<u32>) {
        let known = &self.list[self.of[condition as usize] as usize];
        let is_everywhere = known.is_empty();
        self.of[condition as usize] = match receivers {
            _ if is_everywhere => return,
            None => 0,
            Some(more) if known.contains(&more) => return,
            Some(more) => {
                let wider = known.iter().copied().chain([more]).collect();
                self.region(wider)
            }
        };
    }

    /// The position of a region.
    fn region(&mut self, conditions: Vec<u32>) -> u32 {
        let known = self.list.iter().position(|known| *known == conditions);
        let at = known.unwrap_or(self.list.len());
        if at == self.list.len() {
            self.list.push(conditions);
        }
        at as u32
    }

    /// Whether every condition matters everywhere.
    pub(super) fn are_everywhere(&self) -> bool {
        self.list.len() == 1
    }

    /// The regions that receivers are in that meet these conditions on receivers, in ascending
    /// order.
    pub(super) fn held(&self, met: &[u32]) -> Held {
        let is_held =
            |of: &Vec<u32>| of.is_empty() || of.iter().any(|c| met.binary_search(c).is_ok());
        let bit = |(at, of): (usize, &Vec<u32>)| u64::from(is_held(of)) << at;
        let far = u64::MAX.checked_shl(self.list.len() as u32).unwrap_or(0);
        Held(self.list.iter().take(64).enumerate().map(bit).sum::<u64>() | far)
    }

    /// Whether a condition matters in some regions.
    pub(super) fn matters(&self, condition: u32, held: Held) -> bool {
        let region = self.of[condition as usize];
        region >= 64 || held.0 >> region & 1 == 1
    }
}

impl Held {
    /// Whether these are all regions.
    pub(super) fn is_all(self) -> bool {
        self.0 == u64::MAX
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_condition_matters_where_one_of_its_receivers_is() {
        let mut regions = Regions::default();
        [None, None, Some(0), Some(1), Some(0)].into_iter().for_each(|r| regions.add(r));
        regions.widen(4, Some(1));
        let matter = |met: &[u32]| -> Vec<u32> {
            let held = regions.held(met);
            (0..5).filter(|c| regions.matters(*c, held)).collect()
        };
        assert_eq!(matter(&[]), [0, 1]);
        assert_eq!(matter(&[0]), [0, 1, 2, 4]);
        assert_eq!(matter(&[1]), [0, 1, 3, 4]);
        assert!(regions.held(&[0, 1]).is_all() && !regions.held(&[0]).is_all());
        regions.widen(2, None);
        regions.widen(2, Some(1));
        assert!(regions.matters(2, regions.held(&[])), "what matters everywhere goes on doing so");
    }

    #[test]
    fn regions_behind_the_last_bit_hold_everything() {
        let mut regions = Regions::default();
        regions.add(None);
        (0..100).for_each(|receivers| regions.add(Some(receivers)));
        let held = regions.held(&[70]);
        assert!(regions.matters(100, held) && !regions.matters(10, held));
    }
}
