//! The timer wheel against a sorted list.

use super::*;
use proptest::prelude::*;

#[derive(Default)]
struct Arena(Vec<(u64, u16)>);

impl Timed for Arena {
    fn expires(&self, id: u32) -> u64 {
        self.0[id as usize].0
    }
    fn armed(&mut self, id: u32) -> &mut u16 {
        &mut self.0[id as usize].1
    }
}

/// From milliseconds to decades, mostly the shorter ones.
const FAR: std::ops::Range<u32> = 20..44;

#[test]
fn a_century_is_jumped_over() {
    const YEAR: u64 = 365 * 86_400 * 1_000_000_000;
    let (mut wheel, mut arena) = (Wheel::default(), Arena(vec![(NEVER, UNARMED); 1000]));
    assert_eq!(wheel.next_due(&mut arena, 0), None);
    for id in 0..1000 {
        let expires = 100 * YEAR + u64::from(id);
        arena.0[id as usize] = (expires, UNARMED);
        arena.0[id as usize].1 = wheel.file(expires, id);
    }
    assert_eq!(wheel.next_due(&mut arena, 100 * YEAR - 1), None);
    let due: Vec<u32> = std::iter::from_fn(|| wheel.next_due(&mut arena, 101 * YEAR)).collect();
    assert_eq!(due, (0..1000).collect::<Vec<_>>());
    // each entry is looked at once a level: the slots in between are not
    assert!(wheel.turns < 10, "{} slots were looked at", wheel.turns);
}

/// What was about to expire, was postponed, and has expired since comes after what expired
/// between.
#[test]
fn what_was_postponed_at_the_last_moment_keeps_its_turn() {
    let (mut wheel, mut arena) = (Wheel::default(), Arena(vec![(NEVER, UNARMED); 2]));
    let set = |wheel: &mut Wheel, arena: &mut Arena, id: u32, expires: u64| {
        arena.0[id as usize].0 = expires;
        wheel.arm(arena, id);
    };
    assert_eq!(wheel.next_due(&mut arena, 0), None);
    set(&mut wheel, &mut arena, 0, 60_000_000_000);
    set(&mut wheel, &mut arena, 1, 1_290_000_000);
    // in the tick in which it would expire
    assert_eq!(wheel.next_due(&mut arena, 1_280_000_000), None);
    set(&mut wheel, &mut arena, 1, 70_000_000_000);
    let due = |wheel: &mut Wheel, arena: &mut Arena| wheel.next_due(arena, 100_000_000_000);
    assert_eq!([due(&mut wheel, &mut arena), due(&mut wheel, &mut arena)], [Some(0), Some(1)]);
}

proptest! {
    /// Each entry comes out once, at the first look at or after its expiry, in order, whatever
    /// was postponed or brought forward in between.
    #[test]
    fn everything_comes_out_when_it_is_due(
        start in 0u64..1 << 60,
        steps in proptest::collection::vec(
            (0u64..3000, FAR, 0u32..20, 0u64..3000, FAR),
            1..200,
        ),
    ) {
        let (mut wheel, mut arena, mut now) =
            (Wheel::default(), Arena(vec![(NEVER, UNARMED); 20]), start);
        for (forward, by, id, life, scale) in steps {
            now += forward << by;
            let mut last = 0;
            while let Some(id) = wheel.next_due(&mut arena, now) {
                let expires = arena.expires(id);
                prop_assert!(expires <= now && expires >= last);
                last = expires;
                arena.0[id as usize].0 = NEVER;
            }
            prop_assert!(arena.0.iter().all(|e| e.0 > now));
            let is_new = arena.0[id as usize].0 == NEVER;
            arena.0[id as usize].0 = now + 1 + (life << scale);
            if is_new {
                arena.0[id as usize].1 = wheel.file(arena.expires(id), id);
            } else {
                wheel.arm(&mut arena, id);
            }
        }
    }
}
