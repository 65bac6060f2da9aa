//! A part of XPath 1.0: `/a/b`, `//b`, `*`, `[@attr='x']`, `[child='x']`, `[@attr]`, `..`, `.`, `@attr`,
//! `text()`, `name()`.

use super::tree::{Attribute, Tree};
use crate::formats::decode;
use crate::formats::flat_tree::below_all;
use crate::formats::{Cell, Form};

/// A parsed path.
#[derive(Debug, Clone)]
pub struct XmlPath {
    source: String,
    steps: Vec<Step>,
    last: Last,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Step {
    axis: Axis,
    /// `None` for `*`.
    name: Option<String>,
    tests: Vec<Test>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Axis {
    Child,
    Deep,
    Up,
}

/// A condition in brackets: what it is about, and the value it must have, if one is given.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Test {
    attribute: bool,
    name: String,
    value: Option<String>,
}

/// What of the element is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Last {
    Element,
    Attribute(String),
    Name,
}

/// How a column can be found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Simple {
    /// It is an attribute of the record.
    Attribute,
    /// It is the text of a child of the record.
    Child,
    /// Only by following the path.
    No,
}

/// A place that a path leads to.
#[derive(Debug, Clone, Copy)]
pub(super) enum Place {
    Element(usize),
    Attribute(Attribute),
    Name(usize),
}

impl XmlPath {
    /// Reads the path of records, which begins at the top: `/wharf/offer` or `//offer`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn records(source: &str) -> Result<XmlPath, String> {
        if !source.starts_with('/') {
            return Err(format!("`{source}` does not begin with `/` or `//`"));
        }
        let path = XmlPath::parse(source)?;
        let goes_up = path.steps.iter().any(|step| step.axis == Axis::Up);
        if path.last != Last::Element || path.steps.is_empty() || goes_up {
            return Err(format!("`{source}` does not lead to elements"));
        }
        Ok(path)
    }

    /// Reads the path of a column, which begins at the record: `@id`, `name`, `../@id`, `.`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn column(source: &str) -> Result<XmlPath, String> {
        if source.starts_with('/') && !source.starts_with("//") {
            return Err(format!("`{source}` begins at the top; a column begins at its record"));
        }
        XmlPath::parse(source)
    }

    /// The path as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether the path is just the name of an attribute or a child.
    pub(super) fn simple(&self) -> Simple {
        match (&self.steps[..], &self.last) {
            ([], Last::Attribute(name)) if self.source.len() == name.len() + 1 => Simple::Attribute,
            ([Step { axis: Axis::Child, name: Some(name), .. }], Last::Element) if *name == self.source => {
                Simple::Child
            }
            _ => Simple::No,
        }
    }

    /// The names of the elements that it leads through, and of the attribute at its end, if it is made of names alone.
    pub(super) fn names(&self) -> Option<(Vec<&str>, Option<&str>)> {
        let names = self.steps.iter().map(|step| match step {
            Step { axis: Axis::Child, name: Some(name), tests } if tests.is_empty() => Some(name.as_str()),
            _ => None,
        });
        let names = names.collect::<Option<Vec<_>>>()?;
        match &self.last {
            Last::Element => Some((names, None)),
            Last::Attribute(attribute) => Some((names, Some(attribute))),
            Last::Name => None,
        }
    }

    /// The elements that it leads to from `record`, whatever of them is meant.
    pub(super) fn elements_from(&self, tree: &Tree, text: &str, record: usize) -> Vec<usize> {
        self.elements(tree, text, Some(record)).into_iter().flatten().collect()
    }

    fn parse(source: &str) -> Result<XmlPath, String> {
        let wrong = |message: &str| format!("`{source}` is not a path: {message}");
        let mut steps: Vec<Step> = Vec::new();
        let mut last = Last::Element;
        let mut rest = source;
        let mut axis = Axis::Child;
        loop {
            if let Some(after) = rest.strip_prefix("//") {
                (axis, rest) = (Axis::Deep, after);
            } else if let Some(after) = rest.strip_prefix('/') {
                (axis, rest) = (Axis::Child, after);
            } else if rest.is_empty() {
                break;
            } else if !steps.is_empty() || rest.len() < source.len() {
                return Err(wrong("`/` is expected between its steps"));
            }
            if last != Last::Element {
                return Err(wrong("nothing can follow an attribute or `name()`"));
            }
            if let Some(name) = rest.strip_prefix('@') {
                let len = name_len(name);
                if len == 0 {
                    return Err(wrong("a name is expected after `@`"));
                }
                last = Last::Attribute(name[..len].to_owned());
                rest = &name[len..];
            } else if let Some(after) = rest.strip_prefix("..") {
                steps.push(Step { axis: Axis::Up, name: None, tests: Vec::new() });
                rest = after;
            } else if let Some(after) = rest.strip_prefix('.') {
                rest = after;
            } else if let Some(after) = rest.strip_prefix("text()") {
                rest = after;
            } else if let Some(after) = rest.strip_prefix("name()").or(rest.strip_prefix("{name}")) {
                last = Last::Name;
                rest = after;
            } else {
                let (name, after) = match rest.strip_prefix('*') {
                    Some(after) => (None, after),
                    None => {
                        let len = name_len(rest);
                        if len == 0 {
                            return Err(wrong("the name of an element, `*`, `@name` or `..` is expected"));
                        }
                        (Some(rest[..len].to_owned()), &rest[len..])
                    }
                };
                let (tests, after) = tests(after).map_err(|message| wrong(&message))?;
                steps.push(Step { axis, name, tests });
                rest = after;
            }
        }
        if source.is_empty() || source.ends_with('/') {
            return Err(wrong("it ends too early"));
        }
        Ok(XmlPath { source: source.to_owned(), steps, last })
    }

    /// The name of the elements that it leads to, if their names and places alone tell them.
    pub(super) fn plain_name(&self) -> Option<&str> {
        let plain = self.last == Last::Element && self.steps.iter().all(|step| step.tests.is_empty());
        self.steps.last().filter(|_| plain)?.name.as_deref()
    }

    /// The elements that the path of records leads to, in the order of the file.
    pub(super) fn select_records(&self, tree: &Tree, text: &str) -> Vec<usize> {
        self.elements(tree, text, None).into_iter().flatten().collect()
    }

    /// Gives the places that the path of a column leads to from the element `record`.
    pub(super) fn select(&self, tree: &Tree, text: &str, record: usize, give: &mut dyn FnMut(Place)) {
        let mut end = |element: usize| match &self.last {
            Last::Element => give(Place::Element(element)),
            Last::Name => give(Place::Name(element)),
            Last::Attribute(name) => {
                let named = tree.attributes(element).iter().find(|attribute| attribute.name.of(text) == name);
                if let Some(attribute) = named {
                    give(Place::Attribute(*attribute));
                }
            }
        };
        match self.steps.as_slice() {
            [] => end(record),
            // Nearly all columns are like this.
            [step] if step.axis == Axis::Child => {
                tree.children(Some(record)).filter(|child| step.fits(tree, text, *child)).for_each(end);
            }
            _ => self.elements(tree, text, Some(record)).into_iter().flatten().for_each(end),
        }
    }

    fn elements(&self, tree: &Tree, text: &str, from: Option<usize>) -> Vec<Option<usize>> {
        let mut places = vec![from];
        for step in &self.steps {
            let found: Vec<usize> = match step.axis {
                Axis::Up => places.iter().filter_map(|place| tree.elements[(*place)?].parent).collect(),
                Axis::Child => places.iter().flat_map(|place| tree.children(*place)).collect(),
                Axis::Deep => below_all(&tree.elements, &places),
            };
            let fits = |element: &usize| step.axis == Axis::Up || step.fits(tree, text, *element);
            places = found.into_iter().filter(fits).map(Some).collect();
            // Ways up meet, and what is inside nested elements is not in the order of the file.
            places.sort_unstable();
            places.dedup();
        }
        places
    }
}

impl Step {
    fn fits(&self, tree: &Tree, text: &str, element: usize) -> bool {
        let named = self.name.as_ref().is_none_or(|name| tree.elements[element].name.of(text) == name);
        named && self.tests.iter().all(|test| test.holds(tree, text, element))
    }
}

impl Test {
    fn holds(&self, tree: &Tree, text: &str, element: usize) -> bool {
        if self.attribute {
            let found =
                tree.attributes(element).iter().find(|attribute| attribute.name.of(text) == self.name);
            return found.is_some_and(|attribute| {
                let cell = Cell { span: attribute.value, form: Form::XmlAttribute(b'"') };
                self.value.as_ref().is_none_or(|value| decode(text, &cell).text == *value)
            });
        }
        let mut children =
            tree.children(Some(element)).filter(|child| tree.elements[*child].name.of(text) == self.name);
        children.any(|child| match &self.value {
            None => true,
            Some(value) => {
                let runs = tree.text_runs(child, text);
                let own: String = runs.map(|run| decode(text, &run).text.into_owned()).collect();
                own == *value
            }
        })
    }
}

/// The conditions in brackets at the start of `rest`, and what follows them.
fn tests(mut rest: &str) -> Result<(Vec<Test>, &str), String> {
    let mut out = Vec::new();
    while let Some(inner) = rest.strip_prefix('[') {
        let (attribute, body) = match inner.trim_start().strip_prefix('@') {
            Some(body) => (true, body),
            None => (false, inner.trim_start()),
        };
        let len = name_len(body);
        if len == 0 {
            return Err("a name is expected in the brackets".to_owned());
        }
        let name = body[..len].to_owned();
        let mut after = body[len..].trim_start();
        let mut value = None;
        if let Some(given) = after.strip_prefix('=') {
            let given = given.trim_start();
            let quote = given.chars().next().filter(|quote| ['\'', '"'].contains(quote));
            let quote = quote.ok_or("the value in brackets is not in quotes")?;
            let end = given[1..].find(quote).ok_or("the quote in brackets is never closed")?;
            value = Some(given[1..=end].to_owned());
            after = given[end + 2..].trim_start();
        }
        rest = after.strip_prefix(']').ok_or("`]` is expected")?;
        out.push(Test { attribute, name, value });
    }
    Ok((out, rest))
}

fn name_len(text: &str) -> usize {
    text.find(|next: char| !(next.is_alphanumeric() || "_-.:\u{b7}".contains(next))).unwrap_or(text.len())
}

#[cfg(test)]
mod tests {
    use super::XmlPath;
    use rstest::rstest;

    #[rstest]
    #[case("wharf/offer", "does not begin with `/`")]
    #[case("/wharf/@id", "does not lead to elements")]
    #[case("/wharf/", "is expected")]
    #[case("/wharf/offer[good]x", "`/` is expected")]
    #[case("/wharf/offer[@good=coal]", "not in quotes")]
    #[case("/wharf/offer[@good='coal", "never closed")]
    #[case("/wharf/+", "is expected")]
    fn mistakes_in_paths_of_records(#[case] path: &str, #[case] says: &str) {
        let wrong = XmlPath::records(path).expect_err("a mistake");
        assert!(wrong.contains(says), "{wrong}");
    }

    #[rstest]
    #[case("@id/x", "nothing can follow")]
    #[case("/wharf", "begins at the top")]
    #[case("", "ends too early")]
    fn mistakes_in_paths_of_columns(#[case] path: &str, #[case] says: &str) {
        let wrong = XmlPath::column(path).expect_err("a mistake");
        assert!(wrong.contains(says), "{wrong}");
    }
}
