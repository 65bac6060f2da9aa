//! What follows from something else that is told. Above all what a fault in the structure of a file causes besides: names
//! that are not read lead nowhere, values land in wrong places, records lack what stands behind the fault. Only the fault
//! itself is told; what else is wrong there is told when that is put right.

use super::report::Placed;
use crate::Code;
use crate::layers::RelPath;
use crate::links::Index;
use crate::problem::Problem;
use crate::reading::with_text;
use crate::schema::{Table, TableId, ValueRule};
use crate::tables::{RecordView, RecordVisitor, SeedDetail, key_hash, read_records};
use crate::text::{LineTable, Span, Text};
use rayon::prelude::*;
use std::collections::{BTreeMap, HashMap, HashSet};

/// In a table of no more files a column that they lack is told of the files alone.
const FEW_FILES: usize = 2;

/// So much of a file is searched for names that were not read, in bytes.
const MOST_SEARCHED: usize = 4 << 20;

/// Leaves out what follows from something else that is told: of `placed`, and of the problems of the `whole`.
pub(super) fn leave_out(index: &Index<'_>, placed: &mut Vec<Placed>, whole: &mut Vec<Problem>) {
    leave_out_of_structure(index, placed, whole);
    leave_out_told(index, placed, whole);
}

/// Leaves out what is told at the same place as something else: blanks at the end of values that are wrong since they have
/// them, and columns that nobody knows where one that is lacking is told to be meant.
fn leave_out_told(index: &Index<'_>, placed: &[Placed], whole: &mut Vec<Problem>) {
    let may_be_told = |problem: &Problem| [Code::STRAY_BLANK, Code::UNKNOWN_COLUMN].contains(&problem.code);
    if !whole.iter().any(may_be_told) {
        return;
    }
    let (mut ends, mut columns) = (HashSet::new(), HashSet::new());
    for (file, seed) in placed {
        let entry = &index.stack.files()[index.files[*file as usize].id];
        let end = (entry.path.as_str(), index.stack.layers()[entry.layer].name.as_str(), seed.span.end);
        if seed.code == Code::MISSING_COLUMN {
            columns.insert(end);
        } else if seed.record.is_some() {
            ends.insert(end);
        }
    }
    whole.retain(|problem| {
        let place = &problem.place;
        let end = (place.path.as_str(), place.layer.as_str(), place.in_text.end);
        match problem.code {
            Code::STRAY_BLANK => !ends.contains(&end),
            Code::UNKNOWN_COLUMN => !columns.contains(&end),
            _ => true,
        }
    });
}

/// Leaves out files that nothing names, and fields that no record has, where they are told to be meant by a slip of the mod.
pub(super) fn leave_out_meant(problems: &mut Vec<Problem>) {
    let meant = |code: Code| -> HashSet<(Option<String>, String)> {
        let slips = problems.iter().filter(|problem| problem.code == code && problem.counts());
        slips.filter_map(|problem| Some((problem.table.clone(), problem.meant.clone()?))).collect()
    };
    let columns = meant(Code::UNKNOWN_COLUMN);
    let files: HashSet<String> = meant(Code::MISSING_FILE).into_iter().map(|(_, path)| path).collect();
    if columns.is_empty() && files.is_empty() {
        return;
    }
    problems.retain(|problem| match (problem.code, &problem.field) {
        (Code::UNUSED_FIELD, Some(field)) => !columns.contains(&(problem.table.clone(), field.clone())),
        (Code::UNUSED_FILE, _) => !files.contains(&problem.place.path),
        _ => true,
    });
}

/// Leaves out what follows from faults in the structure of files.
fn leave_out_of_structure(index: &Index<'_>, placed: &mut Vec<Placed>, whole: &mut Vec<Problem>) {
    let mut faults: BTreeMap<(u32, TableId), Vec<(Span, Code)>> = BTreeMap::new();
    for (file, seed) in placed.iter().filter(|(_, seed)| is_structural(seed.code)) {
        if let Some(table) = seed.table {
            faults.entry((*file, table)).or_default().push((seed.span, seed.code));
        }
    }
    if faults.is_empty() {
        return;
    }
    // What the rows of a file are told to have, as long as that is the same of all.
    let mut alike: HashMap<(u32, TableId), Option<&str>> = HashMap::new();
    for (file, seed) in placed.iter().filter(|(_, seed)| seed.code == Code::COLUMN_COUNT) {
        if let (Some(table), SeedDetail::Known(fault)) = (seed.table, &seed.detail) {
            let message = fault.message.as_str();
            let first = alike.entry((*file, table)).or_insert(Some(message));
            *first = first.filter(|first| *first == message);
        }
    }
    let alike: HashSet<(u32, TableId)> =
        alike.into_iter().filter(|(_, message)| message.is_some()).map(|(of, _)| of).collect();
    // A column that the header lacks may be misspelt in the schema: that is told as well, but where it is one file or two of the
    // mod that lack it.
    let is_of_mod = |file: u32| {
        let layer = index.stack.files()[index.files[file as usize].id].layer;
        index.stack.layers()[layer].is_mod
    };
    let is_damage = |file: u32, table: TableId, faults: &[(Span, Code)]| {
        let lacks_only = faults.iter().all(|(_, code)| *code == Code::MISSING_COLUMN);
        !lacks_only || (is_of_mod(file) && index.tables[table].files.len() <= FEW_FILES)
    };
    let of_damage = faults.iter().filter(|((file, table), own)| is_damage(*file, *table, own));
    let damaged: HashSet<TableId> = of_damage.map(|((_, table), _)| *table).collect();
    // What a damaged file of the mod names may not have been read.
    let names_files = |table: TableId| {
        index.schema.tables[table].rules.iter().any(|rule| rule.file.is_some())
            || index.schema.companions.iter().any(|companion| companion.table == table)
    };
    let may_be_named = faults.keys().any(|(file, table)| is_of_mod(*file) && names_files(*table));
    let damages: HashMap<(u32, TableId), Damage> = faults
        .into_par_iter()
        .map(|(of, faults)| (of, Damage::find(index, of, faults, alike.contains(&of))))
        .collect();
    let mut unread: HashMap<TableId, HashSet<u64>> = HashMap::new();
    for ((_, table), damage) in &damages {
        unread.entry(*table).or_default().extend(&damage.names);
    }
    let is_unread = |file: u32, at: u32, rule: &ValueRule, hash: u64| {
        let has = |table: TableId| {
            // A value that stands there itself does not tell that there is such a name.
            let is_there =
                |damage: &Damage| damage.searched.iter().any(|part| part.range().contains(&(at as usize)));
            unread.get(&table).is_some_and(|names| names.contains(&hash))
                && !damages.get(&(file, table)).is_some_and(is_there)
        };
        let is_text = || rule.text.is_some() && index.schema.text_tables().any(has);
        rule.refs.iter().any(|target| has(target.table)) || is_text()
    };
    // Behind a delimiter too many or too few all values are in wrong columns. A single name of a record or text that leads nowhere
    // is a slip.
    let mut wrong: HashMap<(u32, TableId, u32), HashMap<u32, bool>> = HashMap::new();
    for (file, seed) in placed.iter().filter(|(_, seed)| !is_structural(seed.code) && !lacks(seed.code)) {
        let Some(damage) = seed.table.and_then(|table| damages.get(&(*file, table))) else { continue };
        if let (Some(table), Some(row)) = (seed.table, damage.row_of(seed.span)) {
            let of_row = wrong.entry((*file, table, row)).or_default();
            let is_name = matches!(seed.detail, SeedDetail::Link(_)) && seed.code != Code::MISSING_FILE;
            *of_row.entry(seed.span.start).or_default() |= is_name;
        }
    }
    let is_slip = |values: &HashMap<u32, bool>| values.len() == 1 && values.values().all(|leads| *leads);
    placed.retain_mut(|(file, seed)| {
        if let (SeedDetail::Link(hash), Some(table), Some(rule)) = (&seed.detail, seed.table, seed.rule)
            && is_unread(*file, seed.span.start, &index.schema.tables[table].rules[rule], *hash)
        {
            return false;
        }
        let Some(damage) = seed.table.and_then(|table| damages.get(&(*file, table))) else { return true };
        if seed.code == Code::COLUMN_COUNT
            && let (true, SeedDetail::Known(fault)) = (damage.header, &mut seed.detail)
        {
            fault.message += ", and so have the others";
            fault.help =
                Some("look at the header: it has a delimiter too many, or one is missing".to_owned());
        }
        if let (Some(table), Some(row)) = (seed.table, damage.row_of(seed.span))
            && !is_structural(seed.code)
            && !wrong.get(&(*file, table, row)).is_some_and(is_slip)
        {
            return false;
        }
        let facts =
            index.files[*file as usize].facts.tables.iter().find(|facts| Some(facts.table) == seed.table);
        let record = seed.record.and_then(|record| facts?.starts.get(record as usize).copied());
        damage.is_told(seed.code, seed.span, record)
    });
    let is_damaged = |problem: &Problem| {
        let table = problem.table.as_deref().and_then(|name| index.schema.table(name));
        table.is_some_and(|table| damaged.contains(&table))
    };
    whole.retain(|problem| match problem.code {
        Code::UNUSED_FIELD => !is_damaged(problem),
        Code::UNUSED_FILE => !may_be_named,
        _ => true,
    });
}

/// Whether problems of this code are faults in the structure.
pub(super) fn is_structural(code: Code) -> bool {
    [Code::SYNTAX_ERROR, Code::COLUMN_COUNT, Code::MISSING_COLUMN].contains(&code)
}

/// Whether problems of this code tell that something is not there.
fn lacks(code: Code) -> bool {
    [Code::REQUIRED_EMPTY, Code::MISSING_KEY, Code::INCOMPLETE_NAME].contains(&code)
}

/// What the faults in one file do to the records of a table.
#[derive(Debug, Default)]
struct Damage {
    /// The faults that are told: where each begins, in bytes.
    told: HashSet<(u32, Code)>,
    /// The lines of the faults, or of long lines what is near to them; in order.
    zones: Vec<Span>,
    /// The records that have faults in them or on their lines, in order; and from where on in each, in bytes.
    records: Vec<(Span, u32)>,
    /// The rows with too few or too many cells.
    rows: Vec<Span>,
    /// Whether no row fits the header, so that nothing can be said of the values.
    header: bool,
    /// Whether the header lacks columns, so that no record has them.
    lacks_columns: bool,
    /// The parts of the file that were searched for names.
    searched: Vec<Span>,
    /// Hashes of all words in these parts, which may be names that were not read.
    names: HashSet<u64>,
}

impl Damage {
    /// Looks at a file of a table; `alike` tells whether its rows with too few or too many cells have as many each.
    fn find(
        index: &Index<'_>,
        (file, id): (u32, TableId),
        mut faults: Vec<(Span, Code)>,
        alike: bool,
    ) -> Damage {
        faults.sort_unstable();
        let mut damage = Damage { header: alike, ..Damage::default() };
        let indexed = &index.files[file as usize];
        let path = &index.stack.files()[indexed.id].path;
        let table = &index.schema.tables[id];
        let looked = with_text(index.stack, indexed.id, |text| damage.look(table, path, text, &faults));
        // A file that cannot be read again: all that was found is told.
        if looked.is_err() {
            damage.header = false;
            damage.told = faults.into_iter().map(|(span, code)| (span.start, code)).collect();
        }
        damage
    }

    fn look(&mut self, table: &Table, path: &RelPath, text: &Text<'_>, faults: &[(Span, Code)]) {
        let mut records = Spans(Vec::new());
        read_records(table, path, text, &[], &mut records);
        let spans = records.0;
        let all = text.as_str();
        let lines = LineTable::new(all, text.body());
        let line = |at: u32| lines.line_column(all, at).0;
        let rows = faults.iter().filter(|(_, code)| *code == Code::COLUMN_COUNT).count();
        self.header &= rows > 1 && rows == spans.len();
        self.lacks_columns = faults.iter().any(|(_, code)| *code == Code::MISSING_COLUMN);
        let mut last_line = 0;
        for (at, (span, code)) in faults.iter().enumerate() {
            let here = line(span.start);
            let is_row = *code == Code::COLUMN_COUNT;
            let follows = match code {
                _ if *code == Code::MISSING_COLUMN => false,
                _ if is_row && self.header => {
                    faults[..at].iter().any(|(_, code)| *code == Code::COLUMN_COUNT)
                }
                _ if is_row => false,
                _ => here == last_line,
            };
            if *code == Code::SYNTAX_ERROR {
                last_line = here;
            }
            if !follows {
                self.told.insert((span.start, *code));
            }
        }
        let mut searched = 0;
        let mut last = Span::default();
        if self.header {
            self.add_names(all.get(..MOST_SEARCHED).unwrap_or(all));
            self.searched.push(Span::new(0, all.len()));
        }
        self.rows =
            faults.iter().filter(|(_, code)| *code == Code::COLUMN_COUNT).map(|(row, _)| *row).collect();
        let rows: Vec<Span> = self.rows.iter().filter(|_| !self.header).take(MOST_ROWS).copied().collect();
        for row in rows {
            // Of two cells that became one the first may be the key.
            for cell in row.of(all).split(is_sign).map(str::trim).filter(|cell| cell.len() <= LONGEST_CELL) {
                let ends = cell.char_indices().map(|(at, _)| at).skip(1).chain([cell.len()]);
                ends.for_each(|end| self.add_name(&cell[..end]));
            }
            self.searched.push(row);
        }
        for (fault, _) in faults.iter().filter(|(_, code)| *code == Code::SYNTAX_ERROR) {
            let zone = zone_of(all, &lines, *fault);
            let next = spans.partition_point(|span| span.start <= fault.start);
            let before = spans[..next].iter().rev().take(MOST_AROUND);
            let with_zone = |span: &Span| (*span, zone.start);
            // What begins at the fault is told to be there; what should have ended before has it.
            let has_it = |span: &&Span| span.end > zone.start && span.start != fault.start;
            self.records.extend(before.filter(has_it).map(with_zone));
            let behind = spans[next..].iter().take(MOST_AROUND);
            self.records.extend(behind.take_while(|span| span.start < zone.end).map(with_zone));
            self.zones.push(zone);
            let inside = |span: &&Span| span.end <= fault.start;
            let from = spans[..next].iter().rev().take(MOST_AROUND).find(inside).map_or(0, |span| span.end);
            let sound = spans.partition_point(|span| span.start < fault.start);
            let to = spans.get(sound).map_or(all.len(), |span| span.start as usize);
            let from = (from as usize).max(last.end as usize);
            let to = to.max(zone.end as usize);
            if from < to && searched < MOST_SEARCHED {
                let to = to.min(from + MOST_SEARCHED - searched);
                let part = all.as_bytes().get(from..to).unwrap_or_default();
                searched += part.len();
                self.add_names(&String::from_utf8_lossy(part));
                last = Span::new(from, to);
                self.searched.push(last);
            }
        }
        self.zones.sort_unstable();
        self.records.sort_unstable();
        // Of several faults in a record the first.
        self.records.dedup_by_key(|(span, _)| *span);
    }

    /// Adds what may be names in `text`: what stands between signs, as a whole and word by word.
    fn add_names(&mut self, text: &str) {
        for piece in text.split(is_sign).map(str::trim).filter(|piece| !piece.is_empty()) {
            std::iter::once(piece).chain(piece.split_whitespace()).for_each(|name| self.add_name(name));
        }
    }

    fn add_name(&mut self, name: &str) {
        self.names.insert(key_hash(name, false));
        self.names.insert(key_hash(name, true));
    }

    /// The row of another number of cells in which `span` stands, in bytes.
    fn row_of(&self, span: Span) -> Option<u32> {
        let next = self.rows.partition_point(|row| row.start <= span.start);
        self.rows[..next].last().filter(|row| span.start <= row.end).map(|row| row.start)
    }

    /// Whether a problem of this code at `span` is told, one of the record that begins at byte `record` if it is of one.
    fn is_told(&self, code: Code, span: Span, record: Option<u32>) -> bool {
        if is_structural(code) {
            return self.told.contains(&(span.start, code));
        }
        // What a record lacks may stand behind the fault, wherever that is told.
        let lacks = lacks(code);
        let in_zone = {
            let next = self.zones.partition_point(|zone| zone.start <= span.start);
            next > 0 && span.start < self.zones[next - 1].end
        };
        let in_record = |at: u32| {
            let next = self.records.partition_point(|(record, _)| record.start <= at);
            let mut around = self.records[..next].iter().rev().take(MOST_AROUND);
            around.any(|(record, fault)| {
                (at < record.end || at == record.start) && (lacks || span.start >= *fault)
            })
        };
        let of_columns = lacks && (self.lacks_columns || self.row_of(span).is_some());
        let of_record = in_record(span.start) || record.is_some_and(in_record);
        // What strict readers refuse does not come of it.
        let is_strict = [Code::NOT_STRICT_XML, Code::NOT_STRICT_JSON].contains(&code);
        !(self.header || of_columns || in_zone || (of_record && !is_strict))
    }
}

/// Whether a character stands between names.
fn is_sign(c: char) -> bool {
    "\"'{}[]()<>=,:;|/\t\r\n".contains(c)
}

/// The line of a fault; of a long line what is near to it.
fn zone_of(text: &str, lines: &LineTable, fault: Span) -> Span {
    const NEAR: usize = 200;
    let at = fault.start as usize;
    let Some(line) = lines.line(text, lines.line_column(text, fault.start).0) else { return fault };
    let start = line.as_ptr() as usize - text.as_ptr() as usize;
    Span::new(start.max(at.saturating_sub(NEAR)), (start + line.len()).min(at + NEAR))
}

/// Of so many rows with too few or too many cells the names are gone into, and of cells of so many bytes.
const MOST_ROWS: usize = 200;
const LONGEST_CELL: usize = 200;

/// So many records before a place are looked at to find those around it.
const MOST_AROUND: usize = 64;

/// The places of the records of a file, in order.
struct Spans(Vec<Span>);

impl RecordVisitor for Spans {
    fn record(&mut self, record: &RecordView<'_>) {
        self.0.push(record.span);
    }
}
