//! The description of a game's tables: where their records are, what names them, what each field
//! may hold and points to.

mod describe;
mod field;
mod format;
pub(crate) mod keys;
mod pattern;
mod read;
mod table;
pub(crate) mod toml_reader;

pub use describe::json_schema;
pub(crate) use field::number;
pub use field::{Field, Layout, Rule, Switch, Target, ValueType};
pub use keys::{KeyDoc, PROJECT_SECTIONS, SCHEMA_SECTIONS};
pub use pattern::Pattern;
pub use read::read;
pub(crate) use table::KEY_SEPARATOR;
pub use table::{FilePattern, KeyPart, Table, Texts};

use crate::layers::FileTraits;
use crate::text::nearest_of;

/// The position of a table in [`Schema::tables`].
pub type TableId = usize;

/// All tables of a game.
#[derive(Debug, Clone, Default)]
pub struct Schema {
    /// The tables in the order in which they are described.
    pub tables: Vec<Table>,
    /// The codes of the languages that texts must exist in, the main one first.
    pub languages: Vec<String>,
}

impl Schema {
    /// The table called `name`.
    pub fn table(&self, name: &str) -> Option<TableId> {
        self.tables.iter().position(|table| table.name == name)
    }

    /// What is said of files as a whole.
    pub fn file_traits(&self) -> Vec<FileTraits> {
        let traits = |table: &Table| FileTraits {
            files: table.files.iter().map(|pattern| pattern.matcher.clone()).collect(),
            encoding: table.encoding,
            merged: table.merged,
            replaces: table.replaces.clone(),
        };
        let special = |table: &&Table| table.encoding.is_some() || table.merged;
        self.tables.iter().filter(special).map(traits).collect()
    }

    /// The table names most like `name`.
    pub fn nearest_table(&self, name: &str) -> Vec<String> {
        nearest_of(name, self.tables.iter().map(|table| table.name.as_str()))
    }

    /// The tables that hold texts.
    pub fn text_tables(&self) -> impl Iterator<Item = TableId> + '_ {
        (0..self.tables.len()).filter(|id| self.tables[*id].texts.is_some())
    }
}
