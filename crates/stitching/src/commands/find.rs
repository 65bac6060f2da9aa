//! `stitching find`

use crate::args::{Find, Global};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, Ui, YELLOW, count, styled, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::reading::PlaceResolver;
use stitching_core::views::{Matched, SearchHit, Visibility, search};
use stitching_core::{Error, Place, Project};

/// The result of `find`.
#[derive(Debug, Serialize)]
struct FindShape<'f> {
    hits: Vec<HitShape<'f>>,
    total: usize,
}

/// Something found: in the data, or in what is switched off.
#[derive(Debug, Serialize)]
#[serde(untagged)]
enum HitShape<'f> {
    Entry(json::Placed<'f, EntryShape<'f>>),
    Off(json::Placed<'f, OffShape<'f>>),
}

#[derive(Debug, Serialize)]
struct EntryShape<'f> {
    matched: String,
    similar: bool,
    table: Option<&'f str>,
    key: Option<&'f str>,
    label: Option<&'f str>,
    only_below: bool,
    overridden: bool,
    off: bool,
    text: &'f str,
    entry: String,
}

#[derive(Debug, Serialize)]
struct OffShape<'f> {
    matched: &'static str,
    similar: bool,
    table: Option<&'f str>,
    address: Option<String>,
    only_below: bool,
    overridden: bool,
    off: bool,
    text: &'f str,
}

/// So many lines of an entry are shown.
const LINES: usize = 6;

pub fn run(project: &Project, args: &Find, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let (stack, schema) = (&project.stack, &project.schema);
    let through = project.through(args.through.through.as_deref())?;
    let view = project.view().until(through);
    let look = || search(view, &args.text, args.similar, args.most);
    let found = ui.progress("searching", look);
    let (shown, off) = (&found.hits, &found.off);
    let shown_off = &off[..off.len().min(args.most - shown.len())];
    let mut places = PlaceResolver::new(stack);
    let mut entries: Vec<(Place, Vec<String>)> = Vec::new();
    for hit in shown {
        entries.push(entry(hit, &mut places)?);
    }
    if as_json {
        let entries = shown.iter().zip(&entries).map(|(hit, (place, lines))| {
            HitShape::Entry(json::placed(
                EntryShape {
                    matched: matched(&hit.matched),
                    similar: hit.similar,
                    table: hit.table.map(|table| schema.tables[table].name.as_str()),
                    key: hit.key.as_deref(),
                    label: hit.label.as_deref(),
                    only_below: hit.seen == Visibility::FromBelow && through > 0,
                    overridden: hit.seen == Visibility::Overridden,
                    off: false,
                    text: &place.source,
                    entry: lines.join("\n"),
                },
                place,
            ))
        });
        let off_hits = shown_off.iter().map(|own| {
            HitShape::Off(json::placed(
                OffShape {
                    matched: "off",
                    similar: false,
                    table: own.what.as_ref().map(|(table, ..)| schema.tables[*table].name.as_str()),
                    address: own.address(schema),
                    only_below: false,
                    overridden: false,
                    off: true,
                    text: &own.text,
                },
                &own.place,
            ))
        });
        let hits = entries.chain(off_hits).collect();
        ui.json(&FindShape { hits, total: found.total + off.len() });
        return Ok(ExitCode::SUCCESS);
    }
    let (mut out, paths) = (String::new(), human::Paths::of(project));
    let room = ui.width().saturating_sub(6);
    let write_lines = |lines: &[String], out: &mut String| {
        for line in lines.iter().take(LINES) {
            let line: String = human::clean(line).chars().take(room).collect();
            out.push_str(&format!("    {line}\n"));
        }
        if lines.len() > LINES {
            out.push_str(&styled(DIM, format!("    and {} more\n", count(lines.len() - LINES, "line"))));
        }
    };
    for (hit, (place, lines)) in shown.iter().zip(&entries) {
        let like = if hit.similar { "like, " } else { "" };
        let head = match (hit.table, &hit.key) {
            (Some(table), Some(key)) => {
                let shown = human::record(&schema.tables[table].name, key, hit.label.as_deref());
                let how = format!("{like}by {}", matched(&hit.matched));
                format!("{}  {}", styled(BOLD, shown), styled(DIM, how))
            }
            (Some(table), None) => {
                let how = format!("{like}by {}", matched(&hit.matched));
                format!("{}  {}", styled(BOLD, &schema.tables[table].name), styled(DIM, how))
            }
            _ if hit.matched == Matched::Path => styled(DIM, format!("{like}a file of no table")),
            _ => styled(DIM, format!("{like}a line outside the records")),
        };
        let layer = &stack.layers()[stack.files()[hit.file].layer].name;
        let seen = match hit.seen {
            Visibility::Overridden => styled(YELLOW, format!("  in {layer}, overridden by a higher layer")),
            Visibility::FromBelow if through > 0 => styled(DIM, format!("  only in {layer}")),
            _ => String::new(),
        };
        out.push_str(&format!("{head}\n    {}{seen}\n", styled(CYAN, paths.place(place))));
        write_lines(lines, &mut out);
    }
    for own in shown_off {
        let name = own.address(schema).unwrap_or_else(|| "an entry".to_owned());
        out.push_str(&format!("{}  {}\n", styled(BOLD, name), styled(YELLOW, "is off")));
        out.push_str(&format!("    {}\n", styled(CYAN, paths.place(&own.place))));
        write_lines(&dedent(&own.text), &mut out);
    }
    let (all, shown) = (found.total + off.len(), shown.len() + shown_off.len());
    out.push_str(&match all {
        0 if args.similar => format!("nothing has `{}`, or anything like it\n", args.text.join(" ")),
        0 => format!("nothing has `{}`; `--similar` forgives a letter or two\n", args.text.join(" ")),
        all if all > shown => format!("\n{shown} of {}; `--most {all}` shows all\n", count(all, "hit")),
        all => format!("\n{}\n", count(all, "hit")),
    });
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

/// The place of a hit, and the lines of its entry; of a comment with it above or beside.
fn entry(hit: &SearchHit, places: &mut PlaceResolver<'_>) -> Result<(Place, Vec<String>), Error> {
    let file = places.file(hit.file)?;
    let place = file.place(hit.span);
    if hit.matched == Matched::Path {
        return Ok((Place::file(&place.path, &place.layer), Vec::new()));
    }
    let (first, last) = (file.place(hit.entry).line, {
        let end = stitching_core::text::Span { start: hit.entry.end, end: hit.entry.end };
        file.place(end)
    });
    // A record's span may end at the beginning of the line after it.
    let last = if last.column == 1 && last.line > first { last.line - 1 } else { last.line };
    let mut lines: Vec<&str> = Vec::new();
    if place.line < first || place.line > last {
        lines.push(file.line(place.line).trim_end());
    }
    lines.extend((first..=last).map(|line| file.line(line).trim_end()));
    Ok((place, dedent(&lines.join("\n"))))
}

/// The lines of a text, without the blanks that all of them begin with.
fn dedent(text: &str) -> Vec<String> {
    let lines = || text.lines().filter(|line| !line.trim().is_empty());
    let blanks = |line: &str| line.len() - line.trim_start().len();
    let shared = lines().map(blanks).min().unwrap_or(0);
    lines().map(|line| line.get(shared..).unwrap_or(line).to_owned()).collect()
}

fn matched(matched: &Matched) -> String {
    match matched {
        Matched::Key | Matched::InKey => "key".to_owned(),
        Matched::Label | Matched::InLabel => "name".to_owned(),
        Matched::Text(language) => format!("text ({language})"),
        Matched::Path => "path".to_owned(),
        Matched::Comment => "comment".to_owned(),
        Matched::Value(field) => format!("value of {field}"),
        Matched::Line => "line".to_owned(),
    }
}
