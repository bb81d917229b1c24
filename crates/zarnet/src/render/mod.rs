//! How answers look: text for people, JSON and CSV for scripts.

pub mod answer;
pub mod capacity;
pub mod change;
pub mod compare;
pub mod counters;
pub mod csv;
pub mod diagnostic;
pub mod escape;
pub mod expect;
pub mod follow;
pub mod impact;
pub mod json;
pub mod naming;
pub mod output;
pub mod packets;
pub mod table;
pub mod text;
pub mod why;
