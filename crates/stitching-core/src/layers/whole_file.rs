//! Files outside the layers, such as one for translators, written whole or not at all.

use crate::Error;
use std::io::Write;
use std::path::Path;

/// Puts `bytes` in the place of the file at `path`, if there is one. What fails leaves it as it was.
///
/// # Errors
/// When the folder is not there or cannot be written.
pub fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), Error> {
    let io = |source| Error::io("write", path, source);
    let folder = path.parent().filter(|own| !own.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(io)?;
    file.write_all(bytes).map_err(io)?;
    // A file for others: not only for who wrote it.
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        const USUAL: u32 = 0o644;
        let mode = std::fs::metadata(path).map_or(USUAL, |own| own.permissions().mode());
        file.as_file().set_permissions(std::fs::Permissions::from_mode(mode)).map_err(io)?;
    }
    file.as_file().sync_all().map_err(io)?;
    file.persist(path).map_err(|error| io(error.error))?;
    Ok(())
}
