//! A change that brings an archive back to what it held before gives it the bytes it had then, and not its entries
//! packed anew: switching off and on again leaves no trace.

use super::Journal;
use super::history::{FileEntry, History};
use super::roots::{Root, Target};
use crate::Error;
use crate::changes::{DiskChange, DiskContent};
use crate::layers::{Archive, Fingerprint, RelPath};

/// So many changes of the history are looked at, the latest first.
const LOOKED_AT: usize = 50;

impl Journal<'_> {
    /// `file` as it is, or with the bytes that the archive had before a change of the history, if it held the same
    /// then as it is to hold now.
    pub(super) fn with_earlier_packing(
        &self,
        history: &History,
        file: DiskChange,
    ) -> Result<DiskChange, Error> {
        let (Some(from), Some(before), DiskContent::Patched(_)) = (&file.from, &file.before, &file.content)
        else {
            return Ok(file);
        };
        if file.to.as_ref() != Some(from) {
            return Ok(file);
        }
        let Some(archive) = self.archive_at(from, before)? else { return Ok(file) };
        for entry in history.latest(LOOKED_AT) {
            let entry = entry?;
            let led_here = |past: &&FileEntry| {
                !past.is_own
                    && past.from.as_deref() == Some(from.as_str())
                    && past.to.as_deref() == Some(from.as_str())
                    && past.after.as_ref() == Some(before)
            };
            let Some(past) = entry.files.iter().find(led_here) else { continue };
            if archive.holds_the_same(&file.redo, &past.undo).unwrap_or(false)
                && let Ok(undo) = archive.reversed(&past.undo)
            {
                let after = Some(Fingerprint::after(archive.size, &past.undo));
                return Ok(DiskChange { redo: past.undo.clone(), undo, after, ..file });
            }
        }
        Ok(file)
    }

    /// The archive at `path` in the mod, if it is the one that `fingerprint` tells.
    fn archive_at(&self, path: &RelPath, fingerprint: &Fingerprint) -> Result<Option<Archive>, Error> {
        let Some(slot) = self.roots.slot(&Target::new(Root::Mod, path))? else { return Ok(None) };
        let io = |source| Error::io("read", slot.path(), source);
        if !slot.is(&slot.name, fingerprint).map_err(io)? {
            return Ok(None);
        }
        Archive::open(&slot.path(), Some(path.clone()), &mut |_, _| {}).map(Some).map_err(io)
    }
}
