//! Use over time: exact where there is room, and nothing lost where there is not.

use super::*;
use proptest::prelude::*;

const ROOM: usize = 1 << 20;

fn series(changes: &[(u64, u32)], room: usize) -> Series {
    let mut series = Series::new(Some(3));
    changes.iter().for_each(|c| series.note(c.0, c.1, true, room));
    series
}

#[test]
fn what_is_in_use_is_known_at_every_change() {
    let s = series(&[(10, 1), (20, 2), (20, 3), (30, 2), (50, 0)], ROOM);
    let at = [0, 9, 10, 19, 20, 29, 30, 49, 50, 99].map(|t| s.at(Instant(t)));
    assert_eq!(at, [0, 0, 1, 1, 3, 3, 2, 2, 0, 0]);
    assert_eq!((s.peak.count, s.peak.at, s.first_full), (3, Instant(20), Some(Instant(20))));
    assert_eq!(s.full_for(Instant(99)), 10);
    assert_eq!(
        [15, 20, 30, 50].map(|t| s.next_release(Instant(t))),
        [Some(Instant(30)), Some(Instant(30)), Some(Instant(50)), None]
    );
    // 10 at 1, 10 at 3, 20 at 2 of fifty
    assert!((s.mean(Instant(0), Instant(50)) - 80.0 / 50.0).abs() < 1e-12);
}

#[test]
fn drawing_keeps_a_peak_and_a_refusal_of_one_instant() {
    let mut s = series(&[(100, 1), (500, 3)], ROOM);
    s.refuse(500, ROOM);
    s.note(501, 1, false, ROOM);
    s.note(900, 0, false, ROOM);
    let drawn = s.reduced(Instant(0), Instant(999), 4);
    assert_eq!(
        drawn.iter().map(|d| (d.least, d.most, d.refused)).collect::<Vec<_>>(),
        [(0, 1, 0), (1, 1, 0), (1, 3, 1), (0, 1, 0)]
    );
}

#[test]
fn what_is_asked_of_use_over_time() {
    let s = series(&[(10, 1), (20, 3), (30, 2), (50, 0)], ROOM);
    assert_eq!(s.above(2.0, Instant(0), Instant(99)), 30);
    assert_eq!(s.above(3.0, Instant(25), Instant(99)), 5);
    assert_eq!(s.fastest_rise(5, Instant(0), Instant(99)), 2, "from one to three at once");
    assert_eq!(s.fastest_rise(15, Instant(0), Instant(99)), 3, "from none within fifteen");
    assert_eq!(s.fastest_rise(15, Instant(30), Instant(99)), 0);
    let mut drained = series(&[(10, 1), (20, 2)], ROOM);
    drained.drain(30);
    drained.note(40, 1, false, ROOM);
    drained.note(100, 0, false, ROOM);
    // 10 at one, 10 at two before the end, then 10 at two and 60 at one
    assert_eq!(drained.area(), 110.0);
    assert_eq!((drained.peak.count, drained.spans().len()), (2, 2));
    let mut last_first = series(&[(10, 1), (20, 2)], ROOM);
    last_first.drain(30);
    last_first.note(100, 1, false, ROOM);
    last_first.note(40, 0, false, ROOM);
    assert_eq!(last_first.area(), 110.0, "whichever use ends first");
    let mut lengths = Lengths::default();
    (0..10_000).for_each(|n| lengths.note(n));
    assert!((200..=512).contains(&lengths.sample().len()));
    assert!(lengths.sample().windows(2).all(|w| w[0] < w[1]));
}

proptest! {
    #[test]
    fn less_room_loses_no_peak_no_use_and_no_refusal(
        steps in proptest::collection::vec((0u64..40_000_000, 0u32..50, any::<bool>()), 1..400),
        room in 4usize..60,
    ) {
        let (mut fine, mut coarse, mut now) = (Series::new(Some(40)), Series::new(Some(40)), 0);
        for (gap, value, refused) in steps {
            now += gap;
            for (s, room) in [(&mut fine, ROOM), (&mut coarse, room)] {
                s.note(now, value, true, room);
                if refused {
                    s.refuse(now, room);
                }
            }
        }
        prop_assert!(coarse.spans().len() <= room);
        prop_assert_eq!(fine.resolution(), 0);
        let sums = |s: &Series| {
            s.spans().iter().fold((0, u32::MAX, 0, 0), |sum, p| {
                (sum.0.max(p.most), sum.1.min(p.least), sum.2 + p.begun, sum.3 + p.refused)
            })
        };
        prop_assert_eq!(sums(&fine), sums(&coarse));
        prop_assert_eq!(
            (fine.peak, fine.first_full, fine.refused),
            (coarse.peak, coarse.first_full, coarse.refused)
        );
        prop_assert_eq!(fine.at(Instant(now)), coarse.at(Instant(now)));
        let (a, b) = (
            fine.reduced(Instant(0), Instant(now), 7),
            coarse.reduced(Instant(0), Instant(now), 7),
        );
        prop_assert_eq!(
            a.iter().map(|s| s.refused).sum::<u32>(),
            b.iter().map(|s| s.refused).sum::<u32>()
        );
        prop_assert_eq!(a.iter().map(|s| s.most).max(), b.iter().map(|s| s.most).max());
    }
}
