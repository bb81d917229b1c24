//! A device that is asked and edited over the network (RFC 8040).
//!
//! - `access`: where a device is and what it wants to know. `tls`: whom to believe.
//! - `connection`: one request and its answer, within limits; a write is never repeated.
//! - `device`: what a device can, its configuration, its table. `edit`: one edit in one request.
//! - `send`: a plan onto a device, with all that may go wrong.

mod access;
mod connection;
mod device;
mod edit;
mod error;
mod events;
mod send;
mod tls;

pub use access::{Access, AccessError, Credentials, with_pin};
pub use connection::{Client, Limits};
pub use device::{Abilities, Configuration, Device, Store};
pub use error::ClientError;
pub use events::Events;
pub use send::{Outcome, Sending, Sent, State, send, understood};
