//! Information elements of IPFIX by their numbers.

/// An information element: its enterprise (0 is the standard), and its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Element {
    /// Private enterprise number; 0 for elements of the standard registry.
    pub enterprise: u32,
    /// Number in the registry of the enterprise.
    pub id: u16,
}
