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
pub fn create_description(path: &Path, text: &str) -> Result<(), Error> {
    let written = OpenOptions::new().write(true).create_new(true).open(path).and_then(|mut file| {
        file.write_all(text.as_bytes())?;
        file.sync_all()
    });
    match written {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(Error::refused(
            format!("there is `{}` already", path.display()),
            "it is never overwritten; `stitching learn` proposes what it lacks",
        )),
        other => other.map_err(|source| Error::io("write", path, source)),
    }
}

/// Puts `text` in place of `before`, all of it or nothing.
///
/// # Errors
/// When the file is not `before` any more, lies in a base layer of `stack`, or the system says no.
pub fn replace_description(stack: &Stack, path: &Path, before: &str, text: &str) -> Result<(), Error> {
    let io = |source| Error::io("write", path, source);
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
