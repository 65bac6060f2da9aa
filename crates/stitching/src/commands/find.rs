//! `stitching find`

use crate::args::{Find, Global};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, Ui, count, styled, wants_json};
use serde_json::json;
use std::process::ExitCode;
use stitching_core::links::{LoadedFile, Matched, SearchHit, load, search};
use stitching_core::{Error, Place, Project};

pub fn run(project: &Project, args: &Find, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let (stack, schema) = (&project.stack, &project.schema);
    let through = project.through(args.through.through.as_deref())?;
    let hits = ui.progress("searching", || search(stack, schema, through, &args.text));
    let shown = &hits[..hits.len().min(args.most)];
    let mut loaded: Vec<(usize, LoadedFile)> = Vec::new();
    let mut lines: Vec<(Place, String)> = Vec::new();
    for hit in shown {
        if !loaded.iter().any(|(file, _)| *file == hit.file) {
            loaded.push((hit.file, load(stack, hit.file)?));
        }
        let Some((_, file)) = loaded.iter().find(|(file, _)| *file == hit.file) else { continue };
        let place = file.place(hit.span);
        let line = file.line(place.line).to_owned();
        lines.push((place, line));
    }
    if as_json {
        let shape = |(hit, (place, text)): (&SearchHit, &(Place, String))| {
            let table = hit.table.map(|table| &schema.tables[table].name);
            let head = json!({
                "matched": matched(&hit.matched),
                "table": table, "key": hit.key, "label": hit.label,
                "overridden": hit.overridden, "text": text,
            });
            json::with_place(head, place)
        };
        ui.json(
            &json!({ "hits": shown.iter().zip(&lines).map(shape).collect::<Vec<_>>(), "total": hits.len() }),
        );
        return Ok(ExitCode::SUCCESS);
    }
    let (mut out, paths) = (String::new(), human::Paths::of(project));
    for (hit, (place, text)) in shown.iter().zip(&lines) {
        let head = match (hit.table, &hit.key) {
            (Some(table), Some(key)) => {
                let shown = human::record(&schema.tables[table].name, key, hit.label.as_deref());
                format!("{}  {}", styled(BOLD, shown), styled(DIM, format!("by {}", matched(&hit.matched))))
            }
            _ => styled(DIM, "a line outside the records"),
        };
        let overridden = if hit.overridden { ", overridden by a higher layer" } else { "" };
        let room = ui.width().saturating_sub(6);
        let line: String = human::clean(text.trim()).chars().take(room).collect();
        out.push_str(&format!("{head}\n    {}{overridden}\n    {line}\n", styled(CYAN, paths.place(place))));
    }
    out.push_str(&match hits.len() {
        0 => format!("nothing has `{}`\n", args.text.join(" ")),
        all if all > shown.len() => {
            format!("\n{} of {}; `--most {all}` shows all\n", shown.len(), count(all, "hit"))
        }
        all => format!("\n{}\n", count(all, "hit")),
    });
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

fn matched(matched: &Matched) -> String {
    match matched {
        Matched::Key | Matched::InKey => "key".to_owned(),
        Matched::Label | Matched::InLabel => "name".to_owned(),
        Matched::Text(language) => format!("text ({language})"),
        Matched::Value(field) => format!("value of {field}"),
        Matched::Line => "line".to_owned(),
    }
}
