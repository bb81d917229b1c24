//! Numbers and instants as people read them.

use zarnet_core::net::Instant;

/// An instant to the second: nobody reads milliseconds here.
pub fn rounded(at: Instant) -> String {
    Instant(at.0 / 1_000_000_000 * 1_000_000_000).to_string()
}

/// A share in per cent, with as many places as it takes.
pub fn share(share: f64) -> String {
    let percent = share * 100.0;
    match percent {
        p if p <= 0.0 => "0 %".to_owned(),
        p if p < 0.001 => "<0.001 %".to_owned(),
        p if p < 0.1 => format!("{p:.3} %"),
        p if p < 10.0 => format!("{p:.2} %"),
        p => format!("{p:.1} %"),
    }
}

/// A number with three digits that matter.
pub fn number(n: f64) -> String {
    match n {
        n if n >= 100.0 => format!("{n:.0}"),
        n if n >= 10.0 => format!("{n:.1}"),
        n if n >= 1.0 => format!("{n:.2}"),
        n if n >= 0.001 || n == 0.0 => format!("{n:.4}"),
        n => format!("{n:.1e}"),
    }
}
