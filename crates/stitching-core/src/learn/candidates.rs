//! Which files hold like records: the tables that a game seems to have.

use super::candidate_names::{common_name, name_apart, name_of_file, without_numbers};
use super::copies::{Compared, Sketch, copies};
use super::file_part::{FilePart, with_named_folder};
use super::languages::{language_pattern, with_languages};
use super::names::{plain_name, stem_words};
use super::recognise::{MAY_LACK, Recognised, SAMPLE_BYTES, Settings, format_source, recognise, sample};
use super::root_elements::{by_root_element, not_only_xml};
use super::section_values::{rows_in_sections, tables_in_values};
use super::sections::{by_file, by_key_or_section, by_kind};
use super::shapes::{RecordShape, shapes_of};
use crate::formats::{Blocks, Delimited, Ini, Json, Outline, Xml};
use crate::layers::{FileId, LayerId, RelPath, Stack};
use crate::project::PROJECT_FILE;
use crate::reading::View;
use crate::reading::{start_of, with_start, with_text};
use crate::schema::Schema;
use crate::settings::toml_text;
use crate::text::{Encoding, Text, TextFault};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// A table that the files seem to hold.
#[derive(Debug, Clone)]
pub(super) struct Candidate {
    /// Its name.
    pub name: String,
    /// The patterns of its files.
    pub patterns: Vec<String>,
    /// The files.
    pub files: Vec<FileId>,
    /// The format, as TOML: `{ kind = "json", records = "$[*]" }`.
    pub format: String,
    /// The kind of the format.
    pub kind: &'static str,
    /// The records.
    pub shape: RecordShape,
    /// What may be wrong about this.
    pub doubt: Option<&'static str>,
    /// What its files are written in, if that is a guess.
    pub encoding: Option<String>,
    /// Whether files of a higher layer seem to add to those below, since they have far less in them.
    pub merged: bool,
}

impl Candidate {
    /// The part of its files' paths that can name records.
    pub fn file_part(&self) -> FilePart {
        FilePart::of(&self.patterns)
    }
}

/// What was found of the files.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// The tables.
    pub candidates: Vec<Candidate>,
    /// Files of text that were not recognised.
    pub unknown: Vec<FileId>,
    /// Files that are copies of others, and these.
    pub copies: BTreeMap<FileId, FileId>,
    /// How many files are no text: pictures, sounds.
    pub binary: usize,
    /// The languages that paths name.
    pub languages: BTreeSet<String>,
}

/// What one file was recognised as.
pub(super) struct RecognisedFile {
    pub file: FileId,
    pub what: Option<Recognised>,
    encoding: Option<String>,
    binary: bool,
    /// For telling copies, if it has several records.
    sketch: Option<Sketch>,
}

impl RecognisedFile {
    /// Whether nothing in it is like a record.
    fn is_unknown(&self) -> bool {
        self.what.as_ref().is_none_or(|what| what.root.is_some() && what.shapes.is_empty())
    }
}

/// The folder and ending of some files, the files, and those of them that were looked at.
pub(super) type Group = ((String, String), Vec<FileId>, Vec<RecognisedFile>);

/// At most so many files of a folder and ending are looked at; the others are taken to be like them if they
/// are many.
const LOOKED_AT: usize = 64;

/// Of so few like files more is read, since one may have records of several kinds, one behind the other.
const FEW_FILES: usize = 16;
/// So many bytes of each.
const MOST_OF_A_FILE: usize = 32 * SAMPLE_BYTES;

/// Looks at the files that the game would read if the layers ended at `through`, but not at those that
/// `schema` describes.
pub(super) fn candidates(view: View<'_>) -> Found {
    let View { stack, schema, through } = view;
    // What describes the project is no data of the game.
    let is_own = |path: &RelPath| path.as_str() == PROJECT_FILE || path.as_str().ends_with(".schema.toml");
    let described = |path: &RelPath| is_own(path) || !schema.tables_of(path).is_empty();
    let (known, files): (Vec<FileId>, Vec<FileId>) =
        files_to_study(stack, through).into_iter().partition(|file| described(&stack.files()[*file].path));
    // Files of one folder and ending are looked at together, and if there are very many, only some of them.
    let mut groups: BTreeMap<(String, String), Vec<FileId>> = BTreeMap::new();
    for file in files {
        let path = &stack.files()[file].path;
        let (folder, ending) = place_of(path);
        groups.entry((folder, ending)).or_default().push(file);
    }
    let mut found = Found::default();
    let mut parts: Vec<Candidate> = Vec::new();
    let mut seen: Vec<Group> = groups
        .into_par_iter()
        .map(|(place, files)| {
            let step = files.len().div_ceil(LOOKED_AT).max(1);
            let seen = files.par_iter().step_by(step).map(|file| look_at(stack, *file)).collect();
            (place, files, seen)
        })
        .collect();
    found.copies = copies_among(stack, schema, &known, &mut seen);
    let mixed = not_only_xml(&seen, &found.copies);
    let by_root = by_root_element(&mut seen, &found.copies);
    for ((folder, ending), files, seen) in seen {
        let all_seen = seen.len() == files.len();
        found.binary += seen.iter().filter(|seen| seen.binary).count();
        let seen: Vec<RecognisedFile> =
            seen.into_iter().filter(|seen| !found.copies.contains_key(&seen.file)).collect();
        found
            .unknown
            .extend(seen.iter().filter(|seen| !seen.binary && seen.is_unknown()).map(|seen| seen.file));
        let clusters = clusters(&seen);
        // What most of those that were looked at are, all others of them are taken to be.
        let usual = clusters.iter().find(|cluster| !all_seen && cluster.len() * 2 >= seen.len());
        let is_taken = |cluster: &&Vec<&RecognisedFile>| {
            usual.is_none_or(|usual| std::ptr::eq(usual, *cluster) || kind_of(usual) != kind_of(cluster))
        };
        for cluster in clusters.iter().filter(is_taken) {
            let own: Vec<FileId> = match all_seen || cluster.len() * 2 < seen.len() {
                true => cluster.iter().map(|seen| seen.file).collect(),
                false => files.clone(),
            };
            let patterns = patterns_of(stack, &folder, &ending, &files, &own);
            let of_cluster = of_cluster(stack, &folder, patterns, own, cluster);
            if of_cluster.is_empty() {
                found.unknown.extend(cluster.iter().filter(|seen| !seen.is_unknown()).map(|seen| seen.file));
            }
            parts.extend(of_cluster);
        }
    }
    for of_root in by_root {
        let files: Vec<FileId> = of_root.files().collect();
        let own = of_root.candidates(stack, &mixed);
        if own.is_empty() {
            found.unknown.extend(files);
        }
        parts.extend(own);
    }
    let mut parts = with_languages(stack, parts, &mut found.languages);
    parts = merged(parts);
    name_apart(&mut parts, schema);
    for part in &mut parts {
        part.merged = part.files.iter().any(|file| is_added_to(stack, *file, through));
    }
    found.candidates = parts;
    found
}

/// The files that are studied: those that the game would read if the layers ended at `through`. What the mod
/// replaces is taken from the layer below, since mistakes of the mod would spoil the evidence.
pub(super) fn files_to_study(stack: &Stack, through: LayerId) -> Vec<FileId> {
    let mut files = stack.effective(through);
    let below = |file: &FileId| {
        let own = &stack.files()[*file];
        let is_mod = stack.layers()[own.layer].is_mod;
        (0..own.layer)
            .rev()
            .filter(|_| is_mod)
            .find_map(|layer| stack.find(layer, &own.path))
            .unwrap_or(*file)
    };
    files.iter_mut().for_each(|file| *file = below(file));
    files.dedup();
    files
}

/// Whether a file of a higher layer seems to add to `file`, since it has far less in it.
fn is_added_to(stack: &Stack, file: FileId, through: LayerId) -> bool {
    /// Of less than this part of its size.
    const FAR_LESS: u64 = 2;
    let own = &stack.files()[file];
    let mut above = (own.layer + 1..=through).filter_map(|layer| stack.find(layer, &own.path));
    above.any(|other| stack.files()[other].size * FAR_LESS < own.size)
}

/// The folder of a path, and the ending of its name.
pub(super) fn place_of(path: &RelPath) -> (String, String) {
    let text = path.as_str();
    let (folder, name) = text.rsplit_once('/').unwrap_or(("", text));
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
    (folder.to_owned(), ending.to_lowercase())
}

fn look_at(stack: &Stack, file: FileId) -> RecognisedFile {
    let look = |text: &Text<'_>| {
        let guessed = matches!(text.fault(), Some(TextFault::Guessed { .. }));
        let encoding = (guessed || !text.encoding().is_utf8()).then(|| Encoding::name(text.encoding()));
        let binary = matches!(text.fault(), Some(TextFault::Binary { .. }));
        let what = if binary { None } else { recognise(text) };
        let several = what.as_ref().is_some_and(|what| what.shapes.iter().any(|own| !own.whole_file));
        let sketch = several.then(|| Sketch::of(sample(text.as_str())));
        RecognisedFile { file, what, encoding: encoding.filter(|_| guessed), binary, sketch }
    };
    let unreadable = RecognisedFile { file, what: None, encoding: None, binary: true, sketch: None };
    with_text(stack, file, look).unwrap_or(unreadable)
}

/// The files that are copies of others, of those that were looked at in full. What the schema describes (`known`) counts
/// as an original; translations are no copies of each other.
fn copies_among(
    stack: &Stack,
    schema: &Schema,
    known: &[FileId],
    seen: &mut [Group],
) -> BTreeMap<FileId, FileId> {
    let mut compared: Vec<Compared<'_>> = Vec::new();
    let path = |file: FileId| &stack.files()[file].path;
    let is_apart = |file: FileId| language_pattern(path(file).as_str()).is_none();
    for (.., seen) in seen.iter_mut().filter(|(_, files, seen)| seen.len() == files.len()) {
        let by_name = |seen: &RecognisedFile| seen.what.as_ref().is_some_and(|what| what.kind == Ini::NAME);
        let own = seen.iter_mut().filter(|seen| is_apart(seen.file));
        let own = own.filter_map(|seen| Some((seen.file, by_name(seen), seen.sketch.take()?)));
        compared.extend(own.map(|(file, by_name, sketch)| Compared {
            file,
            path: path(file),
            sketch,
            described: false,
            by_name,
        }));
    }
    if compared.is_empty() {
        return BTreeMap::new();
    }
    let described = |file: &&FileId| {
        let tables = schema.tables_of(path(**file));
        is_apart(**file) && tables.iter().any(|id| !schema.tables[*id].is_of_files())
    };
    let sketch = |file: &FileId| {
        let of_start = |text: &Text<'_>| Sketch::of(sample(text.as_str()));
        let sketch = with_start(stack, *file, SAMPLE_BYTES, of_start).ok()?;
        Some(Compared { file: *file, path: path(*file), sketch, described: true, by_name: false })
    };
    let known: Vec<Compared<'_>> = known.par_iter().filter(described).filter_map(sketch).collect();
    compared.extend(known);
    copies(&compared)
}

/// The files that are alike: of one format with one set of record shapes, or, where columns differ a
/// little, nearly so.
fn clusters(seen: &[RecognisedFile]) -> Vec<Vec<&RecognisedFile>> {
    let mut out: Vec<Vec<&RecognisedFile>> = Vec::new();
    for one in seen {
        let Some(what) = &one.what else { continue };
        let same = out.iter_mut().find(|cluster| {
            cluster.first().and_then(|first| first.what.as_ref()).is_some_and(|first| are_alike(first, what))
        });
        match same {
            Some(cluster) => cluster.push(one),
            None => out.push(vec![one]),
        }
    }
    out
}

/// The kind of the format of like files.
fn kind_of(cluster: &[&RecognisedFile]) -> Option<&'static str> {
    cluster.first().and_then(|seen| seen.what.as_ref()).map(|what| what.kind)
}

fn are_alike(a: &Recognised, b: &Recognised) -> bool {
    let essential = |what: &Recognised| -> Settings {
        what.settings.iter().filter(|(name, _)| !MAY_LACK.contains(name)).cloned().collect()
    };
    if a.kind != b.kind || essential(a) != essential(b) {
        return false;
    }
    if a.kind == Ini::NAME
        && a.shapes[0].key == b.shapes[0].key
        && a.shapes[0].key.as_deref() == Some("{section}")
    {
        let shared = |a: &[String], b: &[String]| a.iter().filter(|name| b.contains(name)).count();
        let (sections, columns) =
            (shared(&a.sections, &b.sections), shared(&a.shapes[0].columns, &b.shapes[0].columns));
        // Files with the same sections are about the same, whatever each of them says there.
        return columns * 2 >= a.shapes[0].columns.len().min(b.shapes[0].columns.len())
            || (sections >= 2 && sections * 3 >= a.sections.len().min(b.sections.len()) * 2);
    }
    if a.kind == Blocks::NAME && a.shapes.is_empty() {
        return b.shapes.len() < 2;
    }
    if a.kind == Blocks::NAME && b.shapes.is_empty() {
        return a.shapes.len() < 2;
    }
    let shared = a.shapes.iter().filter(|shape| {
        b.shapes.iter().any(|other| {
            other.records == shape.records
                && columns_agree(&shape.columns, &other.columns, shape.whole_file, a.kind == Delimited::NAME)
        })
    });
    let shared = shared.count();
    shared > 0 && (shared * 2 >= a.shapes.len() || shared * 2 >= b.shapes.len())
}

/// Whether two sets of columns are those of one table: nearly all of the smaller are in the larger, and of `rows`, which have
/// all of them, nearly all.
fn columns_agree(a: &[String], b: &[String], loose: bool, rows: bool) -> bool {
    let names: HashSet<&str> = a.iter().map(String::as_str).collect();
    let shared = b.iter().filter(|name| names.contains(name.as_str())).count();
    let (fewer, more) = (a.len().min(b.len()), a.len().max(b.len()));
    if fewer == 0 {
        return more == 0 || loose;
    }
    if rows {
        return shared * 100 >= more * 95;
    }
    // That files are a record each and stand together says a lot by itself.
    match loose {
        true => shared * 2 >= fewer,
        false => shared * 10 >= fewer * 8 && shared * 10 >= more * 5,
    }
}

/// The patterns that take just `files` of a `group`, which has one folder and ending.
fn patterns_of(stack: &Stack, folder: &str, ending: &str, group: &[FileId], files: &[FileId]) -> Vec<String> {
    let path = |file: &FileId| stack.files()[*file].path.as_str();
    let prefix = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let dot = if ending.is_empty() { String::new() } else { format!(".{ending}") };
    let several = files.iter().any(|file| path(file) != path(&files[0]));
    if files.len() == group.len() && several {
        let ending_as_is = path(&files[0]).rsplit_once('.').map_or("", |(_, ending)| ending);
        return vec![if ending.is_empty() {
            format!("{prefix}*")
        } else {
            format!("{prefix}*.{ending_as_is}")
        }];
    }
    if let Some(pattern) = common_stem(stack, files, group, &prefix, &dot) {
        return vec![pattern];
    }
    let mut paths: Vec<String> = files.iter().map(|file| path(file).to_owned()).collect();
    paths.sort();
    paths.dedup();
    paths
}

/// The tables of a cluster of like files, which `patterns` take.
pub(super) fn of_cluster(
    stack: &Stack,
    folder: &str,
    patterns: Vec<String>,
    files: Vec<FileId>,
    cluster: &[&RecognisedFile],
) -> Vec<Candidate> {
    let path = |file: &FileId| stack.files()[*file].path.as_str();
    let several = files.iter().any(|file| path(file) != path(&files[0]));
    let Some(first) = cluster.first().and_then(|seen| seen.what.as_ref()) else { return Vec::new() };
    let mut settings = first.settings.clone();
    for what in cluster.iter().filter_map(|seen| seen.what.as_ref()) {
        for own in &what.settings {
            if !settings.iter().any(|(name, _)| *name == own.0) {
                settings.push(own.clone());
            }
        }
    }
    let kind = first.kind;
    let shapes = shapes_together(stack, cluster, kind, &settings);
    let encoding = cluster.iter().find_map(|seen| seen.encoding.clone());
    let file_name = match several {
        false => name_of_file(&stack.files()[files[0]].path),
        _ => common_name(stack, &files, folder),
    };
    let only = shapes.iter().filter(|shape| !shape.inner).count() == 1;
    shapes
        .into_iter()
        .map(|mut shape| {
            let mut settings = settings.clone();
            settings.extend(shape.settings.iter().cloned());
            if shape.whole_file && kind == Ini::NAME && !several {
                // A single file of keys: each is a record.
                settings.retain(|(name, _)| *name != "records");
                shape = RecordShape {
                    records: Some(("records", "keys".to_owned())),
                    ..RecordShape::plain(Some("{section}/{key}"))
                };
            }
            let own_name = shape.name.as_deref().map(plain_name).filter(|name| !name.is_empty());
            // A section is a part of what its file is about.
            let only = only && !shape.inner;
            let own_name = match kind {
                Ini::NAME if !shape.kind => own_name.map(|name| format!("{file_name}_{name}")),
                _ => own_name,
            };
            Candidate {
                name: own_name.filter(|_| !only).unwrap_or_else(|| file_name.clone()),
                patterns: patterns.clone(),
                files: files.clone(),
                format: format_source(kind, shape.records.as_ref(), &settings),
                kind,
                shape,
                doubt: first.doubt,
                encoding: encoding.clone(),
                merged: false,
            }
        })
        .collect()
}

/// The shapes of like files, taken together.
fn shapes_together(
    stack: &Stack,
    cluster: &[&RecognisedFile],
    kind: &'static str,
    settings: &Settings,
) -> Vec<RecordShape> {
    let whats = || cluster.iter().filter_map(|seen| seen.what.as_ref());
    let most = if cluster.len() <= FEW_FILES { MOST_OF_A_FILE } else { SAMPLE_BYTES };
    let first_path = match kind {
        Json::NAME => Some("$"),
        Xml::NAME => Some("/*"),
        Blocks::NAME => Some("."),
        Ini::NAME if whats().any(|what| what.shapes.iter().any(|shape| shape.whole_file)) => None,
        Ini::NAME => {
            let mut samples: Vec<String> = Vec::new();
            for seen in cluster {
                let _ = with_text(stack, seen.file, |text| {
                    samples.push(start_of(text.as_str(), most).to_owned())
                });
            }
            let texts = || samples.iter().map(String::as_str);
            let found = by_kind(texts()).or_else(|| by_file(texts()));
            let mut shapes = found.unwrap_or_else(|| vec![by_key_or_section(texts())]);
            let inner: Vec<RecordShape> =
                tables_in_values(texts()).into_iter().chain(rows_in_sections(texts())).collect();
            // Where all sections are of one kind, the rows in them belong to what that names.
            let kind = match shapes.as_slice() {
                [one] => one.records.clone().filter(|(setting, _)| *setting == "section"),
                _ => None,
            };
            shapes.extend(inner.into_iter().map(|mut own| {
                own.settings.extend(kind.iter().map(|(setting, name)| (*setting, toml_text(name))));
                own
            }));
            return shapes;
        }
        _ => None,
    };
    let source = format!(
        "[table.t]\nfiles = \"*\"\nformat = {}\nkey = \"{{path}}\"\n",
        format_source(kind, first_path.map(|path| ("records", path.to_owned())).as_ref(), settings)
    );
    let nested = matches!(kind, Json::NAME | Xml::NAME | Blocks::NAME);
    let (read, problems) = crate::schema::read(&[("learned".to_owned(), source)], &[]);
    if let Some(table) = read.tables.first().filter(|_| nested && problems.is_empty()) {
        let mut outline = Outline::default();
        for seen in cluster {
            let _ = with_text(stack, seen.file, |text| {
                table.format.outline(&Text::of_file(start_of(text.as_str(), most)), &mut outline);
            });
        }
        return shapes_of(&outline, kind, cluster.len());
    }
    let mut shapes: Vec<RecordShape> = Vec::new();
    for shape in whats().flat_map(|what| &what.shapes) {
        match shapes.iter_mut().find(|own| own.records == shape.records) {
            Some(own) => {
                let new: Vec<String> =
                    shape.columns.iter().filter(|name| !own.columns.contains(name)).cloned().collect();
                own.columns.extend(new);
            }
            None => shapes.push(shape.clone()),
        }
    }
    shapes
}

/// A pattern `folder/stem*.ending` that takes just `files` of the `group`.
fn common_stem(stack: &Stack, files: &[FileId], group: &[FileId], prefix: &str, dot: &str) -> Option<String> {
    if files.iter().all(|file| stack.files()[*file].path == stack.files()[files[0]].path) {
        return None;
    }
    let stem = |file: &FileId| stack.files()[*file].path.stem();
    let mut common = stem(&files[0]).to_owned();
    for file in files {
        let shared = common.chars().zip(stem(file).chars()).take_while(|(a, b)| a == b).count();
        common = common.chars().take(shared).collect();
    }
    let taken = group.iter().filter(|file| stem(file).starts_with(&common)).count();
    (common.chars().count() >= 3 && taken == files.len()).then(|| format!("{prefix}{common}*{dot}"))
}

/// Tables of one shape in several folders are one table if nearly all columns agree and their names do.
fn merged(parts: Vec<Candidate>) -> Vec<Candidate> {
    let mut out: Vec<Candidate> = Vec::new();
    for part in parts {
        let same = out.iter_mut().find(|own| {
            own.kind == part.kind
                && own.format == part.format
                && own.shape.records == part.shape.records
                && own.shape.columns.len() >= 2
                && fields_agree(&own.shape.columns, &part.shape.columns, own.kind)
                && stem_words(&own.name) == stem_words(&part.name)
        });
        match same {
            Some(own) => {
                if own.name != part.name {
                    own.name = without_numbers(&own.name);
                }
                own.patterns.extend(part.patterns);
                own.files.extend(part.files);
                let known: HashSet<&String> = own.shape.columns.iter().collect();
                let new: Vec<String> =
                    part.shape.columns.into_iter().filter(|name| !known.contains(name)).collect();
                own.shape.columns.extend(new);
            }
            None => out.push(part),
        }
    }
    for own in &mut out {
        own.patterns = with_named_folder(in_numbered_folders(std::mem::take(&mut own.patterns)));
    }
    out
}

/// Whether records of the format called `kind` with these fields may be of one table: all fields are the same, or,
/// where a record may lack one, nearly all.
fn fields_agree(a: &[String], b: &[String], kind: &str) -> bool {
    if matches!(kind, Delimited::NAME | "lines") {
        return a == b;
    }
    let names: HashSet<&String> = a.iter().collect();
    let shared = b.iter().filter(|name| names.contains(name)).count();
    shared * 10 >= a.len().max(b.len()) * 9
}

/// Patterns that differ only in the number of a folder, put together if they are many: `part*/units.txt`.
fn in_numbered_folders(patterns: Vec<String>) -> Vec<String> {
    /// Fewer are told one by one.
    const MANY: usize = 4;
    let is_digit = |c: char| c.is_ascii_digit();
    let general = |pattern: &String| -> Option<String> {
        let (folders, name) = pattern.rsplit_once('/')?;
        let step = |folder: &str| match folder.trim_end_matches(is_digit) {
            stem if stem.len() < folder.len() => format!("{stem}*"),
            _ => folder.to_owned(),
        };
        let folders: Vec<String> = folders.split('/').map(step).collect();
        Some(format!("{}/{name}", folders.join("/")))
    };
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for pattern in patterns.iter().filter_map(general) {
        *counts.entry(pattern).or_default() += 1;
    }
    let mut out: Vec<String> = Vec::new();
    let mut seen: HashSet<String> = HashSet::new();
    for pattern in patterns {
        let general =
            general(&pattern).filter(|general| counts.get(general).is_some_and(|count| *count >= MANY));
        let pattern = general.unwrap_or(pattern);
        if seen.insert(pattern.clone()) {
            out.push(pattern);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("p1/a.txt p2/a.txt p3/a.txt p4/a.txt", "p*/a.txt")]
    #[case::others_stay("p1/a.txt p2/a.txt p3/a.txt p4/a.txt q/a.txt", "p*/a.txt q/a.txt")]
    #[case::too_few("p1/a.txt p2/a.txt", "p1/a.txt p2/a.txt")]
    #[case::no_folder("a1.txt a2.txt a3.txt a4.txt", "a1.txt a2.txt a3.txt a4.txt")]
    #[case::deeper("x1/y1/a x2/y2/a x3/y3/a x4/y4/a", "x*/y*/a")]
    fn numbered_folders(#[case] patterns: &str, #[case] expected: &str) {
        let patterns = patterns.split(' ').map(str::to_owned).collect();
        assert_eq!(in_numbered_folders(patterns).join(" "), expected);
    }

    #[rstest]
    #[case::the_same("ini", "a b c", "a b c", true)]
    #[case::nearly_all("ini", "a b c d e f g h i j", "a b c d e f g h i", true)]
    #[case::too_few("ini", "a b c d", "a b c", false)]
    #[case::rows_must_have_all("delimited", "a b c d e f g h i j", "a b c d e f g h i", false)]
    #[case::others("json", "a b", "c d", false)]
    fn fields_of_one_table(#[case] kind: &str, #[case] a: &str, #[case] b: &str, #[case] expected: bool) {
        let names = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
        assert_eq!(fields_agree(&names(a), &names(b), kind), expected);
        assert_eq!(fields_agree(&names(b), &names(a), kind), expected);
    }
}
