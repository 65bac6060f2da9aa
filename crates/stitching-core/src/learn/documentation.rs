//! What people have written about fields: descriptions found by the fields' names in a text, a table or a
//! document in Markdown.

use super::proposal::{Band, Proposal, Topic};
use crate::schema::Table;
use crate::settings::toml_text;

/// Looks in `text` for descriptions of `fields` of `table`, and proposes those that the schema does not have yet as
/// what the fields are about. A description stands in a row of a table whose first cell is the name; behind the
/// name and a colon, a dash, an equals sign or a tab; or below a heading that is the name.
pub fn documented(table: &Table, fields: &[String], text: &str) -> Vec<Proposal> {
    let described = |name: &String| {
        let field = table.field(name).map(|field| &table.fields[field]);
        field.is_some_and(|field| field.about.is_some())
    };
    let wanted = fields.iter().filter(|name| !described(name));
    let found = wanted.filter_map(|name| Some((name, about(name, text)?)));
    found
        .map(|(name, about)| Proposal {
            band: Band::Ask,
            topic: Topic::Values,
            table: table.name.clone(),
            field: Some(name.clone()),
            settings: vec![("about".to_owned(), toml_text(&about))],
            says: about,
            needs: Vec::new(),
            values: 0,
            fit: 0,
            distinct: 0,
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: Vec::new(),
        })
        .collect()
}

/// A description is cut after so many characters: it is to be read beside a value.
const LONGEST: usize = 300;

/// What `text` says of `name`: exactly so, else in another case.
fn about(name: &str, text: &str) -> Option<String> {
    let exactly = |own: &str| own == name;
    let alike = |own: &str| own.to_lowercase() == name.to_lowercase();
    let found = described(text, &exactly).or_else(|| described(text, &alike))?;
    let plain: String = found.split_whitespace().collect::<Vec<_>>().join(" ");
    let cut = match plain.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}...", plain[..end].trim_end()),
        None => plain,
    };
    Some(cut).filter(|about| !about.is_empty())
}

fn described(text: &str, is_name: &dyn Fn(&str) -> bool) -> Option<String> {
    let lines: Vec<&str> = text.lines().collect();
    for (at, line) in lines.iter().enumerate() {
        let line = line.trim();
        let found = in_row(line, is_name).or_else(|| behind(line, is_name));
        if found.is_some() {
            return found;
        }
        let heading = line.starts_with('#') || lines.get(at + 1).is_some_and(|next| is_underline(next));
        if heading && is_name(bare(line)) {
            let below = lines[at + 1..].iter().map(|line| line.trim());
            let paragraph: Vec<&str> = below
                .skip_while(|line| line.is_empty() || is_underline(line))
                .take_while(|line| !line.is_empty() && !line.starts_with('#'))
                .collect();
            if !paragraph.is_empty() {
                return Some(paragraph.join(" "));
            }
        }
    }
    None
}

/// A line of `===` or `---` under a heading.
fn is_underline(line: &str) -> bool {
    let line = line.trim();
    line.len() >= 3 && (line.bytes().all(|byte| byte == b'=') || line.bytes().all(|byte| byte == b'-'))
}

/// A name without the marks of a list, a heading, or emphasis.
fn bare(text: &str) -> &str {
    let text = text.trim().trim_start_matches(['#', '-', '*', '+', '>', ' ']);
    text.trim_matches(['`', '*', '_', '"', '\'', ' ', ':'])
}

/// The longest other cell of a row whose first cell is the name.
fn in_row(line: &str, is_name: &dyn Fn(&str) -> bool) -> Option<String> {
    for sign in ['|', '\t', ';', ','] {
        let cells: Vec<&str> = line.trim_matches('|').split(sign).map(str::trim).collect();
        if cells.len() < 2 || !(is_name(cells[0]) || is_name(bare(cells[0]))) {
            continue;
        }
        // What has commas in it is not a row of cells.
        let about = match sign {
            ',' => line.split_once(',').map(|(_, rest)| rest.trim()),
            _ => cells[1..].iter().copied().max_by_key(|cell| cell.len()),
        };
        return about.map(|about| about.trim_matches('"').to_owned()).filter(|about| !about.is_empty());
    }
    None
}

/// What stands behind a name and a sign: `Depth: how deep it is`.
fn behind(line: &str, is_name: &dyn Fn(&str) -> bool) -> Option<String> {
    let signs = [":", " - ", " – ", " — ", " = ", "  "];
    signs.iter().find_map(|sign| {
        let (name, rest) = line.split_once(sign)?;
        let rest = rest.trim_start_matches(['*', '`', ':', '-', ' ']).trim();
        ((is_name(name.trim()) || is_name(bare(name))) && !rest.is_empty()).then(|| rest.to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::about;
    use rstest::rstest;

    #[rstest]
    #[case::markdown_table(
        "| field | meaning |\n| --- | --- |\n| `Depth` | in *dm*, at low water |",
        Some("in *dm*, at low water")
    )]
    #[case::longest_cell("Depth\tint\thow deep it is\t3", Some("how deep it is"))]
    #[case::semicolons("Depth;how deep; really", Some("how deep"))]
    #[case::commas("Depth,\"how deep, at low water\"", Some("how deep, at low water"))]
    #[case::colon("Depth: how deep it is", Some("how deep it is"))]
    #[case::list("- **Depth**: how deep it is", Some("how deep it is"))]
    #[case::dash("* Depth - how deep it is", Some("how deep it is"))]
    #[case::blanks("Depth     how deep it is", Some("how deep it is"))]
    #[case::heading(
        "## Depth\n\nHow deep it is,\nat low water.\n\nMore.",
        Some("How deep it is, at low water.")
    )]
    #[case::underlined("Depth\n-----\nHow deep it is.\n", Some("How deep it is."))]
    #[case::another_case("depth: how deep it is", Some("how deep it is"))]
    #[case::exactly_first("depth: not this\nDepth: this", Some("this"))]
    #[case::not_inside_a_sentence("The Depth of the water: see below", None)]
    #[case::nothing_said("Depth:\n", None)]
    #[case::empty("", None)]
    fn descriptions(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(about("Depth", text).as_deref(), expected);
    }
}
