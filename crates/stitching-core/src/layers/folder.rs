//! Listing a layer that is a folder.

use super::{FileEntry, LayerFault, LayerFaultKind, LayerId, RelPath};
use crate::Error;
use std::path::Path;
use walkdir::WalkDir;

/// Folders that are never part of a layer: those of version control.
const SKIPPED: [&str; 3] = [".git", ".hg", ".svn"];
/// What begins the names of the tool's own folder and of files that are there only while a change
/// is written.
const OWN: &[u8] = b".stitching";

/// Adds the files below `root` to `files`, and what cannot be used to `faults`.
///
/// # Errors
/// When `root` itself cannot be listed.
pub(super) fn list(
    layer: LayerId,
    root: &Path,
    files: &mut Vec<FileEntry>,
    faults: &mut Vec<LayerFault>,
) -> Result<(), Error> {
    let real_root = root.canonicalize().map_err(|source| Error::io("list", root, source))?;
    std::fs::read_dir(&real_root).map_err(|source| Error::io("list", root, source))?;
    let walk = WalkDir::new(&real_root).min_depth(1).into_iter();
    let walk = walk.filter_entry(|entry| {
        let name = entry.file_name();
        !SKIPPED.iter().any(|skipped| name == *skipped) && !name.as_encoded_bytes().starts_with(OWN)
    });
    for entry in walk {
        let mut fault = |path: &Path, kind| {
            let path = path.strip_prefix(&real_root).unwrap_or(path).to_string_lossy().replace('\\', "/");
            faults.push(LayerFault { layer, path, kind });
        };
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                let path = error.path().unwrap_or(&real_root).to_owned();
                let answer = error.io_error().map_or_else(|| error.to_string(), ToString::to_string);
                fault(&path, LayerFaultKind::Unreadable(answer));
                continue;
            }
        };
        let kind = entry.file_type();
        if kind.is_dir() {
            continue;
        }
        if kind.is_symlink() && !ends_inside(entry.path(), &real_root) {
            let to_folder = std::fs::metadata(entry.path()).is_ok_and(|target| target.is_dir());
            fault(entry.path(), if to_folder { LayerFaultKind::FolderLink } else { LayerFaultKind::Link });
            continue;
        }
        let Some(path) = relative(entry.path(), &real_root) else {
            fault(entry.path(), LayerFaultKind::Name);
            continue;
        };
        // Devices, sockets and the like are no data files; reading a pipe would never end.
        if let Ok(meta) = std::fs::metadata(entry.path())
            && meta.is_file()
        {
            files.push(FileEntry::new(layer, path, meta.len()));
        }
    }
    Ok(())
}

fn relative(path: &Path, root: &Path) -> Option<RelPath> {
    let mut parts = Vec::new();
    for part in path.strip_prefix(root).ok()?.components() {
        parts.push(part.as_os_str().to_str()?);
    }
    // A backslash is an ordinary character in names here, but a separator elsewhere.
    if parts.iter().any(|part| part.contains('\\')) {
        return None;
    }
    RelPath::parse(&parts.join("/")).ok()
}

/// Whether a link ends at a file inside the layer. Links to folders are not followed at all.
fn ends_inside(link: &Path, root: &Path) -> bool {
    link.canonicalize().is_ok_and(|target| target.starts_with(root) && target.is_file())
}
