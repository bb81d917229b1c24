//! What can go wrong with a device over the network.

use zarnet_formats::device_errors::DEVICE_ERRORS;

use crate::fingerprint::Fingerprint;

/// Why a request has no answer, or none that helps. What a device says is text of a stranger.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ClientError {
    /// Not an address that is spoken to.
    #[error("`{0}` is no https address")]
    Address(String),
    /// Nobody answers there.
    #[error("{0} cannot be reached: {1}")]
    Unreachable(String, String),
    /// The certificate is not believed.
    #[error("the certificate of {host} is not believed: {why}")]
    Untrusted {
        /// Who showed it.
        host: String,
        /// Why not.
        why: String,
        /// What it is known by.
        fingerprint: Option<Fingerprint>,
    },
    /// The own certificate or the authority cannot be read.
    #[error("{0}")]
    Credentials(String),
    /// The answer took too long, or ended in the middle. Of a write nobody knows whether it was
    /// made.
    #[error("no whole answer came: {0}")]
    NoAnswer(String),
    /// There is more of the answer than is taken.
    #[error("the answer is longer than {0} octets")]
    TooLarge(u64),
    /// The answer is something else than what was asked for.
    #[error("the answer is not what was asked for: {0}")]
    NotData(String),
    /// It sends us elsewhere.
    #[error("the device redirects to {0}, which is not followed")]
    Redirected(String),
    /// It wants to know who asks.
    #[error("the device refuses access ({0})")]
    NotAllowed(u16),
    /// Somebody changed its configuration meanwhile.
    #[error("the configuration of the device was changed meanwhile")]
    ChangedMeanwhile,
    /// It refuses.
    #[error("the device refuses with status {status}: {said}")]
    Refused {
        /// Of HTTP.
        status: u16,
        /// What it says.
        said: String,
    },
}

impl ClientError {
    /// The stable name.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Address(_) => "not-an-address",
            Self::Unreachable(..) => "device-unreachable",
            Self::Untrusted { .. } => "certificate-not-believed",
            Self::Credentials(_) => "access-file",
            Self::NoAnswer(_) => "no-whole-answer",
            Self::TooLarge(_) | Self::NotData(_) | Self::Redirected(_) => "answer-not-understood",
            Self::NotAllowed(_) => "access-refused",
            Self::ChangedMeanwhile => "device-changed-meanwhile",
            Self::Refused { .. } => "device-refuses",
        }
    }

    /// What to do about it.
    pub fn help(&self) -> Option<String> {
        if let Self::Untrusted { fingerprint: Some(print), .. } = self {
            return Some(format!(
                "its fingerprint is {print}: if that is the device's, put it into the access file \
                 as `pin`, or use --learn-pin once"
            ));
        }
        DEVICE_ERRORS.iter().find(|k| k.name == self.name()).map(|k| k.advice.to_owned())
    }
}
