//! What is declared: devices with their interfaces, realms, rules and pools, and the network around
//! them.
//!
//! A [`Draft`] is what a file says, every value with its [`Place`]. [`build`] resolves it into a
//! [`Plan`], in which no name dangles, no range is reversed and no rule lacks its target, or
//! reports everything that prevents that.

mod behaviour;
mod blocks;
mod build;
mod draft;
pub mod edit;
mod ends;
mod error;
mod error_kinds;
mod expectation;
pub mod field;
mod lines;
mod matching;
mod model;
mod place;
mod problems;
mod settings;
mod succession;
mod timers;

pub use crate::ids::{AclId, DeviceId, HostId, InterfaceId, PoolId, RuleId, SegmentId};
pub use behaviour::{
    Behaviour, Dependence, HairpinSource, Lack, Pick, PortAssignment, PortClass, Preset, RuleOrder,
};
pub use blocks::{AddressUses, Block, Use, blocks, free_ranges};
pub use build::build;
pub use draft::{BehaviourDraft, Draft, DraftDevice, Setting};
pub use edit::Edit;
pub use error::{PlanError, Problem};
pub use error_kinds::{ErrorKind, PLAN_ERRORS};
pub use expectation::{EndSet, Expectation, SeenBy, Viewpoint};
pub use field::{
    DraftAcl, DraftAclEntry, DraftExpect, DraftHost, DraftInterface, DraftPolicy, DraftPool,
    DraftRoute, DraftRouted, DraftRule, DraftSeenBy, DraftSegment,
};
pub use model::{
    Acl, AclEntry, DevicePlan, Direction, External, Fallback, Forward, Host, Interface,
    InterfaceSet, Log, Parties, Plan, Policy, Pool, RealmSet, Route, RouteCondition, Routed, Rule,
    RuleKind, Segment, Server, Spread, Static, Target, Verdict, Written,
};
pub use place::{Place, Placed};
pub use problems::{Problems, nearest};
pub use settings::Described;
pub use succession::Renaming;
pub use timers::Timers;
