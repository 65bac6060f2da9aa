//! Which names inside the records of a table its fields stand for.

use super::{Field, Table};
use crate::formats::NamePattern;

/// The names that the fields of a table stand for, with what is around them and inside them.
#[derive(Debug)]
pub struct KnownNames {
    columns: Vec<Vec<Step>>,
    folds: bool,
}

/// A step of the path of a column.
#[derive(Debug)]
enum Step {
    Name(String),
    /// Any of the names that a pattern takes.
    Like(NamePattern),
    /// What follows may stand at any depth.
    Deep,
}

impl KnownNames {
    /// Those of `table`.
    pub fn of(table: &Table) -> KnownNames {
        let folds = table.format.folds_columns();
        // What stands around a record is not inside it.
        let inside = table
            .fields
            .iter()
            .flat_map(Field::columns)
            .map(String::as_str)
            .filter(|own| !own.starts_with(".."));
        KnownNames { columns: inside.map(|column| described(&folded(column, folds))).collect(), folds }
    }

    /// Adds a name that the schema speaks of elsewhere: in expressions the `@` of an attribute may be left out.
    pub fn add(&mut self, name: &str) {
        let name = folded(name, self.folds);
        self.columns.extend([described(&name), described(&format!("@{name}"))]);
    }

    /// Whether a field stands for what is at `path` inside a record, for something in it, or for what it is in.
    pub fn knows(&self, path: &str) -> bool {
        let path = folded(path, self.folds);
        let own: Vec<&str> = steps(&path).collect();
        self.columns.iter().any(|column| is_along(column, &own))
    }
}

/// Whether `own` leads to what `column` leads to, to something in it, or to what it is in.
fn is_along(column: &[Step], own: &[&str]) -> bool {
    for (step, name) in column.iter().zip(own) {
        match step {
            Step::Deep => return true,
            Step::Name(known) if known != name => return false,
            Step::Like(pattern) if !pattern.takes(name) => return false,
            _ => {}
        }
    }
    // A value has no attributes unless they are described.
    own.len() <= column.len() || !own[column.len()].starts_with('@')
}

fn folded(path: &str, folds: bool) -> String {
    if folds { path.to_lowercase() } else { path.to_owned() }
}

/// The steps of the path of a column.
fn described(column: &str) -> Vec<Step> {
    let column = column.replace("..", "/**/");
    let step = |name: &str| match name {
        "**" => Step::Deep,
        _ => NamePattern::parse(name).map_or_else(|| Step::Name(name.to_owned()), Step::Like),
    };
    steps(&column).map(step).collect()
}

/// The names along a path, without what says which items of a list are meant.
fn steps(path: &str) -> impl Iterator<Item = &str> {
    let name = |step| match str::find(step, '[') {
        Some(at) if !step[at..].starts_with("['") => &step[..at],
        _ => step.trim_matches(['[', ']', '\'']),
    };
    path.split(['.', '/']).map(name).filter(|step| !step.is_empty())
}

#[cfg(test)]
mod tests {
    use super::{described, is_along, steps};
    use rstest::rstest;

    #[rstest]
    #[case::the_same("hold/@most", "hold/@most", true)]
    #[case::around("hold/@most", "hold", true)]
    #[case::beside("hold/@most", "hold/@mst", false)]
    #[case::inside("hold", "hold/wood", true)]
    #[case::an_attribute_of_a_value("hold", "hold/@wood", false)]
    #[case::items("gates[*].reach", "gates[*].reach", true)]
    #[case::an_item("sizes[0]", "sizes", true)]
    #[case::any_name("rates.*", "rates.coal", true)]
    #[case::a_pattern("stop_*", "stop_a", true)]
    #[case::not_of_the_pattern("stop_*", "sotp_a", false)]
    #[case::all_but("!meta", "meta", false)]
    #[case::at_any_depth("deep..end", "deep.x.end", true)]
    #[case::the_start_of_it("deep..end", "deep", true)]
    #[case::not_below_it("deep..end", "shallow.end", false)]
    #[case::in_quotes("['a.b'].c", "a.b.c", true)]
    fn names_along_a_column(#[case] column: &str, #[case] path: &str, #[case] expected: bool) {
        assert_eq!(is_along(&described(column), &steps(path).collect::<Vec<_>>()), expected);
    }
}
