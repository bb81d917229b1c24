//! A device of a plan in the standard data models, and back: ietf-nat (RFC 8512) with
//! ietf-interfaces (8343), ietf-ip (8344), ietf-routing (8349) and ietf-access-control-list (8519),
//! as JSON (RFC 7951).
//!
//! - `export`: a device as a document, and what that cannot hold. `import`: a document as a plan,
//!   and what the plan cannot hold.
//! - `align`: numbers of one document as another has them.
//! - `loss`: what is lost on the way, with its rule. `notation`: sets and ranges as prefixes.
//! - `state`: rows of a table, written and read one by one.

mod align;
mod export;
mod import;
mod loss;
mod notation;
mod state;

pub use align::align;
pub use export::{Exported, export};
pub use import::{ImportError, Imported, LeftOut, import};
pub use loss::{Loss, LossKind};
pub use state::{Row, RowError, RowWriter, Told, read_rows};

/// Which modules a document may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ModuleForm {
    /// Those of the standards.
    Standard,
    /// `zarnet-policy` too, for what the standards have no room for.
    WithPolicy,
}

impl ModuleForm {
    fn has_policy(self) -> bool {
        self == Self::WithPolicy
    }
}

/// Top-level members of a document, in their order.
mod member {
    pub(super) const INTERFACES: &str = "ietf-interfaces:interfaces";
    pub(super) const ROUTING: &str = "ietf-routing:routing";
    pub(super) const ACLS: &str = "ietf-access-control-list:acls";
    pub(super) const NAT: &str = "ietf-nat:nat";
    pub(super) const EDGE: &str = "zarnet-policy:edge";
}

/// The instance of a kind of rule: one device, up to three instances of NAT.
mod instance {
    /// Whole addresses: statics and pools.
    pub(super) const BASIC: (u64, &str) = (1, "ietf-nat:basic-nat44");
    /// Addresses and ports: overloads and forwards.
    pub(super) const NAPT: (u64, &str) = (2, "ietf-nat:napt44");
    /// IPv6 prefixes (RFC 6296).
    pub(super) const NPTV6: (u64, &str) = (3, "ietf-nat:nptv6");
}
