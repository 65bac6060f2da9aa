//! Learning a game's data from the data: which tables there are, what names their records, what points
//! where, which values stand for "nothing".
//!
//! The way: `candidates` finds files that hold like records; `profile` reads them once and counts what
//! each column holds; `keys` chooses what names the records; `references` looks each value up among the
//! keys of all tables. The result is a list of [`Proposal`]s, each with its evidence and a [`Band`]. The
//! cost grows with the size of the data and the number of columns, not with pairs of columns.

mod block_scripts;
mod candidate_names;
mod candidates;
mod checked_values;
mod companion_texts;
mod companions;
mod computed;
mod copies;
mod corrections;
mod documentation;
mod file_part;
mod indented_blocks;
mod interpretations;
mod joined_names;
mod key_derived;
mod keys;
mod kinds;
mod languages;
mod line_shapes;
mod links;
mod names;
mod nested_tables;
mod obeyed;
mod path_links;
mod profile;
mod proposal;
mod recognise;
mod references;
mod relative_files;
mod root_elements;
mod rows;
mod section_values;
mod sections;
mod shapes;
mod siblings;
mod start;
mod table_edits;
mod tables;
mod targets;
mod trial;
mod values;
mod write;

pub use corrections::{with_key, with_refusal, without_refused};
pub use documentation::documented;
pub use obeyed::{Obeyed, obeyed};
pub use proposal::{Band, Exception, Proposal, Topic, confirmed_too, needed_with};
pub use start::{Start, start};
pub use table_edits::{DescriptionFile, with_table_renamed, with_table_split, with_tables_joined};
pub use trial::{Tried, counts_of_sound_data, more_faults, tried};
pub use write::written;

use crate::Problem;
use crate::checks::passed_over;
use crate::formats::{Blocks, Json, Outline, Xml};
use crate::layers::{FileId, LayerId, Stack};
use crate::reading::View;
use crate::reading::with_start;
use crate::schema::{self, Companion, KeyPart, Layout, Schema, Table, TableId, ValueType};
use crate::settings::toml_text;
use candidates::{Candidate, Found};
use file_part::FilePart;
use hashbrown::HashMap;
use keys::{KeyChoice, STEM, choose_key, votes};
use links::ValuePlaces;
use profile::{ColumnRequest, Counts, Profile, SAMPLED, Split, profile};
use shapes::{RecordShape, shapes_of};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use tables::{language_columns, optional_key_proposal, table_proposal, texts_setting};

/// What was learned.
#[derive(Debug, Default)]
pub struct Learned {
    /// The proposals: those of one table together, tables in the order of their files, the surest first
    /// within each.
    pub proposals: Vec<Proposal>,
    /// Files of text of which nothing could be made: their paths.
    pub unknown: Vec<String>,
    /// Files that are copies of others, with the path of the other: they are left out.
    pub copies: Vec<(String, String)>,
    /// What in the folders cannot be used, and why: links that are not followed, names that are no Unicode.
    pub passed_over: Vec<Problem>,
    /// How many files are no text.
    pub binary: usize,
    /// The languages that paths name, with how much there is in each, in bytes.
    pub languages: Vec<(String, u64)>,
    /// How many tables were looked at, and how many records they have.
    pub tables: usize,
    /// How many records they have.
    pub records: u64,
}

/// A table that is looked at.
struct Studied {
    table: Table,
    /// Its position in the schema, if that describes it.
    described: Option<TableId>,
    files: Vec<FileId>,
    /// What it was recognised as, if the schema does not describe it.
    candidate: Option<Candidate>,
    key: KeyChoice,
    /// The fields of which the schema says nothing yet.
    open: Vec<usize>,
    /// Those of which it says only that they hold numbers: what these are may be told.
    bare: Vec<usize>,
    /// What the schema is to say of its texts, if it holds texts.
    texts: Option<String>,
}

impl Studied {
    /// The part of its files' paths that can name records.
    fn file_part(&self) -> FilePart {
        let patterns: Vec<String> = self.table.files.iter().map(|pattern| pattern.source.clone()).collect();
        FilePart::of(&patterns)
    }
}

/// Files of a table that are looked at for their columns.
const LOOKED_AT: usize = 24;

/// Studies the files that the game would read if the layers ended at `through`; what the mod replaces is taken
/// from the layer below, since mistakes of the mod would spoil the evidence. Nothing is proposed of what
/// `schema` says already.
pub fn learn(view: View<'_>) -> Learned {
    let View { stack, schema, through } = view;
    let Found { candidates, unknown, copies, binary, languages } = candidates::candidates(view);
    let mut studied: Vec<Studied> = described(view);
    studied.extend(candidates.into_iter().filter_map(|candidate| undescribed(stack, schema, candidate)));
    let tables: Vec<Table> = studied.iter().map(|own| own.table.clone()).collect();
    let files: Vec<Vec<FileId>> = studied.iter().map(|own| own.files.clone()).collect();
    let counts = first_look(stack, &studied, &tables, &files);
    let votes = votes(stack, &studied, &counts);
    let mut no_tables: Vec<bool> = Vec::new();
    for (at, (own, counts)) in studied.iter_mut().zip(&counts).enumerate() {
        if let Some(candidate) = &own.candidate {
            own.key = choose_key(stack, candidate, &own.table, counts, &votes[at]);
            own.texts = texts_setting(candidate, &own.table, &own.key, counts);
        }
        let is_inner = own.candidate.as_ref().is_some_and(|own| own.shape.inner);
        let is_slight = own.candidate.as_ref().is_some_and(|own| own.shape.is_slight(counts.records));
        no_tables.push(is_slight || is_inner && !own.key.names_inner_records(counts.records));
    }
    // What stands inside records and has no names of its own is a part of these; a few things deep inside tell nothing.
    let is_table = |at: usize| !no_tables[at];
    let (mut studied, tables, files) =
        (kept(studied, is_table), kept(tables, is_table), kept(files, is_table));
    let mut counts = kept(counts, is_table);
    let inner = nested_tables::fields_of_inner_tables(stack, &studied);
    for (own, inner) in studied.iter_mut().zip(inner) {
        own.open.retain(|field| !inner.contains(field));
        own.bare.retain(|field| !inner.contains(field));
    }
    // Of the keys all are needed, so that what points to them can be looked up; of most they are there already.
    let key_of = |(table, own): (usize, &Studied)| {
        let [part] = own.key.parts.as_slice() else { return None };
        let field = own.table.field(part).filter(|field| counts[table].columns[*field].level > 0)?;
        Some(ColumnRequest { table, field, split: Split::default(), limit: usize::MAX })
    };
    let keys: Vec<ColumnRequest> = studied.iter().enumerate().filter_map(key_of).collect();
    let whole = profile(stack, &tables, &files, &keys);
    for wanted in &keys {
        let own = std::mem::take(&mut counts[wanted.table].columns[wanted.field]);
        counts[wanted.table].columns[wanted.field] =
            whole[wanted.table].columns.first().cloned().unwrap_or(own);
        let unique = counts[wanted.table].columns[wanted.field].distinct.len() as u64;
        studied[wanted.table].key.unique = unique;
    }
    let above = keys_above(stack, through, &studied, &tables);
    let study = Study {
        stack,
        studied: &studied,
        tables: &tables,
        files: &files,
        counts: &counts,
        above: &above,
        thinned: thinned(&counts),
    };
    let mut proposals: Vec<Proposal> = Vec::new();
    for (at, own) in studied.iter().enumerate() {
        proposals.extend(table_proposal(own, &counts[at]));
        proposals.extend(optional_key_proposal(own, &counts[at]));
    }
    let follows = study.follows();
    let mut links = study.links();
    // What is made from its own key is no reference to its own table; a file's name may be one as well.
    links.retain(|link| {
        !follows.iter().any(|(table, made)| {
            let own = &studied[*table];
            let is_it = own.table.name == link.table
                && link.field.as_ref() == Some(&own.table.fields[made.field].name);
            let repeats = made.around.0.is_empty() && made.around.1.is_empty();
            is_it && if repeats { own.key.parts != [STEM] } else { link.needs == [own.table.name.as_str()] }
        })
    });
    proposals.extend(follows.iter().map(|(table, own)| study.followed(*table, own)));
    let linked: BTreeSet<(String, String)> = links
        .iter()
        .filter(|link| link.band != Band::Hidden)
        .filter_map(|link| Some((link.table.clone(), link.field.clone()?)))
        .collect();
    let relative = study.relative_files(&linked, &ValuePlaces::new(stack));
    let of_relative = relative.iter().filter_map(|own| Some((own.table.clone(), own.field.clone()?)));
    let linked: BTreeSet<(String, String)> = linked.into_iter().chain(of_relative).collect();
    links.extend(relative);
    let computed = study.computed(&links, &linked);
    let told = study.referred_to(&links);
    proposals.extend(links);
    proposals.extend(study.kinds(&linked, &told));
    proposals.extend(told);
    proposals.extend(computed);
    proposals.extend(study.shared(&linked));
    let companions = study.companion_texts(&proposals);
    proposals.extend(companions.into_iter().filter(|own| !is_described(schema, own)));
    let order: HashMap<&str, usize> =
        studied.iter().enumerate().map(|(at, own)| (own.table.name.as_str(), at)).collect();
    proposals
        .sort_by_key(|own| (order.get(own.table.as_str()).copied(), own.topic != Topic::Table, own.band));
    let path = |file: FileId| stack.files()[file].path.to_string();
    Learned {
        proposals,
        unknown: unknown.into_iter().map(path).collect(),
        copies: copies.into_iter().map(|(copy, of)| (path(copy), path(of))).collect(),
        passed_over: passed_over(stack, through),
        binary,
        languages: languages_with_bytes(stack, &studied, &counts, languages),
        tables: studied.len(),
        records: counts.iter().map(|counts| counts.records).sum(),
    }
}

/// Whether the schema says already that records have the companion that `own` proposes.
fn is_described(schema: &Schema, own: &Proposal) -> bool {
    let is_it = |known: &Companion| {
        let template = toml_text(known.name.source());
        schema.tables[known.table].name == own.table
            && own.settings.iter().any(|(_, value)| *value == template)
    };
    schema.companions.iter().any(is_it)
}

/// The languages that paths name, `of_paths`, and those that columns are called by; how much there is in each, in bytes.
fn languages_with_bytes(
    stack: &Stack,
    studied: &[Studied],
    counts: &[Counts],
    of_paths: BTreeSet<String>,
) -> Vec<(String, u64)> {
    let mut out: BTreeMap<String, u64> =
        of_paths.into_iter().map(|code| (code.clone(), bytes_in(stack, studied, &code))).collect();
    for (own, counts) in studied.iter().zip(counts).filter(|(own, _)| own.texts.is_some()) {
        for (code, at) in language_columns(&own.table) {
            // Values are compared with values only, and so many bytes a word will do.
            const BYTES: u64 = 20;
            *out.entry(code).or_default() += counts.columns[at].values * BYTES;
        }
    }
    out.into_iter().collect()
}

/// How many bytes the files of `studied` have that are in the language with this code.
fn bytes_in(stack: &Stack, studied: &[Studied], code: &str) -> u64 {
    let files = studied.iter().flat_map(|own| own.files.iter().map(move |file| (own, *file)));
    let own = files.filter(|(own, file)| own.table.language_of(&stack.files()[*file].path) == Some(code));
    own.map(|(_, file)| stack.files()[file].size).sum()
}

/// Those of `all` at whose positions `wanted` is true.
fn kept<T>(all: Vec<T>, wanted: impl Fn(usize) -> bool) -> Vec<T> {
    all.into_iter().enumerate().filter(|(at, _)| wanted(*at)).map(|(_, own)| own).collect()
}

/// Whether the schema says of a field that it holds numbers, and nothing else.
fn is_bare_number(table: &Table, field: usize) -> bool {
    let own = &table.fields[field];
    let Layout::Whole(rule) = own.layout else { return false };
    let rule = &table.rules[rule];
    let says_more = own.about.is_some() || own.list.is_some() || own.follows.is_some() || own.note;
    matches!(rule.kind, ValueType::Integer | ValueType::Number)
        && !says_more
        && !rule.points()
        && rule.switch.is_none()
        && rule.range.is_none()
        && rule.flags.is_empty()
        && rule.choice.is_empty()
        && !rule.unique
}

/// Columns of which very many values are kept, by table and field, with fewer.
fn thinned(counts: &[Counts]) -> HashMap<(usize, usize), Profile> {
    let columns = counts.iter().enumerate().flat_map(|(table, own)| {
        own.columns.iter().enumerate().map(move |(field, own)| ((table, field), own))
    });
    columns.filter_map(|(at, own)| Some((at, own.thinned()?))).collect()
}

/// What the columns of all tables hold; those of which nothing more is to be found out hold nothing.
fn first_look(stack: &Stack, studied: &[Studied], tables: &[Table], files: &[Vec<FileId>]) -> Vec<Counts> {
    let of_table = |(table, own): (usize, &Studied)| -> Vec<ColumnRequest> {
        let mut fields: Vec<usize> =
            (0..own.table.fields.len()).filter(|field| is_needed(own, *field)).collect();
        // Its records are counted in any case.
        if fields.is_empty() && !own.table.fields.is_empty() {
            fields.push(0);
        }
        let wanted = |field| ColumnRequest {
            table,
            field,
            split: Split::default(),
            limit: if is_likely_key(own, field) { usize::MAX } else { SAMPLED },
        };
        fields.into_iter().map(wanted).collect()
    };
    let wanted: Vec<Vec<ColumnRequest>> = studied.iter().enumerate().map(of_table).collect();
    let found = profile(stack, tables, files, &wanted.concat());
    let whole = |(found, (own, wanted)): (Counts, (&Studied, &Vec<ColumnRequest>))| {
        let mut columns = vec![Profile::default(); own.table.fields.len()];
        wanted.iter().zip(found.columns).for_each(|(wanted, profile)| columns[wanted.field] = profile);
        Counts { records: found.records, columns }
    };
    found.into_iter().zip(studied.iter().zip(&wanted)).map(whole).collect()
}

/// Whether it must be known what a column holds: it is one of which the schema says nothing, it names records, or
/// others may be judged by it. Where the schema says of it that it points somewhere or is a measure, that is enough.
fn is_needed(own: &Studied, field: usize) -> bool {
    let described = &own.table.fields[field];
    let told = match described.layout {
        Layout::Whole(rule) => {
            let rule = &own.table.rules[rule];
            let is_number = matches!(rule.kind, ValueType::Integer | ValueType::Number);
            rule.points() || is_number && !rule.unique
        }
        Layout::Parts(..) | Layout::Found(..) => true,
    };
    let asked = own.open.contains(&field) || own.bare.contains(&field);
    own.candidate.is_some() || asked || own.key.parts.contains(&described.name) || !told
}

/// Whether a column is the key of its table, or is most likely to turn out to be: all its values are kept at once.
fn is_likely_key(own: &Studied, field: usize) -> bool {
    let name = &own.table.fields[field].name;
    match &own.candidate {
        None => own.key.parts.len() == 1 && own.key.parts[0] == *name,
        Some(candidate) => candidate.shape.key.as_ref().map_or(field == 0, |key| key == name),
    }
}

/// The tables that the schema describes, with all columns that their files have.
fn described(view: View<'_>) -> Vec<Studied> {
    let View { stack, schema, through } = view;
    let files = candidates::files_to_study(stack, through);
    let mut of: Vec<Vec<FileId>> = vec![Vec::new(); schema.tables.len()];
    for file in files {
        schema.tables_of(&stack.files()[file].path).into_iter().for_each(|table| of[table].push(file));
    }
    schema
        .tables
        .iter()
        .zip(of)
        .enumerate()
        .filter(|(_, (table, _))| !table.is_of_files())
        .map(|(id, (table, files))| {
            let mut columns = columns_of(stack, table, &files, &[]);
            columns.extend(nested_columns(stack, table, &files));
            let wide = table.widened(&columns);
            let says_nothing = |field: &usize| {
                let own = &wide.fields[*field];
                let Layout::Whole(rule) = own.layout else { return false };
                !wide.rules[rule].says_something()
                    && own.list.is_none()
                    && own.follows.is_none()
                    && !own.note
                    && !own.inherit
            };
            let open = (0..wide.fields.len()).filter(says_nothing).collect();
            let bare = (0..wide.fields.len()).filter(|field| is_bare_number(&wide, *field)).collect();
            let part_name = |part: &KeyPart| match part {
                KeyPart::PathPart(_) => format!("{{{}}}", wide.key_part_name(*part)),
                _ => wide.key_part_name(*part).to_owned(),
            };
            let parts = wide.key.iter().map(part_name).collect();
            let key = KeyChoice { parts, ..KeyChoice::default() };
            Studied { table: wide, described: Some(id), files, candidate: None, key, open, bare, texts: None }
        })
        .collect()
}

/// For each table the keys that the mod has in files which take the place of those that are studied: other files
/// of the mod point to them.
fn keys_above(stack: &Stack, through: LayerId, studied: &[Studied], tables: &[Table]) -> Vec<Vec<u64>> {
    let effective = stack.effective(through);
    let of_mod: Vec<FileId> =
        effective.into_iter().filter(|file| stack.layers()[stack.files()[*file].layer].is_mod).collect();
    let replacing = |own: &Studied| -> Vec<FileId> {
        let files: HashSet<FileId> = own.files.iter().copied().collect();
        let paths: HashSet<&str> = own.files.iter().map(|file| stack.files()[*file].path.as_str()).collect();
        let takes =
            |file: &&FileId| !files.contains(*file) && paths.contains(stack.files()[**file].path.as_str());
        of_mod.iter().filter(takes).copied().collect()
    };
    let files: Vec<Vec<FileId>> = studied.iter().map(replacing).collect();
    let wanted = studied.iter().enumerate().filter_map(|(table, own)| {
        let [part] = own.key.parts.as_slice() else { return None };
        Some(ColumnRequest {
            table,
            field: own.table.field(part)?,
            split: Split::default(),
            limit: usize::MAX,
        })
    });
    let wanted: Vec<ColumnRequest> = wanted.filter(|wanted| !files[wanted.table].is_empty()).collect();
    let counts = profile(stack, tables, &files, &wanted);
    let keys = |counts: &Counts| counts.columns.iter().flat_map(|own| own.distinct.keys().copied()).collect();
    counts.iter().map(keys).collect()
}

/// A candidate as a table that can be read.
fn undescribed(stack: &Stack, schema: &Schema, candidate: Candidate) -> Option<Studied> {
    let patterns: Vec<String> = candidate.patterns.iter().map(|pattern| toml_text(pattern)).collect();
    let source = format!(
        "[table.t]\nfiles = [{}]\nformat = {}\nkey = \"{{path}}\"\n",
        patterns.join(", "),
        candidate.format
    );
    let (read, problems) = schema::read(&[("learned".to_owned(), source)], &schema.languages);
    if !problems.is_empty() {
        return None;
    }
    let mut table = read.tables.into_iter().next()?;
    table.name = candidate.name.clone();
    let columns = columns_of(stack, &table, &candidate.files, &candidate.shape.columns);
    let table = table.widened(&columns);
    // What the format says of the names of sections need not be said again.
    let is_said = |name: &str| {
        name == "{section}"
            && candidate.shape.records.as_ref().is_some_and(|(setting, _)| *setting == "section")
    };
    let open = (0..table.fields.len()).filter(|field| !is_said(&table.fields[*field].name)).collect();
    let (files, key) = (candidate.files.clone(), KeyChoice::default());
    Some(Studied {
        table,
        described: None,
        files,
        candidate: Some(candidate),
        key,
        open,
        bare: Vec::new(),
        texts: None,
    })
}

/// The columns that the files of a table have: `known` first, then those that the format tells of.
fn columns_of(stack: &Stack, table: &Table, files: &[FileId], known: &[String]) -> Vec<String> {
    let mut out: Vec<String> = known.to_vec();
    let nested = !known.is_empty() && matches!(table.format_name, Json::NAME | Xml::NAME | Blocks::NAME);
    if nested {
        return out;
    }
    let step = files.len().div_ceil(LOOKED_AT).max(1);
    let mut seen: BTreeSet<String> = out.iter().cloned().collect();
    for file in files.iter().step_by(step) {
        let columns = with_start(stack, *file, recognise::SAMPLE_BYTES, |text| table.format.columns(text));
        for column in columns.unwrap_or_default() {
            if seen.insert(column.clone()) {
                out.push(column);
            }
        }
    }
    out
}

/// The columns of a described table of nested records, those inside structures too: those of the like records in its files
/// that have most of the fields which it describes.
fn nested_columns(stack: &Stack, table: &Table, files: &[FileId]) -> Vec<String> {
    let Some(kind) =
        [Json::NAME, Xml::NAME, Blocks::NAME].into_iter().find(|kind| *kind == table.format_name)
    else {
        return Vec::new();
    };
    let mut outline = Outline::default();
    let step = files.len().div_ceil(LOOKED_AT).max(1);
    for file in files.iter().step_by(step) {
        // What cannot be read has no columns.
        let _ = with_start(stack, *file, recognise::SAMPLE_BYTES, |text| {
            table.format.outline(text, &mut outline)
        });
    }
    let described =
        |shape: &RecordShape| table.fields.iter().filter(|field| shape.columns.contains(&field.name)).count();
    let shapes = shapes_of(&outline, kind, files.len());
    let best =
        shapes.into_iter().max_by_key(|shape| (described(shape), std::cmp::Reverse(shape.columns.len())));
    best.filter(|shape| described(shape) * 2 > table.fields.len())
        .map_or_else(Vec::new, |shape| shape.columns)
}

/// All that the columns are judged by.
struct Study<'s> {
    stack: &'s Stack,
    studied: &'s [Studied],
    tables: &'s [Table],
    files: &'s [Vec<FileId>],
    counts: &'s [Counts],
    /// For each table the keys, by their hashes, that only files of the mod have which take the place of those
    /// that are studied.
    above: &'s [Vec<u64>],
    /// Of columns of which very many values are kept, fewer: enough to see where they point.
    thinned: HashMap<(usize, usize), Profile>,
}
