//! The computation of Zarnet: what an engineer declares, what a device does with a packet, what a
//! network does with a flow. No files, no clock, no
//! terminal: time, packets and seeds come in as arguments, values come out.
//!
//! Data goes one way, and each module knows only those before it:
//!
//! - [`net`]: the vocabulary. Addresses and sets of them, ports, protocols, packets, instants.
//! - [`traffic`]: what is sent. Flows, packets of captures, load profiles.
//! - [`plan`]: what is declared. A draft with the place of every value becomes a plan in which
//!   nothing dangles.
//! - [`event`]: what is done to devices while traffic runs. [`observe`]: what is told of a packet
//!   on its way, step by step.
//! - [`device`]: one device at work. The compiled plan, bindings, allocation, the pipeline, the
//!   fast path.
//! - [`network`]: devices, hosts and segments together. Who answers for an address, where a packet
//!   ends.
//! - [`predict`]: traffic through a network. The table at a moment, counters, what was not
//!   translated.
//! - [`finding`]: names of the findings of a check, which a plan may allow or deny.
//! - [`limits`]: how much of anything input may hold.
//!
//! ```
//! use std::convert::Infallible;
//! use std::sync::Arc;
//! use zarnet_core::plan::{build, Draft};
//! use zarnet_core::predict::{predict, Options};
//! use zarnet_core::traffic::{Item, OneByOne};
//!
//! // a plan without devices, and traffic without flows: the least that can be predicted
//! let plan = build(&Draft::default()).expect("nothing can be wrong with nothing");
//! let nothing = std::iter::empty::<Result<Item, Infallible>>();
//! let plan = Arc::new(plan);
//! let prediction = predict(plan, OneByOne(nothing), Vec::new(), Options::default())
//!     .expect("nothing to read");
//! assert_eq!(prediction.tally.total(), 0);
//! ```

pub mod device;
pub mod event;
pub mod finding;
mod ids;
pub mod limits;
mod named;
pub mod net;
pub mod network;
pub mod observe;
pub mod plan;
pub mod predict;
mod reason;
pub mod traffic;

pub use reason::{Class, Reason};
