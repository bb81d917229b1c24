//! Identities of the modules, and what they are derived from (RFC 7950 §7.18).

use std::collections::HashMap;
use std::sync::OnceLock;

/// The modules, resolved; `schema` has the notation.
pub(super) const MODULES: &str = include_str!("modules.tree");

struct Identities {
    bases: HashMap<&'static str, Vec<&'static str>>,
    modules: Vec<&'static str>,
}

fn get() -> &'static Identities {
    static IDENTITIES: OnceLock<Identities> = OnceLock::new();
    IDENTITIES.get_or_init(|| {
        let mut found = Identities { bases: HashMap::new(), modules: Vec::new() };
        for line in MODULES.lines() {
            let mut words = line.split(' ');
            match (words.next(), words.next()) {
                (Some("identity"), Some(name)) => {
                    found.bases.insert(name, words.collect());
                }
                (Some("module"), Some(name)) => found.modules.push(name),
                _ => {}
            }
        }
        found
    })
}

/// Whether an identity, written with its module, is another or derived from it.
pub(super) fn derives(identity: &str, base: &str) -> bool {
    let known = || get().bases.get(identity).is_some_and(|b| b.iter().any(|b| derives(b, base)));
    identity == base || known()
}

/// Whether a module is spoken here, so that all of its identities are known.
pub(super) fn knows_module(name: &str) -> bool {
    get().modules.contains(&name)
}

/// An identity with its module: that of the leaf where none is written (RFC 7951 §6.8).
pub(super) fn with_module(text: &str, module: &str) -> String {
    if text.contains(':') { text.into() } else { format!("{module}:{text}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_identity_is_derived_from_its_bases() {
        assert!(derives("ietf-nat:napt44", "ietf-nat:nat-type"));
        assert!(!derives("ietf-nat:nat-type", "ietf-nat:napt44"));
        assert!(knows_module("ietf-nat") && !knows_module("nat"));
    }
}
