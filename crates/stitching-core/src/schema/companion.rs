//! What goes with each record of a table without being a field of it: a text, a file, a folder.

use super::{KEY_SEPARATOR, KeyPart, Table, TableId};
use crate::Place;
use crate::layers::RelPath;
use crate::text::Template;

/// Something that goes with each record of a table.
#[derive(Debug, Clone)]
pub struct Companion {
    /// The table.
    pub table: TableId,
    /// What it is.
    pub kind: CompanionKind,
    /// How its name is made from the record: `{key}`, or the fields of the key by their names.
    pub name: Template,
    /// Whether each record must have it.
    pub required: bool,
    /// Where the schema says so.
    pub place: Place,
}

/// What a companion is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CompanionKind {
    /// A text, by its key.
    Text,
    /// A file, by its path from the root of a layer.
    File,
    /// A folder with all that is in it, by its path from the root of a layer.
    Folder,
}

impl CompanionKind {
    /// The settings that name one.
    pub const NAMES: [(&'static str, CompanionKind); 3] =
        [("text", CompanionKind::Text), ("file", CompanionKind::File), ("folder", CompanionKind::Folder)];
}

/// The part of a name that stands for the whole key.
pub(crate) const KEY: &str = "key";

impl Companion {
    /// The name that it has for the record of `table` with `key` (as kept in memory).
    pub fn name_for(&self, table: &Table, key: &str) -> String {
        let parts: Vec<&str> = key.split(KEY_SEPARATOR).collect();
        let value = |name: &str| {
            if name == KEY {
                return Some(key.replace(KEY_SEPARATOR, "/"));
            }
            let at = table.key.iter().position(|part| part_name(table, *part) == name);
            at.and_then(|at| parts.get(at)).map(|part| (*part).to_owned())
        };
        self.name.fill(value).unwrap_or_default()
    }

    /// The path of the file or folder; `None` for a text, or for a key that makes no path inside a layer.
    pub fn path_for(&self, table: &Table, key: &str) -> Option<RelPath> {
        let is_path = self.kind != CompanionKind::Text;
        is_path.then(|| RelPath::parse(self.name_for(table, key).trim_end_matches('/')).ok()).flatten()
    }
}

/// What a part of the key is called in a companion's name.
pub(super) fn part_name(table: &Table, part: KeyPart) -> &str {
    let name = table.key_part_name(part);
    name.strip_prefix('{').and_then(|name| name.strip_suffix('}')).unwrap_or(name)
}
