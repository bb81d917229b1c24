//! How the answer of `capacity` looks: as text, and as pictures.

pub mod chart;
mod holders;
mod more;
mod numbers;
mod outlook;
mod text;

pub use text::text;
