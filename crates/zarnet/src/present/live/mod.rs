//! Answers about devices on the network, as text.

pub mod drift;
pub mod retrieve;
pub mod screen;
pub mod send;
pub mod stand_in;
pub mod watch;
