//! The store of translation logs: a folder of sorted Parquet files, and the question who had an
//! external address and port at a time.
//!
//! - `record`: a translation with its two ends in time. `pairing`: those ends found again in the
//!   events of a log.
//! - `table`: files of records, in two orders. `part`, `layout`: which records lie where.
//! - `store`, `error`, `guard`: the folder, and why it or a file of it cannot be used.
//! - `journal`: what was acknowledged and is in no file yet. `coverage`: when logs were heard, and
//!   their gaps.
//! - `writer`: takes events. `look_up`, `settle`: who it was. `check`: whether all is as it was written.

mod check;
mod coverage;
mod error;
mod fast_pairing;
mod guard;
mod journal;
mod layout;
mod look_up;
mod pairing;
mod part;
mod record;
mod settle;
mod store;
mod table;
mod version;
mod writer;

pub use check::Checked;
pub use coverage::{Coverage, Gap, Heard, Lost};
pub use error::StoreError;
pub use guard::is_guarded;
pub use look_up::{Asked, Finding, Found, Question};
pub use record::{Record, Unseen};
pub use store::Store;
pub use table::Order;
pub use version::VERSION;
pub use writer::{Limits, Recorded, StoreWriter};
