//! Measures what `init` makes of made-up games in many dialects: what a program writes and what people write, in XML, JSON, INI,
//! blocks and tables, with notes, marks, records that lack fields, files of several kinds, and more.
//!
//! Unlike the other measure of learning, this one knows nothing of how a schema says things: it knows at which byte of which file
//! which record is named, and whether the project that `init` would write leads there. What is right is judged by place.

mod world;
mod writing;

use anyhow::{Context, Result};
use clap::Parser;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use stitching_bench::Numbers;
use stitching_core::Project;
use stitching_core::checks::{check, finders};
use stitching_core::learn::{Band, Proposal, start, tried};
use stitching_core::links::Index;
use stitching_core::reading::{FactsCache, View};
use stitching_core::tables::LinkKind;
use world::{Kind, Maker};
use writing::{DIALECTS, Files, without_marks};

/// What `init` makes of games in many dialects.
#[derive(Debug, Parser)]
struct Args {
    /// The folder for the games; what is in it is replaced
    dir: PathBuf,
    /// How many games of each dialect
    #[arg(long, default_value_t = 5)]
    games: u64,
    /// Says what was missed and what was wrong
    #[arg(long)]
    verbose: bool,
}

/// What was found in games of a dialect.
#[derive(Debug, Default, Clone, Copy)]
struct Found {
    kinds: usize,
    keys: usize,
    places: usize,
    accepted: usize,
    asked: usize,
    columns: usize,
    wrong: usize,
    errors: usize,
}

/// How a schema does: the kinds whose records have their names, and for each true place whether it is a link.
struct Judged {
    keys: Vec<bool>,
    places: Vec<bool>,
    columns: usize,
    wrong: Vec<String>,
}

fn judge(project: &Project, kinds: &[Kind], files: &Files) -> Judged {
    let view = View::top(&project.stack, &project.schema);
    let index = Index::build(view, &finders(&project.schema), &FactsCache::default());
    let path = |file: u32| project.stack.files()[index.files[file as usize].id].path.as_str();
    let mut keys = Vec::new();
    for (kind, home) in kinds.iter().zip(&files.homes) {
        let wanted: BTreeSet<&str> = kind.records.iter().map(|record| record.key.as_str()).collect();
        let is_right = (0..index.tables.len()).any(|table| {
            let is_home = index.tables[table].files.iter().any(|file| path(file.file) == home);
            let own: Vec<&str> = index.keys(table).map(|(_, key)| key).collect();
            let found: BTreeSet<&str> = own.iter().copied().filter(|key| wanted.contains(key)).collect();
            is_home && found.len() == wanted.len()
        });
        keys.push(is_right);
    }
    let mut starts: HashMap<(&str, u32), bool> = HashMap::new();
    let mut of_columns: BTreeMap<(usize, usize), Vec<(&str, u32)>> = BTreeMap::new();
    for (file, indexed) in index.files.iter().enumerate() {
        for facts in &indexed.facts.tables {
            for links in facts.links.iter().filter(|links| links.kind == LinkKind::Reference) {
                let rule = &project.schema.tables[facts.table].rules[links.rule];
                for link in &links.links {
                    let place = (path(file as u32), link.start);
                    starts.insert(place, index.resolves(rule, links.kind, link));
                    of_columns.entry((facts.table, links.rule)).or_default().push(place);
                }
            }
        }
    }
    let is_true: HashSet<(&str, u32)> =
        files.places.iter().map(|(path, start, ..)| (path.as_str(), *start)).collect();
    let places =
        files.places.iter().map(|(path, start, ..)| starts.get(&(path.as_str(), *start)) == Some(&true));
    let places = places.collect();
    let is_wrong = |all: &Vec<(&str, u32)>| !all.iter().any(|place| is_true.contains(place));
    let columns = of_columns.len();
    let wrong = of_columns.iter().filter(|(_, all)| is_wrong(all)).map(|((table, rule), _)| {
        let table = &project.schema.tables[*table];
        format!("{}.{}", table.name, table.fields[table.rules[*rule].field].name)
    });
    Judged { keys, places, columns, wrong: wrong.collect() }
}

fn measure(args: &Args, number: usize, seed: u64) -> Result<Found> {
    let (name, dialect) = DIALECTS[number];
    let mut maker = Maker { numbers: Numbers(seed * 1000 + number as u64 + 7), used: HashSet::new() };
    let kinds = maker.world();
    let marked = dialect(&mut maker, &kinds);
    let files = without_marks(&kinds, marked);
    let folder = args.dir.join(format!("{number:02}_{seed}"));
    for (path, text) in &files.files {
        let path = folder.join(path);
        fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))?;
        fs::write(path, text)?;
    }
    let mut begun = start(&folder, &[], None).with_context(|| format!("{name}, {seed}"))?;
    let schema_name = begun.schema_name.clone();
    let open = |schema: &str| {
        Project::described(&folder, &begun.project, &[(schema_name.clone(), schema.to_owned())])
    };
    let project = open(&begun.schema)?;
    let own = judge(&project, &kinds, &files);
    let summary = check(project.view()).summary;
    // What is a question as well, as far as it holds.
    let described = |taken: &[&Proposal]| open(&stitching_core::learn::written("", taken)?);
    let asked = |_: usize, own: &Proposal| own.band != Band::Hidden;
    let found =
        tried(&mut begun.learned.proposals, asked, &BTreeSet::new(), &described, &Default::default())?;
    let taken: Vec<&Proposal> = found.taken.iter().map(|at| &begun.learned.proposals[*at]).collect();
    let all = judge(&described(&taken)?, &kinds, &files);
    if args.verbose {
        for (kind, _) in kinds.iter().zip(&own.keys).filter(|(_, right)| !**right) {
            println!("{name}, game {seed}: no table has the keys of {}", kind.name);
        }
        let mut missed: BTreeMap<(usize, &str), usize> = BTreeMap::new();
        for ((path, _, kind, _), _) in files.places.iter().zip(&all.places).filter(|(_, found)| !**found) {
            *missed.entry((*kind, path)).or_default() += 1;
        }
        for ((kind, path), count) in missed.iter().take(6) {
            println!("{name}, game {seed}: {count} names of {} are missed in {path}", kinds[*kind].name);
        }
        for column in &own.wrong {
            println!("{name}, game {seed}: {column} points nowhere");
        }
    }
    let count = |found: &[bool]| found.iter().filter(|found| **found).count();
    let either: Vec<bool> = own.places.iter().zip(&all.places).map(|(a, b)| *a || *b).collect();
    Ok(Found {
        kinds: kinds.len(),
        keys: count(&own.keys),
        places: files.places.len(),
        accepted: count(&own.places),
        asked: count(&either),
        columns: own.columns,
        wrong: own.wrong.len(),
        errors: summary.errors + summary.warnings,
    })
}

fn main() -> Result<()> {
    let args = Args::parse();
    if args.dir.exists() {
        fs::remove_dir_all(&args.dir).context("the folder could not be emptied")?;
    }
    println!("| dialect | keys right | places found: accept | accept or ask | links right | problems |");
    println!("| --- | ---: | ---: | ---: | ---: | ---: |");
    let mut total = Found::default();
    for (number, (name, _)) in DIALECTS.iter().enumerate() {
        let mut sum = Found::default();
        for seed in 0..args.games {
            let found = measure(&args, number, seed)?;
            for sum in [&mut sum, &mut total] {
                sum.kinds += found.kinds;
                sum.keys += found.keys;
                sum.places += found.places;
                sum.accepted += found.accepted;
                sum.asked += found.asked;
                sum.columns += found.columns;
                sum.wrong += found.wrong;
                sum.errors += found.errors;
            }
        }
        print(name, &sum);
    }
    print("all", &total);
    Ok(())
}

fn print(name: &str, found: &Found) {
    let share = |part: usize, whole: usize| part as f64 / whole.max(1) as f64;
    println!(
        "| {name} | {:.3} of {} | {:.3} of {} | {:.3} | {:.3} of {} | {} |",
        share(found.keys, found.kinds),
        found.kinds,
        share(found.accepted, found.places),
        found.places,
        share(found.asked, found.places),
        share(found.columns - found.wrong, found.columns),
        found.columns,
        found.errors
    );
}
