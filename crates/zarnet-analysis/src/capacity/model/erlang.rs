//! How likely a request finds everything in use, and how much is needed so that this is rare.
//!
//! Erlang's loss formula (the first, often called B): requests come at random and independently of
//! each other, one that finds nothing left is gone for good, and only the mean of how long each
//! holds matters, not how it is distributed.

/// The probability that a request finds all of `servers` in use, when `offered` of them would be in
/// use on the average if there were no end to them. `offered`: in erlang, 0 or more.
///
/// Its inverse is the sum of servers!/(servers-k)! / offered^k over all k: every term is positive,
/// so that nothing is lost to rounding, and only about the square root of `servers` of them matter.
pub fn refusal(servers: u64, offered: f64) -> f64 {
    /// What happens less than once in so many times is taken never to happen.
    const NEVER: f64 = 1e60;
    if offered.is_nan() || offered <= 0.0 {
        return 0.0;
    }
    let (mut term, mut sum, mut left) = (1.0f64, 1.0f64, servers as f64);
    while left >= 1.0 {
        term *= left / offered;
        sum += term;
        left -= 1.0;
        if sum > NEVER {
            return 0.0;
        }
        if left < offered && term < sum * 1e-17 {
            break;
        }
    }
    1.0 / sum
}

/// The same for a number of servers that need not be whole: between two whole ones its logarithm is
/// taken to be straight.
pub fn refusal_between(servers: f64, offered: f64) -> f64 {
    let servers = servers.max(0.0);
    let below = refusal(servers.floor() as u64, offered);
    let part = servers.fract();
    if part == 0.0 || below == 0.0 {
        return below;
    }
    let above = refusal(servers.floor() as u64 + 1, offered).max(f64::MIN_POSITIVE);
    (below.ln() * (1.0 - part) + above.ln() * part).exp()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::capacity::model::Model;
    use proptest::prelude::*;

    fn servers_for(offered: f64, target: f64, most: u64) -> Option<u64> {
        Model::ErlangB { offered }.needed(target, 1.0, most)
    }

    fn offered_for(servers: u64, target: f64) -> f64 {
        Model::ErlangB { offered: 1.0 }.headroom(servers, target).unwrap()
    }

    /// Erlang's own table and those that were computed after it: servers, refusal, the traffic that
    /// they carry so.
    #[test]
    fn published_values_are_met() {
        let table = [
            (1, 0.01, 0.0101),
            (2, 0.01, 0.1526),
            (3, 0.01, 0.4555),
            (5, 0.01, 1.3608),
            (5, 0.001, 0.7621),
            (10, 0.01, 4.4612),
            (10, 0.001, 3.0920),
            (10, 0.05, 6.2157),
            (20, 0.01, 12.031),
            (20, 0.001, 9.4115),
            (30, 0.01, 20.337),
            (50, 0.01, 37.901),
            (50, 0.001, 32.512),
            (100, 0.01, 84.064),
            (100, 0.001, 75.242),
        ];
        for (servers, target, offered) in table {
            let got = offered_for(servers, target);
            assert!(
                (got - offered).abs() <= offered * 0.0005 + 5e-5,
                "{servers} {target}: {got} for {offered}"
            );
            assert_eq!(servers_for(offered * 0.999, target, 1000), Some(servers));
        }
    }

    #[test]
    fn a_target_out_of_reach_has_no_size() {
        assert_eq!(servers_for(1000.0, 1e-9, 100), None);
        assert_eq!(servers_for(0.0, 0.0, 0), Some(0));
        assert_eq!(refusal(0, 5.0), 1.0);
        assert_eq!(refusal(5, f64::NAN), 0.0);
        assert_eq!(offered_for(5, 0.0), 0.0);
    }

    proptest! {
        #[test]
        fn the_sum_that_defines_it_agrees(servers in 0u64..40, offered in 0.01f64..60.0) {
            let (mut term, mut sum) = (1.0, 1.0);
            for n in 1..=servers {
                term *= offered / n as f64;
                sum += term;
            }
            prop_assert!((refusal(servers, offered) - term / sum).abs() < 1e-12);
        }

        #[test]
        fn more_servers_refuse_less_and_more_load_more(
            servers in 1u64..500,
            offered in 0.1f64..700.0,
        ) {
            let b = refusal(servers, offered);
            // what is too small for a number is 0, and cannot be less
            prop_assert!(refusal(servers + 1, offered) < b || b == 0.0);
            prop_assert!(refusal(servers, offered * 1.01) > b || b == 0.0);
            let size = servers_for(offered, b, servers + 1).unwrap_or(0);
            prop_assert!(size == servers || (refusal(size, offered) - b).abs() < 1e-12 || b == 0.0);
        }
    }
}
