//! How an external end is found for a new mapping. Nothing is taken here: an end is taken when its
//! mapping is opened, so that a packet that is dropped afterwards moves no turn, sequence or random
//! stream. Read first: RFC 4787 §4.1 and §4.2, RFC 6888 §3, RFC 7422.

mod draw;
mod external_end;
mod next_port;
mod pick;
mod port;
