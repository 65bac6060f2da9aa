//! Switching entries off and on: in the format's own syntax for notes where it has one that fits,
//! otherwise by taking them out and keeping them aside.

use super::builder::Builder;
use super::change::{Change, Note, OwnChange};
use super::own_records::resolve;
use crate::formats::{Editor, Fault, OffStyle, decode};
use crate::help::{Help, NextStep};
use crate::layers::{FileId, OWN_FOLDER, RelPath, SetAside};
use crate::links::{Address, Found, Switched, SwitchedBy, switched};
use crate::project::Project;
use crate::reading::View;
use crate::reading::with_text;
use crate::schema::Table;
use crate::tables::{RecordView, RecordVisitor, all_fields, read_records, read_records_at};
use crate::text::{Edit, Span, Text};
use crate::{Code, Error};
use std::collections::{BTreeMap, HashSet};

/// Of what stands around a piece that is kept aside, so many bytes are remembered on each side.
const AROUND: usize = 200;

/// Builds the change that switches off what `address` names: a record, a field (`table:key.field`), one
/// item of a field (`table:key.field=value`), or a line (`path:line`).
///
/// # Errors
/// When the address names nothing, or what it names cannot be switched off.
pub fn switch_off(project: &Project, address: &str) -> Result<Change, Error> {
    let mut builder = Builder::new(project, format!("switch off {address}"));
    if let Some((file, line)) = line_address(project, address) {
        let span = line_span(project, file, line)?;
        let style = styles(project, file).into_iter().find(|style| matches!(style, OffStyle::Lines(..)));
        let Some(style) = style else {
            let path = &project.stack.files()[file].path;
            let reason = format!("`{path}` has no syntax that makes a line a note");
            return Err(Error::refused(reason, "name the record or the field instead: table:key.field"));
        };
        builder.count(1);
        builder
            .edit_with(file, |text, _| style.switch_off(text.as_str(), span).ok_or_else(|| unfit(address)))?;
        return builder.finish();
    }
    let (found, value) = find(project, address)?;
    let table = &project.schema.tables[found.table];
    let mut kept = Vec::new();
    let top = found.places.iter().map(|place| project.stack.files()[place.file].layer).max();
    // A key may be there several times in one file, which changes once.
    let mut files: BTreeMap<FileId, Vec<Span>> = BTreeMap::new();
    for place in &found.places {
        let entry = &project.stack.files()[place.file];
        // Of a record that several layers have a part of, that of the topmost is meant.
        if table.merged && Some(entry.layer) != top {
            let layer = project.stack.layers()[entry.layer].name.clone();
            builder.note(Note::CountsAgain(Address::show(&table.name, &found.key), layer));
            continue;
        }
        if table.merged && !project.stack.layers()[entry.layer].is_mod {
            let reason =
                format!("{address} lies in a base layer, over which the mod can only put other values");
            return Err(Error::refused(reason, "nothing was changed"));
        }
        files.entry(place.file).or_default().push(place.span);
    }
    for (file, records) in files {
        let path = &project.stack.files()[file].path;
        builder.count(1);
        if found.field.is_none() && is_whole_file(project, table, file, &records)? {
            kept.push(take_file_out(project, &mut builder, &found, file)?);
            continue;
        }
        builder.edit_with(file, |text, _| {
            let spans = match found.field {
                None => records,
                Some(field) => entries(table, path, text, &records, field, value.as_deref())?,
            };
            let mut editor = table.format.editor(text);
            let mut taken = Vec::new();
            for span in spans {
                let off = editor.as_mut().is_some_and(|editor| editor.comment_out(span).is_ok());
                if !off {
                    taken.push(table.format.with_separator(text.as_str(), span));
                }
            }
            let mut edits = editor.map_or(Vec::new(), Editor::finish);
            for piece in take_out(text, taken).ok_or_else(|| {
                let reason = format!("{address} is all that `{path}` holds");
                let help = match found.field {
                    Some(_) => "switch off the whole record instead; nothing was changed",
                    None => "move the file out of the mod instead; nothing was changed",
                };
                Error::refused(reason, help)
            })? {
                edits.push(Edit { span: piece.span, text: String::new() });
                kept.push(keep(project, &found, path, piece));
            }
            Ok(edits)
        })?;
    }
    if !kept.is_empty() {
        for piece in &kept {
            builder.note(match piece.file {
                Some(_) => Note::FileKeptAside(piece.path.clone()),
                None => Note::KeptAside(piece.path.clone()),
            });
        }
        let all = project.stack.kept().iter().cloned().chain(kept).collect();
        builder.write_own(own_change(project, all)?);
    }
    builder.finish()
}

/// Builds the change that switches on again what `address` names, by the address that the list of what is off gives.
///
/// # Errors
/// When nothing of that address is off, or its place in the file is not to be found any more.
pub fn switch_on(project: &Project, address: &str) -> Result<Change, Error> {
    let all = switched(&project.stack, &project.schema);
    let line = line_address(project, address);
    let wanted = Address::parse(address).ok().map(|wanted| wanted.unquoted());
    let same = |own: &str| wanted.is_some() && Address::parse(own).ok().map(|own| own.unquoted()) == wanted;
    let meant = |own: &&Switched| {
        let by_line = line.is_some_and(|(file, line)| {
            own.place.path == project.stack.files()[file].path.as_str() && own.place.line == line
        });
        by_line || own.address(&project.schema).is_some_and(|own| own == address || same(&own))
    };
    let meant: Vec<&Switched> = all.iter().filter(meant).collect();
    if meant.is_empty() {
        let names = all.iter().filter_map(|own| own.address(&project.schema)).collect::<Vec<_>>();
        let near = crate::text::nearest_of(address, names.iter().map(String::as_str));
        let help = match near.first() {
            Some(near) => Help::from(format!("did you mean `{near}`?")).then(NextStep::ListSwitchedOff),
            None => NextStep::ListSwitchedOff.into(),
        };
        return Err(Error::Unknown { what: "switched off entry", name: address.to_owned(), help });
    }
    let mut builder = Builder::new(project, format!("switch on {address}"));
    let mut edits: BTreeMap<FileId, Vec<Edit>> = BTreeMap::new();
    let mut gone = Vec::new();
    for own in &meant {
        match &own.source {
            SwitchedBy::Marks(file, piece) => edits.entry(*file).or_default().extend(piece.edits.clone()),
            SwitchedBy::SetAside(at) => {
                let kept = &project.stack.kept()[*at];
                let path = RelPath::parse(&kept.path).ok();
                let file = path.and_then(|path| project.stack.find(project.stack.top(), &path));
                let lost = || {
                    let reason =
                        format!("the place of {address} in `{}` is not to be found any more", kept.path);
                    let place = project.folder.join(OWN_FOLDER).join(SetAside::FILE);
                    Error::refused(reason, format!("its text is in `{}`; put it in by hand", place.display()))
                };
                if let Some(name) = &kept.file {
                    let bytes = SetAside::file_bytes(&project.folder, name)?.ok_or_else(lost)?;
                    let path = RelPath::parse(&kept.path).map_err(|_| lost())?;
                    builder.count(1);
                    let own = file_change(name, Some(bytes.clone()), None);
                    builder.bring_back(&path, bytes, &own.name)?;
                    builder.write_own(own);
                    gone.push(*at);
                    continue;
                }
                let file = file.ok_or_else(lost)?;
                let at_byte = with_text(&project.stack, file, |text| kept.place_in(text.as_str()))?;
                let at_byte = at_byte.ok_or_else(lost)?;
                let edit = Edit { span: Span::new(at_byte, at_byte), text: kept.text.clone() };
                edits.entry(file).or_default().push(edit);
                gone.push(*at);
            }
        }
    }
    for (file, own) in edits {
        builder.count(1);
        builder.edit(file, own)?;
    }
    if !gone.is_empty() {
        let left = project.stack.kept().iter().enumerate().filter(|(at, _)| !gone.contains(at));
        builder.write_own(own_change(project, left.map(|(_, kept)| kept.clone()).collect())?);
    }
    builder.finish()
}

/// What an address names: a record or a field, and perhaps the value of one item.
fn find(project: &Project, address: &str) -> Result<(Found, Option<String>), Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    match resolve(View::top(stack, schema), address) {
        Ok(found) => Ok((found, None)),
        Err(error) => match address.rsplit_once('=') {
            Some((field, value)) => match resolve(View::top(stack, schema), field) {
                Ok(found) if found.field.is_some() => Ok((found, Some(value.to_owned()))),
                _ => Err(error),
            },
            None => Err(error),
        },
    }
}

/// A file and a 1-based line, if the address is one: `path:line`.
fn line_address(project: &Project, address: &str) -> Option<(FileId, usize)> {
    let (path, line) = address.rsplit_once(':')?;
    let line = line.parse().ok()?;
    let path = RelPath::parse(path).ok()?;
    let effective = project.stack.effective(project.stack.top());
    let file = effective.into_iter().rfind(|file| project.stack.files()[*file].path == path)?;
    Some((file, line))
}

fn line_span(project: &Project, file: FileId, line: usize) -> Result<Span, Error> {
    with_text(&project.stack, file, |text| {
        let content = text.as_str();
        let mut start = text.body();
        for (number, own) in content[start..].split_inclusive('\n').enumerate() {
            let shown = own.trim_end();
            if number + 1 == line && !shown.trim().is_empty() {
                return Ok(Span::new(start, start + shown.len()));
            }
            start += own.len();
        }
        Err(Error::Unknown {
            what: "line with something on it",
            name: line.to_string(),
            help: "lines are counted from 1".into(),
        })
    })?
}

fn styles(project: &Project, file: FileId) -> Vec<OffStyle> {
    let path = &project.stack.files()[file].path;
    let tables = project.schema.tables.iter().filter(|table| table.takes(path));
    tables.map(|table| table.format.off_style()).collect()
}

/// A piece of a text that is taken out.
struct Piece {
    span: Span,
    text: String,
    /// What stands before it when all pieces are out, up to [`AROUND`] bytes.
    before: String,
    /// What stands behind it then.
    after: String,
}

/// The pieces of `text` at `spans`, those that touch as one; `None` if nothing else is in it.
fn take_out(text: &Text<'_>, spans: Vec<Span>) -> Option<Vec<Piece>> {
    let content = text.as_str();
    let joined = joined(spans);
    let (rest, places) = without(content, &joined);
    if !joined.is_empty() && rest[text.body()..].trim().is_empty() {
        return None;
    }
    let piece = |(span, at): (Span, usize)| Piece {
        span,
        text: span.of(content).to_owned(),
        before: rest[rest.ceil_char_boundary(at.saturating_sub(AROUND))..at].to_owned(),
        after: rest[at..rest.floor_char_boundary((at + AROUND).min(rest.len()))].to_owned(),
    };
    Some(joined.into_iter().zip(places).map(piece).collect())
}

/// The spans in the order of the text, those that touch as one.
fn joined(mut spans: Vec<Span>) -> Vec<Span> {
    spans.sort_by_key(|span| (span.start, span.end));
    let mut joined: Vec<Span> = Vec::new();
    for span in spans {
        match joined.last_mut() {
            Some(last) if span.start <= last.end => last.end = last.end.max(span.end),
            _ => joined.push(span),
        }
    }
    joined
}

/// The text without `spans`, which are sorted and do not touch, and where in it each was.
fn without(content: &str, spans: &[Span]) -> (String, Vec<usize>) {
    let (mut rest, mut places, mut from) = (String::new(), Vec::new(), 0);
    for span in spans {
        rest.push_str(&content[from..span.start as usize]);
        places.push(rest.len());
        from = span.end as usize;
    }
    rest.push_str(&content[from..]);
    (rest, places)
}

/// The entries in which the values of `field` stand, of the records at `records`; with `value` only those that
/// have it.
fn entries(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    records: &[Span],
    field: usize,
    value: Option<&str>,
) -> Result<Vec<Span>, Error> {
    struct Cells {
        records: HashSet<Span>,
        cells: Vec<(usize, Span, String)>,
    }
    impl RecordVisitor for Cells {
        fn record(&mut self, record: &RecordView<'_>) {
            if self.records.contains(&record.span) {
                let cell = |own: &crate::formats::ColumnCell| {
                    (usize::from(own.column), own.cell.span, decode(record.text, &own.cell).text.into_owned())
                };
                self.cells.extend(record.cells.iter().map(cell));
            }
        }
    }
    let mut cells = Cells { records: records.iter().copied().collect(), cells: Vec::new() };
    let mut starts: Vec<usize> = records.iter().map(|record| record.start as usize).collect();
    starts.sort_unstable();
    read_records_at(table, path, text, &all_fields(table), &starts, &mut cells);
    let others: Vec<Span> = match value {
        Some(value) => {
            let others = cells.cells.iter().filter(|(column, _, text)| *column == field && text != value);
            others.map(|(_, cell, _)| *cell).collect()
        }
        None => Vec::new(),
    };
    let own = cells
        .cells
        .into_iter()
        .filter(|(column, _, text)| *column == field && value.is_none_or(|value| value == text));
    let editor = table.format.editor(text);
    let (mut spans, mut known) = (Vec::new(), HashSet::new());
    let mut any = false;
    for (_, cell, _) in own {
        any = true;
        let entry = editor.as_ref().and_then(|editor| editor.entry_around(cell)).ok_or_else(|| {
            let reason = format!("`{}` cannot be switched off without its record", table.fields[field].name);
            Error::refused(reason, "switch the whole record off; nothing was changed")
        })?;
        // Of an entry with other items beside this one only the item goes.
        let inside = |other: &Span| other.start >= entry.start && other.end <= entry.end;
        let span = if others.iter().any(inside) { item_at(text.as_str(), cell, entry) } else { entry };
        if known.insert(span) {
            spans.push(span);
        }
    }
    if any {
        return Ok(spans);
    }
    let reason = match value {
        Some(value) => format!("`{}` has no item `{value}`", table.fields[field].name),
        None => format!("the record has no `{}`", table.fields[field].name),
    };
    Err(Error::refused(reason, Help::from("nothing was changed").then(NextStep::ShowRecord)))
}

/// An item of an entry: its value with the quotes, and the comma and the blanks behind it, or, if it is the last, before it.
fn item_at(text: &str, cell: Span, entry: Span) -> Span {
    let (mut start, mut end) = (cell.start as usize, cell.end as usize);
    if ['"', '\''].into_iter().any(|quote| text[..start].ends_with(quote) && text[end..].starts_with(quote)) {
        (start, end) = (start - 1, end + 1);
    }
    let is_blank = |next: char| matches!(next, ' ' | '\t');
    let behind = text[end..entry.end as usize].trim_start_matches(is_blank);
    let (behind, has_comma) = match behind.strip_prefix(',') {
        Some(behind) => (behind.trim_start_matches(is_blank), true),
        None => (behind, false),
    };
    let is_last = behind.is_empty() || behind.starts_with(['\r', '\n']);
    // A comma before the last one would be left.
    let before = text[..start].trim_end_matches(is_blank).strip_suffix(',');
    match (has_comma, before) {
        (false, Some(before)) => start = before.trim_end_matches(is_blank).len(),
        (false, None) if is_last => start = text[..start].trim_end_matches(is_blank).len(),
        _ => end = entry.end as usize - behind.len(),
    }
    Span::new(start, end)
}

fn keep(project: &Project, found: &Found, path: &RelPath, piece: Piece) -> SetAside {
    let table = &project.schema.tables[found.table];
    let field = found.field.map(|field| table.fields[field].name.clone());
    let record = Address::show(&table.name, &found.key);
    SetAside {
        path: path.to_string(),
        address: field.as_ref().map_or_else(|| record.clone(), |field| format!("{record}.{field}")),
        table: table.name.clone(),
        key: found.key.clone(),
        field,
        text: piece.text,
        before: piece.before,
        after: piece.after,
        file: None,
    }
}

fn own_change(project: &Project, kept: Vec<SetAside>) -> Result<OwnChange, Error> {
    let bytes = serde_json::to_vec_pretty(&kept)
        .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
    let before = SetAside::bytes(&project.folder)?;
    Ok(OwnChange { name: SetAside::FILE.to_owned(), before, after: Some(bytes), like: None })
}

fn file_change(name: &str, before: Option<Vec<u8>>, after: Option<Vec<u8>>) -> OwnChange {
    OwnChange { name: format!("{}/{name}", SetAside::FOLDER), before, after, like: None }
}

/// Whether the records at `records` are the file itself: all that it holds, where it is named after them or cannot do
/// without them.
pub(super) fn is_whole_file(
    project: &Project,
    table: &Table,
    file: FileId,
    records: &[Span],
) -> Result<bool, Error> {
    if table.is_of_files() {
        return Ok(true);
    }
    let path = &project.stack.files()[file].path;
    let named_after = table.is_keyed_by_file();
    with_text(&project.stack, file, |text| {
        let spans = records.iter().map(|record| table.format.with_separator(text.as_str(), *record));
        let (rest, _) = without(text.as_str(), &joined(spans.collect()));
        let rest = Text::of_file(&rest);
        if rest.as_str()[rest.body()..].trim().is_empty() {
            return named_after || !table.format.may_be_empty();
        }
        // A head and notes alone are no file in formats that need something in it.
        !table.format.may_be_empty() && is_broken(table, path, &rest) && !is_broken(table, path, text)
    })
}

/// Whether `text` is no sound file of the table's format.
fn is_broken(table: &Table, path: &RelPath, text: &Text<'_>) -> bool {
    struct Faults(bool);
    impl RecordVisitor for Faults {
        fn record(&mut self, _record: &RecordView<'_>) {}
        fn fault(&mut self, fault: Fault) {
            self.0 |= fault.code == Code::SYNTAX_ERROR;
        }
    }
    let mut faults = Faults(false);
    read_records(table, path, text, &[], &mut faults);
    faults.0
}

/// Takes a file of the mod out of it, to be kept aside.
fn take_file_out(
    project: &Project,
    builder: &mut Builder<'_>,
    found: &Found,
    file: FileId,
) -> Result<SetAside, Error> {
    let stack = &project.stack;
    let (path, layer) = (&stack.files()[file].path, stack.files()[file].layer);
    let below = stack.files().iter().find(|other| other.path == *path && other.layer < layer);
    if let Some(below) = below {
        let name = &stack.layers()[below.layer].name;
        let reason =
            format!("`{path}` takes the place of that of the layer `{name}`, which would be read again");
        return Err(Error::refused(reason, "nothing was changed"));
    }
    builder.remove(file)?;
    let bytes = builder.bytes(file)?.to_vec();
    let name = SetAside::name_of(path, &bytes);
    let before = SetAside::file_bytes(&project.folder, &name)?;
    // What an archive keeps of an entry is nothing that a file could have.
    let like = Some(path.clone()).filter(|path| stack.mod_archive(path).is_none());
    builder.write_own(OwnChange { like, ..file_change(&name, before, Some(bytes)) });
    let table = &project.schema.tables[found.table];
    Ok(SetAside {
        path: path.to_string(),
        address: Address::show(&table.name, &found.key),
        table: table.name.clone(),
        key: found.key.clone(),
        field: None,
        text: String::new(),
        before: String::new(),
        after: String::new(),
        file: Some(name),
    })
}

fn unfit(address: &str) -> Error {
    let reason = format!("{address} cannot be made a note: something else stands on its line");
    Error::refused(reason, "name the record or the field instead: table:key.field")
}
