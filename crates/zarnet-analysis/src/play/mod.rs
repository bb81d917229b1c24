//! Traffic, opened as it is asked for and played as often as it takes.

mod ahead;
mod attempts;
mod opening;

pub use attempts::{Silent, Watch, Watched, at_peak, play};
pub use opening::{Opening, device};

use zarnet_core::predict::Moment;
use zarnet_formats::traffic::{Fault, Traffic};

use crate::AskError;

/// The moment that a question is about.
#[derive(Debug, Clone, Copy)]
pub enum At {
    /// A moment that is known before the traffic is played.
    Moment(Moment),
    /// The moment with the most mappings, which a run of its own finds.
    Peak,
}

impl At {
    /// Reads `end`, `peak`, a time from the start of the traffic, or a time of day in it.
    ///
    /// # Errors
    /// The text is none of these.
    pub fn parse(text: &str, traffic: &Traffic) -> Result<Self, AskError> {
        match text {
            "end" => Ok(Self::Moment(Moment::End)),
            "peak" => Ok(Self::Peak),
            text => match traffic.time(text) {
                Ok(at) => Ok(Self::Moment(Moment::At(at))),
                Err(fault) => {
                    let help = "write a time (90, 2m30s), `peak` or `end`".to_owned();
                    let error = match &fault {
                        Fault::Notation { error, .. } => error.to_string(),
                        fault => fault.to_string(),
                    };
                    Err(AskError::new(fault.name(), format!("--at: {error}"), help))
                }
            },
        }
    }
}
