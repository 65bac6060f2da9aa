//! `stitching learn` and `stitching init`

use super::learn_summary::summary;
use super::schema_files::{ChangedSchema, schema_files};
use crate::args::{Global, Init, Learn};
use crate::render::{human, json};
use crate::ui::{BOLD, DIM, GREEN, Ui, YELLOW, count, grouped, styled, wants_json};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::ExitCode;
use stitching_core::checks::{FaultCounts, check};
use stitching_core::journal::create_descriptions;
use stitching_core::layers::LayerId;
use stitching_core::learn::{
    Band, Learned, Proposal, Topic, Tried, confirmed_too, counts_of_sound_data, learn, start, tried,
    without_refused,
};
use stitching_core::project::PROJECT_FILE;
use stitching_core::{Error, Place, Problem, Project};

/// The result of `learn`.
#[derive(Debug, Serialize)]
struct LearnShape<'l> {
    proposals: Vec<ProposalShape<'l>>,
    contradictions: Vec<ContradictionShape<'l>>,
    #[serde(flatten)]
    found: FoundShape<'l>,
}

/// The result of `init`.
#[derive(Debug, Serialize)]
struct InitShape<'l> {
    files: [&'l str; 2],
    proposals: Vec<ProposalShape<'l>>,
    #[serde(flatten)]
    found: FoundShape<'l>,
}

/// The result of `learn --write` and `--accept`.
#[derive(Debug, Serialize)]
struct WrittenShape<'l> {
    written: usize,
    files: Vec<&'l str>,
    left: Vec<LeftShape<'l>>,
}

/// A proposal that is not written, since it would bring problems.
#[derive(Debug, Serialize)]
pub struct LeftShape<'l> {
    number: usize,
    reason: &'l str,
}

/// What was found besides proposals.
#[derive(Debug, Serialize)]
struct FoundShape<'l> {
    unknown_files: &'l [String],
    copies: Vec<CopyShape<'l>>,
    passed_over: Vec<PassedOverShape<'l>>,
    languages: Vec<&'l str>,
}

/// Something in a folder that cannot be used, and why.
#[derive(Debug, Serialize)]
struct PassedOverShape<'l> {
    path: &'l str,
    layer: &'l str,
    reason: &'l str,
}

/// A file left out as the copy of another.
#[derive(Debug, Serialize)]
struct CopyShape<'l> {
    path: &'l str,
    of: &'l str,
}

#[derive(Debug, Serialize)]
struct ContradictionShape<'l> {
    field: &'l str,
    code: &'static str,
    count: usize,
}

#[derive(Debug, Serialize)]
pub struct ProposalShape<'l> {
    number: usize,
    band: &'static str,
    about: &'static str,
    table: &'l str,
    field: Option<&'l str>,
    says: &'l str,
    settings: json::MapShape<'l, String>,
    values: u64,
    fit: u64,
    distinct: u64,
    none: Vec<json::CountShape<'l>>,
    exceptions: Vec<ExceptionShape<'l>>,
    rivals: &'l [String],
    reasons: &'l [String],
}

/// A value that the proposal does not hold for.
#[derive(Debug, Serialize)]
struct ExceptionShape<'l> {
    value: &'l str,
    count: u64,
    near: Option<&'l str>,
    path: &'l str,
    layer: &'l str,
    line: usize,
    column: usize,
}

impl<'l> From<&'l Learned> for FoundShape<'l> {
    fn from(learned: &'l Learned) -> FoundShape<'l> {
        FoundShape {
            unknown_files: &learned.unknown,
            copies: learned.copies.iter().map(|(path, of)| CopyShape { path, of }).collect(),
            passed_over: learned.passed_over.iter().map(passed_over).collect(),
            languages: learned.languages.iter().map(|(code, _)| code.as_str()).collect(),
        }
    }
}

/// Exceptions shown for each proposal.
const EXCEPTIONS: usize = 3;

pub fn run(project: &Project, args: &Learn, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    if let Some(key) = &args.key {
        return super::corrections::set_key(project, key, as_json, ui);
    }
    if let Some(given) = &args.rename {
        return super::table_edits::rename(project, given, as_json, ui);
    }
    if !args.join.is_empty() {
        return super::table_edits::join(project, &args.join, as_json, ui);
    }
    if let Some(given) = &args.split {
        return super::table_edits::split(project, given, as_json, ui);
    }
    if args.rules {
        return super::obeyed::run(project, args, through, as_json, ui);
    }
    // A number is that of a proposal, unless a table is called so.
    let is_table = |name: &str| project.schema.table(name).is_some();
    let one = args.table.as_deref().filter(|name| !is_table(name));
    let one = one.and_then(|name| name.parse::<usize>().ok());
    if one.is_some() && (args.write || args.all || !args.accept.is_empty()) {
        return Err(Error::Usage {
            message: "the number of a proposal stands alone: it is shown".to_owned(),
            help: "to write it, use `stitching learn --accept N`".into(),
        });
    }
    let writes = args.write || !args.accept.is_empty() || !args.no.is_empty() || one.is_some();
    let schemas = schema_files(project)?;
    let (learned, contradicted) = ui.progress("studying the data", || {
        // What the one does alone leaves processors to the other.
        std::thread::scope(|scope| {
            let check = scope.spawn(|| match writes {
                true => Contradictions::new(),
                false => contradictions(project, args.table.as_deref(), through),
            });
            let mut learned = learn(project.view().until(through));
            without_refused(&mut learned.proposals, schemas.iter().map(|file| file.text.as_str()));
            (learned, check.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        })
    });
    let numbered: Vec<(usize, &Proposal)> =
        learned.proposals.iter().enumerate().map(|(at, own)| (at + 1, own)).collect();
    let of_table = |own: &&(usize, &Proposal)| args.table.as_ref().is_none_or(|table| own.1.table == *table);
    for number in args.accept.iter().chain(&args.no).chain(&one) {
        if !(1..=numbered.len()).contains(number) {
            let help = match numbered.len() {
                0 => "nothing is proposed: the schema says what can be learned from the data".to_owned(),
                last => format!("they have the numbers 1 to {last}"),
            };
            return Err(Error::Usage {
                message: format!("there is no proposal {number}"),
                help: help.into(),
            });
        }
    }
    if let Some(number) = one {
        return super::corrections::show(project, &learned.proposals, number - 1, as_json, ui);
    }
    if !args.no.is_empty() {
        let refused: Vec<&Proposal> = args.no.iter().map(|number| &learned.proposals[number - 1]).collect();
        return super::corrections::refuse(project, &refused, as_json, ui);
    }
    if let Some(table) = &args.table
        && !numbered.iter().any(|own| own.1.table == *table)
        && project.schema.table(table).is_none()
    {
        let near = stitching_core::text::nearest_of(table, numbered.iter().map(|own| own.1.table.as_str()));
        return Err(Error::Unknown {
            what: "table",
            name: table.clone(),
            help: match near.first() {
                Some(near) => format!("did you mean `{near}`?").into(),
                None => "`stitching learn` lists what was found".into(),
            },
        });
    }
    // Fields of a table that is a question itself would bring it along.
    let asked: BTreeSet<&str> = learned
        .proposals
        .iter()
        .filter(|own| own.topic == Topic::Table && own.band != Band::Accept)
        .map(|own| own.table.as_str())
        .collect();
    let is_sure = |own: &Proposal| own.band == Band::Accept && !asked.contains(own.table.as_str());
    if writes {
        let confirmed: Vec<usize> = args.accept.iter().map(|number| number - 1).collect();
        let too = confirmed_too(&learned.proposals, &confirmed);
        let named = |at: &usize| {
            let own = &learned.proposals[*at];
            format!("{}.{}", own.table, own.field.as_deref().unwrap_or_default())
        };
        if !too.is_empty() {
            let names: Vec<String> = too.iter().map(named).collect();
            ui.note(&format!(
                "with them goes what is called the same and points there too: {}",
                names.join(", ")
            ));
        }
        let of_table = |own: &Proposal| args.table.as_ref().is_none_or(|table| own.table == *table);
        let chosen: BTreeSet<usize> = (0..learned.proposals.len())
            .filter(|at| {
                let own = &learned.proposals[*at];
                let written = args.write && is_sure(own);
                confirmed.contains(at) || too.contains(at) || (of_table(own) && written)
            })
            .collect();
        let mut learned = learned;
        let found = ui.progress("trying it on the data", || {
            let before = match project.schema.tables.is_empty() {
                true => FaultCounts::default(),
                false => counts_of_sound_data(project),
            };
            let described =
                |taken: &[&Proposal]| ChangedSchema::with_proposals(project, taken)?.described(project);
            let seen: BTreeSet<usize> = confirmed.iter().copied().collect();
            tried(&mut learned.proposals, |at, _| chosen.contains(&at), &seen, &described, &before)
        })?;
        return write_tried(project, &learned.proposals, &found, as_json, ui);
    }
    let shown = |own: &&(usize, &Proposal)| args.all || own.1.band != Band::Hidden;
    let listed: Vec<(usize, &Proposal)> = numbered.iter().filter(of_table).filter(shown).copied().collect();
    if as_json {
        let contradictions = contradicted.iter().map(|((field, code), (count, _))| ContradictionShape {
            field,
            code,
            count: *count,
        });
        ui.json(&LearnShape {
            proposals: numbered.iter().filter(of_table).map(|(number, own)| shape(*number, own)).collect(),
            contradictions: contradictions.collect(),
            found: (&learned).into(),
        });
        return Ok(ExitCode::SUCCESS);
    }
    ui.out(&proposals_text(&listed, EXCEPTIONS));
    summary(&learned, ui);
    if !contradicted.is_empty() {
        let paths = human::Paths::of(project);
        ui.note("the data is not as the schema says (`stitching check --all` shows where):");
        for ((field, code), (number, place)) in &contradicted {
            ui.note(&format!(
                "  {field}: {code}, {}, first at {}",
                count(*number, "time"),
                paths.place(place)
            ));
        }
    }
    if let Some(first) = first_questions(&learned.proposals).filter(|_| args.table.is_none()) {
        ui.note(&first);
    }
    let accepted = listed.iter().filter(|own| own.1.band == Band::Accept).count();
    let sure = listed.iter().filter(|own| is_sure(own.1)).count();
    if sure > 0 {
        let but = if sure < accepted { ", but not those of tables that are a question" } else { "" };
        ui.note(&format!("`stitching learn --write` adds the {sure} marked `accept` to the schema{but}; `--accept N,...` adds others"));
    } else if !listed.is_empty() {
        ui.note("`stitching learn --accept N,...` adds proposals to the schema");
    } else {
        ui.note("nothing is proposed: the schema says what can be learned from the data");
    }
    Ok(ExitCode::SUCCESS)
}

/// What the data contradicts: fields of the schema with the codes of their problems, how often, and where first.
type Contradictions = BTreeMap<(String, &'static str), (usize, Place)>;

/// Where the data is not as the schema says, in all layers.
fn contradictions(project: &Project, table: Option<&str>, through: LayerId) -> Contradictions {
    let mut out = Contradictions::new();
    if project.schema.tables.is_empty() {
        return out;
    }
    for problem in check(project.view().until(through)).problems {
        let (Some(own), Some(field)) = (problem.table, problem.field) else { continue };
        if table.is_none_or(|table| own == table) {
            let place = problem.place;
            out.entry((format!("{own}.{field}"), problem.code.as_str())).or_insert((0, place)).0 += 1;
        }
    }
    out
}

/// Writes what a trial left, and says what is not written and why; then the status is 1.
fn write_tried(
    project: &Project,
    proposals: &[Proposal],
    found: &Tried,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let taken: Vec<&Proposal> = found.taken.iter().map(|at| &proposals[*at]).collect();
    let left = found.left.iter().map(|(at, reason)| LeftShape { number: at + 1, reason }).collect();
    write(project, &taken, left, as_json, ui)?;
    for (at, reason) in &found.left {
        let own = &proposals[*at];
        let field = own.field.as_deref().map(|field| format!(".{field}")).unwrap_or_default();
        ui.note(&format!("not written: {} ({}{field}): {reason}", at + 1, own.table));
    }
    if !found.left.is_empty() {
        ui.note(
            "what is right all the same can be written into the schema by hand: `stitching learn N` shows it",
        );
    }
    Ok(if found.left.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// Puts `taken` into the schema.
pub fn write(
    project: &Project,
    taken: &[&Proposal],
    left: Vec<LeftShape<'_>>,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let after = ChangedSchema::with_proposals(project, taken)?;
    // What would be written must be what can be read.
    after.described(project)?;
    after.write(project, ui)?;
    let files = after.names();
    if as_json {
        ui.json(&WrittenShape { written: taken.len(), files, left });
    } else if taken.is_empty() {
        ui.out("nothing is written\n");
    } else {
        ui.out(&format!("{} written into {}\n", count(taken.len(), "proposal"), files.join(", ")));
        ui.note("`stitching check` now uses them");
    }
    Ok(ExitCode::SUCCESS)
}

/// The code of the language that the system speaks to people, by the variables that POSIX names for it (Base Definitions, 8.2).
fn usual_language() -> Option<String> {
    let set = |name: &&str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let value = ["LC_ALL", "LC_MESSAGES", "LANG"].iter().find_map(set)?;
    let code = value.split(['_', '.', '@']).next().unwrap_or_default().to_lowercase();
    (2..=3).contains(&code.len()).then_some(code)
}

pub fn init(args: &Init, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let folder = global.project.clone().unwrap_or_else(|| Path::new(".").to_owned());
    if folder.join(PROJECT_FILE).exists() {
        ui.note(&format!(
            "`{PROJECT_FILE}` is here already and stays as it is; this is what could be added to its schema:"
        ));
        let project = super::open(global, ui)?;
        return run(&project, &Learn::default(), global, ui);
    }
    let found =
        ui.progress("studying the data", || start(&folder, &args.base, usual_language().as_deref()))?;
    create_descriptions(&[
        (&folder.join(PROJECT_FILE), &found.project),
        (&folder.join(&found.schema_name), &found.schema),
    ])?;
    ui.changed();
    if as_json {
        let proposals = found.learned.proposals.iter().enumerate();
        ui.json(&InitShape {
            files: [PROJECT_FILE, &found.schema_name],
            proposals: proposals.map(|(at, own)| shape(at + 1, own)).collect(),
            found: (&found.learned).into(),
        });
        return Ok(ExitCode::SUCCESS);
    }
    let own = &found.learned;
    let tables: Vec<&Proposal> =
        own.proposals.iter().filter(|own| own.topic == Topic::Table && own.band != Band::Hidden).collect();
    let mut out = format!("{PROJECT_FILE} and {} are written.\n\n", found.schema_name);
    let rows: Vec<Vec<String>> = tables
        .iter()
        .map(|table| {
            let key = setting(table, "key").trim_matches(['[', ']']).replace('"', "");
            vec![
                table.table.clone(),
                grouped(table.values as usize),
                key,
                table.says.clone(),
                match found.tables.contains(&table.table) {
                    true => table.reasons.join("; "),
                    false => format!("not written: {}", table.reasons.join("; ")),
                },
            ]
        })
        .collect();
    if rows.is_empty() {
        ui.out(&out);
        summary(own, ui);
        ui.note(
            "no tables were recognised here: run it in the mod's folder, and name the game's with `--base`",
        );
        return Ok(ExitCode::SUCCESS);
    }
    out += &crate::render::table::aligned(&["table", "records", "key", "what", "unsure"], &rows, ui.width());
    ui.out(&out);
    summary(own, ui);
    let asked = own.proposals.iter().filter(|own| own.band == Band::Ask && own.topic != Topic::Table).count();
    let accepted =
        own.proposals.iter().filter(|own| own.band == Band::Accept && own.topic != Topic::Table).count();
    let questions = match asked {
        0 => String::new(),
        1 => "; 1 more is a question: `stitching learn` shows it".to_owned(),
        _ => format!("; {asked} more are a question: `stitching learn` shows them"),
    };
    let holds = if accepted == 1 { "holds" } else { "hold" };
    ui.note(&format!("the schema says what {} {holds}{questions}", count(accepted, "field")));
    if let Some(first) = first_questions(&own.proposals) {
        ui.note(&first);
    }
    ui.note("next: `stitching check`, `stitching tables`, `stitching show TABLE`");
    Ok(ExitCode::SUCCESS)
}

/// Of many questions those that would say most, links first; `None` if there are few.
fn first_questions(all: &[Proposal]) -> Option<String> {
    const FEW: usize = 3;
    const SHOWN: usize = 4;
    let asked = |own: &(usize, &Proposal)| own.1.band == Band::Ask && own.1.topic != Topic::Table;
    let mut asked: Vec<(usize, &Proposal)> = all.iter().enumerate().filter(asked).collect();
    if asked.len() <= FEW {
        return None;
    }
    asked.sort_by_key(|(at, own)| (own.topic != Topic::Link, std::cmp::Reverse(own.fit), *at));
    let shown = |(at, own): &(usize, &Proposal)| {
        let field = own.field.as_deref().map(|field| format!(".{field}")).unwrap_or_default();
        format!("\n{:>6}  {}{field}  {}", at + 1, own.table, own.says)
    };
    let shown: String = asked.iter().take(SHOWN).map(shown).collect();
    Some(format!("the questions that would say most:{shown}"))
}

fn passed_over(problem: &Problem) -> PassedOverShape<'_> {
    let place = &problem.place;
    PassedOverShape { path: &place.path, layer: &place.layer, reason: &problem.message }
}

/// The proposals by table, each with what is needed to judge it.
pub fn proposals_text(listed: &[(usize, &Proposal)], exceptions: usize) -> String {
    let mut out = String::new();
    let mut table = "";
    for (number, own) in listed {
        if own.table != table {
            table = &own.table;
            out += &format!("{}{}\n", if out.is_empty() { "" } else { "\n" }, styled(BOLD, table));
        }
        let band = match own.band {
            Band::Accept => styled(GREEN, "accept"),
            Band::Ask => styled(YELLOW, "ask   "),
            Band::Hidden => styled(DIM, "hidden"),
        };
        let field = own.field.as_deref().map(|field| format!("{field}  ")).unwrap_or_default();
        let coverage = if own.topic == Topic::Table {
            let key = setting(own, "key").trim_matches(['[', ']']).replace('"', "");
            let key = if key.is_empty() { "no key".to_owned() } else { format!("key {key}") };
            format!("{key}, {}", count(own.values as usize, "record"))
        } else {
            let different = match own.distinct {
                0 => String::new(),
                some => format!(", {} different", grouped(some as usize)),
            };
            format!("{} of {} values{different}", grouped(own.fit as usize), grouped(own.values as usize))
        };
        out += &format!("{number:>4} {band} {field}{}  {}\n", own.says, styled(DIM, coverage));
        let mut more: Vec<String> = Vec::new();
        if !own.none.is_empty() {
            let none: Vec<String> =
                own.none.iter().map(|(none, times)| format!("`{none}` ({})", often(*times))).collect();
            more.push(format!("none: {}", none.join(", ")));
        }
        if let Some(choice) = own.settings.iter().find(|(name, _)| name == "choice") {
            more.push(choice.1.clone());
        }
        if !own.rivals.is_empty() {
            more.push(format!("as well: {}", own.rivals.join(", ")));
        }
        if !own.reasons.is_empty() {
            more.push(own.reasons.join("; "));
        }
        for exception in own.exceptions.iter().take(exceptions) {
            let near = exception.near.as_ref().map(|near| format!(", is it `{near}`?")).unwrap_or_default();
            let times =
                if exception.count > 1 { format!(" ({})", often(exception.count)) } else { String::new() };
            let place = &exception.place;
            more.push(format!(
                "`{}`{times} at {}:{}:{} ({}){near}",
                exception.text, place.path, place.line, place.column, place.layer
            ));
        }
        for line in more {
            out += &format!("              {}\n", styled(DIM, line));
        }
    }
    out
}

/// How often something is there: "once", "7 times".
fn often(times: u64) -> String {
    if times == 1 { "once".to_owned() } else { format!("{} times", grouped(times as usize)) }
}

fn setting<'p>(proposal: &'p Proposal, name: &str) -> &'p str {
    proposal.settings.iter().find(|(own, _)| own == name).map_or("", |(_, value)| value.as_str())
}

pub fn shape(number: usize, own: &Proposal) -> ProposalShape<'_> {
    let exceptions = own.exceptions.iter().map(|own| ExceptionShape {
        value: &own.text,
        count: own.count,
        near: own.near.as_deref(),
        path: &own.place.path,
        layer: &own.place.layer,
        line: own.place.line,
        column: own.place.column,
    });
    ProposalShape {
        number,
        band: own.band.name(),
        about: own.topic.name(),
        table: &own.table,
        field: own.field.as_deref(),
        says: &own.says,
        settings: json::MapShape(&own.settings),
        values: own.values,
        fit: own.fit,
        distinct: own.distinct,
        none: json::counts(&own.none),
        exceptions: exceptions.collect(),
        rivals: &own.rivals,
        reasons: &own.reasons,
    }
}
