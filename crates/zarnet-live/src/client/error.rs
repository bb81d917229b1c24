//! What can go wrong with a device over the network.

use zarnet_core::plan::ErrorKind;

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

/// Every error with what it means and what to do.
pub const CLIENT_ERRORS: &[ErrorKind] = &[
    ErrorKind {
        name: "not-an-address",
        means: "The address of a device is https://HOST or https://HOST:PORT; nothing is sent without encryption.",
        advice: "Write the address like https://localhost:8443.",
    },
    ErrorKind {
        name: "device-unreachable",
        means: "Nobody answers at the address, or not as a server does.",
        advice: "Is the device up, the port the right one, and the way there open?",
    },
    ErrorKind {
        name: "certificate-not-believed",
        means: "The certificate of the device was made by nobody who is trusted, is for another name, or is not the one of `pin`.",
        advice: "If the fingerprint is the device's, put it into the access file as `pin`, or use --learn-pin once.",
    },
    ErrorKind {
        name: "no-whole-answer",
        means: "The answer took longer than --wait, or ended in the middle.",
        advice: "A read may be tried again. Of an edit, `drift` tells what the device has.",
    },
    ErrorKind {
        name: "answer-not-understood",
        means: "The answer is not the data that was asked for, or is longer than is taken.",
        advice: "Does the address belong to a device that speaks RESTCONF (RFC 8040) with JSON?",
    },
    ErrorKind {
        name: "access-refused",
        means: "The device does not know who asks, or does not allow it.",
        advice: "The access file has `token`, `user` and `password`, or `certificate` and `key`.",
    },
    ErrorKind {
        name: "device-changed-meanwhile",
        means: "Between reading and writing somebody else changed the configuration. Nothing was written.",
        advice: "Look at what is there now with `drift`, and send again.",
    },
    ErrorKind {
        name: "device-refuses",
        means: "The device answered that it does not do what was asked.",
        advice: "What it says stands in the message.",
    },
    ErrorKind {
        name: "access-file",
        means: "The access file cannot be read, can be read by others, or says something else than it may.",
        advice: "It is TOML with `url`, `pin` or `ca`, and `token`, or `user` and `password`, or `certificate` and `key`; chmod 600.",
    },
    ErrorKind {
        name: "device-not-understood",
        means: "The configuration of the device is not what the modules allow, or comes to no plan.",
        advice: "What is wrong stands in the message, with its path.",
    },
];

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
        CLIENT_ERRORS.iter().find(|k| k.name == self.name()).map(|k| k.advice.to_owned())
    }
}
