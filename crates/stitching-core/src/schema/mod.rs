//! The description of a game's tables: where their records are, what names them, what each field
//! may hold and points to.

mod companion;
mod computed;
mod dependencies;
mod derived;
mod describe;
mod field;
mod file_pattern;
mod file_template;
pub(crate) mod keys;
mod known_names;
mod list;
mod log;
mod pattern;
mod read;
mod recipe;
mod reserved;
mod rule;
mod severity;
mod switch;
mod table;
mod transfer;

pub use companion::{Companion, CompanionKind};
pub use computed::Computed;
pub use derived::{Asset, Derived, Paired, WhenChanged};
pub use describe::json_schema;
pub use field::{Field, Layout, NamedBy, OnRemove, Target, ValueRule, ValueType};
pub use file_pattern::{FilePattern, FilePatternError, NewPath};
pub use file_template::FileTemplate;
pub(crate) use file_template::path_from;
pub use keys::{PROJECT_SECTIONS, schema_sections};
pub use known_names::KnownNames;
pub use list::{Item, List};
pub use log::{LOG_GROUPS, LogPattern};
pub use pattern::Pattern;
pub use read::read;
pub(crate) use read::{mentions, severity as read_severity};
pub use recipe::{Each, EachValues, Parameter, ParameterKind, Recipe, RecipeAction, RecipeStep};
pub use reserved::{Reserved, ReservedValues};
pub use rule::{Example, Message, MessagePart, Requirement, Rule};
pub use severity::{Level, SeverityRule};
pub use switch::{Beside, Condition, Switch};
pub(crate) use table::KEY_SEPARATOR;
pub use table::{Forbidden, KeyPart, LineEnds, Table, Texts};
pub use transfer::{Transfer, TransferField};

pub use crate::settings::MentionKind;

use crate::layers::{FileTraits, RelPath};
use crate::text::nearest_of;
use std::collections::HashMap;
use std::sync::OnceLock;

/// A place in a schema file or the project file that names a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableMention {
    /// The file, as it is shown.
    pub path: String,
    /// The bytes of the TOML value in it.
    pub span: std::ops::Range<usize>,
    /// The table.
    pub table: String,
    /// How it is named.
    pub kind: MentionKind,
}

/// The position of a table in [`Schema::tables`].
pub type TableId = usize;

/// All tables of a game.
#[derive(Debug, Clone, Default)]
pub struct Schema {
    /// The tables in the order in which they are described.
    pub tables: Vec<Table>,
    /// The codes of the languages that texts must exist in, the main one first.
    pub languages: Vec<String>,
    /// What goes with the records of tables, in the order in which it is described.
    pub companions: Vec<Companion>,
    /// The fields whose values follow from others, in the order in which they are described.
    pub computed: Vec<Computed>,
    /// The files that are made from others.
    pub derived: Vec<Derived>,
    /// The files that must be equal.
    pub paired: Vec<Paired>,
    /// The named changes.
    pub recipes: Vec<Recipe>,
    /// How records of one table become records of another.
    pub transfers: Vec<Transfer>,
    /// What must hold of the records of tables, in the order in which it is described.
    pub rules: Vec<Rule>,
    /// What the game writes into its log.
    pub logs: Vec<LogPattern>,
    /// How much problems matter: the first that is about one counts.
    pub severities: Vec<SeverityRule>,
    /// What the project sets aside for its mod.
    pub reserved: Vec<Reserved>,
    /// The files that something must name, or a record has as a companion.
    pub assets: Vec<Asset>,
    /// Where the schema files, and the project file, name tables: all places but the headings of the tables themselves.
    pub mentions: Vec<TableMention>,
    /// The patterns for files, by the folder that they begin with: the table and the number of each.
    patterns: OnceLock<HashMap<String, Vec<(TableId, usize)>>>,
}

/// A file is read once for each table that takes it; by more tables than these it is not read.
pub const MOST_TABLES_OF_A_FILE: usize = 500;

impl Schema {
    /// With no tables yet, for texts in `languages`.
    fn new(languages: &[String]) -> Schema {
        Schema {
            tables: Vec::new(),
            languages: languages.to_vec(),
            companions: Vec::new(),
            computed: Vec::new(),
            derived: Vec::new(),
            paired: Vec::new(),
            recipes: Vec::new(),
            transfers: Vec::new(),
            rules: Vec::new(),
            logs: Vec::new(),
            severities: Vec::new(),
            reserved: Vec::new(),
            assets: Vec::new(),
            mentions: Vec::new(),
            patterns: OnceLock::new(),
        }
    }

    /// The tables that take the file at `path`, in order, at most [`MOST_TABLES_OF_A_FILE`].
    pub fn tables_of(&self, path: &RelPath) -> Vec<TableId> {
        let mut tables = self.all_tables_of(path);
        tables.truncate(MOST_TABLES_OF_A_FILE);
        tables
    }

    /// The tables that take the file at `path`, in order, however many. Only patterns that begin with one of its folders are
    /// tried: there may be thousands of them, and a million files.
    pub(crate) fn all_tables_of(&self, path: &RelPath) -> Vec<TableId> {
        let by_folder = self.patterns.get_or_init(|| {
            let mut by_folder: HashMap<String, Vec<(TableId, usize)>> = HashMap::new();
            for (id, table) in self.tables.iter().enumerate() {
                for (number, pattern) in table.files.iter().enumerate() {
                    by_folder.entry(pattern.folder().to_owned()).or_default().push((id, number));
                }
            }
            by_folder
        });
        let path = path.as_str();
        let folders = path.match_indices('/').map(|(end, _)| &path[..end]);
        let tried = std::iter::once("").chain(folders).filter_map(|folder| by_folder.get(folder)).flatten();
        let takes = |(id, number): &&(TableId, usize)| self.tables[*id].files[*number].takes(path);
        let mut tables: Vec<TableId> = tried.filter(takes).map(|(id, _)| *id).collect();
        tables.sort_unstable();
        tables.dedup();
        tables
    }

    /// The table called `name`.
    pub fn table(&self, name: &str) -> Option<TableId> {
        self.tables.iter().position(|table| table.name == name)
    }

    /// What is said of files as a whole.
    pub fn file_traits(&self) -> Vec<FileTraits> {
        let traits = |table: &Table| FileTraits {
            files: table.files.iter().map(|pattern| pattern.matcher().clone()).collect(),
            encoding: table.encoding,
            merged: table.merged,
            mark: table.layering_mark.clone(),
        };
        let special = |table: &&Table| table.encoding.is_some() || table.merged;
        self.tables.iter().filter(special).map(traits).collect()
    }

    /// The table names most like `name`.
    pub fn nearest_table(&self, name: &str) -> Vec<String> {
        nearest_of(name, self.tables.iter().map(|table| table.name.as_str()))
    }

    /// What goes with each record of `table`.
    pub fn companions_of(&self, table: TableId) -> impl Iterator<Item = &Companion> {
        self.companions.iter().filter(move |companion| companion.table == table)
    }

    /// The tables that hold texts.
    pub fn text_tables(&self) -> impl Iterator<Item = TableId> + '_ {
        (0..self.tables.len()).filter(|id| self.tables[*id].texts.is_some())
    }
}
