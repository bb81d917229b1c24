//! Small numbers that stand for what a plan declares, by position.

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(pub u16);

        impl $name {
            /// The position in its list.
            pub fn index(self) -> usize {
                usize::from(self.0)
            }
        }
    )*};
}
ids!(
    /// A device of the plan.
    DeviceId,
    /// An interface of a device.
    InterfaceId,
    /// A rule of a device.
    RuleId,
    /// A pool of a device.
    PoolId,
    /// A filter of a device.
    AclId,
    /// A segment of the plan.
    SegmentId,
    /// A host of the plan.
    HostId
);
