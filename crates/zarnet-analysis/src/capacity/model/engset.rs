//! How likely a request finds everything in use where few hosts ask, and each for one only.
//!
//! Engset's loss formula: a host that has one asks for no other, so that what is asked for becomes
//! less as more is in use. What a request meets (call congestion) is what a system with one host
//! less is like at any time.

/// The probability that a request finds all of `servers` in use. `sources`: how many hosts there
/// are; `idle_load`: how often a host that has none asks, times how long it would hold.
pub fn refusal(servers: u64, sources: f64, idle_load: f64) -> f64 {
    let finite = sources.is_finite() && idle_load.is_finite();
    if !finite || idle_load <= 0.0 || sources <= servers as f64 {
        return 0.0;
    }
    let others = sources - 1.0;
    let mut full = 1.0f64;
    for n in 1..=servers {
        let asking = idle_load * (others - (n - 1) as f64);
        if asking <= 0.0 {
            return 0.0;
        }
        full = asking * full / (n as f64 + asking * full);
        if full < 1e-300 {
            return 0.0;
        }
    }
    full
}

/// How many would be in use on the average if there were no end to them.
pub fn offered(sources: f64, idle_load: f64) -> f64 {
    sources * idle_load / (1.0 + idle_load)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::capacity::model::erlang;
    use proptest::prelude::*;

    /// The formula as its states say it: of n in use the weight is C(sources, n) idle_load^n.
    fn by_states(servers: u64, sources: u64, idle_load: f64) -> f64 {
        let (mut term, mut all, mut full) = (1.0, 0.0, 0.0);
        for n in 0..=servers {
            let asking = (sources - n) as f64 * term;
            all += asking;
            full = asking;
            term *= (sources - n) as f64 / (n + 1) as f64 * idle_load;
        }
        full / all
    }

    #[test]
    fn one_for_each_host_is_enough_for_sure() {
        assert_eq!(refusal(10, 10.0, 5.0), 0.0);
        assert_eq!(refusal(12, 10.0, 5.0), 0.0);
        assert!(refusal(9, 10.0, 5.0) > 0.0);
        // two hosts and one: the other has it when this one asks
        assert!((refusal(1, 2.0, 1.0) - 0.5).abs() < 1e-12);
        assert_eq!((refusal(0, 5.0, 1.0), refusal(5, f64::NAN, 1.0)), (1.0, 0.0));
        assert!((offered(10.0, 1.0) - 5.0).abs() < 1e-12);
    }

    proptest! {
        #[test]
        fn the_states_agree(servers in 0u64..30, more in 1u64..30, idle_load in 0.01f64..4.0) {
            let (got, sources) = (refusal(servers, (servers + more) as f64, idle_load), servers + more);
            prop_assert!((got - by_states(servers, sources, idle_load)).abs() < 1e-9);
        }

        /// Of so many hosts that each hardly asks, it is Erlang's.
        #[test]
        fn many_hosts_are_as_without_end(servers in 1u64..40, load in 0.5f64..40.0) {
            let sources = 1e7;
            let got = refusal(servers, sources, load / sources);
            prop_assert!((got - erlang::refusal(servers, load)).abs() < 1e-4);
        }
    }
}
