//! Information elements: the standard ones of RFC 8158 and those of our own.

pub use crate::nat_log::element::Element;

const fn standard(id: u16) -> Element {
    Element { enterprise: 0, id }
}

/// The enterprise number for documentation (RFC 5612).
pub const ENTERPRISE: u32 = 32473;

const fn own(id: u16) -> Element {
    Element { enterprise: ENTERPRISE, id }
}

pub const PROTOCOL: Element = standard(4);
pub const SOURCE_PORT: Element = standard(7);
pub const SOURCE_V4: Element = standard(8);
pub const DESTINATION_PORT: Element = standard(11);
pub const DESTINATION_V4: Element = standard(12);
pub const SOURCE_V6: Element = standard(27);
pub const DESTINATION_V6: Element = standard(28);
pub const DOMAIN_ID: Element = standard(149);
pub const TRANSLATED_V4: Element = standard(225);
pub const TRANSLATED_PORT: Element = standard(227);
pub const NAT_EVENT: Element = standard(230);
pub const TRANSLATED_V6: Element = standard(281);
pub const POOL_ID: Element = standard(283);
pub const POOL_NAME: Element = standard(284);
pub const DOMAIN_NAME: Element = standard(300);
pub const ELEMENT_ID: Element = standard(303);
pub const TIME: Element = standard(323);
pub const ELEMENT_TYPE: Element = standard(339);
pub const ELEMENT_NAME: Element = standard(341);
pub const ELEMENT_SEMANTICS: Element = standard(344);
pub const ENTERPRISE_NUMBER: Element = standard(346);
pub const PORT_FIRST: Element = standard(361);
pub const PORT_LAST: Element = standard(362);
pub const QUOTA_EVENT: Element = standard(466);
pub const MOST_SESSIONS: Element = standard(471);
pub const MOST_MAPPINGS: Element = standard(472);
pub const MOST_OF_HOST: Element = standard(473);
/// The name of the rule that translated, or had nothing left.
pub const RULE: Element = own(1);
/// Why a translation ended: a number, see [`crate::nat_log::cause_number`].
pub const ENDED_BY: Element = own(2);

/// An element of our own, as RFC 5610 §3 has it described: data type and semantics by their
/// numbers there.
pub struct Described {
    pub element: Element,
    pub name: &'static str,
    pub data_type: u8,
    pub semantics: u8,
}

/// The elements of our own.
pub const OWN: [Described; 2] = [
    // 13 is string, 0 is default
    Described { element: RULE, name: "rule", data_type: 13, semantics: 0 },
    // 1 is unsigned8, 4 is identifier
    Described { element: ENDED_BY, name: "endedBy", data_type: 1, semantics: 4 },
];
