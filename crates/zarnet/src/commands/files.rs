//! Files that the program writes: whole, or not at all.

use std::io::{self, Write};
use std::path::Path;

use zarnet_formats::source::Sources;

use crate::exit::Failure;
use crate::render::diagnostic;

/// Writes a file beside its place and moves it there, so that nobody ever sees half of it. What is there already stays,
/// unless `force` says otherwise; the same contents count as written.
pub fn write(path: &Path, contents: &[u8], force: bool) -> Result<(), Failure> {
    match std::fs::read(path) {
        Ok(old) if old == contents => return Ok(()),
        Ok(_) if !force => {
            let help = "--force overwrites it".to_owned();
            return Err(Failure::wrong("file-exists", format!("{} is there already", path.display()), help));
        }
        _ => {}
    }
    put(path, contents).map_err(|error| {
        Failure::wrong("cannot-write", format!("{}: {error}", path.display()), "choose another place".to_owned())
    })
}

/// Writes the files of a plan that a change has changed.
pub fn put_plan(old: &Sources, new: &Sources, what: &str, quiet: bool) -> Result<(), Failure> {
    for (old, new) in old.0.iter().zip(&new.0).filter(|(o, n)| o.text() != n.text()) {
        write(&old.path, new.text().as_bytes(), true)?;
        diagnostic::note(quiet, &format!("wrote {}: {what}", old.path.display()));
    }
    Ok(())
}

fn put(path: &Path, contents: &[u8]) -> io::Result<()> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(contents)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        file.as_file().set_permissions(std::fs::Permissions::from_mode(0o644))?;
    }
    file.persist(path)?;
    Ok(())
}
