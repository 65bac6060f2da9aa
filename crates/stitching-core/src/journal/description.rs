//! Writing what describes a project: `stitching.toml` and schemas. These lie outside of what changes are
//! made to, so that the history does not have them.

use crate::Error;
use crate::layers::Stack;
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::path::Path;

/// Writes a new file.
///
/// # Errors
/// When there is one already, or the system says no.
fn create_description(path: &Path, text: &str) -> Result<(), Error> {
    let io = |source| Error::io("write", path, source);
    let mut file = match OpenOptions::new().write(true).create_new(true).open(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
            return Err(Error::refused(
                format!("there is `{}` already", path.display()),
                "it is never overwritten; move it away if it is not needed",
            ));
        }
        other => other.map_err(io)?,
    };
    let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
    written.map_err(|source| {
        // Half of it would be in the way of the next attempt.
        let _ = fs::remove_file(path);
        io(source)
    })
}

/// Writes several new files, each by its path and text, or none of them.
///
/// # Errors
/// When there is one already, or the system says no; those that were written already are removed again.
pub fn create_descriptions(files: &[(&Path, &str)]) -> Result<(), Error> {
    for (number, (path, text)) in files.iter().enumerate() {
        if let Err(error) = create_description(path, text) {
            for (path, _) in &files[..number] {
                // It was made a moment ago by this process.
                let _ = fs::remove_file(path);
            }
            return Err(error);
        }
    }
    Ok(())
}

/// Puts `text` in place of `before`, all of it or nothing.
///
/// # Errors
/// When the file is not `before` any more, lies in a base layer of `stack`, or the system says no.
pub fn replace_description(stack: &Stack, path: &Path, before: &str, text: &str) -> Result<(), Error> {
    let io = |source| Error::io("write", path, source);
    if path.symlink_metadata().map_err(io)?.is_symlink() {
        return Err(Error::refused(
            format!("`{}` is a link, and nothing is written through links", path.display()),
            "name the file itself in stitching.toml; nothing was changed",
        ));
    }
    let real = path.canonicalize().map_err(io)?;
    if let Some(base) = stack.layers().iter().find(|layer| !layer.is_mod && real.starts_with(&layer.root)) {
        return Err(Error::refused(
            format!("`{}` lies in the layer `{}`, which is never written", path.display(), base.name),
            "name a schema file of the mod's own in stitching.toml",
        ));
    }
    if fs::read(&real).map_err(io)? != before.as_bytes() {
        return Err(Error::refused(
            format!("`{}` was changed by another program meanwhile", path.display()),
            "run the command again; nothing was changed",
        ));
    }
    let mode = fs::metadata(&real).map_err(io)?.permissions();
    let folder = real.parent().unwrap_or(Path::new("."));
    let mut file = tempfile::Builder::new().prefix(".stitching-").tempfile_in(folder).map_err(io)?;
    file.write_all(text.as_bytes()).map_err(io)?;
    file.as_file().set_permissions(mode).map_err(io)?;
    file.as_file().sync_all().map_err(io)?;
    file.persist(&real).map_err(|error| io(error.error))?;
    Ok(())
}
