//! The keys of the plan language, one row each: what stands behind it, its default, what it means,
//! and where that comes from. Reading, the draft of each table, the JSON Schema, the page of keys
//! and `behaviour` are made from these rows.

mod device;
mod keys;
mod rows;
mod world;
mod written;

pub use device::{
    ACL, ACL_ENTRY, BEHAVIOUR, DEVICE, DraftAcl, DraftAclEntry, DraftInterface, DraftPolicy,
    DraftPool, DraftRoute, DraftRule, INTERFACE, POLICY, POOL, ROUTE, RULE, TIMERS,
};
pub use keys::Keys;
pub use world::{
    CHECK, DraftExpect, DraftHost, DraftRouted, DraftSeenBy, DraftSegment, EXPECT, HOST, PLAN,
    ROUTED, SEEN_BY, SEGMENT,
};
pub use written::WrittenTable;

/// A key of a table of the plan.
#[derive(Debug, Clone, Copy)]
pub struct Field {
    /// Name of the key.
    pub key: &'static str,
    /// What may stand behind it.
    pub value: FieldValue,
    /// Whether the table needs it.
    pub needed: bool,
    /// What counts if it is left out; empty if nothing does.
    pub default: &'static str,
    /// What it means, in a phrase.
    pub meaning: &'static str,
    /// The standard that it comes from, with the section; empty if it is our own.
    pub source: &'static str,
}

/// What may stand behind a key.
#[derive(Debug, Clone, Copy)]
pub enum FieldValue {
    /// Text in one line.
    Text,
    /// Text for people, which may have several lines.
    Prose,
    /// Text, or a list of texts.
    Texts,
    /// A list of texts.
    TextList,
    /// A flag: `true` or `false`.
    Flag,
    /// A whole number, not negative.
    Number,
    /// A length of time: seconds, or 90s, 5m, 2h4m.
    Time,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// `true`, `false`, or one of these.
    FlagOrOneOf(&'static [&'static str]),
    /// A table of these keys.
    Table(&'static [Field]),
    /// A list of tables of these keys.
    Tables(&'static [Field]),
    /// A table of these keys, or a list of such.
    TableOrTables(&'static [Field]),
    /// One of these, or a table of these keys.
    OneOfOrTable(&'static [&'static str], &'static [Field]),
    /// A table of texts, or lists of texts, by any name.
    NamedTexts,
    /// A table of times by any name.
    NamedTimes,
}

impl FieldValue {
    /// The value in words, for people.
    pub fn describe(self) -> String {
        let choice =
            |names: &[&str]| names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ");
        match self {
            Self::Text | Self::Prose => "text".to_owned(),
            Self::Texts => "text, or a list".to_owned(),
            Self::TextList => "a list of texts".to_owned(),
            Self::Flag => "`true`, `false`".to_owned(),
            Self::Number => "a whole number".to_owned(),
            Self::Time => "a time: seconds, or `90s`, `5m`, `2h4m`".to_owned(),
            Self::OneOf(names) => choice(names),
            Self::FlagOrOneOf(names) => format!("`true`, `false`, {}", choice(names)),
            Self::Table(_) => "a table".to_owned(),
            Self::Tables(_) => "tables".to_owned(),
            Self::TableOrTables(_) => "a table, or several".to_owned(),
            Self::OneOfOrTable(names, _) => format!("{}, or a table", choice(names)),
            Self::NamedTexts => "a table: names, and text or a list for each".to_owned(),
            Self::NamedTimes => "a table: names, and a time for each".to_owned(),
        }
    }
}

/// The tables of a plan with their keys, as they are written, in the order of the documentation.
pub const TABLES: [(&str, &[Field]); 17] = [
    ("the plan itself", PLAN),
    ("[[segment]]", SEGMENT),
    ("routed of [[segment]]", ROUTED),
    ("[[host]]", HOST),
    ("[[device]]", DEVICE),
    ("behaviour of [[device]]", BEHAVIOUR),
    ("timers of [[device]]", TIMERS),
    ("[[device.interface]]", INTERFACE),
    ("[[device.route]]", ROUTE),
    ("[[device.acl]]", ACL),
    ("entries of [[device.acl]]", ACL_ENTRY),
    ("[[device.policy]]", POLICY),
    ("[[device.pool]]", POOL),
    ("[[device.rule]]", RULE),
    ("[[expect]]", EXPECT),
    ("seen-by of [[expect]]", SEEN_BY),
    ("[check]", CHECK),
];
