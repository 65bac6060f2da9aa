//! How many problems there are, by what they are about: for those who ask whether a schema fits the data.

use super::finders;
use super::report::{Context, Placed};
use super::seeds::Seeds;
use crate::Code;
use crate::links::Index;
use crate::problem::Problem;
use crate::reading::{FactsCache, View};
use std::collections::{BTreeMap, BTreeSet};

/// Problems of one check, table and field.
#[derive(Debug, Clone)]
pub struct FaultGroup {
    /// The check.
    pub code: Code,
    /// The table, by name; for a problem of a file as a whole one of those that read it.
    pub table: Option<String>,
    /// The field, by name.
    pub field: Option<String>,
    /// How many there are.
    pub count: usize,
    /// In how many files.
    pub files: usize,
    /// One of them.
    pub example: Problem,
}

/// What was counted.
#[derive(Debug, Clone, Default)]
pub struct FaultCounts {
    /// The groups, by code, table and field.
    pub groups: Vec<FaultGroup>,
    /// How many records each table has, by name.
    pub records: BTreeMap<String, usize>,
    /// How many files each table has, by name.
    pub files: BTreeMap<String, usize>,
}

/// What a group is about.
type Identity = (Code, Option<String>, Option<String>);

/// Counts the problems of all layers through that of `view`. Cost: that of a check, without the words of all problems but one
/// in each group.
pub fn fault_counts(view: View<'_>) -> FaultCounts {
    let finders = finders(view.schema);
    let index = Index::build(view, &finders, &FactsCache::default());
    let (placed, whole) = Seeds::find(&index, None).into_parts();
    let mut counts: BTreeMap<Identity, (usize, usize, BTreeSet<u32>)> = BTreeMap::new();
    for (at, (file, seed)) in placed.iter().enumerate() {
        let of_file = || index.files[*file as usize].facts.tables.first().map(|facts| facts.table);
        let table = seed.table.or_else(of_file).map(|id| &view.schema.tables[id]);
        let field = table.zip(seed.rule).map(|(table, rule)| &table.fields[table.rules[rule].field].name);
        let identity = (seed.code, table.map(|table| table.name.clone()), field.cloned());
        let own = counts.entry(identity).or_insert((0, at, BTreeSet::new()));
        own.0 += 1;
        own.2.insert(*file);
    }
    // The words of one of each group, made together: what they need is read once.
    let examples: Vec<Placed> = counts.values().map(|(_, first, _)| placed[*first].clone()).collect();
    let problems = Context::new(&index, &examples).problems(examples, false);
    let example_of = |code: Code, table: &Option<String>, field: &Option<String>, file: u32| {
        let path = view.stack.files()[index.files[file as usize].id].path.as_str();
        let of_code = || problems.iter().filter(move |own| own.code == code && own.place.path == path);
        let exact = of_code().find(|own| own.table == *table && own.field == *field);
        exact.or_else(|| of_code().next()).cloned()
    };
    let mut groups: Vec<FaultGroup> = Vec::new();
    for ((code, table, field), (count, first, files)) in counts {
        let example = example_of(code, &table, &field, placed[first].0);
        let files = files.len();
        groups.extend(example.map(|example| FaultGroup { code, table, field, count, files, example }));
    }
    let mut of_whole: BTreeMap<Identity, (usize, Problem)> = BTreeMap::new();
    for problem in whole {
        let identity = (problem.code, problem.table.clone(), problem.field.clone());
        of_whole.entry(identity).or_insert((0, problem)).0 += 1;
    }
    let of_whole = of_whole.into_iter();
    groups.extend(of_whole.map(|((code, table, field), (count, example))| FaultGroup {
        code,
        table,
        field,
        count,
        files: 1,
        example,
    }));
    let tables = view.schema.tables.iter().zip(&index.tables);
    let records = tables.clone().map(|(table, own)| (table.name.clone(), own.records)).collect();
    let files = tables.map(|(table, own)| (table.name.clone(), own.files.len())).collect();
    FaultCounts { groups, records, files }
}
