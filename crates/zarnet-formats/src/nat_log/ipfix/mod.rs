//! IPFIX (RFC 7011) with the elements and events of RFC 8158.

mod elements;
mod read;
mod record;
mod shape;
mod template;
mod write;

pub use elements::ENTERPRISE;
pub use read::{Message, Session};
pub use write::{MOST_IN_DATAGRAM, MOST_IN_FILE, Writer};
