//! Which things of a nested file are like records: what comes again and again with the same names inside.

use super::recognise::Settings;
use crate::formats::{Blocks, ITEM, Json, Outline, OutlineNode, Xml};
use std::collections::HashMap;

/// The name and value of the setting that leads to records.
pub(super) type Place = (&'static str, String);

/// A set of like records in a file.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct RecordShape {
    /// The setting of the format that leads to them, and its value: `records`, `$.objects[*]`.
    pub records: Option<Place>,
    /// Further settings of the format that only these have.
    pub settings: Settings,
    /// What they are called in the file, if that is anything.
    pub name: Option<String>,
    /// What names a record by its place: `{member}`, `{section}`, a part of the line.
    pub key: Option<String>,
    /// The columns, as the format names them; empty where the format tells them itself.
    pub columns: Vec<String>,
    /// Whether each file is one record.
    pub whole_file: bool,
    /// Whether their name says of what kind they are, wherever they stand.
    pub kind: bool,
    /// Whether they stand inside other records: they are a table only if they have names of their own.
    pub inner: bool,
}

impl RecordShape {
    /// Records that the format finds without a setting.
    pub fn plain(key: Option<&str>) -> RecordShape {
        RecordShape { key: key.map(str::to_owned), ..RecordShape::default() }
    }

    /// Whether these are so few `records`, so deep inside of something that is there once, that they are no table.
    pub fn is_slight(&self, records: u64) -> bool {
        const FEW: u64 = 3;
        let Some((_, path)) = self.records.as_ref().filter(|_| !self.whole_file && records < FEW) else {
            return false;
        };
        let (sign, deep) = match path.chars().next() {
            Some('$') => ('.', 3),
            Some('/') => ('/', 3),
            _ => ('/', 2),
        };
        let steps = path.trim_start_matches('$').split(sign).filter(|step| !step.is_empty() && *step != "*");
        steps.count() >= deep
    }
}

/// How often like things must be met to be taken for records filed under their names.
const FEWEST_OF_A_MAP: usize = 3;
/// How many plain values of one kind are taken for a list of entries rather than the fields of one record.
const MANY_VALUES: usize = 12;
/// How deep below a record columns are looked for.
const DEEPEST_COLUMN: usize = 3;
/// How many columns a record has at most.
const MOST_COLUMNS: usize = 400;

/// So many files that are a record each are no chance.
const SEVERAL_FILES: usize = 3;

/// What stands deeper than this is in no path that a person would write.
const DEEPEST: usize = 64;

/// The sets of like records that `outline` shows, of so many `files` of the format called `kind`.
pub(super) fn shapes_of(outline: &Outline, kind: &'static str, files: usize) -> Vec<RecordShape> {
    let syntax = Syntax { kind };
    let mut found = Vec::new();
    // A place with its steps. Only what stands below things that are there once can be reached by a path
    // that means the same in each file.
    let mut open: Vec<(usize, Vec<String>)> = vec![(0, Vec::new())];
    while let Some((at, steps)) = open.pop() {
        let node = &outline.nodes[at];
        if is_map(outline, at, kind) {
            let mut path = steps.clone();
            path.push("*".to_owned());
            let plain = node.children.iter().all(|child| outline.nodes[*child].children.is_empty());
            let mut columns = vec![syntax.name_of_place().to_owned()];
            match plain {
                true => columns.push(syntax.own_value().to_owned()),
                false => columns.extend(columns_of(outline, &node.children, &syntax)),
            }
            found.push(RecordShape {
                records: Some(syntax.records(&path, plain)),
                name: steps.last().cloned(),
                key: Some(syntax.name_of_place().to_owned()),
                columns,
                ..RecordShape::default()
            });
            continue;
        }
        let mut deeper = Vec::new();
        for child in &node.children {
            let own = &outline.nodes[*child];
            if steps.len() >= DEEPEST {
                break;
            }
            let mut path = steps.clone();
            path.push(own.name.clone());
            if own.children.is_empty() {
                continue;
            }
            let one_a_file = is_one_a_file(outline, at, *child, kind, files);
            let repeated = own.most > 1 || own.name == ITEM || one_a_file;
            if one_a_file && holds_many(outline, *child) {
                // What it holds are records too.
                deeper.push((*child, path.clone()));
            }
            if syntax.kind != Json::NAME && own.name != ITEM && contains_itself(outline, *child) {
                // Such things may stand at any depth.
                let mut columns = columns_of(outline, &[*child], &syntax);
                let inside = format!("{}/", own.name);
                columns.retain(|column| !column.starts_with(&inside));
                found.push(RecordShape {
                    records: Some(syntax.anywhere(&own.name)),
                    name: Some(own.name.clone()),
                    key: None,
                    columns,
                    ..RecordShape::default()
                });
            } else if repeated {
                let columns = columns_of(outline, &[*child], &syntax);
                if !columns.is_empty() {
                    let named = path.iter().rev().find(|step| *step != ITEM);
                    found.push(RecordShape {
                        records: Some(syntax.records(&path, false)),
                        name: named.cloned(),
                        key: None,
                        columns,
                        ..RecordShape::default()
                    });
                    found.extend(inner_shapes(outline, *child, &path, &syntax));
                }
            } else {
                deeper.push((*child, path));
            }
        }
        // A file with values of its own is a record itself; in XML its root element is.
        let own_values = node.children.iter().filter(|child| is_value(outline, **child)).count();
        let is_root = match kind {
            Xml::NAME => steps.len() == 1,
            _ => steps.is_empty(),
        };
        if is_root && own_values > 0 {
            found.push(RecordShape {
                records: Some(syntax.records(&steps, false)),
                name: None,
                key: Some("{stem}".to_owned()),
                columns: columns_of(outline, &[at], &syntax),
                whole_file: true,
                ..RecordShape::default()
            });
        }
        deeper.reverse();
        open.extend(deeper);
    }
    // What is a record of its own is no column of the record around it.
    let own_paths: Vec<String> = found
        .iter()
        .filter(|shape| !shape.whole_file)
        .filter_map(|shape| Some(syntax.below(&shape.records.as_ref()?.1)))
        .collect();
    let is_own =
        |column: &String| !own_paths.iter().any(|path| !path.is_empty() && column.starts_with(path.as_str()));
    let others = found.len() > 1;
    let own = |shape: &RecordShape| match shape.whole_file {
        true => shape.columns.iter().filter(|column| is_own(column)).count(),
        false => shape.columns.len(),
    };
    let has_identifier = |shape: &RecordShape| {
        shape.columns.iter().any(|column| is_own(column) && is_identifier_of(column, None))
    };
    found.retain(|shape| own(shape) > usize::from(shape.whole_file && others && !has_identifier(shape)));
    if files >= SEVERAL_FILES && found.iter().any(|shape| shape.whole_file) {
        // What stands in such a file belongs to it, unless it has a name of its own.
        for shape in found.iter_mut().filter(|shape| !shape.whole_file) {
            shape.inner = true;
        }
    } else {
        found.iter_mut().filter(|shape| shape.whole_file).for_each(|shape| shape.columns.retain(is_own));
    }
    found
}

/// The word behind the name in the head of a block.
const LABEL: &str = "{label}";

/// Whether each file holds nothing but one thing at node `child`, of one kind in all of them: `boat scow { ... }`.
fn is_one_a_file(outline: &Outline, at: usize, child: usize, kind: &str, files: usize) -> bool {
    /// With fewer values of its own it may hold the records together.
    const FEWEST_VALUES: usize = 2;
    let (around, own) = (&outline.nodes[at], &outline.nodes[child]);
    let values = own.children.iter().filter(|inner| is_value(outline, **inner)).count();
    // With a name of its own and values it is a record all the same.
    let is_named = own.children.iter().any(|inner| outline.nodes[*inner].name == LABEL);
    let is_record = !holds_many(outline, child) || (is_named && values > FEWEST_VALUES);
    kind != Xml::NAME
        && at == 0
        && around.children.len() == 1
        && files >= SEVERAL_FILES
        && own.met as usize * 10 >= files * 9
        && values >= FEWEST_VALUES
        && is_record
        && !is_map(outline, child, kind)
}

/// Whether many like things stand inside each of what node `at` stands for, so that these are records, and it holds them together.
fn holds_many(outline: &Outline, at: usize) -> bool {
    /// So many, on the average.
    const MANY: u32 = 3;
    let own = &outline.nodes[at];
    own.children.iter().any(|inner| {
        let inner = &outline.nodes[*inner];
        !inner.children.is_empty() && inner.most > 1 && inner.met >= own.met * MANY
    })
}

/// The sets of like records inside the records at node `at`, which `steps` lead to: things that are there several times,
/// each with an identifier.
fn inner_shapes(outline: &Outline, at: usize, steps: &[String], syntax: &Syntax) -> Vec<RecordShape> {
    let depth = steps.len() + DEEPEST_COLUMN;
    let mut found = Vec::new();
    let mut open: Vec<(usize, Vec<String>)> = vec![(at, steps.to_vec())];
    while let Some((at, steps)) = open.pop() {
        for child in
            outline.nodes[at].children.iter().filter(|child| !outline.nodes[**child].children.is_empty())
        {
            let own = &outline.nodes[*child];
            let mut path = steps.clone();
            path.push(own.name.clone());
            let name = path.iter().rev().find(|step| *step != ITEM).cloned();
            let has_identifier = own.children.iter().any(|leaf| {
                let leaf = &outline.nodes[*leaf];
                leaf.children.is_empty() && leaf.values > 0 && is_identifier_of(&leaf.name, name.as_deref())
            });
            if (own.most > 1 || own.name == ITEM) && has_identifier {
                found.push(RecordShape {
                    records: Some(syntax.records(&path, false)),
                    columns: columns_of(outline, &[*child], syntax),
                    name,
                    inner: true,
                    ..RecordShape::default()
                });
            } else if path.len() < depth {
                open.push((*child, path));
            }
        }
    }
    found
}

/// Whether `leaf` is called as an identifier of what is called `thing`: `id`, `@key`, `berth_id` of a berth.
fn is_identifier_of(leaf: &str, thing: Option<&str>) -> bool {
    const OF_IDENTIFIERS: [&str; 7] = ["id", "key", "uid", "ident", "identifier", "code", "guid"];
    let mut words = super::names::words(leaf);
    let named = words.pop().is_some_and(|last| OF_IDENTIFIERS.contains(&last.as_str()));
    named && (words.is_empty() || thing.is_some_and(|thing| words == super::names::words(thing)))
}

/// Whether node `at` is there as a plain value, or as a list of such.
fn is_value(outline: &Outline, at: usize) -> bool {
    let node = &outline.nodes[at];
    node.values > 0 && node.children.is_empty()
        || !node.children.is_empty()
            && node.children.iter().all(|child| {
                let own = &outline.nodes[*child];
                own.children.is_empty() && (own.name == ITEM || own.name == "{items}")
            })
}

/// Whether things called as node `at` stand inside it too.
fn contains_itself(outline: &Outline, at: usize) -> bool {
    let name = &outline.nodes[at].name;
    let mut open: Vec<usize> = outline.nodes[at].children.clone();
    while let Some(child) = open.pop() {
        let own = &outline.nodes[child];
        if own.name == *name && !own.children.is_empty() {
            return true;
        }
        open.extend(&own.children);
    }
    false
}

/// Whether what stands inside node `at` are records filed under their names: many things, each there once,
/// with mostly the same names inside.
fn is_map(outline: &Outline, at: usize, kind: &str) -> bool {
    let node = &outline.nodes[at];
    let children: Vec<&OutlineNode> = node.children.iter().map(|child| &outline.nodes[*child]).collect();
    if children.iter().any(|child| child.most > 1 || child.name == ITEM || child.name.starts_with('@')) {
        return false;
    }
    let (leaves, structures): (Vec<&OutlineNode>, Vec<&OutlineNode>) =
        children.iter().partition(|child| child.children.is_empty());
    if structures.is_empty() {
        // Plain values under names: the fields of one record, unless they are many of one kind that are
        // not the same in each file.
        let numbers = leaves.iter().filter(|leaf| leaf.numbers > 0).count();
        let one_kind = numbers == 0 || numbers == leaves.len();
        let own = leaves.iter().filter(|leaf| leaf.met == 1).count();
        // In XML only what stands in the root element.
        let may_be = kind == Json::NAME || kind == Xml::NAME && outline.nodes[0].children.contains(&at);
        return may_be && leaves.len() >= MANY_VALUES && one_kind && own * 10 >= leaves.len() * 7;
    }
    // A block with nothing but blocks in it holds records; elsewhere it takes more to tell.
    let bare = kind == Blocks::NAME && leaves.is_empty() && at != 0;
    let fewest = if bare { 1 } else { FEWEST_OF_A_MAP };
    if structures.len() < fewest || leaves.len() * 2 > structures.len() {
        return false;
    }
    alike(outline, &structures) >= 0.6 || leaves.is_empty() && names_vary(outline, &node.children)
}

/// Which share of the names inside `things` at least a third of them have, and never only one of several.
fn alike(outline: &Outline, things: &[&OutlineNode]) -> f64 {
    let fewest = things.len().div_ceil(3).max(things.len().min(2));
    let mut counts = HashMap::new();
    for thing in things {
        for child in &thing.children {
            *counts.entry(outline.nodes[*child].name.as_str()).or_insert(0usize) += 1;
        }
    }
    let all: usize = counts.values().sum();
    let common: usize = counts.values().filter(|count| **count >= fewest).sum();
    if all == 0 { 0.0 } else { common as f64 / all as f64 }
}

/// The columns of records that stand at `nodes`, taken together: all values below them, as paths.
fn columns_of(outline: &Outline, nodes: &[usize], syntax: &Syntax) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    // What stands at the same path below each of the records.
    let mut open: Vec<(Vec<usize>, Vec<String>)> = vec![(nodes.to_vec(), Vec::new())];
    while let Some((same, steps)) = open.pop() {
        if names_vary(outline, &same) {
            out.extend(syntax.varying(&steps));
            continue;
        }
        let values = || same.iter().filter(|at| is_value(outline, **at));
        let has_value = values().next().is_some() || same.iter().any(|at| outline.nodes[*at].values > 0);
        if has_value && out.len() < MOST_COLUMNS {
            let column = syntax.column(outline, &same, &steps);
            let places = 1..=words_apart(outline, &same);
            let of_words = places.map(|place| format!("{column}/{{{place}}}")).collect::<Vec<_>>();
            let columns = if of_words.is_empty() { vec![column] } else { of_words };
            out.extend(columns.into_iter().filter(|column| !out.contains(column)).collect::<Vec<_>>());
        }
        let ends_here = !steps.is_empty() && syntax.kind != Xml::NAME && values().count() == same.len();
        if steps.len() >= DEEPEST_COLUMN || ends_here {
            continue;
        }
        let mut below: Vec<(&str, Vec<usize>)> = Vec::new();
        let mut places: HashMap<&str, usize> = HashMap::new();
        for child in same.iter().flat_map(|at| &outline.nodes[*at].children) {
            let name = outline.nodes[*child].name.as_str();
            let place = *places.entry(name).or_insert_with(|| {
                below.push((name, Vec::new()));
                below.len() - 1
            });
            below[place].1.push(*child);
        }
        for (name, children) in below.into_iter().rev() {
            let mut path = steps.clone();
            path.push(name.to_owned());
            open.push((children, path));
        }
    }
    out
}

/// How many words the values of the nodes `same` have, if all have as many and these are not alike: some are numbers and others
/// none, as in `load coal 3`. Otherwise 0.
fn words_apart(outline: &Outline, same: &[usize]) -> usize {
    let met: u32 = same.iter().map(|at| outline.nodes[*at].values).sum();
    let most = same.iter().map(|at| outline.nodes[*at].words.len()).max().unwrap_or_default();
    let of_place = |place: usize| {
        let counts = same.iter().filter_map(|at| outline.nodes[*at].words.get(place));
        counts.fold((0, 0), |(met, numbers), own| (met + own.met, numbers + own.numbers))
    };
    let counts: Vec<(u32, u32)> = (0..most).map(of_place).collect();
    let are_all = counts.len() > 1 && counts.iter().all(|(own, _)| *own == met);
    let differ =
        counts.iter().any(|(met, numbers)| met == numbers) && counts.iter().any(|(_, numbers)| *numbers == 0);
    if are_all && differ { most } else { 0 }
}

/// Whether what stands inside the nodes `same` is no set of fields but values of one kind under names that vary from one
/// to the next, as `cost = { rope = 3 wool = 1 }` has them: the names themselves say something.
fn names_vary(outline: &Outline, same: &[usize]) -> bool {
    /// Of fewer names each may be a field that others lack.
    const FEWEST: usize = 5;
    let met: u32 = same.iter().map(|at| outline.nodes[*at].met).sum();
    let mut names: HashMap<&str, u32> = HashMap::new();
    let (mut values, mut numbers, mut repeated) = (0, 0, 0);
    for child in same.iter().flat_map(|at| &outline.nodes[*at].children) {
        let own = &outline.nodes[*child];
        let is_none = own.name == ITEM || own.name.starts_with(['@', '{']);
        if is_none || own.values < own.met || !own.children.is_empty() {
            return false;
        }
        repeated += usize::from(own.most > 1);
        *names.entry(own.name.as_str()).or_default() += own.met;
        (values, numbers) = (values + own.values, numbers + own.numbers);
    }
    let most = names.values().copied().max().unwrap_or_default();
    let of_one_kind = numbers == 0 || numbers == values;
    // A name may be there twice by a slip.
    names.len() >= FEWEST
        && repeated * 5 <= names.len()
        && met >= 3
        && most * 10 <= met * 7
        && of_one_kind
        && values * 2 <= met * names.len() as u32
}

/// How a format writes paths.
struct Syntax {
    kind: &'static str,
}

impl Syntax {
    /// The column for the name under which a record is filed.
    fn name_of_place(&self) -> &'static str {
        match self.kind {
            Json::NAME => "{member}",
            Xml::NAME => "name()",
            _ => "{name}",
        }
    }

    /// The column for a record that is a plain value itself.
    fn own_value(&self) -> &'static str {
        match self.kind {
            Json::NAME => "$",
            Xml::NAME => ".",
            _ => "{value}",
        }
    }

    /// The setting that leads to records at `steps`.
    fn records(&self, steps: &[String], values: bool) -> Place {
        match self.kind {
            Json::NAME => ("records", json_path("$", steps)),
            Xml::NAME => ("records", format!("/{}", steps.join("/"))),
            _ if steps.is_empty() => ("records", ".".to_owned()),
            _ if values => ("entries", block_path(steps)),
            _ => ("records", block_path(steps)),
        }
    }

    /// The setting that leads to things called `name` at any depth.
    fn anywhere(&self, name: &str) -> Place {
        match self.kind {
            Xml::NAME => ("records", format!("//{name}")),
            _ => ("records", format!("**/{name}")),
        }
    }

    /// What the columns of a whole file begin with if they lead to the records at `path`.
    fn below(&self, path: &str) -> String {
        match self.kind {
            Json::NAME => match path.trim_start_matches('$').trim_start_matches('.').strip_suffix(".*") {
                Some(map) => format!("{map}."),
                None => path.trim_start_matches('$').trim_start_matches('.').to_owned(),
            },
            Xml::NAME => {
                // Without the root element.
                let inside = path.trim_start_matches('/').split_once('/').map_or("", |(_, inside)| inside);
                if inside.is_empty() { String::new() } else { format!("{inside}/") }
            }
            _ => format!("{}/", path.strip_suffix("/*").unwrap_or(path)),
        }
    }

    /// The columns for names that vary, and for the values under them, at `steps` below the record.
    fn varying(&self, steps: &[String]) -> [String; 2] {
        let any: Vec<String> = steps.iter().cloned().chain(["*".to_owned()]).collect();
        match self.kind {
            Json::NAME => {
                let path = json_path("", &any);
                let path = path.trim_start_matches('.');
                [format!("{path}.{}", self.name_of_place()), path.to_owned()]
            }
            _ => [format!("{}/{}", block_path(&any), self.name_of_place()), block_path(&any)],
        }
    }

    /// The column for the values `same` at `steps` below the record.
    fn column(&self, outline: &Outline, same: &[usize], steps: &[String]) -> String {
        match self.kind {
            Json::NAME => {
                let mut inside = same.iter().flat_map(|at| &outline.nodes[*at].children);
                let items = inside.any(|child| outline.nodes[*child].name == ITEM);
                let path = json_path("", steps);
                let path = match path.strip_prefix('.') {
                    Some(path) => path.to_owned(),
                    None => format!("${path}"),
                };
                format!("{path}{}", if items { ITEM } else { "" })
            }
            Blocks::NAME if steps.is_empty() => "{items}".to_owned(),
            _ if steps.is_empty() => self.own_value().to_owned(),
            _ => block_path(steps),
        }
    }
}

/// A path through blocks; an item of a list is a block of any name.
fn block_path(steps: &[String]) -> String {
    steps.iter().map(|step| if step == ITEM { "*" } else { step.as_str() }).collect::<Vec<_>>().join("/")
}

/// A path in the subset of JSONPath that the schema takes.
fn json_path(root: &str, steps: &[String]) -> String {
    let mut out = root.to_owned();
    for step in steps {
        let plain =
            !step.is_empty() && step.chars().all(|next| next.is_alphanumeric() || "_-$".contains(next));
        match step.as_str() {
            ITEM => out += ITEM,
            "*" => out += ".*",
            name if plain => out += &format!(".{name}"),
            name => out += &format!("['{name}']"),
        }
    }
    out
}
