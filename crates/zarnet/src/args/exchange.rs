//! Arguments of `export` and `import`.

use std::path::PathBuf;

use clap::Args;

/// Arguments of the command `export`.
#[derive(Debug, Args)]
pub struct Export {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Export this device; may be left out if the plan has only one.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Also use the module `zarnet-policy`, for what the standard modules cannot hold.
    #[arg(long)]
    pub with_policy: bool,
}

/// Arguments of the command `import`.
#[derive(Debug, Args)]
pub struct Import {
    /// Documents of one device (RFC 7951 JSON); several are joined.
    #[arg(required = true)]
    pub files: Vec<PathBuf>,
    /// Write the plan into this file instead of standard output.
    #[arg(long, value_name = "FILE")]
    pub into: Option<PathBuf>,
    /// Name of the device, if the documents do not say.
    #[arg(long, value_name = "NAME", default_value = "edge")]
    pub device: String,
    /// Overwrite that file if it exists.
    #[arg(long, requires = "into")]
    pub force: bool,
}
