//! A device that is asked and edited over the network (RFC 8040).
//!
//! - `access`: where a device is and what it wants to know. `tls`: whom to believe.
//! - `channel`: a secured connection. `connection`: one request and its answer, within limits; a
//!   write is never repeated. `replies`: what answers say.
//! - `device`: what a device can, its configuration, its table. `edit`: one edit in one request.
//!   `events`: what it tells of itself.
//! - `planned`: a configuration and a plan, each as the other. `change`: one change, with all that
//!   may go wrong. `send`: a plan onto a device.

mod access;
mod change;
mod channel;
mod connection;
mod device;
mod edit;
mod error;
mod events;
mod planned;
mod replies;
mod send;
mod tls;

pub use access::{Access, AccessError, Credentials, with_pin};
pub use change::{Outcome, Sending, State};
pub use connection::{Client, Limits};
pub use device::{Abilities, Configuration, Device};
pub use error::ClientError;
pub use events::Events;
pub use planned::understood;
pub use send::{Sent, send};
