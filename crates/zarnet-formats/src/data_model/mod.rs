//! Data of YANG modules in their JSON form (RFC 7951): what the modules allow, where something
//! stands, and how one document becomes another.
//!
//! - `schema`: the modules of `yang/`, resolved. `identities`: names that are derived from
//!   others. `value_type`: what a leaf may hold. `condition`:
//!   what `must` and `when` ask.
//! - `check`: everything that is wrong with a document, each with its path.
//! - `path`: places in a document, as URLs and answers write them (RFC 8040 §3.5.3).
//! - `edit`: edits of a document (RFC 8040 §4, RFC 8072). `difference`: the edits that make one
//!   document of another. `merge`: a change that is known to us, made in what a device has.
//! - `text`: JSON that says everything once.

mod check;
mod condition;
mod difference;
mod edit;
mod fault;
mod identities;
mod merge;
mod path;
mod schema;
mod text;
mod value_type;

pub use check::{Foreign, check, holds_state};
pub use difference::difference;
pub use edit::{Edit, EditError, Operation, Position, apply};
pub use fault::{DataFault, DataFaultKind};
pub use merge::merged;
pub use path::{DataPath, PathError, Step};
pub use schema::{Kind, Module, Node, NodeId, Schema};
pub use text::{canonical, parse};
