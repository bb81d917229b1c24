//! Arguments of commands that list what a plan says.

use std::path::PathBuf;

use clap::Args;

use super::Reader;

/// Arguments of the command `addresses`.
#[derive(Debug, Args)]
pub struct Addresses {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Show only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Show only free addresses.
    #[arg(long)]
    pub free: bool,
}

/// Arguments of the command `rules`.
#[derive(Debug, Args)]
pub struct Rules {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Traffic to count the use of each rule by: as for `predict`.
    pub traffic: Vec<String>,
    /// Show only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
}

/// Arguments of the command `exposure`.
#[derive(Debug, Args)]
pub struct Exposure {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Look from this realm or interface; by default from the internet.
    #[arg(long, value_name = "REALM")]
    pub from: Option<String>,
    /// Show only what this device lets in.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
}

/// Arguments of the command `sheet`.
#[derive(Debug, Args)]
pub struct Sheet {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Show only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
}

/// Arguments of the command `explain`.
#[derive(Debug, Args)]
pub struct Explain {
    /// Name, as shown in brackets after an error or finding; by default all names.
    pub name: Option<String>,
}

/// Arguments of the command `completions`.
#[derive(Debug, Args)]
pub struct Completions {
    /// The shell that the completions are for.
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}
