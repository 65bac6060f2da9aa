//! The settings of the project file and the schema: one list for reading, nearest names, the
//! documentation and the JSON Schema that editors use.

use crate::formats::KINDS;
use crate::settings::{Setting, setting};

/// A section, as its heading is written, and its settings.
pub type Section = (&'static str, &'static [Setting]);

pub(crate) const PROJECT_TOP: &[Setting] = &[
    setting("project", "object", "The project itself."),
    setting("layer", "array", "The layers, lowest first; only the last is ever written."),
    setting("languages", "object", "The languages that texts must exist in."),
    setting(
        "reserved",
        "object",
        "What is set aside for this mod: by `\"table.field\"` a list of the first and the last number, or by `\"table\"` or `\"table.field\"` how names begin. Free numbers are looked for in them, and what the mod adds elsewhere is told.",
    ),
    setting("severity", "object", SEVERITIES),
];

pub(crate) const PROJECT: &[Setting] = &[
    setting("name", "string", "The name of the mod."),
    setting("schema", "string|array", "The schema files, relative to this file."),
];

pub(crate) const LAYER: &[Setting] = &[
    setting("name", "string", "The name under which the layer is shown."),
    setting("path", "string", "The layer's folder or zip archive, relative to this file."),
    setting(
        "archives",
        "string|array",
        "Which of its files are zip archives whose entries count as files too; by default \"**/*.zip\".",
    ),
];

pub(crate) const LANGUAGES: &[Setting] = &[
    setting("main", "string", "The language in which names are shown, such as \"en\"."),
    setting("others", "string|array", "The other languages of the mod."),
];

pub(crate) const SCHEMA_TOP: &[Setting] = &[
    setting("table", "object", "The tables, by name."),
    setting("companion", "array", "What goes with each record of a table: a text, a file, a folder."),
    setting(
        "computed",
        "array",
        "Fields whose values follow from others, and are kept right with each change.",
    ),
    setting("derived", "array", "Files that are made from others, and are stale once these change."),
    setting("paired", "array", "Files that must be equal."),
    setting("asset", "array", "Files that are there for records: one that none names is told."),
    setting("recipe", "array", "Named changes with parameters."),
    setting("transfer", "array", "How records of one table become records of another."),
    setting("rule", "array", "What must hold of the records of a table."),
    setting("log", "array", "What the game writes into its log about records."),
    setting("severity", "object", SEVERITIES),
];

pub(crate) const LOG: &[Setting] = &[
    setting(
        "pattern",
        "string",
        "A regular expression for lines of the log; its groups `file`, `line`, `key` and `name` tell what a line is about.",
    ),
    setting("table", "string", "The table of the record that `key` and `name` speak of."),
];

/// What `[severity]` says.
const SEVERITIES: &str = "How much problems matter, by the code of the check or the name of the rule: \"error\", \"warning\", \"off\"; or a list of { severity = \"off\", table = \"goods\" }, of which the first that fits counts.";

pub(crate) const SEVERITY: &[Setting] = &[
    setting("severity", "string", "\"error\", \"warning\" or \"off\"."),
    setting("table", "string", "Only of records of this table."),
    setting("files", "string", "Only in files with this pattern."),
];

/// A rule of the game.
pub(crate) const GAME_RULE: &[Setting] = &[
    setting("name", "string", "Its name: one word, by which it is explained and silenced."),
    setting("table", "string", "The table of its records."),
    setting("about", "string", "Why the game minds, for people."),
    setting("when", "string", "The condition (CEL) that a record meets for the rule to be about it."),
    setting(
        "by",
        "string|array",
        "The fields whose values are the same in records that are held together, as `group`; [] for all records of the table.",
    ),
    setting(
        "assert",
        "string",
        "The condition (CEL) that must hold for each record, or for the records held together.",
    ),
    setting("unique", "string|array", "No two records have the same values in all of these fields."),
    setting(
        "sequence",
        "string",
        "The numbers in this field are those from `first` on, each once, without a gap.",
    ),
    setting("first", "integer", "The lowest number of `sequence`; by default 1."),
    setting(
        "ascending",
        "string",
        "The values of this field do not fall from one record to the next in a file.",
    ),
    setting("acyclic", "string", "The references in this field lead in no circle."),
    setting("reachable", "string", "Each record is reached through this field, from those that meet `from`."),
    setting("from", "string", "The condition (CEL) of the records from which all are `reachable`."),
    setting(
        "mutual",
        "string|array",
        "A record that another one names in this field names that one too: in the same field, or in the second.",
    ),
    setting(
        "apart",
        "string|array",
        "The positions in these fields (two or three numbers, or one list of them) are not the same.",
    ),
    setting("distance", "number", "The positions of `apart` are no nearer than this."),
    setting(
        "at_once",
        "string",
        "The amounts in this field, of records that run at the same time, are no more than `most` together.",
    ),
    setting(
        "waits",
        "string",
        "The field with the records of the same table that one of `at_once` waits for.",
    ),
    setting("most", "number", "The most that `at_once` allows."),
    setting(
        "unlike",
        "string|array",
        "The values of these fields differ in more than case, blanks, signs and letters that look the same.",
    ),
    setting(
        "message",
        "string",
        "What is said where it does not hold; expressions (CEL) over the record stand in braces: \"{Reach} is {Depth} deep\".",
    ),
    setting("help", "string", "What to do then, for people."),
    setting("severity", "string", "\"error\", which is the default, or \"warning\"."),
    setting("at", "string", "The field at which it is shown; by default the first that the condition names."),
    setting(
        "fix",
        "string",
        "The expression (CEL) that gives what the field at which it is shown should hold.",
    ),
    setting(
        "good",
        "array",
        "Records that meet the rule, by their fields, to try it on: [{ Depth = 5 }]; records held together stand in a list of their own.",
    ),
    setting("bad", "array", "Records that do not meet the rule."),
];

pub(crate) const TRANSFER: &[Setting] = &[
    setting("name", "string", "Its name."),
    setting("about", "string", "What it does, for people."),
    setting("from", "string", "The table that the records come from."),
    setting("where", "string", "The condition (CEL) that they meet."),
    setting("to", "string", "The table that they go to."),
    setting(
        "key",
        "string|array",
        "The expressions (CEL, over a record of `from`) that give the key there, one for each part.",
    ),
    setting(
        "set",
        "object",
        "The fields there, and for each an expression, or { value = \"x / 10\", digits = 2 }, which rounds a number.",
    ),
    setting(
        "among",
        "string",
        "The condition (CEL, over a record of `to`) that limits which records there are looked at.",
    ),
    setting("remove", "boolean", "Records there that none come to are removed."),
    setting(
        "in_step",
        "boolean",
        "It is done with each change that touches the table that the records come from.",
    ),
];

pub(crate) const TRANSFER_FIELD: &[Setting] = &[
    setting("value", "string", "The expression (CEL) that gives the value."),
    setting("digits", "number", "To how many digits behind the point a number is rounded."),
];

pub(crate) const RECIPE: &[Setting] = &[
    setting("name", "string", "Its name: one word."),
    setting("about", "string", "What it does, for people."),
    setting("parameter", "array", "What is asked for: tables headed [[recipe.parameter]]."),
    setting(
        "step",
        "array",
        "What is done, in order: tables headed [[recipe.step]], each with one of `set`, `add`, `copy`, `remove`, `rename`, `renumber`, `let`. Texts in them may have the names of parameters in braces.",
    ),
];

pub(crate) const PARAMETER: &[Setting] = &[
    setting("name", "string", "Its name: letters, digits and `_`."),
    setting("about", "string", "What it is, for people."),
    setting("table", "string", "It is the key of a record of this table."),
    setting("choice", "array", "It is one of these."),
    setting("type", "string", "\"text\", which is the default, \"integer\" or \"number\"."),
    setting(
        "default",
        "string|number",
        "What it is if nothing is given; may have the parameters before it in braces.",
    ),
];

pub(crate) const EACH: &[Setting] = &[
    setting("name", "string", "The name that takes each value in turn."),
    setting("values", "string|array", "The values; \"1..4\" stands for the numbers from 1 to 4."),
    setting("table", "string", "The table of whose records it takes the keys."),
    setting("where", "string", "The condition (CEL) that these records meet."),
];

/// What every step of a recipe may say.
const STEP: &[Setting] = &[
    setting("when", "string", "The condition (CEL) under which the step is done."),
    setting("record", "string", "The address of the record that `when` and `value` are about."),
    setting("each", "object", "What the step is repeated for."),
];

/// What a step of a recipe may say, by what it does; the first of each names it.
const STEPS: [&[Setting]; 7] = [
    &[
        setting("set", "string|array", "Gives these records other values: addresses, or a table."),
        VALUES,
        setting("where", "string", "Of a table: the condition (CEL) that its records meet."),
        setting("all", "boolean", "Of a table: all of its records are meant."),
    ],
    &[
        setting("add", "string", "Adds records to this table."),
        setting("keys", "string|array", "Their keys."),
        VALUES,
        setting("like", "string", "The key of a record that they are like in all that is not given."),
        AFTER,
        NAME,
    ],
    &[
        setting("copy", "string", "Copies the record at this address with all that belongs to it."),
        TO,
        VALUES,
        NAME,
        setting(
            "join",
            "string|array",
            "Which lists get the copy: \"all\", \"none\", or those of these fields.",
        ),
        setting("without", "string|array", "The tables of which nothing comes along."),
        setting(
            "from",
            "string",
            "The layer, project, folder or archive that the original is in, if elsewhere.",
        ),
        setting(
            "with_needed",
            "boolean",
            "Whether records that it refers to come along where the project lacks them.",
        ),
        AFTER,
    ],
    &[
        setting(
            "remove",
            "string|array",
            "Removes the records at these addresses with all that belongs to them.",
        ),
        setting("detach", "boolean", "What refers to them loses the reference."),
        setting("cascade", "boolean", "The records that refer to them go too."),
        setting("with_unused", "boolean", "What only they needed goes too."),
    ],
    &[setting("rename", "string", "Gives the record at this address another key, everywhere."), TO],
    &[
        setting("renumber", "string", "Closes the gaps in the numbers of this field."),
        setting("in", "string", "Only in this group, where the field is the last part of the key."),
        setting("open", "string|number", "Makes this number free in place of closing gaps."),
    ],
    &[
        setting("let", "string", "Works out a value, which later steps know by this name."),
        setting("value", "string", "The expression (CEL) that gives it."),
    ],
];

const VALUES: Setting =
    setting("values", "string|array", "What they hold: \"FIELD=VALUE\", as for the command.");
const AFTER: Setting = setting("after", "string", "The key of the record that it goes behind.");
const NAME: Setting = setting("name", "string", "How it is called in the main language.");
const TO: Setting = setting("to", "string", "The new key.");

/// What a step of a recipe that does `action` may say.
pub(crate) fn step(action: &str) -> Vec<Setting> {
    let own = STEPS.iter().find(|settings| settings[0].name == action).copied().unwrap_or_default();
    [own, STEP].concat()
}

/// What steps of a recipe may say, each setting once.
pub(crate) fn all_steps() -> Vec<Setting> {
    let mut out: Vec<Setting> = Vec::new();
    for setting in STEPS.iter().copied().flatten().chain(STEP) {
        if !out.iter().any(|own| own.name == setting.name) {
            out.push(*setting);
        }
    }
    out
}

pub(crate) const COMPUTED: &[Setting] = &[
    setting("field", "string", "The field, with its table: \"TABLE.FIELD\"."),
    setting("record", "string", "The key of the one record that is meant; by default all of the table."),
    setting("when", "string", "A condition (CEL) that a record must meet; others are left alone."),
    setting(
        "value",
        "string",
        "An expression (CEL) over the fields of the record, such as \"count(berths, b, b.Reach == Reach)\"; where it gives nothing, the field is left alone.",
    ),
];

pub(crate) const DERIVED: &[Setting] = &[
    setting("files", "string", "The files that are made: a path with `*`, `**` and named parts in braces."),
    setting(
        "from",
        "string|array",
        "What they are made from: paths alike. A part that both have must have the same text.",
    ),
    setting(
        "when_changed",
        "string",
        "What becomes of them when one of those changes: \"delete\", \"empty\", or \"report\" (they stay, and it is told), which is the default.",
    ),
    setting(
        "required",
        "boolean",
        "Each must be there for which its name can be made from one of those that it is made from.",
    ),
];

pub(crate) const ASSET: &[Setting] = &[setting(
    "files",
    "string|array",
    "The files that some value names, or that go with a record: paths with `*`, `**` and named parts in braces.",
)];

pub(crate) const PAIRED: &[Setting] = &[setting(
    "files",
    "array",
    "The paths of two or more files, from a layer's root; the first leads where none of them was changed.",
)];

pub(crate) const COMPANION: &[Setting] = &[
    setting("table", "string", "The table whose records it goes with."),
    setting(
        "text",
        "string",
        "A text: a template of its key, with `{key}` for the key of the record, or the fields of the key by name: \"{key|upper}_DESC\".",
    ),
    setting("file", "string", "A file: a template of its path, such as \"layouts/{key}.json\"."),
    setting("folder", "string", "A folder with all that is in it, such as \"sites/{key}/\"."),
    setting("required", "boolean", "Each record must have it."),
];

pub(crate) const TABLE: &[Setting] = &[
    setting("about", "string", "What its records are, for people."),
    setting(
        "files",
        "string|array",
        "Which files hold its records: paths from a layer's root, with `*`, `**`, `{lang}` for a language, and other names in braces for parts that may belong to the key.",
    ),
    setting("format", "object|string", "How the files are laid out."),
    setting(
        "encoding",
        "string",
        "What the files are written in, such as \"windows-1250\" or \"utf-16le\"; by default it is recognised.",
    ),
    setting(
        "key",
        "string|array",
        "What names a record: a field, several, `{stem}` or `{path}` for the file's name, `{basin}` for a part of `files`, `{member}` for a JSON member, `{position}` for its place in the file. Without a key nothing can refer to the records.",
    ),
    setting("repeated", "boolean", "Several records may have one key."),
    setting("first", "integer", "What `{position}` is for the first record: 1 (the default) or 0."),
    setting("label", "string", "The field that names a record for people."),
    setting(
        "texts",
        "boolean|string|object",
        "Makes it a table of texts: the field that holds the text, or a field for each language.",
    ),
    setting(
        "layering",
        "string",
        "\"replace\" (the default): the topmost layer's file counts alone; \"merge\": the files of all layers count together, and a higher one overrides single fields.",
    ),
    setting(
        "replaces",
        "string",
        "With layering = \"merge\": a regular expression; a file in which it is found replaces those below all the same.",
    ),
    setting(
        "adds",
        "string",
        "With layering = \"merge\": a regular expression; only a file in which it is found counts together with those below, any other replaces them.",
    ),
    setting(
        "language",
        "string",
        "For a table of texts: the field that names the language of each record, where the path does not.",
    ),
    setting(
        "languages",
        "object",
        "What that field calls the project's languages: { german = \"de\" }; by default their codes.",
    ),
    setting(
        "byte_order_mark",
        "string",
        "\"required\" or \"forbidden\": whether the files must begin with a byte order mark.",
    ),
    setting(
        "line_ends",
        "string",
        "How the lines of the files end: \"lf\", \"crlf\", or \"alike\" if it must only be the same in all lines of a file.",
    ),
    setting("closed", "boolean", "A name in a record, or a column, that no field stands for is a problem."),
    setting(
        "forbid",
        "string|array",
        "What the game stumbles over in the files: \"tab\", \"trailing-blank\", \"empty-line\", \"no-last-line-end\".",
    ),
    setting(
        "letters",
        "string",
        "For a table of texts: the letters that the game's font has, as between the brackets of a regular expression: \"A-Za-z0-9 .,!?\".",
    ),
    setting("ignore_case", "boolean", "Keys that differ only in upper and lower case are the same."),
    setting(
        "by_use",
        "string|array",
        "Instead of `files`: the fields whose values are its names, where nothing declares them: [\"crews.SetsMood\", \"convoys.Mood\"].",
    ),
    setting("fields", "object", "The fields, by name."),
];

pub(crate) const FIELD: &[Setting] = &[
    setting(
        "at",
        "string|array",
        "The column or path that it stands for, if it has another name here: \"../@name\"; of several the first that is there.",
    ),
    setting("about", "string", "What it means, for people."),
    setting("unit", "string", "The unit of its numbers, for people."),
    setting(
        "list",
        "string|array",
        "What separates the items, if the value is a list; of several texts any one.",
    ),
    setting(
        "quoted",
        "boolean",
        "Items of the list may stand in double quotes, in which separators are text.",
    ),
    setting("counted", "boolean", "The first item of the list is the number of those that follow."),
    setting(
        "find",
        "string",
        "A regular expression that finds parts in a longer text, each a named group: 'open (?<lock>\\w+)'. Each group may have a rule of its own under its name.",
    ),
    setting(
        "parts",
        "string",
        "A template that takes the value (or item) apart; each part may have a rule of its own under its name.",
    ),
    setting(
        "follows",
        "string",
        "How the value is made from the record's key: \"{key}\" or \"{key}_name\". Renaming rewrites it.",
    ),
    setting(
        "inherit",
        "boolean",
        "It names a record from which this one takes what it does not have itself.",
    ),
    setting("note", "boolean", "It is a note for people that the game does not read."),
    setting("optional", "boolean", "Not all files have this column, and perhaps no record this field."),
];

pub(crate) const RULE: &[Setting] = &[
    setting("type", "string", "text, integer, number or boolean."),
    setting(
        "ref",
        "string|array|object",
        "The table whose key it names, or `table.field`; of several, any one. With `by`, a table or several for each value of that field.",
    ),
    setting(
        "by",
        "string",
        "The field, or the other part of the same value, that tells which of the tables in `ref` is meant.",
    ),
    setting("as", "string", "How the key that it names is made from the value: \"_{}\"."),
    setting(
        "with",
        "array",
        "The parts of the key that it names, if that has several: fields of this record, other parts of the same value, \"{stem}\" or \"{path}\" for its file, and \"{}\" for the value.",
    ),
    setting(
        "when",
        "object|string",
        "The rule holds only where another field has a certain value, { Kind = [\"gate\", \"lift\"] }, or a condition holds: \"Kind == 'gate' && Depth > 5\".",
    ),
    setting("none", "string|number|array", "Values that mean \"nothing\"."),
    setting(
        "none_pattern",
        "string",
        "A regular expression; a value that matches it as a whole means \"nothing\".",
    ),
    setting(
        "also",
        "object|array",
        "Further rules that must hold for the same value: { ref = \"guilds\", as = \"g_{}\" }, or several of them.",
    ),
    setting("ignore_case", "boolean", "The key that it names may be written in upper or lower case."),
    setting(
        "text",
        "boolean|string",
        "It is a text key; or a template that makes the text key: \"name_{}\".",
    ),
    setting(
        "file",
        "string",
        "It names a file: a template of its path, such as \"layouts/{}.json\". Other fields of the record may stand in it by name, and `{folder}` for the folder of the record's own file: \"{folder}/{}\".",
    ),
    setting("range", "array", "The lowest and the highest number allowed."),
    setting(
        "flags",
        "array",
        "The flags that a whole number is the sum of: [1, 2, 4], or [0x01, 0x02, 0x04]. A bit in none of them is a problem.",
    ),
    setting("choice", "array", "The values allowed."),
    setting("pattern", "string", "A regular expression that the whole value must match."),
    setting(
        "longest",
        "integer",
        "How many characters it may have at most; of a text key, the text in each language.",
    ),
    setting("unique", "boolean", "No two records may have the same value."),
    setting("required", "boolean", "It may not be empty or none."),
    setting(
        "owner",
        "boolean",
        "The record belongs to the one that it refers to here: it is copied, renamed and removed with it.",
    ),
    setting(
        "on_remove",
        "string",
        "What becomes of the reference when its target is removed: \"record\" (the whole record goes), \"item\" (it goes out of its list), \"none\" (it becomes a none value), \"report\" (it stays and is told). By default it keeps the target from being removed.",
    ),
];

/// The sections of `stitching.toml`.
pub const PROJECT_SECTIONS: &[Section] =
    &[("[project]", PROJECT), ("[[layer]]", LAYER), ("[languages]", LANGUAGES)];

/// The sections of a schema file, with the heading of each.
pub fn schema_sections() -> Vec<(String, &'static [Setting])> {
    let mut sections = vec![("[table.NAME]".to_owned(), TABLE)];
    sections
        .extend(KINDS.iter().map(|kind| (format!("format = {{ kind = \"{}\" }}", kind.name), kind.settings)));
    sections.push(("[table.NAME.fields]".to_owned(), FIELD));
    sections.push(("rules of a field, or of a part".to_owned(), RULE));
    sections.push(("[[companion]]".to_owned(), COMPANION));
    sections.push(("[[computed]]".to_owned(), COMPUTED));
    sections.push(("[[derived]]".to_owned(), DERIVED));
    sections.push(("[[paired]]".to_owned(), PAIRED));
    sections.push(("[[asset]]".to_owned(), ASSET));
    sections.push(("[[rule]]".to_owned(), GAME_RULE));
    sections.push(("an entry of [severity]".to_owned(), SEVERITY));
    sections.push(("[[log]]".to_owned(), LOG));
    sections.push(("[[transfer]]".to_owned(), TRANSFER));
    sections.push(("a field in `set` of a transfer".to_owned(), TRANSFER_FIELD));
    sections.push(("[[recipe]]".to_owned(), RECIPE));
    sections.push(("[[recipe.parameter]]".to_owned(), PARAMETER));
    sections.extend(STEPS.iter().map(|step| (format!("[[recipe.step]] with `{}`", step[0].name), *step)));
    sections.push(("[[recipe.step]]".to_owned(), STEP));
    sections.push(("`each` of a step".to_owned(), EACH));
    sections
}
