//! A certificate as people compare it: SHA-256 of its octets, in hexadecimal.

use std::fmt;
use std::str::FromStr;

/// The fingerprint of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fingerprint([u8; 32]);

impl Fingerprint {
    /// That of a certificate in DER.
    pub fn of(certificate: &[u8]) -> Self {
        let digest = ring::digest::digest(&ring::digest::SHA256, certificate);
        let mut octets = [0; 32];
        octets.copy_from_slice(digest.as_ref());
        Self(octets)
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("sha256:")?;
        self.0.iter().try_for_each(|octet| write!(f, "{octet:02x}"))
    }
}

impl FromStr for Fingerprint {
    type Err = &'static str;

    /// Reads `sha256:` and 64 digits, which may stand in pairs with colons between.
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        const WRONG: &str = "a fingerprint is sha256: and 64 hexadecimal digits";
        let text = text.trim();
        let digits: String =
            text.strip_prefix("sha256:").unwrap_or(text).chars().filter(|c| *c != ':').collect();
        if digits.len() != 64 || !digits.is_ascii() {
            return Err(WRONG);
        }
        let mut octets = [0; 32];
        for (octet, pair) in octets.iter_mut().zip(digits.as_bytes().chunks(2)) {
            let pair = std::str::from_utf8(pair).map_err(|_| WRONG)?;
            *octet = u8::from_str_radix(pair, 16).map_err(|_| WRONG)?;
        }
        Ok(Self(octets))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fingerprint_is_read_as_it_is_written() {
        let print = Fingerprint::of(b"certificate");
        let text = print.to_string();
        assert_eq!(text.parse(), Ok(print));
        let digits = text.trim_start_matches("sha256:");
        let pairs: Vec<&str> = (0..32).map(|i| &digits[2 * i..2 * i + 2]).collect();
        assert_eq!(pairs.join(":").to_uppercase().parse(), Ok(print));
        assert!("sha256:12".parse::<Fingerprint>().is_err());
        assert!("ä".repeat(32).parse::<Fingerprint>().is_err());
    }
}
