//! What several runs with other seeds say together: a mean, and how far it can be trusted.

/// A mean and the interval that holds the true one with 95 % confidence.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SampleSpread {
    /// The mean of all runs.
    pub mean: f64,
    /// Lower end of the interval.
    pub low: f64,
    /// Upper end of the interval.
    pub high: f64,
    /// Number of runs that the figures come from.
    pub runs: usize,
}

/// Student's t for 95 %, two-sided, by degrees of freedom from 1.
const T: [f64; 30] = [
    12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160,
    2.145, 2.131, 2.120, 2.110, 2.101, 2.093, 2.086, 2.080, 2.074, 2.069, 2.064, 2.060, 2.056,
    2.052, 2.048, 2.045, 2.042,
];

/// Student's t by degrees of freedom, from 1.
pub(super) fn student(degrees: usize) -> f64 {
    T.get(degrees.saturating_sub(1)).copied().unwrap_or(1.96)
}

impl SampleSpread {
    /// Of samples from independent runs; `None` of fewer than two.
    pub fn of(samples: &[f64]) -> Option<Self> {
        let runs = samples.len();
        if runs < 2 {
            return None;
        }
        let n = runs as f64;
        let mean = samples.iter().sum::<f64>() / n;
        let variance = samples.iter().map(|s| (s - mean) * (s - mean)).sum::<f64>() / (n - 1.0);
        let half = student(runs - 1) * (variance / n).sqrt();
        Some(Self { mean, low: mean - half, high: mean + half, runs })
    }

    /// Whether a value lies in the interval.
    pub fn holds(&self, value: f64) -> bool {
        (self.low..=self.high).contains(&value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_of_a_known_sample() {
        // mean 3, deviation 1.5811, t(4) 2.776: 1.9629 either way
        let s = SampleSpread::of(&[1.0, 2.0, 3.0, 4.0, 5.0]).expect("five runs");
        assert!(
            (s.mean - 3.0).abs() < 1e-12
                && (s.high - 4.9629).abs() < 1e-3
                && (s.low - 1.0371).abs() < 1e-3
        );
        assert!(s.holds(4.9) && !s.holds(5.0));
        assert_eq!(SampleSpread::of(&[1.0]), None);
    }
}
