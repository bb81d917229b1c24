//! What speaks with devices over the network: how they are reached, and what they are asked.

pub mod drift;
pub mod observed;
pub mod retrieve;
pub mod send;
pub mod stand_in;
pub mod watch;

use std::path::{Path, PathBuf};

use zarnet_live::client::{Access, AccessError, ClientError, Device, Limits};

use crate::args::AccessOptions;
use crate::exit::Failure;
use crate::files::{self, Before, Change};
use crate::present::diagnostic;

/// The environment variable that names the access file.
const ACCESS: &str = "ZARNET_ACCESS";

/// Finds a device, and what it can.
pub(super) fn open(url: &str, options: &AccessOptions, quiet: bool) -> Result<Device, Failure> {
    let file = access_file(options);
    let access = match &file {
        Some(path) => Access::read(path, Some(url)).map_err(of_access)?,
        None => Access::anonymous(url),
    };
    let limits = Limits { wait: options.wait, ..Limits::default() };
    let learns = options.learn_pin && access.pin.is_none();
    let device = Device::open(&access, limits, learns).map_err(of_client)?;
    if let Some(shown) = device.fingerprint().filter(|_| learns) {
        match &file {
            Some(path) => {
                remember(path, url, &shown.to_string())?;
                let what = format!("from now on {url} is known by {shown}");
                diagnostic::written(std::slice::from_ref(path), &what, quiet);
            }
            None => diagnostic::note(quiet, &format!("{url} is known by {shown}")),
        }
    }
    Ok(device)
}

fn access_file(options: &AccessOptions) -> Option<PathBuf> {
    options.access.clone().or_else(|| std::env::var_os(ACCESS).map(PathBuf::from))
}

/// Adds a fingerprint to the access file.
fn remember(path: &Path, url: &str, pin: &str) -> Result<(), Failure> {
    let text = std::fs::read_to_string(path)?;
    let new = zarnet_live::client::with_pin(&text, url, pin).map_err(|what| {
        of_access(AccessError::Wrong { path: path.into(), what: what.to_owned() })
    })?;
    let before = Before::Exactly(text.as_bytes());
    files::write(&[Change { path, contents: new.as_bytes(), before }], false)
}

pub(super) fn of_client(error: ClientError) -> Failure {
    Failure::wrong(error.name(), error.to_string(), error.help())
}

fn of_access(error: AccessError) -> Failure {
    let help = match &error {
        AccessError::OpenToOthers(path) => format!("chmod 600 {}", path.display()),
        AccessError::Unreadable { .. } | AccessError::Wrong { .. } => {
            "it is TOML with `url`, `pin` or `ca`, and `token`, or `user` and `password`, or \
             `certificate` and `key`"
                .to_owned()
        }
    };
    Failure::wrong("access-file", error.to_string(), help)
}
