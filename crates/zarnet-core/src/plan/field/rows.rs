//! The rows as they are written.

/// Rows of keys: `"key": kind, default, meaning, source;`. With the name of a draft behind the name
/// of the list, and that of a member behind each key, they make the draft and its reading, too;
/// `needed` stands behind a key that the table needs.
macro_rules! fields {
    ($(#[$doc:meta])* $name:ident {
        $(
            $key:literal $($needed:ident)?: $kind:ident $(($($arg:tt)*))?, $default:tt,
            $meaning:literal, $source:literal;
        )*
    }) => {
        $(#[$doc])*
        pub const $name: &[Field] = &[$(Field {
            key: $key,
            value: FieldValue::$kind $(($($arg)*))?,
            needed: fields!(@is $($needed)?),
            default: $default,
            meaning: $meaning,
            source: $source,
        }),*];
    };
    ($(#[$doc:meta])* $name:ident, $(#[$of:meta])* $draft:ident: $what:literal {
        $(
            $key:literal $member:ident $($needed:ident)?: $kind:ident $(($($arg:tt)*))?
            $(of $item:ident)?, $default:tt, $meaning:literal, $source:literal;
        )*
    }) => {
        fields! {
            $(#[$doc])*
            $name {
                $($key $($needed)?: $kind $(($($arg)*))?, $default, $meaning, $source;)*
            }
        }

        $(#[$of])*
        #[derive(Debug)]
        pub struct $draft {
            /// Where its table begins.
            pub place: Place,
            $(
                #[doc = concat!("What stands behind `", $key, "`; the row says what it means.")]
                pub $member: fields!(@type $kind [$($needed)?] $default $($item)?),
            )*
        }

        impl $draft {
            /// What one of them is called in messages.
            pub const WHAT: &str = $what;

            /// Reads a table; `None` where a text that it needs is missing, which is reported.
            pub fn read<K: Keys>(keys: K) -> Option<Self> {
                $(let $member = fields!(@read keys $key $kind [$($needed)?] $default $($item)?);)*
                let place = keys.place();
                keys.finish();
                Some(Self { place, $($member: fields!(@given $member $kind [$($needed)?])),* })
            }
        }

        impl WrittenTable for $draft {
            fn written(&self) -> Vec<(&'static Field, String)> {
                let texts = [$(self.$member.text()),*];
                let default = |f: &Field| f.default.to_owned();
                $name.iter().zip(texts).map(|(f, t)| (f, t.unwrap_or_else(|| default(f)))).collect()
            }

            fn says_as(&self, other: &Self) -> bool {
                $(self.$member.is_as(&other.$member))&&*
            }
        }

        impl Written for $draft {
            fn text(&self) -> Option<String> {
                let all = self.written().into_iter().filter(|(f, t)| *t != f.default);
                Some(all.map(|(f, t)| format!("{} {t}", f.key)).collect::<Vec<_>>().join(", "))
            }

            fn is_as(&self, other: &Self) -> bool {
                self.says_as(other)
            }
        }
    };
    (@is needed) => { true };
    (@is) => { false };
    (@type Texts [needed] $default:tt) => { Vec<Placed<String>> };
    (@type Texts [] $default:tt) => { Option<Vec<Placed<String>>> };
    (@type Flag [] "true") => { Placed<bool> };
    (@type Flag [] "false") => { Placed<bool> };
    (@type Flag [] "") => { Option<Placed<bool>> };
    (@type Number [] $default:tt) => { Option<Placed<i64>> };
    (@type $kind:ident [] $default:tt $item:ident) => { Vec<$item> };
    (@type $kind:ident [needed] $default:tt) => { Placed<String> };
    (@type $kind:ident [] $default:tt) => { Option<Placed<String>> };
    (@read $keys:ident $key:tt Texts [needed] $default:tt) => { $keys.needed_texts($key) };
    (@read $keys:ident $key:tt Texts [] $default:tt) => { $keys.texts($key) };
    (@read $keys:ident $key:tt Flag [] "true") => { $keys.flag_or($key, true) };
    (@read $keys:ident $key:tt Flag [] "false") => { $keys.flag_or($key, false) };
    (@read $keys:ident $key:tt Flag [] "") => { $keys.flag($key) };
    (@read $keys:ident $key:tt Number [] $default:tt) => { $keys.number($key) };
    (@read $keys:ident $key:tt Prose [] $default:tt) => { $keys.prose($key) };
    (@read $keys:ident $key:tt FlagOrOneOf [] $default:tt) => { $keys.text_or_flag($key) };
    (@read $keys:ident $key:tt $kind:ident [] $default:tt $item:ident) => {
        $keys.tables($key, $item::WHAT).into_iter().filter_map($item::read).collect()
    };
    (@read $keys:ident $key:tt $kind:ident [needed] $default:tt) => { $keys.needed($key) };
    (@read $keys:ident $key:tt $kind:ident [] $default:tt) => { $keys.text($key) };
    (@given $member:ident Texts [needed]) => { $member };
    (@given $member:ident $kind:ident [needed]) => { $member? };
    (@given $member:ident $kind:ident []) => { $member };
}
pub(super) use fields;
