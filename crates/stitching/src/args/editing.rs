//! Arguments of the commands that change files.

use clap::{Args, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub struct Off {
    /// A record, a field, one item of a field, or a line of a file; without it what is off is listed
    #[arg(value_name = "TABLE:KEY[.FIELD[=VALUE]] | PATH:LINE")]
    pub address: Option<String>,
    #[command(flatten)]
    pub editing: Editing,
}

/// How a change is undone or made again.
#[derive(Debug, Default, Args)]
pub struct Turning {
    /// Leave files as they are that were changed since; the rest is done
    #[arg(long)]
    pub leave_changed: bool,
}

#[derive(Debug, Default, Args)]
pub struct Undo {
    /// An older change, by its number in the history; it is taken back where later ones allow
    #[arg(value_name = "N", conflicts_with = "leave_changed")]
    pub number: Option<usize>,
    #[command(flatten)]
    pub turning: Turning,
    /// Of an older change: write nothing; print what would change as a diff
    #[arg(long, requires = "number")]
    pub preview: bool,
    /// Of an older change: take it back even if that brings errors
    #[arg(long, requires = "number")]
    pub allow_errors: bool,
}

#[derive(Debug, Args)]
pub struct History {
    /// Write this change into a file, as records and fields, to be made elsewhere
    #[arg(long, num_args = 2, value_names = ["N", "FILE"])]
    pub save: Vec<String>,
}

#[derive(Debug, Args)]
pub struct Apply {
    /// The file, as `stitching history --save` wrote it
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// What counts where the data holds neither what was there before nor what is to be
    #[arg(long, value_name = "ours|theirs")]
    pub take: Option<Side>,
    #[command(flatten)]
    pub editing: Editing,
}

/// One of two sides that differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Side {
    /// What the data holds
    Ours,
    /// What the change set says
    Theirs,
}

#[derive(Debug, Args)]
pub struct On {
    /// The address, as `stitching off` lists it
    #[arg(value_name = "ADDRESS")]
    pub address: String,
    #[command(flatten)]
    pub editing: Editing,
}

/// What all commands that change files understand.
#[derive(Debug, Args, Default)]
pub struct Editing {
    /// Write nothing; print what would change as a diff
    #[arg(long)]
    pub preview: bool,
    /// Make the change even if it brings errors
    #[arg(long)]
    pub allow_errors: bool,
}

#[derive(Debug, Args)]
pub struct Rename {
    /// The address of the record, or the path of a folder with `/` at its end; to rename many, a table
    #[arg(value_name = "TABLE:KEY | FOLDER/ | TABLE")]
    pub address: String,
    /// Its new key, or the new path
    #[arg(value_name = "NEWKEY | FOLDER/")]
    pub new: Option<String>,
    /// Many records by a sheet with the columns `key` and `new`
    #[arg(long, value_name = "FILE", group = "many")]
    pub from: Option<PathBuf>,
    /// All records whose key has the first shape get one of the second: 'old_{}' 'new_{}'
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], group = "many")]
    pub pattern: Vec<String>,
    /// All records that the mod adds get this in front of their key
    #[arg(long, value_name = "TEXT", group = "many")]
    pub prefix: Option<String>,
    /// What the mod adds over a base layer brings the notes directly above it along
    #[arg(long)]
    pub with_notes: bool,
    /// A place that still has the old name, as `rename` tells it, gets the new one too: a note, a script; `all` for all
    #[arg(long, value_name = "PATH:LINE | all")]
    pub also: Vec<String>,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Set {
    /// Records by their addresses, and what becomes of their fields; with --where or --all a table
    #[arg(value_name = "TABLE:KEY | FIELD=VALUE | TABLE:KEY.FIELD=VALUE", required = true)]
    pub arguments: Vec<String>,
    /// The records of the table for which this expression (CEL) holds
    #[arg(long = "where", value_name = "EXPR")]
    pub condition: Option<String>,
    /// All records of the table
    #[arg(long, conflicts_with = "condition")]
    pub all: bool,
    /// What differs in a sheet: delimited text or JSON lines, as `stitching show TABLE --format` prints them
    #[arg(long, value_name = "FILE", conflicts_with_all = ["condition", "all"])]
    pub from: Option<PathBuf>,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Remove {
    /// The addresses of the records
    #[arg(value_name = "TABLE:KEY", required = true)]
    pub addresses: Vec<String>,
    /// What refers to them loses the reference: an item goes out of its list, another value becomes none
    #[arg(long)]
    pub detach: bool,
    /// The records that refer to them go too
    #[arg(long, conflicts_with = "detach")]
    pub cascade: bool,
    /// References of these tables stay, and lead nowhere
    #[arg(long, value_delimiter = ',', value_name = "TABLE,...")]
    pub keep: Vec<String>,
    /// What only they needed goes too
    #[arg(long)]
    pub with_unused: bool,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Copy {
    /// The address of the record, or the path of a folder with `/` at its end
    #[arg(value_name = "TABLE:KEY | FOLDER/")]
    pub address: String,
    /// The key of the copy, or its path; `new` is the next free key, also for one part: frost_cut/new
    #[arg(value_name = "NEWKEY | FOLDER/")]
    pub new: String,
    /// What the copy holds
    #[arg(value_name = "FIELD=VALUE")]
    pub values: Vec<String>,
    /// How the copy is called in the main language
    #[arg(long, value_name = "TEXT")]
    pub name: Option<String>,
    /// Lists that have the original get the copy behind it: all, none, or those of some fields
    #[arg(long, value_delimiter = ',', value_name = "all|none|TABLE.FIELD,...")]
    pub join: Vec<String>,
    /// Nothing of these tables comes along
    #[arg(long, value_delimiter = ',', value_name = "TABLE,...")]
    pub without: Vec<String>,
    /// Where the original is, if elsewhere: a layer, or another project, folder or archive with the game's data
    #[arg(long, value_name = "LAYER | FOLDER")]
    pub from: Option<String>,
    /// With `--from`: records that it refers to come along, too, where this project lacks them
    #[arg(long, requires = "from")]
    pub with_needed: bool,
    /// A place in the copies that still has the old name, as `copy` tells it, gets the new one too; `all` for all
    #[arg(long, value_name = "PATH:LINE | all", conflicts_with = "from")]
    pub also: Vec<String>,
    /// Directly behind the record with this key, instead of behind the original
    #[arg(long, value_name = "KEY", group = "place")]
    pub after: Option<String>,
    /// Directly before the record with this key
    #[arg(long, value_name = "KEY", group = "place")]
    pub before: Option<String>,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Add {
    /// The table
    #[arg(value_name = "TABLE")]
    pub table: String,
    /// The keys of the new records, and what they hold
    #[arg(value_name = "KEY | FIELD=VALUE")]
    pub arguments: Vec<String>,
    /// Like the record with this key in all that is not given
    #[arg(long, value_name = "KEY")]
    pub like: Option<String>,
    /// Directly behind the record with this key
    #[arg(long, value_name = "KEY", group = "place")]
    pub after: Option<String>,
    /// Directly before the record with this key
    #[arg(long, value_name = "KEY", group = "place")]
    pub before: Option<String>,
    /// Before all others of the file
    #[arg(long, group = "place")]
    pub first: bool,
    /// Behind all others of the file
    #[arg(long, group = "place")]
    pub last: bool,
    /// Into the file at this path from the mod's root
    #[arg(long = "in", value_name = "PATH", group = "place")]
    pub file: Option<String>,
    /// How it is called in the main language
    #[arg(long, value_name = "TEXT")]
    pub name: Option<String>,
    /// The records of a sheet, as `stitching show TABLE --format` prints them
    #[arg(long, value_name = "FILE")]
    pub from: Option<PathBuf>,
    /// One for each name that references of the mod have and no record
    #[arg(long)]
    pub missing: bool,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Fix {
    /// Only problems of these codes, or at these places
    #[arg(value_name = "CODE | PATH:LINE[:COLUMN]")]
    pub which: Vec<String>,
    /// All problems of the mod, also those whose fix should be looked at
    #[arg(long, conflicts_with = "which")]
    pub all: bool,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Recipe {
    /// The recipe; without it all are listed
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// What its parameters are
    #[arg(value_name = "PARAMETER=VALUE", conflicts_with = "from_history")]
    pub values: Vec<String>,
    /// Print the draft of a recipe that does what this change of the history did, or these up to the second
    #[arg(long, value_name = "N", num_args = 1..=2)]
    pub from_history: Vec<usize>,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Transfer {
    /// The mapping; without it all are listed
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Refresh {
    #[command(flatten)]
    pub editing: Editing,
}

#[derive(Debug, Args)]
pub struct Renumber {
    /// The field; `position` where that names the records, which then move
    #[arg(value_name = "TABLE.FIELD")]
    pub field: String,
    /// Where the field is the last part of the key: only the records whose key begins so
    #[arg(long = "in", value_name = "GROUP")]
    pub group: Option<String>,
    /// Numbers from this one on move up, and it is free
    #[arg(long, value_name = "N", group = "how", allow_hyphen_values = true)]
    pub open: Option<i64>,
    /// By how much they move up
    #[arg(long, value_name = "N", default_value_t = 1, requires = "open")]
    pub by: i64,
    /// In the order of this column
    #[arg(long, value_name = "COLUMN", group = "how")]
    pub sort: Option<String>,
    /// These numbers move, and keep their distances
    #[arg(long = "move", value_name = "FIRST..LAST", group = "how", allow_hyphen_values = true)]
    pub block: Option<String>,
    /// Where the first of them goes
    #[arg(long, value_name = "N", requires = "block", allow_hyphen_values = true)]
    pub to: Option<i64>,
    #[command(flatten)]
    pub editing: Editing,
}

/// What texts are listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum TextList {
    /// Named or there in the main language, and not there
    Missing,
    /// There, and nothing names them
    Unused,
    /// There, and they say nothing
    Empty,
    /// The same as in the main language
    Same,
    /// Marks such as {name} or %d differ from those of the main language
    Marks,
    /// The same text under another key
    Doubled,
}

#[derive(Debug, Args)]
pub struct TextArgs {
    /// The texts to list; without it how many there are
    #[arg(value_enum, value_name = "WHICH")]
    pub list: Option<TextList>,
    /// Only this language; for `--export` the one that is translated to
    #[arg(long, value_name = "CODE")]
    pub language: Option<String>,
    /// Write a file for translators: .po, .xlf or .xliff
    #[arg(long, value_name = "FILE", requires = "language", conflicts_with_all = ["import", "stubs", "list", "preview", "allow_errors"])]
    pub export: Option<PathBuf>,
    /// Take up the translations of such a file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["stubs", "list"])]
    pub import: Option<PathBuf>,
    /// Add the texts that are missing in this language, each as in the main language
    #[arg(long, value_name = "CODE", conflicts_with_all = ["list", "language"])]
    pub stubs: Option<String>,
    #[command(flatten)]
    pub editing: Editing,
}
