//! Which of many rules match a packet, in their order, without looking at each: for every property
//! of a packet there is a map from its values to the rules that do not mind them, one bit a rule,
//! and the rules that mind none are what the maps have in common.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::net::{IntervalMap, Protocol};

/// A run of values, both ends included.
pub(super) type Span = (u64, u64);

/// What a rule does not mind: sources, destinations, and services by protocol and port.
#[derive(Debug, Clone, Default)]
pub(super) struct Wants {
    pub sources: Vec<Span>,
    pub destinations: Vec<Span>,
    pub services: Vec<Span>,
}

/// A service as a number.
pub(super) fn service_number(protocol: Protocol, port: u16) -> u64 {
    u64::from(protocol.0) << 16 | u64::from(port)
}

/// One bit a rule, and one for every 64 of them of which any is set.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Bits {
    words: Vec<u64>,
    summary: Vec<u64>,
}

impl Bits {
    fn new(count: usize, members: impl Iterator<Item = usize>) -> Self {
        let words = count.div_ceil(64);
        let mut bits = Self { words: vec![0; words], summary: vec![0; words.div_ceil(64)] };
        for member in members {
            bits.words[member / 64] |= 1 << (member % 64);
            bits.summary[member / 64 / 64] |= 1 << (member / 64 % 64);
        }
        bits
    }
}

/// Rules by the values of one property.
#[derive(Debug, Clone)]
struct Dimension(IntervalMap<Arc<Bits>>);

impl Dimension {
    fn new<'a>(count: usize, spans: impl Iterator<Item = &'a Vec<Span>>) -> Self {
        let spans =
            spans.enumerate().flat_map(|(rule, spans)| spans.iter().map(move |s| (rule, *s)));
        let (owners, ranges): (Vec<usize>, Vec<Span>) = spans.unzip();
        let value = |active: &BTreeSet<usize>| {
            Arc::new(Bits::new(count, active.iter().map(|r| owners[*r])))
        };
        Self(IntervalMap::new(&ranges, value))
    }
}

/// The positions of ones in a word.
fn ones(mut word: u64) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        (word != 0).then(|| {
            let at = word.trailing_zeros() as usize;
            word &= word - 1;
            at
        })
    })
}

/// Rules by all properties.
#[derive(Debug, Clone)]
pub(super) struct FirstMatch {
    order: Vec<u16>,
    sources: Dimension,
    destinations: Dimension,
    services: Dimension,
}

impl FirstMatch {
    /// From what rules want, in the order in which they are looked at.
    pub(super) fn new(rules: &[(u16, Wants)]) -> Self {
        let count = rules.len();
        Self {
            order: rules.iter().map(|r| r.0).collect(),
            sources: Dimension::new(count, rules.iter().map(|r| &r.1.sources)),
            destinations: Dimension::new(count, rules.iter().map(|r| &r.1.destinations)),
            services: Dimension::new(count, rules.iter().map(|r| &r.1.services)),
        }
    }

    /// The rules that mind neither source, destination nor service.
    pub(super) fn candidates(
        &self,
        source: u64,
        destination: u64,
        service: u64,
    ) -> impl Iterator<Item = u16> + '_ {
        let maps = [
            self.sources.0.get(source),
            self.destinations.0.get(destination),
            self.services.0.get(service),
        ];
        self.common(maps)
    }

    /// The rules that do not mind a source.
    pub(super) fn of_source(&self, source: u64) -> impl Iterator<Item = u16> + '_ {
        let bits = self.sources.0.get(source);
        self.common([bits, bits, bits])
    }

    fn common<'a>(&'a self, [a, b, c]: [&'a Arc<Bits>; 3]) -> impl Iterator<Item = u16> + 'a {
        let groups = a
            .summary
            .iter()
            .zip(&b.summary)
            .zip(&c.summary)
            .map(|((a, b), c)| a & b & c)
            .enumerate();
        let words = groups.flat_map(|(g, summary)| ones(summary).map(move |w| g * 64 + w));
        let rules = words
            .flat_map(move |w| ones(a.words[w] & b.words[w] & c.words[w]).map(move |r| w * 64 + r));
        rules.map(|r| self.order[r])
    }

    /// Where the rules of a source may change.
    pub(super) fn source_edges(&self) -> &[u64] {
        self.sources.0.edges()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spans() -> impl Strategy<Value = Vec<Span>> {
        let span =
            (0u64..100, prop_oneof![Just(0u64), 0u64..10, Just(200)]).prop_map(|(a, n)| (a, a + n));
        proptest::collection::vec(span, 0..4)
    }

    proptest! {
        /// Against a look at each rule, in order, with more rules than fit into a word, and into a
        /// word of words.
        #[test]
        fn finds_what_a_scan_finds(
            kinds in proptest::collection::vec((spans(), spans(), spans()), 1..12),
            count in 1usize..9000,
            (a, b, c) in (0u64..120, 0u64..120, 0u64..120),
        ) {
            let wants = |i: usize| {
                let (sources, destinations, services) = kinds[i * 7 % kinds.len()].clone();
                Wants { sources, destinations, services }
            };
            let rules: Vec<(u16, Wants)> =
                (0..count).map(|i| ((i * 5 % 9001) as u16, wants(i))).collect();
            let first_match = FirstMatch::new(&rules);
            let holds = |spans: &[Span], x: u64| spans.iter().any(|s| s.0 <= x && x <= s.1);
            let scan = rules.iter().filter(|r| holds(&r.1.sources, a));
            let by_source: Vec<u16> = scan.clone().map(|r| r.0).collect();
            let all = scan
                .filter(|r| holds(&r.1.destinations, b) && holds(&r.1.services, c))
                .map(|r| r.0);
            prop_assert_eq!(first_match.of_source(a).collect::<Vec<_>>(), by_source);
            prop_assert_eq!(
                first_match.candidates(a, b, c).collect::<Vec<_>>(),
                all.collect::<Vec<_>>()
            );
        }
    }
}
