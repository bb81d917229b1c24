//! Which of many rules or entries match a packet, in their order, without looking at each. Every
//! rule is listed by that one of its conditions which it shares with the fewest others; of a packet,
//! only those are looked at that are listed under one of its values.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::net::{IntervalMap, Protocol, ServiceSet};

/// A run of values, both ends included.
pub(super) type Span = (u64, u64);

/// By property, the values that a rule does not mind.
pub(super) type Wants<const N: usize> = [Vec<Span>; N];

/// A service as a number.
pub(super) fn service_number(protocol: Protocol, port: u16) -> u64 {
    u64::from(protocol.0) << 16 | u64::from(port)
}

/// Every service.
pub(super) fn all_services() -> Vec<Span> {
    vec![(0, service_number(Protocol(u8::MAX), u16::MAX))]
}

/// The services of a set as numbers. Of a protocol without ports, any port will do.
pub(super) fn service_spans(set: &ServiceSet) -> Vec<Span> {
    if set.is_any() {
        return all_services();
    }
    let mut spans = Vec::new();
    for service in &set.0 {
        let ports = (service.ports.first, service.ports.last);
        let of = |p: Protocol| {
            let (first, last) = if p.has_ports() { ports } else { (0, u16::MAX) };
            (service_number(p, first), service_number(p, last))
        };
        match service.protocol {
            Some(p) => spans.push(of(p)),
            None => spans.extend((0..=u8::MAX).map(|p| of(Protocol(p)))),
        }
    }
    runs(spans)
}

/// Spans in their order, with those that meet made one.
pub(super) fn runs(mut spans: Vec<Span>) -> Vec<Span> {
    spans.sort_unstable();
    let mut runs: Vec<Span> = Vec::new();
    for span in spans {
        match runs.last_mut().filter(|last| span.0 <= last.1 + 1) {
            Some(last) => last.1 = last.1.max(span.1),
            None => runs.push(span),
        }
    }
    runs
}

/// No more rules than this are gone through.
const FEW: usize = 8;

/// The positions of rules, in ascending order.
type Listed = Arc<[u32]>;

/// Rules by what they want of a packet.
#[derive(Debug, Clone)]
pub(super) struct FirstMatch<const N: usize> {
    wants: Vec<Wants<N>>,
    /// The same where there are few rules, each of which wants one run of every property: it is
    /// quicker to go through them than to look them up.
    few: Vec<[Span; N]>,
    /// By property and value: the rules listed there that do not mind it.
    listed: [IntervalMap<Listed>; N],
    /// By property: the rules that are listed by another one.
    elsewhere: [Vec<u32>; N],
}

impl<const N: usize> FirstMatch<N> {
    /// From what rules want, in the order in which they are looked at.
    pub(super) fn new(wants: Vec<Wants<N>>) -> Self {
        let crowds: [Crowd; N] = std::array::from_fn(|d| Crowd::of(wants.iter().map(|w| &w[d])));
        let fewest = |w: &Wants<N>| {
            let company = |d: &usize| crowds[*d].most(&w[*d]);
            (0..N).min_by_key(company).unwrap_or(0)
        };
        let by: Vec<usize> = wants.iter().map(fewest).collect();
        let listed = |d: usize| {
            let members = (0u32..).zip(&wants).filter(|(i, _)| by[*i as usize] == d);
            let spans = members.flat_map(|(i, w)| w[d].iter().map(move |s| (i, *s)));
            let (owners, ranges): (Vec<u32>, Vec<Span>) = spans.unzip();
            IntervalMap::new(&ranges, |active: &BTreeSet<usize>| {
                let mut rules: Vec<u32> = active.iter().map(|r| owners[*r]).collect();
                rules.dedup();
                rules.into()
            })
        };
        let listed = std::array::from_fn(listed);
        let elsewhere = |d: usize| (0u32..).zip(&by).filter(|b| *b.1 != d).map(|b| b.0).collect();
        let runs = |w: &Wants<N>| {
            let run = |d: usize| if let [run] = w[d][..] { Some(run) } else { None };
            (0..N)
                .all(|d| run(d).is_some())
                .then(|| std::array::from_fn(|d| run(d).unwrap_or_default()))
        };
        let few = if wants.len() <= FEW { wants.iter().map(runs).collect() } else { None };
        let few = few.unwrap_or_default();
        Self { wants, few, listed, elsewhere: std::array::from_fn(elsewhere) }
    }

    /// The position of the first rule that minds none of a packet's values, among those that are
    /// accepted.
    #[inline(always)]
    pub(super) fn first(
        &self,
        values: [u64; N],
        accepted: impl Fn(usize) -> bool,
    ) -> Option<usize> {
        if self.few.is_empty() {
            return self.candidates(values).find(|rule| accepted(*rule));
        }
        let suits = |runs: &[Span; N]| {
            // all of them, without a decision after each
            (0..N).fold(true, |all, d| all & (runs[d].0 <= values[d]) & (values[d] <= runs[d].1))
        };
        (0..self.few.len()).find(|rule| suits(&self.few[*rule]) && accepted(*rule))
    }

    /// The positions of the rules that mind none of a packet's values, in ascending order.
    #[inline]
    pub(super) fn candidates(&self, values: [u64; N]) -> impl Iterator<Item = usize> + '_ {
        let mut lists: [&[u32]; N] = std::array::from_fn(|d| &**self.listed[d].get(values[d]));
        std::iter::from_fn(move || {
            loop {
                let d = (0..N).filter(|d| !lists[*d].is_empty()).min_by_key(|d| lists[*d][0])?;
                let rule = lists[d][0] as usize;
                lists[d] = &lists[d][1..];
                let minds = |d: usize| !holds(&self.wants[rule][d], values[d]);
                if !(0..N).any(minds) {
                    return Some(rule);
                }
            }
        })
    }

    /// The positions of the rules that do not mind a value of one property.
    pub(super) fn of_one(&self, d: usize, value: u64) -> impl Iterator<Item = usize> + '_ {
        let (mut here, mut elsewhere) = (&**self.listed[d].get(value), &*self.elsewhere[d]);
        std::iter::from_fn(move || {
            loop {
                let list = match (here.first(), elsewhere.first()) {
                    (Some(a), Some(b)) if b < a => &mut elsewhere,
                    (None, _) => &mut elsewhere,
                    (Some(_), _) => &mut here,
                };
                let rule = *list.first()? as usize;
                *list = &list[1..];
                if holds(&self.wants[rule][d], value) {
                    return Some(rule);
                }
            }
        })
    }

    /// Where the rules that do not mind a value of one property may change.
    pub(super) fn edges(&self, d: usize) -> Vec<u64> {
        self.wants.iter().flat_map(|w| &w[d]).flat_map(|s| [s.0, s.1 + 1]).collect()
    }
}

/// Whether one of some runs, which are sorted, holds a value.
#[inline(always)]
fn holds(spans: &[Span], value: u64) -> bool {
    match spans {
        [] => false,
        [span] => span.0 <= value && value <= span.1,
        _ => {
            let before = spans.partition_point(|s| s.0 <= value);
            before > 0 && value <= spans[before - 1].1
        }
    }
}

/// How many rules do not mind a value of one property, but for those that mind few.
struct Crowd {
    /// From where on, and how many.
    counts: Vec<(u64, i64)>,
    /// How many values rules speak of.
    values: u64,
}

impl Crowd {
    fn of<'a>(wants: impl Iterator<Item = &'a Vec<Span>> + Clone) -> Self {
        let values = wants.clone().flatten().map(|s| s.1 + 1).max().unwrap_or(0);
        let mut crowd = Self { counts: Vec::new(), values };
        let mut edges: Vec<(u64, i64)> = wants
            .filter(|w| !crowd.is_wide(w))
            .flatten()
            .flat_map(|s| [(s.0, 1), (s.1 + 1, -1)])
            .collect();
        edges.sort_unstable();
        let mut count = 0;
        crowd.counts.extend(edges.into_iter().map(|(at, change)| {
            count += change;
            (at, count)
        }));
        crowd
    }

    /// Whether a rule does not mind half of the values or more.
    fn is_wide(&self, spans: &[Span]) -> bool {
        spans.iter().map(|s| s.1 - s.0 + 1).sum::<u64>() >= self.values.div_ceil(2)
    }

    /// The most that are met where one of some runs begins.
    fn most(&self, spans: &[Span]) -> i64 {
        if self.is_wide(spans) {
            return i64::MAX;
        }
        let at = |s: &Span| self.counts.partition_point(|c| c.0 <= s.0);
        spans.iter().map(|s| self.counts[at(s) - 1].1).max().unwrap_or(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spans() -> impl Strategy<Value = Vec<Span>> {
        // sorted, with gaps between
        let span = (1u64..40, prop_oneof![Just(0u64), 0u64..10, Just(100)]);
        proptest::collection::vec(span, 0..4).prop_map(|steps| {
            let mut at = 0;
            let mut next = |(gap, length)| {
                let first = at + gap;
                at = first + length + 1;
                (first, first + length)
            };
            steps.into_iter().map(&mut next).collect()
        })
    }

    proptest! {
        /// Against a look at each rule, in order.
        #[test]
        fn finds_what_a_scan_finds(
            kinds in proptest::collection::vec((spans(), spans(), spans()), 1..40),
            count in prop_oneof![1usize..9, 1usize..300],
            values in proptest::collection::vec((0u64..120, 0u64..120, 0u64..120), 1..20),
        ) {
            let wants = |i: usize| {
                let (sources, destinations, services) = kinds[i * 7 % kinds.len()].clone();
                [sources, destinations, services]
            };
            let rules: Vec<Wants<3>> = (0..count).map(wants).collect();
            let first_match = FirstMatch::new(rules.clone());
            let among = |spans: &[Span], x: u64| spans.iter().any(|s| s.0 <= x && x <= s.1);
            for (a, b, c) in values {
                let scan = rules.iter().enumerate().filter(|(_, r)| among(&r[0], a));
                let by_source: Vec<usize> = scan.clone().map(|r| r.0).collect();
                let all: Vec<usize> =
                    scan.filter(|(_, r)| among(&r[1], b) && among(&r[2], c)).map(|r| r.0).collect();
                prop_assert_eq!(first_match.of_one(0, a).collect::<Vec<_>>(), by_source);
                let odd = |rule: &usize| rule % 2 == 1;
                prop_assert_eq!(first_match.first([a, b, c], |_| true), all.first().copied());
                let first_odd = all.iter().copied().find(odd);
                prop_assert_eq!(first_match.first([a, b, c], |rule| odd(&rule)), first_odd);
                prop_assert_eq!(first_match.candidates([a, b, c]).collect::<Vec<_>>(), all);
            }
        }
    }
}
