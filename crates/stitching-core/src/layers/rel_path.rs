//! Paths inside a layer.

use std::fmt;
use std::path::{Path, PathBuf};

/// A path from a layer's root: `/` between the folders, no `.` or `..`, not absolute.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RelPath(String);

/// Why a text cannot be a path inside a layer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RelPathError {
    /// Nothing is left of it.
    #[error("the path is empty")]
    Empty,
    /// `..`, a drive letter, or a leading slash.
    #[error("`{0}` would lead out of the layer")]
    Leaves(String),
    /// A character or name that some file systems cannot hold.
    #[error("`{0}` cannot be a file name on every system")]
    Unfit(String),
}

impl RelPath {
    /// Reads a path as a data file or a user gives it: `\` counts as `/`, `.` parts and doubled
    /// slashes vanish.
    ///
    /// # Errors
    /// When the path is empty, absolute, or has a `..` part.
    pub fn parse(text: &str) -> Result<RelPath, RelPathError> {
        let text = text.replace('\\', "/");
        let drive = text.as_bytes().get(1) == Some(&b':');
        if text.starts_with('/') || drive || text.contains('\0') {
            return Err(RelPathError::Leaves(text));
        }
        let mut parts = Vec::new();
        for part in text.split('/') {
            match part {
                "" | "." => {}
                ".." => return Err(RelPathError::Leaves(text)),
                part => parts.push(part),
            }
        }
        if parts.is_empty() { Err(RelPathError::Empty) } else { Ok(RelPath(parts.join("/"))) }
    }

    /// Checks that a file of this name can be made on Windows, macOS and Linux alike.
    ///
    /// # Errors
    /// Names the part that cannot: a forbidden character, a reserved device name, or a dot or
    /// blank at the end (see "Naming Files, Paths, and Namespaces" in the Windows documentation).
    pub fn check_portable(&self) -> Result<(), RelPathError> {
        const DEVICES: [&str; 4] = ["con", "prn", "aux", "nul"];
        for part in self.0.split('/') {
            let stem = part.split('.').next().unwrap_or(part).to_ascii_lowercase();
            let numbered = stem.len() == 4
                && (stem.starts_with("com") || stem.starts_with("lpt"))
                && stem.ends_with(|c: char| c.is_ascii_digit());
            let forbidden = part.contains(|c: char| c.is_control() || "<>:\"|?*".contains(c));
            if forbidden || numbered || DEVICES.contains(&stem.as_str()) || part.ends_with(['.', ' ']) {
                return Err(RelPathError::Unfit(part.to_owned()));
            }
        }
        Ok(())
    }

    /// The path as text, `/` between the folders.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The file's name without its extension: `layouts/frost_cut.json` gives `frost_cut`.
    pub fn stem(&self) -> &str {
        let name = self.0.rsplit('/').next().unwrap_or(&self.0);
        match name.rfind('.') {
            Some(dot) if dot > 0 => &name[..dot],
            _ => name,
        }
    }

    /// The folder that the file is in, from the layer's root; empty for a file at the root.
    pub fn folder(&self) -> &str {
        self.0.rsplit_once('/').map_or("", |(folder, _)| folder)
    }

    /// The file's name with its extension.
    pub fn name(&self) -> &str {
        self.0.rsplit('/').next().unwrap_or_default()
    }

    /// The same path with another name of the file.
    ///
    /// # Errors
    /// As [`RelPath::parse`].
    pub fn with_name(&self, name: &str) -> Result<RelPath, RelPathError> {
        let folder = &self.0[..self.0.len() - self.name().len()];
        RelPath::parse(&format!("{folder}{name}"))
    }

    /// The same path with another stem.
    pub fn with_stem(&self, stem: &str) -> Result<RelPath, RelPathError> {
        let name_at = self.0.rfind('/').map_or(0, |slash| slash + 1);
        let (folder, name) = self.0.split_at(name_at);
        RelPath::parse(&format!("{folder}{stem}{}", &name[self.stem().len()..]))
    }

    /// The path in a form that is equal for names a case-insensitive file system holds for one.
    pub fn folded(&self) -> String {
        self.0.to_lowercase()
    }

    /// The place on disk below `root`.
    pub fn under(&self, root: &Path) -> PathBuf {
        let mut out = root.to_owned();
        out.extend(self.0.split('/'));
        out
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("layouts/a.json", "layouts/a.json")]
    #[case(".\\layouts\\\\a.json", "layouts/a.json")]
    #[case("a b/ż.txt", "a b/ż.txt")]
    fn good_paths_are_put_in_one_form(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(RelPath::parse(text).expect("a good path").as_str(), expected);
    }

    #[rstest]
    #[case("../game/a.txt")]
    #[case("a/../../b")]
    #[case("/etc/passwd")]
    #[case("\\\\server\\share")]
    #[case("C:\\a.txt")]
    #[case("a\0b")]
    fn paths_out_of_the_layer_are_refused(#[case] text: &str) {
        assert!(matches!(RelPath::parse(text), Err(RelPathError::Leaves(_))));
    }

    #[rstest]
    #[case("layouts/nul.json")]
    #[case("a/COM1")]
    #[case("what?.txt")]
    #[case("dot./a")]
    fn names_that_windows_cannot_hold_are_found(#[case] text: &str) {
        assert!(RelPath::parse(text).expect("inside").check_portable().is_err());
    }

    #[test]
    fn stems() {
        let path = RelPath::parse("layouts/frost.cut.json").expect("a good path");
        assert_eq!(path.stem(), "frost.cut");
        assert_eq!(path.name(), "frost.cut.json");
        assert_eq!(path.with_name("ice.txt").expect("fits").as_str(), "layouts/ice.txt");
        assert_eq!(path.with_stem("ice").expect("fits").as_str(), "layouts/ice.json");
        assert_eq!(RelPath::parse("layouts/.hidden").expect("a good path").stem(), ".hidden");
    }
}
