//! Small numbers that stand for what a plan declares, by position.

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident: $bits:ty),*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(pub $bits);

        impl $name {
            /// The position in its list.
            pub fn index(self) -> usize {
                self.0 as usize
            }
        }
    )*};
}
ids!(
    /// A device of the plan.
    DeviceId: u16,
    /// An interface of a device.
    InterfaceId: u16,
    /// A rule of a device.
    RuleId: u16,
    /// A pool of a device.
    PoolId: u16,
    /// A filter of a device.
    AclId: u16,
    /// A segment of the plan.
    SegmentId: u16,
    /// A host of the plan.
    HostId: u32
);
