//! Problems and places for reading.

use crate::next_step::help_text;
use crate::ui::{Ui, count};
use annotate_snippets::{AnnotationKind, Group, Level, Patch, Renderer, Snippet};
use std::collections::HashMap;
use std::path::Path;
use stitching_core::links::Address;
use stitching_core::{Place, Problem, Project, Severity};

/// A problem with its source line, a caret under the span, the reason and the fix.
/// `also` are the lines of the same file that have the same problem.
pub fn problem(problem: &Problem, also: &[usize], paths: &Paths, ui: &Ui) -> String {
    let level = match problem.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
    };
    let message = clean(&problem.message);
    let mut groups = Vec::new();
    let mut primary = Group::with_title(level.primary_title(message).id(problem.name()));
    let subject = subject(problem);
    let path = paths.show(&problem.place);
    if problem.place.line > 0 {
        let source = visible(&problem.place.source);
        let span = window_span(&problem.place);
        let annotation = AnnotationKind::Primary.span(span).label(subject.clone());
        let snippet = Snippet::source(source).line_start(problem.place.line).path(path.clone());
        primary = primary.element(snippet.annotation(annotation));
    } else {
        primary = primary.element(annotate_snippets::Origin::path(path.clone()));
    }
    for related in &problem.related {
        if related.place.line > 0 {
            let snippet = Snippet::source(visible(&related.place.source))
                .line_start(related.place.line)
                .path(paths.show(&related.place));
            let annotation =
                AnnotationKind::Context.span(window_span(&related.place)).label(related.message.clone());
            primary = primary.element(snippet.annotation(annotation));
        } else {
            let note = format!("{}: {}", related.message, paths.show(&related.place));
            primary = primary.element(Level::NOTE.message(note));
        }
    }
    if let Some(help) = &problem.help {
        primary = primary.element(Level::HELP.message(clean(&help_text(help))));
    }
    if let Some(reason) = &problem.accepted {
        primary = primary.element(Level::NOTE.message(format!("accepted: {}", clean(reason))));
    }
    if !also.is_empty() {
        primary = primary.element(Level::NOTE.message(also_at(also)));
    }
    groups.push(primary);
    // A value that would be right is named in the help already.
    for fix in problem.fixes.iter().filter(|_| problem.value.is_none()) {
        let Some(patch) = patch(problem, fix) else { continue };
        let snippet =
            Snippet::source(visible(&problem.place.source)).line_start(problem.place.line).path(path.clone());
        groups.push(Level::HELP.secondary_title(fix.title.clone()).element(snippet.patch(patch)));
    }
    let renderer = Renderer::styled().term_width(ui.width());
    let mut out = renderer.render(&groups).to_string();
    out.push('\n');
    out
}

/// Each problem with the lines of the same file that have the very same one.
pub fn grouped_alike<'p>(shown: &[&'p Problem]) -> Vec<(&'p Problem, Vec<usize>)> {
    let mut groups: Vec<(&Problem, Vec<usize>)> = Vec::new();
    let mut known: HashMap<(&str, &str, &str, &str), usize> = HashMap::new();
    for problem in shown {
        let place = &problem.place;
        let what = (problem.name(), problem.message.as_str(), place.path.as_str(), place.layer.as_str());
        match known.get(&what) {
            Some(group) if place.line > 0 => groups[*group].1.push(place.line),
            _ => {
                known.insert(what, groups.len());
                groups.push((problem, Vec::new()));
            }
        }
    }
    groups
}

/// How paths within layers are shown: so that a terminal or editor in the current folder finds them.
#[derive(Debug, Default)]
pub struct Paths {
    /// For each layer by name, its folder as seen from the current one, with a slash behind it.
    prefixes: HashMap<String, String>,
}

impl Paths {
    /// The paths of a project's layers.
    pub fn of(project: &Project) -> Paths {
        let here = std::env::current_dir().and_then(|folder| folder.canonicalize()).unwrap_or_default();
        let layers = project.stack.layers().iter();
        Paths { prefixes: layers.map(|layer| (layer.name.clone(), relative(&here, &layer.root))).collect() }
    }

    /// The path of a place. Without a project it is that within the layer, with the layer behind it.
    pub fn show(&self, place: &Place) -> String {
        match self.prefixes.get(&place.layer) {
            Some(prefix) => format!("{prefix}{}", place.path),
            None if place.layer.is_empty() => place.path.clone(),
            None => format!("{} ({})", place.path, place.layer),
        }
    }

    /// `path:line:column`, as editors understand it.
    pub fn place(&self, place: &Place) -> String {
        let path = self.show(place);
        if place.line > 0 { format!("{path}:{}:{}", place.line, place.column) } else { path }
    }
}

/// The folder `to` as seen from `from`, with a slash behind it; absolute if they share nothing.
fn relative(from: &Path, to: &Path) -> String {
    let shared = from.components().zip(to.components()).take_while(|(a, b)| a == b).count();
    if shared == 0 {
        return format!("{}/", to.display());
    }
    let up = from.components().skip(shared).map(|_| "../".to_owned());
    let down = to.components().skip(shared).map(|part| format!("{}/", part.as_os_str().to_string_lossy()));
    up.chain(down).collect()
}

/// A record as people speak of it: `reaches:frost_cut "Frostgate Cut"`.
pub fn record(table: &str, key: &str, label: Option<&str>) -> String {
    let address = Address::show(table, key);
    label.map_or_else(|| address.clone(), |label| format!("{address} \"{}\"", clean(label)))
}

/// "2 errors and 1 warning".
pub fn errors_and_warnings(errors: usize, warnings: usize) -> String {
    match (errors, warnings) {
        (0, 0) => "no problems".to_owned(),
        (errors, 0) => count(errors, "error"),
        (0, warnings) => count(warnings, "warning"),
        (errors, warnings) => format!("{} and {}", count(errors, "error"), count(warnings, "warning")),
    }
}

/// "the same at lines 12, 17 and 30".
fn also_at(lines: &[usize]) -> String {
    const NAMED: usize = 8;
    let named: Vec<String> = lines.iter().take(NAMED).map(usize::to_string).collect();
    match lines.len() {
        1 => format!("the same at line {}", named[0]),
        few if few <= NAMED => {
            format!("the same at lines {} and {}", named[..few - 1].join(", "), named[few - 1])
        }
        many => format!("the same at lines {} and {} others", named.join(", "), many - NAMED),
    }
}

fn subject(problem: &Problem) -> String {
    let mut shown = match (&problem.table, &problem.key) {
        (Some(table), Some(key)) => record(table, key, problem.label.as_deref()),
        (Some(table), None) if problem.field.is_some() => table.clone(),
        _ => return String::new(),
    };
    if let Some(field) = &problem.field {
        shown = format!("{field} of {shown}");
    }
    shown
}

/// Where the span of a place lies in its source line.
fn window_span(place: &Place) -> std::ops::Range<usize> {
    let len = place.source.len();
    let start = (place.in_text.start.saturating_sub(place.source_start) as usize).min(len);
    let start = place.source.floor_char_boundary(start);
    let end = (place.in_text.end.saturating_sub(place.source_start) as usize).clamp(start, len);
    start..place.source.ceil_char_boundary(end)
}

fn patch(problem: &Problem, fix: &stitching_core::Fix) -> Option<Patch<'static>> {
    let [edit] = fix.edits.edits() else { return None };
    let start = edit.span.start.checked_sub(problem.place.source_start)? as usize;
    let end = edit.span.end.checked_sub(problem.place.source_start)? as usize;
    let fits = problem.place.source.get(start..end).is_some();
    fits.then(|| Patch::new(start..end, edit.text.clone()))
}

/// What would move the cursor becomes a blank; tabs are widened when it is shown.
fn visible(source: &str) -> String {
    source.chars().map(|c| if c.is_control() && c.len_utf8() == 1 && c != '\t' { ' ' } else { c }).collect()
}

/// A text from a file, safe to print on one line, and cut if it is very long.
pub fn clean(text: &str) -> String {
    let mut out: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(301).collect();
    if out.chars().count() > 300 {
        out = out.chars().take(297).collect::<String>() + "...";
    }
    out
}
