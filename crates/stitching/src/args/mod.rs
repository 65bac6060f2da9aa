//! The command line.

mod editing;

pub use self::editing::*;

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Keeps identifiers, references and texts of a game mod consistent across all its files.
#[derive(Debug, Parser)]
#[command(name = "stitching", version, propagate_version = true, disable_help_subcommand = true)]
#[command(
    after_help = "Start with `stitching demo`: it writes a small made-up game and mod and walks through them.\nAn address is `table:key`, `table:key.field` or, if only one table has it, just the key."
)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of all commands.
#[derive(Debug, Args)]
#[command(next_help_heading = "On all commands")]
pub struct Global {
    /// The project's folder; else the nearest one upwards with a stitching.toml
    #[arg(long, global = true, value_name = "DIR")]
    pub project: Option<PathBuf>,
    /// How the result is written
    #[arg(long, global = true, value_enum, default_value_t = Format::Human)]
    pub format: Format,
    /// When to use colours; NO_COLOR is heeded too
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto)]
    pub color: Color,
    /// Do not use or keep what an earlier run found out about the files (in `.stitching/cache`)
    #[arg(long, global = true)]
    pub no_cache: bool,
    /// Say only what was asked for
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more about what is done
    #[arg(short, long, global = true)]
    pub verbose: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For reading
    Human,
    /// One JSON document
    Json,
    /// SARIF 2.1.0 (`check` only)
    Sarif,
    /// Annotations for GitHub workflows (`check` only)
    Github,
    /// JUnit XML, which build servers show (`check` only)
    Junit,
    /// A JSON object on each line (`show` of a table only)
    JsonLines,
    /// Text with commas and quotes, RFC 4180 (`show` of a table only)
    Delimited,
    /// A table for documents (`show` of a table only)
    Markdown,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

/// The layer at which the stack is taken to end, for commands that read.
#[derive(Debug, Args, Default)]
pub struct Through {
    /// As if the layers ended with this one: look at the base alone
    #[arg(long, value_name = "LAYER")]
    pub through: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write the demo game and mod into a new folder, and walk through them
    #[command(after_help = "Example:\n  stitching demo slackwater")]
    Demo(Demo),
    /// Start a project here: recognise the files, write stitching.toml and a first schema
    #[command(
        after_help = "Example, in a mod's folder:\n  stitching init --base ../game\n\nNothing is overwritten; in a project it only proposes what the schema lacks."
    )]
    Init(Init),
    /// Study the data and propose tables, keys, references, none values and types, with evidence
    #[command(
        after_help = "Examples:\n  stitching learn\n  stitching learn reaches --all\n  stitching learn --write\n  stitching learn --accept 4,7\n\nWhat is marked `accept` is fit to be written as it is; `ask` is to be looked at."
    )]
    Learn(Learn),
    /// List the tables: files, keys, records, problems
    #[command(after_help = "Example:\n  stitching tables --through game")]
    Tables(Tables),
    /// Show a table, or one record with what it points to
    #[command(
        after_help = "Examples:\n  stitching show reaches --columns Basin,Depth --sort Depth\n  stitching show reaches --where 'Depth > 5 && Basin == \"north\"' --columns 'Basin.*,Depth'\n  stitching show offers --with 'final = factor * good.price' --sort final --reverse\n  stitching show reaches --group Basin --mean Depth\n  stitching show reaches --format delimited > reaches.csv\n  stitching show reaches:frost_cut\n\nIn expressions a column goes by its name, or is taken out of the row: row[\"a name\"]. A reference is followed with a dot. `key` and `name` are the record's own."
    )]
    Show(Box<Show>),
    /// What the columns of a table hold: values and how often, range, none, where they point
    #[command(
        after_help = "Examples:\n  stitching fields reaches\n  stitching fields reaches.Depth\n  stitching fields reaches --import notes.md\n  stitching fields reaches --import notes.md --write\n\nA description is found by the field's name: in the first cell of a row, before a colon or a dash, or as a heading."
    )]
    Fields(Fields),
    /// Search keys, names, texts, values and comments of all layers, best first
    #[command(
        after_help = "Examples:\n  stitching find frostgate\n  stitching find frozen november\n  stitching find frostgaet --similar"
    )]
    Find(Find),
    /// Everything that refers to a record
    #[command(
        after_help = "Examples:\n  stitching uses basins:north\n  stitching uses basins:north --deep --depth 3\n  stitching uses --unused\n  stitching uses --unused props"
    )]
    Uses(Uses),
    /// Everything that a record refers to, and what that needs, as a tree
    #[command(after_help = "Example:\n  stitching needs reaches:frost_cut --depth 3")]
    Needs(Needs),
    /// What is not taken yet: the next number, bit, position, colour or name
    #[command(
        after_help = "Examples:\n  stitching free reaches.Landing\n  stitching free reaches.Landing --count 5 --after\n  stitching free berths.Slot --in frost_cut\n  stitching free basins.Colour --near \"#4a7b2c\"\n  stitching free reaches --near frost_cut\n\nThe values come one to a line on standard output, what is known of them on standard error."
    )]
    Free(Free),
    /// Two records side by side, differences first
    #[command(
        after_help = "Examples:\n  stitching compare reaches:frost_cut reaches:old_mill\n  stitching compare reaches:frost_cut --against game\n  stitching compare reaches:frost_cut --against ../other_mod"
    )]
    Compare(Compare),
    /// What the mod changes against the layers below it, by record and field
    #[command(
        after_help = "Examples:\n  stitching diff\n  stitching diff --summary\n  stitching diff --table reaches,goods\n  stitching diff ../game_1.0 ../game_1.1\n\nFROM and TO are layers of the project, other projects, or folders and archives that its schema can read. Without TO it is the project as it is; without FROM all layers below the mod."
    )]
    Diff(Diff),
    /// All problems that the mod has or causes
    #[command(
        after_help = "Examples:\n  stitching check\n  stitching check --by code --limit 20\n  stitching check --changed main --format github\n  stitching check --code missing-text --accept \"translated in spring\"\n\nA note beside a value accepts what is wrong there: # stitching: accept CODE: why\n\nExit status: 0 no errors, 1 errors found, 2 wrong use, 3 could not read."
    )]
    Check(Check),
    /// What a problem code means and how it is put right
    #[command(after_help = "Examples:\n  stitching explain\n  stitching explain dangling-reference")]
    Explain(Explain),
    /// Give a record a new key, everywhere
    #[command(
        after_help = "Examples:\n  stitching rename reaches:frost_cut ice_cut --preview\n  stitching rename offers:\"north wharf/coal\" \"north wharf/peat\"\n  stitching rename reaches --pattern 'frost_{}' 'ice_{}'\n\nThe preview is a diff that `git apply` takes in the project's folder."
    )]
    Rename(Rename),
    /// Give one or many records other values
    #[command(
        after_help = "Examples:\n  stitching set goods:coal Price=14\n  stitching set offers:\"north wharf/coal\".factor=1.5 goods:coal.Price=14\n  stitching set offers --where 'good.Price > 20' 'factor:=factor * 2'\n  stitching set sailings:early Route+=mill@2 Cargo-=coal\n\nValues:\n  FIELD=VALUE        the value; `new` is the next free one of a number or of what must be unique\n  FIELD:=EXPRESSION  what it gives (CEL), in the way the number before was written\n  FIELD+=ITEM[@N]    an item more in a list, at the end, or `@first`, `@3`; also for columns such as Gate1 to Gate4\n  FIELD-=ITEM        an item less\n  FIELD[2]=VALUE     one item\n  FIELD.PART=VALUE   one part of a value\n\nA reference may be given by what its target is called, if only one is called so. Quote what the shell would take apart."
    )]
    Set(Set),
    /// Add records, written as their neighbours are
    #[command(
        after_help = "Examples:\n  stitching add goods coke Weight=9 Price=6 --name Coke\n  stitching add berths frost_cut/3 --like frost_cut/1 Barge=lighter\n  stitching add texts tip_ice en=\"Ice is slow\" de=\"Eis ist langsam\"\n  stitching add goods --missing Price=1\n\nFields that follow from the key are filled in. A record goes behind those of its group, or in the order of the keys where the file is in order. FIELD=VALUE is as for `set`.\n\nOf a folder (with `/` at its end) all files are copied; where its name is a word by itself in them, in their names or in keys of their records, the copies have the new one."
    )]
    Add(Add),
    /// Copy a record with all that belongs to it, under a new name
    #[command(
        after_help = "Examples:\n  stitching copy reaches:frost_cut ice_cut --name \"Ice Cut\"\n  stitching copy berths:frost_cut/1 frost_cut/new Barge=scow\n  stitching copy goods:coal coke Price=6 --join all\n  stitching copy reaches:old_mill old_weir --from game\n  stitching copy barges:punt punt --from ../other_mod --with-needed\n  stitching copy sites/empty_basin/ sites/ice_basin/\n\nWith a record come what lies inside it, records that belong to it, and the texts and files that carry its key. What refers to the original goes on doing so. Notes for people are left empty, and what no two records may have alike is the next free one. FIELD=VALUE is as for `set`. From elsewhere (`--from`) come also the files and texts that it names and this project lacks; what is here already stays."
    )]
    Copy(Copy),
    /// Remove records with all that belongs to them
    #[command(
        after_help = "Examples:\n  stitching remove barges:scow --preview\n  stitching remove reaches:frost_cut --detach\n  stitching remove goods:ice_block --keep offers\n\nWith a record go what lies inside it, records whose whole key refers to it, those that the schema says belong to it (`owner`, `on_remove`), and texts and files that only they name. What else refers to it keeps it from being removed."
    )]
    Remove(Remove),
    /// Give the numbers of a field anew: close gaps, open a place, sort, move a block; references follow
    #[command(
        after_help = "Examples:\n  stitching renumber reaches.Landing\n  stitching renumber berths.Slot --in frost_cut --open 2\n  stitching renumber reaches.Landing --sort Depth --preview\n  stitching renumber reaches.Landing --move 34..36 --to 50\n\nWithout an option gaps are closed. What stands for nothing stays."
    )]
    Renumber(Renumber),
    /// Make the fixes that problems offer
    #[command(
        after_help = "Examples:\n  stitching fix\n  stitching fix dangling-reference --preview\n  stitching fix tables/reaches.txt:12\n\nWithout a code or a place only fixes that are sure to be right are made; the others are counted."
    )]
    Fix(Fix),
    /// Run a named change of the schema, or list them
    #[command(
        after_help = "Examples:\n  stitching recipe\n  stitching recipe side-canal from=frost_cut key=rime_cut title='Rime Cut' --preview\n  stitching recipe side-canal --from-history 3 5\n\nA recipe is written in the schema as [[recipe]]. On a terminal it asks for what is not given. `--from-history` prints a draft of one from changes that were made by hand."
    )]
    Recipe(Recipe),
    /// Check after each save, and tell what came and what went
    #[command(
        after_help = "Examples:\n  stitching watch\n  stitching watch --format json\n\nIt ends with Ctrl-C. A file that is half written is looked at again before anything is told."
    )]
    Watch(Watch),
    /// What there is of texts in each language, what is wrong with them; files for translators out and in
    #[command(
        after_help = "Examples:\n  stitching text\n  stitching text missing --language de\n  stitching text --export de.po --language de\n  stitching text --import de.po\n  stitching text --stubs de --preview\n\nFiles for translators are PO (.po) or XLIFF 2.1 (.xlf, .xliff). Exporting onto a file that is there keeps the translator's notes and translations, and marks texts that changed since."
    )]
    Text(TextArgs),
    /// Make records of one table as those of another say, by a mapping of the schema, or list the mappings
    #[command(
        after_help = "Examples:\n  stitching transfer\n  stitching transfer looks --preview\n\nA transfer is written in the schema as [[transfer]]. Values are compared by what they mean, so that what is the same stays as it is written, and a second run changes nothing."
    )]
    Transfer(Transfer),
    /// Put right what follows from the rest: computed fields, derived and paired files
    #[command(
        after_help = "Examples:\n  stitching refresh --preview\n  stitching refresh\n\nThe schema says what follows: [[computed]] fields, [[derived]] files (stale ones are known by their times), [[paired]] files (the first leads). Every other command that changes files keeps in step what follows from what it changes."
    )]
    Refresh(Refresh),
    /// Switch an entry off, or list what is off
    #[command(
        after_help = "Examples:\n  stitching off\n  stitching off offers:north/coal\n  stitching off barges:scow.crew\n  stitching off layouts:frost_cut.needs[*]=lamp\n  stitching off scripts/load.list:3\n\nAn entry becomes a note in the format's own syntax. Where there is none that fits, it is taken out of the file and kept in `.stitching/off.json`. `stitching on` brings it back to the byte."
    )]
    Off(Off),
    /// Switch an entry on again
    #[command(after_help = "Example:\n  stitching on offers:north/coal")]
    On(On),
    /// List the changes made
    #[command(after_help = "Examples:\n  stitching history\n  stitching history --save 3 dearer-coal.toml")]
    History(History),
    /// Take back the last change, or an older one
    #[command(
        after_help = "Examples:\n  stitching undo\n  stitching undo --leave-changed\n  stitching undo 3 --preview\n\nAn older change is taken back record by record, as a change of its own, where no later one touched the same fields."
    )]
    Undo(Undo),
    /// Make a change that was saved elsewhere, record by record
    #[command(
        after_help = "Examples:\n  stitching apply dearer-coal.toml --preview\n  stitching apply dearer-coal.toml --take theirs\n\nWhat holds neither what was there before nor what is to be is named with all three, and nothing is done unless `--take` says which counts."
    )]
    Apply(Apply),
    /// Make the change that was undone again
    #[command(after_help = "Example:\n  stitching redo")]
    Redo(Turning),
}

#[derive(Debug, Args)]
pub struct Demo {
    /// The folder to write; it must not exist yet
    #[arg(default_value = "slackwater", value_name = "DIR")]
    pub dir: PathBuf,
}

#[derive(Debug, Args)]
pub struct Init {
    /// A layer below the mod, a folder or an archive; several are given lowest first
    #[arg(long, value_name = "PATH")]
    pub base: Vec<PathBuf>,
}

#[derive(Debug, Args, Default)]
pub struct Learn {
    /// Only what is proposed for this table; or the number of one proposal, to see all of it
    #[arg(value_name = "TABLE|N")]
    pub table: Option<String>,
    /// Also what is hardly more than a coincidence
    #[arg(long)]
    pub all: bool,
    /// Add what is marked `accept` to the schema
    #[arg(long)]
    pub write: bool,
    /// Add the proposals of these numbers to the schema
    #[arg(long, value_delimiter = ',', value_name = "N,...")]
    pub accept: Vec<usize>,
    /// What nearly all records obey, and the few that do not; with `--accept` it becomes rules of the schema
    #[arg(long, conflicts_with_all = ["write", "all", "no", "key"])]
    pub rules: bool,
    /// Never propose these again: a note in the schema says so
    #[arg(long, value_delimiter = ',', value_name = "N,...", conflicts_with_all = ["table", "accept", "write", "all"])]
    pub no: Vec<usize>,
    /// Give a table of the schema another key: a field, several with commas, or none (`boats=`)
    #[arg(long, value_name = "TABLE=FIELD,...", conflicts_with_all = ["table", "accept", "write", "no", "all", "through"])]
    pub key: Option<String>,
    /// Give a table another name, wherever the schema and the project name it
    #[arg(long, value_name = "OLD=NEW", conflicts_with_all = CORRECTED_ALONE)]
    pub rename: Option<String>,
    /// Make two tables one: the records of the second are records of the first
    #[arg(long, value_delimiter = ',', value_name = "TABLE,OTHER", conflicts_with_all = CORRECTED_ALONE)]
    pub join: Vec<String>,
    /// Make the files of a pattern a table of their own
    #[arg(long, value_name = "TABLE=NEW:PATTERN", conflicts_with_all = CORRECTED_ALONE)]
    pub split: Option<String>,
    #[command(flatten)]
    pub through: Through,
}

/// What a correction of a table does not go with.
const CORRECTED_ALONE: [&str; 8] = ["table", "accept", "write", "no", "all", "rules", "key", "through"];

#[derive(Debug, Args)]
pub struct Tables {
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Args)]
pub struct Show {
    /// A table, or the address of a record
    #[arg(value_name = "TABLE[:KEY]")]
    pub what: String,
    /// Only these columns, in this order: names, patterns, or what a reference leads to (`good.price`)
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub columns: Vec<String>,
    /// Only rows for which this expression (CEL) holds
    #[arg(long = "where", value_name = "EXPR")]
    pub condition: Option<String>,
    /// Only rows that have this text somewhere in the shown columns
    #[arg(long, value_name = "TEXT")]
    pub filter: Option<String>,
    /// A further column, computed by an expression (CEL); may be given several times
    #[arg(long, value_name = "NAME = EXPR")]
    pub with: Vec<String>,
    /// In the order of this column: by number if its values are numbers
    #[arg(long, value_name = "NAME")]
    pub sort: Option<String>,
    /// The other way round
    #[arg(long)]
    pub reverse: bool,
    /// Put rows with the same values in these columns together, and count them
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub group: Vec<String>,
    /// Only how many rows there are
    #[arg(long)]
    pub count: bool,
    /// The sum of these columns, of all rows or of each group
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub sum: Vec<String>,
    /// The mean of these columns
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub mean: Vec<String>,
    /// The lowest number of these columns
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub lowest: Vec<String>,
    /// The highest number of these columns
    #[arg(long, value_delimiter = ',', value_name = "NAME,...")]
    pub highest: Vec<String>,
    /// Each record as a column, each field as a line
    #[arg(long)]
    pub transposed: bool,
    /// Also where each row stands: its place, and its number within its file
    #[arg(long)]
    pub positions: bool,
    /// The first row shown, 1-based
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub from: usize,
    /// The last row shown
    #[arg(long, value_name = "N")]
    pub to: Option<usize>,
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Args)]
pub struct Fields {
    /// A table, or one of its fields
    #[arg(value_name = "TABLE[.FIELD]")]
    pub what: String,
    /// Look in a text, a table or a Markdown file for what the fields mean
    #[arg(long, value_name = "FILE")]
    pub import: Option<PathBuf>,
    /// Add the descriptions that were found to the schema
    #[arg(long, requires = "import")]
    pub write: bool,
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Args)]
pub struct Find {
    /// Words that must all be there, in any case
    #[arg(required = true)]
    pub text: Vec<String>,
    /// How many hits are shown
    #[arg(long, value_name = "N", default_value_t = 30)]
    pub most: usize,
    /// Also what is only like the words: a letter or two wrong
    #[arg(long)]
    pub similar: bool,
    #[command(flatten)]
    pub through: Through,
}

impl Uses {
    /// What refers to the record at `address`.
    pub fn of(address: &str) -> Uses {
        Uses { address: Some(address.to_owned()), ..Uses::default() }
    }
}

#[derive(Debug, Args, Default)]
pub struct Uses {
    /// The address of a record; with --unused a table
    #[arg(value_name = "TABLE:KEY", required_unless_present = "unused")]
    pub address: Option<String>,
    /// Also what refers to those, and so on, as a tree
    #[arg(long)]
    pub deep: bool,
    #[command(flatten)]
    pub tree: Branches,
    /// The records that nothing refers to; of one table, or of all
    #[arg(long, conflicts_with = "deep")]
    pub unused: bool,
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Args)]
pub struct Needs {
    /// The address of a record
    #[arg(value_name = "TABLE:KEY")]
    pub address: String,
    #[command(flatten)]
    pub tree: Branches,
    #[command(flatten)]
    pub through: Through,
}

/// Where trees are cut.
#[derive(Debug, Args, Default)]
pub struct Branches {
    /// After how many steps the tree is cut
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub depth: usize,
    /// How many records are shown below each
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub most: usize,
}

#[derive(Debug, Args)]
pub struct Free {
    /// A table, for its key, or one of its fields
    #[arg(value_name = "TABLE[.FIELD]")]
    pub what: String,
    /// How many
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub count: usize,
    /// Near this number or colour, or like this name
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub near: Option<String>,
    /// After the highest, not in a gap
    #[arg(long)]
    pub after: bool,
    /// For positions: the rest of the key, such as `frost_cut`; else all groups are told
    #[arg(long = "in", value_name = "GROUP")]
    pub group: Option<String>,
    /// Only numbers from the first to the last; else those reserved in stitching.toml, else the field's range
    #[arg(long, value_name = "FIRST..LAST", allow_hyphen_values = true)]
    pub block: Option<String>,
    /// What the field is taken for; else its values tell
    #[arg(long = "as", value_enum, value_name = "KIND")]
    pub kind: Option<Kind>,
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Kind {
    /// A whole number
    Number,
    /// A power of two
    Bit,
    /// A number among the records that share the rest of the key
    Position,
    /// A colour far enough from the others to be told apart
    Colour,
    /// A name
    Name,
}

#[derive(Debug, Args)]
pub struct Compare {
    /// The address of a record
    #[arg(value_name = "TABLE:KEY")]
    pub one: String,
    /// The address of the other; the same if it is left out
    #[arg(value_name = "TABLE:KEY")]
    pub other: Option<String>,
    /// Where the other is: a layer, as if the layers ended with it, or another project or folder
    #[arg(long, value_name = "LAYER|DIR")]
    pub against: Option<String>,
    #[command(flatten)]
    pub through: Through,
}

#[derive(Debug, Args)]
pub struct Diff {
    /// The first state
    #[arg(value_name = "FROM")]
    pub from: Option<String>,
    /// The second
    #[arg(value_name = "TO")]
    pub to: Option<String>,
    /// Only these tables
    #[arg(long = "table", value_delimiter = ',', value_name = "TABLE,...")]
    pub tables: Vec<String>,
    /// Only how many records of each table differ
    #[arg(long)]
    pub summary: bool,
}

#[derive(Debug, Default, Args)]
pub struct Check {
    /// Also the problems that the base has by itself
    #[arg(long)]
    pub all: bool,
    /// Only problems of these codes, or of these rules of the schema
    #[arg(long = "code", value_delimiter = ',', value_name = "CODE,...")]
    pub codes: Vec<String>,
    /// Put problems together, those with most errors first, a line for each
    #[arg(long, value_enum, value_name = "WHAT")]
    pub by: Option<GroupBy>,
    /// Show no more than so many; 0 for all. On a terminal 100
    #[arg(long, value_name = "NUMBER")]
    pub limit: Option<usize>,
    /// Only problems in files that git tells to have changed since a revision
    #[arg(long, value_name = "REVISION", num_args = 0..=1, default_missing_value = "HEAD")]
    pub changed: Option<String>,
    /// Only problems that the last check did not find
    #[arg(long)]
    pub since_last: bool,
    /// Live with the problems shown: write them to accepted.toml, with the reason
    #[arg(long, value_name = "REASON", conflicts_with_all = ["by", "limit", "all"])]
    pub accept: Option<String>,
    /// Put each line of the game's log that speaks of the data beside its record, and what is wrong there; `-` reads it from
    /// standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["changed", "since_last", "accept", "schema", "by", "limit", "all", "codes"])]
    pub log: Option<std::path::PathBuf>,
    /// Check the schema itself: its rules against their examples, and which rules are about no record
    #[arg(long, conflicts_with_all = ["changed", "since_last", "accept"])]
    pub schema: bool,
    #[command(flatten)]
    pub through: Through,
}

/// What problems are put together by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum GroupBy {
    /// The file they are in
    File,
    /// Their code, or the rule
    Code,
    /// The record they are about
    Record,
}

#[derive(Debug, Args)]
pub struct Explain {
    /// The code of a problem, or the name of a rule of the schema; without it all are listed
    pub code: Option<String>,
}

#[derive(Debug, Args)]
pub struct Watch {
    /// Look at the files again and again, where the system does not tell of changes (some network folders)
    #[arg(long)]
    pub poll: bool,
}
