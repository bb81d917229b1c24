//! A plan as written: every value still text, with its place. Filled by a reader of some file
//! format. The drafts of most tables are made from the rows of their keys.

use super::field::{
    DraftAcl, DraftExpect, DraftHost, DraftInterface, DraftPolicy, DraftPool, DraftRoute,
    DraftRule, DraftSegment,
};
use super::{Place, Placed};

type Text = Placed<String>;
type Texts = Vec<Text>;

/// A whole plan as written.
#[derive(Debug, Default)]
pub struct Draft {
    /// What the plan is called.
    pub title: Option<Text>,
    /// Named address groups with their elements.
    pub addresses: Vec<(Text, Texts)>,
    /// Named service groups with their elements.
    pub services: Vec<(Text, Texts)>,
    /// The `[[segment]]` tables, in their order.
    pub segments: Vec<DraftSegment>,
    /// The `[[host]]` tables, in their order.
    pub hosts: Vec<DraftHost>,
    /// The `[[device]]` tables, in their order.
    pub devices: Vec<DraftDevice>,
    /// The `[[expect]]` tables, in their order.
    pub expects: Vec<DraftExpect>,
    /// Findings that are not to be told.
    pub allow: Vec<Text>,
    /// Findings that count as errors.
    pub deny: Vec<Text>,
}

impl Draft {
    /// Whether it declares nothing; a title alone declares nothing.
    pub fn is_empty(&self) -> bool {
        self.devices.is_empty()
            && self.hosts.is_empty()
            && self.segments.is_empty()
            && self.addresses.is_empty()
            && self.services.is_empty()
            && self.expects.is_empty()
    }
}

/// A device as written.
#[derive(Debug)]
pub struct DraftDevice {
    /// Where its table begins.
    pub place: Place,
    /// Name of the device, unique among hosts and devices.
    pub name: Text,
    /// The `behaviour` key: a preset, and the keys that differ from it.
    pub behaviour: BehaviourDraft,
    /// What happens to packets that no policy entry matches: `accept` or `drop`.
    pub default_policy: Option<Text>,
    /// Whether it forwards between interfaces.
    pub forwarding: bool,
    /// Timers by name, and per service.
    pub timers: Vec<Setting>,
    /// The `[[device.interface]]` tables, in their order.
    pub interfaces: Vec<DraftInterface>,
    /// The `[[device.route]]` tables, in their order.
    pub routes: Vec<DraftRoute>,
    /// The `[[device.acl]]` tables, in their order.
    pub acls: Vec<DraftAcl>,
    /// The `[[device.policy]]` tables, in their order.
    pub policies: Vec<DraftPolicy>,
    /// The `[[device.pool]]` tables, in their order.
    pub pools: Vec<DraftPool>,
    /// The `[[device.rule]]` tables, in their order.
    pub rules: Vec<DraftRule>,
}

/// A preset and what differs from it.
#[derive(Debug, Default)]
pub struct BehaviourDraft {
    /// Name of the preset; `bcp` if left out.
    pub preset: Option<Text>,
    /// The keys that differ from the preset.
    pub settings: Vec<Setting>,
}

/// A key with one or several values, all as text.
#[derive(Debug)]
pub struct Setting {
    /// Name of the key, as it is written.
    pub key: Text,
    /// Its value or values.
    pub values: Texts,
}
