//! Where the mod, or the game below it, still speaks of an old name, outside of what the schema says: in notes, in files of
//! no table, in scripts, in fields that nobody described.

use super::builder::Builder;
use super::change::{Change, Note};
use super::sequence::Sequence;
use crate::Error;
use crate::formats::Form;
use crate::layers::FileId;
use crate::links::find_records;
use crate::project::Project;
use crate::reading::with_text;
use crate::schema::{Schema, Table, TableId};
use crate::tables::{RecordView, RecordVisitor, all_fields, read_records_at};
use crate::text::{Edit, LineTable, Span, Text};
use aho_corasick::AhoCorasick;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Stands for all places where some are asked for.
const ALL: &str = "all";
/// More places are only counted.
const MOST: usize = 100;
/// Whether other records have a name is looked up for so many names.
const MOST_LOOKED_UP: usize = 16;

/// A place that speaks of an old name.
struct Mention {
    file: FileId,
    span: Span,
    /// 1-based.
    line: usize,
    /// Its position among the names.
    name: usize,
}

/// The change with a note for each place that still speaks of a name that is no more, after a rename; those that `also` names
/// (`path:line`, or `all`) get the new name too. `more` are names that are no keys, with what they become.
///
/// What the game below the mod calls so is looked for in its files too.
///
/// Cost: reading these files, and taking apart those that have the names.
///
/// # Errors
/// When `also` names a place that does not speak of an old name, or a file cannot be edited.
pub(super) fn follow_mentions(
    project: &Project,
    change: Change,
    also: &[String],
    more: &[(String, String)],
) -> Result<Change, Error> {
    let mut renamed: BTreeMap<String, String> = more.iter().cloned().collect();
    for ((_, new), old) in &change.keys {
        let parts = old.split('/').zip(new.split('/')).filter(|(old, new)| old != new);
        renamed.extend(parts.map(|(old, new)| (old.to_owned(), new.to_owned())));
    }
    let names: Vec<&str> = renamed.keys().map(String::as_str).collect();
    let of_game = names_of_game(project, &change, &names);
    let find = |after: &Project| mentions(after, &names, &of_game);
    with_new_names(project, change, also, &renamed, &find)
}

/// The change, a copy of records, with a note for each place in what it writes that still speaks of the original; those that `also`
/// names get the new name instead. `renamed` are the names and what they become.
///
/// # Errors
/// As [`follow_mentions`].
pub(super) fn follow_in_copies(
    project: &Project,
    change: Change,
    also: &[String],
    renamed: &BTreeMap<String, String>,
) -> Result<Change, Error> {
    let names: Vec<&str> = renamed.keys().map(String::as_str).collect();
    let written = change.written(project);
    let find = |after: &Project| {
        let in_copies = |file: &FileId| written.contains_key(&after.stack.files()[*file].path);
        let mut found = words_left(after, &names, &in_copies);
        found.retain(|own| {
            let spans = written.get(&after.stack.files()[own.file].path);
            // They are in order, and a file may have very many.
            let is_new = |spans: &Vec<Span>| {
                let around = spans.partition_point(|span| span.start <= own.span.start);
                around.checked_sub(1).is_some_and(|at| own.span.end <= spans[at].end)
            };
            spans.is_some_and(|spans| spans.as_ref().is_none_or(is_new))
        });
        found
    };
    with_new_names(project, change, also, renamed, &find)
}

/// The change with a note for each place that `find` finds in the project after it; those that `also` names get the new
/// name.
fn with_new_names(
    project: &Project,
    change: Change,
    also: &[String],
    renamed: &BTreeMap<String, String>,
    find: &dyn Fn(&Project) -> Vec<Mention>,
) -> Result<Change, Error> {
    let names: Vec<&str> = renamed.keys().map(String::as_str).collect();
    let mut sequence = Sequence::new(project, change.title().to_owned());
    let title = change.title().to_owned();
    sequence.push(change)?;
    let mentions = find(sequence.project());
    let path = |own: &Mention| sequence.project().stack.files()[own.file].path.clone();
    let place = |own: &Mention| format!("{}:{}", path(own), own.line);
    let unknown =
        also.iter().find(|own| *own != ALL && !mentions.iter().any(|other| is_named(own, &place(other))));
    if let Some(unknown) = unknown {
        let places: BTreeSet<String> = mentions.iter().map(place).collect();
        let places: Vec<String> = places.into_iter().take(MOST).map(|own| format!("`{own}`")).collect();
        let help = match places.is_empty() {
            true => "nothing does; leave it out".to_owned(),
            false => format!("these do: {}", places.join(", ")),
        };
        return Err(Error::Usage {
            message: format!("`{unknown}` does not speak of an old name"),
            help: help.into(),
        });
    }
    let exact: HashSet<&String> =
        also.iter().filter(|own| mentions.iter().any(|other| place(other) == **own)).collect();
    let is_asked = |own: &Mention| {
        let place = place(own);
        also.iter().any(|asked| {
            asked == ALL || *asked == place || (!exact.contains(asked) && is_named(asked, &place))
        })
    };
    let (asked, left): (Vec<&Mention>, Vec<&Mention>) = mentions.iter().partition(|own| is_asked(own));
    let notes: Vec<Note> = notes(&left, &names, &|own| shown(sequence.project(), own));
    if !asked.is_empty() {
        let mut edits: BTreeMap<FileId, Vec<Edit>> = BTreeMap::new();
        for own in &asked {
            let text = renamed[names[own.name]].clone();
            edits.entry(own.file).or_default().push(Edit { span: own.span, text });
        }
        let mut builder = Builder::new(sequence.project(), title);
        builder.count(asked.len());
        for (file, edits) in edits {
            builder.edit(file, edits)?;
        }
        let later = builder.finish()?;
        sequence.push(later)?;
    }
    Ok(notes.into_iter().fold(sequence.finish(), Change::with))
}

/// Whether `asked` is this place, perhaps with the folder of the mod before it, as problems are told.
fn is_named(asked: &str, place: &str) -> bool {
    asked.strip_suffix(place).is_some_and(|before| before.is_empty() || before.ends_with('/'))
}

/// The change with a note for each place that still speaks of one of `names`, of what is removed by it.
pub(super) fn tell_mentions(project: &Project, change: Change, names: &[&str]) -> Change {
    let after = project.with_stack(change.applied_to(&project.stack));
    let mentions = mentions(&after, names, &HashSet::new());
    let left: Vec<&Mention> = mentions.iter().collect();
    notes(&left, names, &|own| shown(&after, own)).into_iter().fold(change, Change::with)
}

/// The positions of those of `names` that records below the mod have, whose keys `change` replaces. Of very many none.
fn names_of_game(project: &Project, change: &Change, names: &[&str]) -> HashSet<usize> {
    let (top, schema) = (project.stack.top(), &project.schema);
    if top == 0 || change.keys.len() > MOST_LOOKED_UP {
        return HashSet::new();
    }
    let below = project.view().until(top - 1);
    let is_there = |((table, _), old): &(&(String, String), &String)| {
        let found = schema.table(table).map(|table| find_records(below, Some(table), old));
        found.is_some_and(|found| found.is_ok_and(|found| !found.is_empty()))
    };
    let of_game = change.keys.iter().filter(is_there).flat_map(|(_, old)| old.split('/'));
    of_game.filter_map(|part| names.iter().position(|name| *name == part)).collect()
}

/// The place as it is told: with the layer, if that is not the mod.
fn shown(project: &Project, own: &Mention) -> String {
    let file = &project.stack.files()[own.file];
    let layer = &project.stack.layers()[file.layer];
    let below = if layer.is_mod { String::new() } else { format!(" ({})", layer.name) };
    format!("{}:{}{below}", file.path, own.line)
}

fn notes(mentions: &[&Mention], names: &[&str], place: &dyn Fn(&Mention) -> String) -> Vec<Note> {
    let mut told: Vec<Note> =
        mentions.iter().map(|own| Note::StillNames(place(own), names[own.name].to_owned())).collect();
    // A line may have the name twice.
    told.dedup();
    let more = told.len().saturating_sub(MOST);
    told.truncate(MOST);
    told.extend((more > 0).then_some(Note::StillNamesMore(more)));
    told
}

/// Whether a name is told from other words: not `a`, not `12`.
fn is_telling(name: &str) -> bool {
    name.chars().count() > 2 && name.chars().any(char::is_alphabetic)
}

/// The places that speak of one of `names` as a word of its own, in the order of the files: in the mod, and of those names whose
/// positions are in `of_game` below it too.
fn mentions(project: &Project, names: &[&str], of_game: &HashSet<usize>) -> Vec<Mention> {
    let stack = &project.stack;
    let of_mod = |file: &FileId| stack.layers()[stack.files()[*file].layer].is_mod;
    let mut found = words_left(project, names, &|file| !of_game.is_empty() || of_mod(file));
    found.retain(|own| of_mod(&own.file) || of_game.contains(&own.name));
    // What another record is called may be meant.
    let mentioned: HashSet<usize> = found.iter().map(|own| own.name).collect();
    if mentioned.len() <= MOST_LOOKED_UP {
        let is_taken = |name: usize| {
            let others = find_records(project.view(), None, names[name]);
            others.is_ok_and(|others| !others.is_empty())
        };
        let taken: HashSet<usize> = mentioned.into_iter().filter(|name| is_taken(*name)).collect();
        found.retain(|own| !taken.contains(&own.name));
    }
    found
}

/// The places in some files that speak of one of `names` as a word of its own, of which the schema says nothing, in the order of
/// the files.
fn words_left(
    project: &Project,
    names: &[&str],
    is_searched: &(dyn Fn(&FileId) -> bool + Sync),
) -> Vec<Mention> {
    let searched: Vec<(usize, &str)> =
        names.iter().copied().enumerate().filter(|(_, name)| is_telling(name)).collect();
    let Ok(searcher) = AhoCorasick::new(searched.iter().map(|(_, name)| name)) else { return Vec::new() };
    if searched.is_empty() {
        return Vec::new();
    }
    let (stack, schema) = (&project.stack, &project.schema);
    // What is made from other files, or is a copy of one that a table reads, follows from these.
    let follows = |file: &FileId| {
        let path = &stack.files()[*file].path;
        let is_paired = schema.paired.iter().any(|own| own.files.contains(path));
        schema.derived.iter().any(|own| own.files.takes(path.as_str()))
            || (is_paired && schema.tables_of(path).is_empty())
    };
    let files = stack.effective(stack.top()).into_iter();
    let files: Vec<FileId> = files.filter(|file| is_searched(file) && !follows(file)).collect();
    let in_file = |file: &FileId| {
        let look = |text: &Text<'_>| {
            let words = words(text.as_str(), &searcher);
            in_text(schema, project, *file, text, &words)
        };
        let found = with_text(stack, *file, look).unwrap_or_default();
        let mention = |(span, line, pattern): (Span, usize, usize)| Mention {
            file: *file,
            span,
            line,
            name: searched[pattern].0,
        };
        found.into_iter().map(mention).collect::<Vec<_>>()
    };
    files.par_iter().with_max_len(1).flat_map_iter(in_file).collect()
}

/// Where the names stand as words of their own, and which each is.
fn words(text: &str, searcher: &AhoCorasick) -> Vec<(Span, usize)> {
    let is_part = |next: Option<char>| next.is_some_and(|next| next.is_alphanumeric() || next == '_');
    let mut out = Vec::new();
    for found in searcher.find_overlapping_iter(text) {
        let (before, after) = (&text[..found.start()], &text[found.end()..]);
        if !is_part(before.chars().next_back()) && !is_part(after.chars().next()) {
            out.push((Span::new(found.start(), found.end()), found.pattern().as_usize()));
        }
    }
    out
}

/// Those of `words` of which the schema says nothing, with their lines, 1-based.
fn in_text(
    schema: &Schema,
    project: &Project,
    file: FileId,
    text: &Text<'_>,
    words: &[(Span, usize)],
) -> Vec<(Span, usize, usize)> {
    let content = text.as_str();
    // Pictures, sounds and programs have words by chance.
    if words.is_empty() || content.contains('\0') {
        return Vec::new();
    }
    let path = &project.stack.files()[file].path;
    let mut known = vec![false; words.len()];
    let offsets: Vec<usize> = words.iter().map(|(span, _)| span.start as usize).collect();
    for id in schema.tables_of(path) {
        let described = &schema.tables[id];
        let table = described.widened(&described.format.columns(text));
        let own = described.fields.len();
        let mut visitor = KnownWords { schema, id, described: own, words, known: &mut known };
        read_records_at(&table, path, text, &all_fields(&table), &offsets, &mut visitor);
    }
    let lines = LineTable::new(content, text.body());
    let unknown = words.iter().zip(known).filter(|(_, known)| !known).map(|(own, _)| *own);
    unknown.map(|(span, name)| (span, lines.line_column(content, span.start).0, name)).collect()
}

/// Finds the words that stand in values of which the schema says what they are.
struct KnownWords<'k> {
    schema: &'k Schema,
    id: TableId,
    /// How many fields of the table the schema describes.
    described: usize,
    words: &'k [(Span, usize)],
    known: &'k mut [bool],
}

impl RecordVisitor for KnownWords<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        for cell in record.cells {
            let field = cell.column as usize;
            let span = cell.cell.span;
            let first = self.words.partition_point(|(word, _)| word.start < span.start);
            let inside = self.words[first..].iter().take_while(|(word, _)| word.end <= span.end).count();
            if inside == 0 || cell.cell.form == Form::Nested {
                continue;
            }
            let says = field < self.described && self.says_something(record.table, field);
            for at in first..first + inside {
                // A value of which nothing is said may be the name, or a list with it, but not a text that has the word in it.
                self.known[at] |= says || !is_item(record.text, span, self.words[at].0);
            }
        }
    }
}

/// Whether a word is all of a value, or stands between separators or quotes in it, as the items of lists do.
fn is_item(text: &str, value: Span, word: Span) -> bool {
    const AROUND: [char; 13] = [',', ';', '|', '+', '/', ':', '"', '\'', '(', ')', '[', ']', '='];
    let before = text[value.start as usize..word.start as usize].trim_end_matches([' ', '\t']);
    let behind = text[word.end as usize..value.end as usize].trim_start_matches([' ', '\t']);
    (before.is_empty() || before.ends_with(AROUND)) && (behind.is_empty() || behind.starts_with(AROUND))
}

impl KnownWords<'_> {
    fn says_something(&self, table: &Table, field: usize) -> bool {
        let rules = table.fields[field].layout.rules();
        table.is_key_field(field)
            || table.label == Some(field)
            || self.schema.tables[self.id].texts.is_some()
            || table.fields[field].follows.is_some()
            || rules.into_iter().any(|rule| table.rules[rule].says_something())
    }
}
