//! Lists of things that have a stable name and a sentence each: reasons, causes, differences.

/// An enum with one row for each of its values: its stable kebab-case name, the sentence that
/// answers show, what it means at more length, and what to do about it (or what it costs), for
/// `explain` and the documentation. The last is empty where nothing is to be done.
#[macro_export]
macro_rules! named {
    ($(#[$doc:meta])* $type:ident {
        $($variant:ident, $name:literal, $sentence:literal, $means:literal, $advice:literal;)*
    }) => {
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

            /// What it means, for those who look it up.
            pub fn means(self) -> &'static str {
                match self { $(Self::$variant => $means),* }
            }

            /// What to do about it, or what it costs; empty if that is nothing.
            pub fn advice(self) -> &'static str {
                match self { $(Self::$variant => $advice),* }
            }
        }

        impl std::fmt::Display for $type {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.name())
            }
        }
    };
}
