//! Something that may be wrong with a flow.

use super::Cause;
use zarnet_core::plan::{DeviceId, Edit, Place, RuleId};

/// Something that may be wrong, and what could be done about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suspect {
    /// What would be wrong.
    pub cause: Cause,
    /// What would be wrong besides, of the same rule.
    pub besides: Option<Cause>,
    /// The device where the cause would be.
    pub device: Option<DeviceId>,
    /// The rule that would be to blame.
    pub rule: Option<RuleId>,
    /// Its name. What is suspected after a repair may be of a rule that only the repair made.
    pub rule_name: Option<String>,
    /// Where that stands in the plan's files.
    pub place: Option<Place>,
    /// What is wrong, in a sentence.
    pub verdict: String,
    /// What would be done about it.
    pub title: String,
    /// The same as changes of the plan; none where nobody who writes the plan can do it.
    pub edits: Vec<Edit>,
}
