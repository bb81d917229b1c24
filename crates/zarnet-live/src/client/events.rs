//! What a device tells of itself, as it happens (RFC 8040 §6, server-sent events).

use std::time::Duration;

use serde_json::Value;

use super::ClientError;
use super::connection::{Streamed, failed_read};
use super::device::Device;
use super::replies::{allowed, refused};
use crate::protocol::EVENT_STREAM;

/// Octets of one event.
const EVENT: usize = 1 << 20;

/// A stream of events.
pub struct Events<'d> {
    content: Streamed<'d>,
    /// What came and is no whole event yet.
    begun: String,
}

impl Device {
    /// Listens to the device's events; `None` if it has none.
    ///
    /// # Errors
    /// It cannot be listened to.
    pub fn events(&mut self) -> Result<Option<Events<'_>>, ClientError> {
        let Some(path) = self.abilities.events.clone() else { return Ok(None) };
        match self.client.stream(&path, EVENT_STREAM)? {
            Ok(content) => Ok(Some(Events { content, begun: String::new() })),
            Err(reply) => {
                allowed(&reply)?;
                Err(refused(&reply))
            }
        }
    }
}

impl Events<'_> {
    /// The next notification; none if nothing comes within the time.
    ///
    /// # Errors
    /// The stream has ended, or what comes is no event.
    pub fn next(&mut self, wait: Duration) -> Result<Option<Value>, ClientError> {
        loop {
            if let Some((event, rest)) = self.begun.split_once("\n\n") {
                let data: Vec<&str> =
                    event.lines().filter_map(|l| l.strip_prefix("data:")).map(str::trim).collect();
                let data = data.join("\n");
                self.begun = rest.to_owned();
                if data.is_empty() {
                    continue; // a sign of life
                }
                let value: Value = serde_json::from_str(&data)
                    .map_err(|e| ClientError::NotData(format!("an event: {e}")))?;
                return Ok(value.get("ietf-restconf:notification").cloned());
            }
            match self.content.next(wait) {
                Ok(Some(more)) => self.begun.push_str(&String::from_utf8_lossy(&more)),
                Ok(None) => return Err(ClientError::NoAnswer("the stream has ended".into())),
                Err(error) if error.kind() == std::io::ErrorKind::TimedOut => return Ok(None),
                Err(error) => return Err(failed_read(&error, EVENT as u64)),
            }
            if self.begun.len() > EVENT {
                return Err(ClientError::TooLarge(EVENT as u64));
            }
        }
    }
}
