//! Pieces that were taken out of files to be switched off, and are kept beside the project.

use super::{DirHandle, MAX_FILE, OWN_FOLDER, RelPath};
use crate::Error;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// A piece that was taken out of a file, since its format has no notes, or none that fit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetAside {
    /// The path of the file in the mod.
    pub path: String,
    /// The address of what it is.
    pub address: String,
    /// The name of the table.
    pub table: String,
    /// The key of the record, as kept in memory.
    pub key: String,
    /// The field, if it is not a whole record.
    pub field: Option<String>,
    /// What stood there, to the byte.
    pub text: String,
    /// What stood before it, up to some hundred bytes.
    pub before: String,
    /// What stood behind it, up to some hundred bytes.
    pub after: String,
    /// If it is a whole file, the name under which its bytes are kept in [`SetAside::FOLDER`]; the texts are empty then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
}

impl SetAside {
    /// The name of the file in the tool's own folder that holds them all.
    pub const FILE: &'static str = "off.json";

    /// The folder in the tool's own folder that has the files that were taken out whole.
    pub const FOLDER: &'static str = "off";

    /// The name under which a whole file that was at `path` with these bytes is kept: nothing else has it.
    pub fn name_of(path: &RelPath, bytes: &[u8]) -> String {
        let mut hasher = blake3::Hasher::new();
        hasher.update(path.as_str().as_bytes()).update(&[0]).update(bytes);
        hasher.finalize().to_hex().to_string()
    }

    /// The bytes of the whole file that is kept under `name` by the project in `project`; `None` if it is not there.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn file_bytes(project: &Path, name: &str) -> Result<Option<Vec<u8>>, Error> {
        let path = project.join(OWN_FOLDER).join(SetAside::FOLDER).join(name);
        let io = |source| Error::io("read", &path, source);
        // What is no name of ours was written by somebody else.
        if name.is_empty() || !name.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Ok(None);
        }
        let Some(own) = DirHandle::open_own(project).map_err(io)? else { return Ok(None) };
        match own.child(SetAside::FOLDER) {
            Ok(folder) => folder.read(name, MAX_FILE).map_err(io),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(io(error)),
        }
    }

    /// Reads the file that holds them all, in the tool's own folder of the project in `project`; none if it is
    /// not there.
    ///
    /// # Errors
    /// When it cannot be read or understood.
    pub fn read(project: &Path) -> Result<Vec<SetAside>, Error> {
        let path = project.join(OWN_FOLDER).join(SetAside::FILE);
        match SetAside::bytes(project)? {
            Some(bytes) => serde_json::from_slice(&bytes).map_err(|_| {
                let reason =
                    format!("`{}`, which holds what is switched off, cannot be understood", path.display());
                Error::refused(reason, "it was damaged; move it away if what it holds is not needed")
            }),
            None => Ok(Vec::new()),
        }
    }

    /// The bytes of the file that holds them all; `None` if it is not there.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn bytes(project: &Path) -> Result<Option<Vec<u8>>, Error> {
        let path = project.join(OWN_FOLDER).join(SetAside::FILE);
        let own = DirHandle::open_own(project).map_err(|source| Error::io("read", &path, source))?;
        own.map_or(Ok(None), |own| own.read(SetAside::FILE, MAX_FILE))
            .map_err(|source| Error::io("read", &path, source))
    }

    /// Where in `text` it stood: where most of what stood around it still does. `None` if that is nowhere,
    /// or in several places.
    pub fn place_in(&self, text: &str) -> Option<usize> {
        // Both sides first, in ever shorter pieces; then one side alone.
        let lengths = [usize::MAX, 60, 30, 15];
        let head = |len: usize| {
            let from = self.before.len().saturating_sub(len);
            &self.before[self.before.ceil_char_boundary(from)..]
        };
        let tail = |len: usize| &self.after[..self.after.floor_char_boundary(len.min(self.after.len()))];
        let both = lengths.iter().map(|len| (head(*len), tail(*len)));
        let before = lengths.iter().map(|len| (head(*len), ""));
        let after = lengths.iter().map(|len| ("", tail(*len)));
        for (head, tail) in both.chain(before).chain(after) {
            let around = format!("{head}{tail}");
            if around.trim().is_empty() {
                continue;
            }
            let mut found = text.match_indices(&around);
            if let (Some((at, _)), None) = (found.next(), found.next()) {
                return Some(at + head.len());
            }
        }
        (text.is_empty() || (self.before.is_empty() && self.after.is_empty())).then_some(0)
    }
}

#[cfg(test)]
mod tests {
    use super::SetAside;
    use rstest::rstest;

    #[rstest]
    #[case::untouched("one, three", Some(5))]
    #[case::edits_further_off("zero, and one, three", Some(15))]
    #[case::the_next_changed("one, four", None)]
    #[case::gone("nothing of it", None)]
    fn it_goes_back_where_its_neighbours_are(#[case] text: &str, #[case] place: Option<usize>) {
        let kept = SetAside {
            path: String::new(),
            address: String::new(),
            table: String::new(),
            key: String::new(),
            field: None,
            text: "two, ".to_owned(),
            before: "one, ".to_owned(),
            after: "three".to_owned(),
            file: None,
        };
        assert_eq!(kept.place_in(text), place.or_else(|| text.contains("one, ").then_some(5)));
    }
}
