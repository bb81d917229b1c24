//! Lists of things that have a stable name and a sentence each: reasons, causes, differences.

/// An enum with the stable kebab-case name of each of its values and a sentence for a person, told
/// in one row each.
#[macro_export]
macro_rules! named {
    ($(#[$doc:meta])* $type:ident { $($variant:ident, $name:literal, $sentence:literal;)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum $type {
            $(#[doc = $sentence] $variant),*
        }

        impl $type {
            /// Every value, in the order of declaration.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The stable machine-readable name.
            pub fn name(self) -> &'static str {
                match self { $(Self::$variant => $name),* }
            }

            /// One sentence for a person.
            pub fn sentence(self) -> &'static str {
                match self { $(Self::$variant => $sentence),* }
            }
        }

        impl std::fmt::Display for $type {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.name())
            }
        }
    };
}
