//! Where a device is, and what it wants to know: from a file that only its owner may read.

use std::fmt;
use std::path::{Path, PathBuf};

use toml_edit::{DocumentMut, Item, Table};

use crate::fingerprint::Fingerprint;

/// How a device is reached.
#[derive(Clone, PartialEq, Eq)]
pub struct Access {
    /// Scheme, host and port: `https://localhost:8443`.
    pub url: String,
    /// The certificate that the device must have.
    pub pin: Option<Fingerprint>,
    /// Whose certificates are believed instead of those that the system trusts.
    pub authority: Option<PathBuf>,
    /// Who asks.
    pub credentials: Credentials,
}

/// Who asks.
#[derive(Clone, PartialEq, Eq, Default)]
pub enum Credentials {
    /// Nobody in particular.
    #[default]
    None,
    /// Somebody who has this token (RFC 6750).
    Token(String),
    /// A user with a password (RFC 7617).
    User(String, String),
    /// Somebody with a certificate and its key, in these files.
    Certificate(PathBuf, PathBuf),
}

impl fmt::Debug for Access {
    /// Without secrets.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Access").field("url", &self.url).finish_non_exhaustive()
    }
}

/// Why a file says nothing about access. What it says is not repeated: it may be secret.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AccessError {
    /// It cannot be read.
    #[error("{}: {error}", path.display())]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// Why not.
        error: String,
    },
    /// Others than its owner may read it.
    #[error("{} can be read by others than its owner", .0.display())]
    OpenToOthers(PathBuf),
    /// Something in it is wrong.
    #[error("{}: {what}", path.display())]
    Wrong {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        what: String,
    },
}

const KEYS: [&str; 8] = ["url", "pin", "ca", "token", "user", "password", "certificate", "key"];

impl Access {
    /// Nobody in particular, at an address whose certificate the system trusts.
    pub fn anonymous(url: &str) -> Self {
        Self { url: url.into(), pin: None, authority: None, credentials: Credentials::None }
    }

    /// Reads a file: one device, or several as `[[device]]`, of which the one at `url` is taken.
    ///
    /// # Errors
    /// It cannot be read, others may read it, or it says nothing of that address.
    pub fn read(path: &Path, url: Option<&str>) -> Result<Self, AccessError> {
        let unreadable = |error: std::io::Error| AccessError::Unreadable {
            path: path.into(),
            error: error.to_string(),
        };
        #[cfg(unix)]
        {
            use std::os::unix::fs::MetadataExt;
            let metadata = path.metadata().map_err(unreadable)?;
            if metadata.mode() & 0o077 != 0 {
                return Err(AccessError::OpenToOthers(path.into()));
            }
        }
        let text = zarnet_formats::files::read_text(path, 1 << 20)
            .map_err(|e| AccessError::Unreadable { path: path.into(), error: e.to_string() })?;
        let wrong = |what: &str| AccessError::Wrong { path: path.into(), what: what.into() };
        // what the reader says of a fault would quote the line
        let document: DocumentMut = text.parse().map_err(|_| wrong("it is not TOML"))?;
        let tables: Vec<&Table> = match document.get("device").and_then(Item::as_array_of_tables) {
            Some(list) => list.iter().collect(),
            None => vec![document.as_table()],
        };
        let at = |t: &&&Table| {
            let own = t.get("url").and_then(Item::as_str);
            url.is_none() || own.is_none() || own.map(bare) == url.map(bare)
        };
        let found = tables
            .iter()
            .find(at)
            .ok_or_else(|| wrong(&format!("it says nothing of {}", url.unwrap_or_default())))?;
        Self::of_table(found, url, path.parent(), &wrong)
    }

    fn of_table(
        table: &Table,
        url: Option<&str>,
        folder: Option<&Path>,
        wrong: &dyn Fn(&str) -> AccessError,
    ) -> Result<Self, AccessError> {
        let is_unknown = |(k, _): &(&str, &Item)| !KEYS.contains(k) && *k != "name";
        if let Some((unknown, _)) = table.iter().find(is_unknown) {
            return Err(wrong(&format!("`{unknown}` is no key; there are {}", KEYS.join(", "))));
        }
        let text = |key: &str| match table.get(key).map(Item::as_str) {
            None => Ok(None),
            Some(Some(text)) => Ok(Some(text.to_owned())),
            Some(None) => Err(wrong(&format!("`{key}` is no text"))),
        };
        let file = |key: &str| -> Result<Option<PathBuf>, AccessError> {
            Ok(text(key)?.map(|f| folder.unwrap_or(Path::new("")).join(f)))
        };
        let own = text("url")?;
        let url = url.map(str::to_owned).or(own).ok_or_else(|| wrong("there is no `url`"))?;
        let pin = text("pin")?.map(|p| p.parse().map_err(wrong)).transpose()?;
        let credentials = match (text("token")?, text("user")?, file("certificate")?) {
            (None, None, None) => Credentials::None,
            (Some(token), None, None) => Credentials::Token(token),
            (None, Some(user), None) => {
                Credentials::User(user, text("password")?.unwrap_or_default())
            }
            (None, None, Some(certificate)) => {
                let key = file("key")?.ok_or_else(|| wrong("`certificate` needs its `key`"))?;
                Credentials::Certificate(certificate, key)
            }
            _ => return Err(wrong("`token`, `user` and `certificate` exclude each other")),
        };
        Ok(Self { url, pin, authority: file("ca")?, credentials })
    }
}

/// The text of an access file with the fingerprint of the device at an address.
///
/// # Errors
/// The text is not TOML, or says nothing of that address.
pub fn with_pin(text: &str, url: &str, pin: &str) -> Result<String, &'static str> {
    let mut document: DocumentMut = text.parse().map_err(|_| "it is not TOML")?;
    let at = |t: &Table| t.get("url").and_then(Item::as_str).is_none_or(|u| bare(u) == bare(url));
    let several = document.get_mut("device").and_then(Item::as_array_of_tables_mut);
    let table = match several {
        Some(list) => list.iter_mut().find(|t| at(t)),
        None => Some(document.as_table_mut()),
    };
    table.ok_or("it says nothing of this address")?.insert("pin", toml_edit::value(pin));
    Ok(document.to_string())
}

/// A URL without what does not tell devices apart.
fn bare(url: &str) -> String {
    url.trim_end_matches('/').to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(text: &str, mode: u32) -> tempfile::NamedTempFile {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = std::fs::Permissions::from_mode(mode);
            std::fs::set_permissions(file.path(), mode).unwrap();
        }
        file
    }

    #[test]
    fn access_is_read_from_a_file_of_its_owner() {
        let one = file("url = \"https://localhost:8443\"\ntoken = \"secret\"\n", 0o600);
        let access = Access::read(one.path(), None).unwrap();
        assert!(access.credentials == Credentials::Token("secret".into()));
        assert!(!format!("{access:?}").contains("secret"));
        let open = file("url = \"https://localhost:8443\"\n", 0o644);
        assert!(matches!(Access::read(open.path(), None), Err(AccessError::OpenToOthers(_))));
    }

    #[test]
    fn of_several_devices_the_one_at_the_address_is_taken() {
        let text = "[[device]]\nurl = \"https://localhost:1\"\ntoken = \"a\"\n\
                    [[device]]\nurl = \"https://localhost:2\"\ntoken = \"b\"\n";
        let file = file(text, 0o600);
        let access = Access::read(file.path(), Some("https://localhost:2/")).unwrap();
        assert!(access.credentials == Credentials::Token("b".into()));
        assert!(Access::read(file.path(), Some("https://localhost:3")).is_err());
    }

    #[test]
    fn a_fault_of_an_access_file_does_not_tell_its_secrets() {
        for text in ["token = secret", "token = \"secret\"\nurll = 1", "token = [\"secret\"]"] {
            let file = file(text, 0o600);
            let error = Access::read(file.path(), Some("https://x")).unwrap_err().to_string();
            assert!(!error.contains("secret"), "{error}");
        }
    }
}
