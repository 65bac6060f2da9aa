//! How the path of a file is made from a value.

use super::NamedBy;
use crate::text::Template;
use std::borrow::Cow;

/// A template of paths, of which one part is the value; the others stand in the record, or are the name or folder of its
/// file.
#[derive(Debug, Clone)]
pub struct FileTemplate {
    template: Template,
    /// What each part of the template stands for.
    parts: Vec<NamedBy>,
}

impl FileTemplate {
    /// The template, of which each part stands for what is at its position in `parts`; one is the value.
    pub(in crate::schema) fn new(template: Template, parts: Vec<NamedBy>) -> FileTemplate {
        FileTemplate { template, parts }
    }

    /// As the schema has it.
    pub fn source(&self) -> &str {
        self.template.source()
    }

    /// What its parts stand for.
    pub fn parts(&self) -> &[NamedBy] {
        &self.parts
    }

    /// Whether the value alone tells the path.
    pub fn is_plain(&self) -> bool {
        self.parts == [NamedBy::Value]
    }

    /// The path for `value`; `other` gives what the other parts say. `None` if one of them says nothing. Where the path begins
    /// with the folder of the file, `..` in it leads one folder up; it is as long as it is written otherwise.
    pub fn fill<'v>(&self, value: &str, other: impl Fn(NamedBy) -> Option<Cow<'v, str>>) -> Option<String> {
        let filled = self.filled(value, &other)?;
        Some(if self.parts.contains(&NamedBy::Folder) { without_steps_up(&filled) } else { filled })
    }

    /// The value for which `path` is made, if there is one; `other` gives what the other parts say. `old` is a value as the
    /// file has it: only if that goes up with `..`, this one may.
    pub fn extract<'v>(
        &self,
        path: &str,
        old: &str,
        other: impl Fn(NamedBy) -> Option<Cow<'v, str>>,
    ) -> Option<String> {
        if self.is_plain() {
            return self.template.extract(path, "").map(str::to_owned);
        }
        if self.template.changes_case() {
            return None;
        }
        // No text that a path can have stands for the value.
        let filled = self.filled("\0", &other)?;
        let (before, after) =
            filled.trim_start_matches('/').split_once('\0').map(|(a, b)| (a.to_owned(), b.to_owned()))?;
        let inner =
            |path: &str| Some(path.strip_prefix(before.as_str())?.strip_suffix(after.as_str())?.to_owned());
        inner(path).filter(|value| !value.is_empty()).or_else(|| {
            let goes_up = old.split(['/', '\\']).any(|step| step == "..") && before.ends_with('/');
            let up = relative(before.trim_end_matches('/'), path);
            goes_up.then(|| up.strip_suffix(after.as_str()).map(str::to_owned)).flatten()
        })
    }

    /// Whether `path` can be made of `value`, whatever the other parts say.
    pub fn may_name(&self, path: &str, value: &str) -> bool {
        !self.is_plain() && self.template.extract(path, "") == Some(value)
    }

    fn filled<'v>(&self, value: &str, other: &impl Fn(NamedBy) -> Option<Cow<'v, str>>) -> Option<String> {
        let names = self.template.parts();
        let part = |name: &str| match self.parts[names.iter().position(|own| own == name)?] {
            NamedBy::Value => Some(value.to_owned()),
            part => other(part).map(Cow::into_owned),
        };
        self.template.fill(part).ok()
    }
}

/// The path of the file that `value` names from `folder`; both have `/` between folders.
pub(crate) fn path_from(folder: &str, value: &str) -> String {
    without_steps_up(&format!("{folder}/{value}"))
}

/// `path` with each `..` in it taken together with the folder before it; one that leads out stays.
fn without_steps_up(path: &str) -> String {
    let mut steps: Vec<&str> = Vec::new();
    for step in path.split(['/', '\\']) {
        match step {
            "" | "." => {}
            ".." if steps.last().is_some_and(|last| *last != "..") => {
                steps.pop();
            }
            step => steps.push(step),
        }
    }
    steps.join("/")
}

/// The way from `folder` to `path`, both from a layer's root.
fn relative(folder: &str, path: &str) -> String {
    let (from, to): (Vec<&str>, Vec<&str>) =
        (folder.split('/').filter(|step| !step.is_empty()).collect(), path.split('/').collect());
    let shared = from.iter().zip(&to).take_while(|(a, b)| a == b).count().min(to.len().saturating_sub(1));
    let up = std::iter::repeat_n("..", from.len() - shared);
    up.chain(to[shared..].iter().copied()).collect::<Vec<_>>().join("/")
}

#[cfg(test)]
mod tests {
    use super::FileTemplate;
    use crate::schema::NamedBy;
    use crate::text::Template;
    use rstest::rstest;
    use std::borrow::Cow;

    fn template(source: &str) -> FileTemplate {
        let template = Template::parse(source).expect("a template");
        let part = |name: &String| if name.is_empty() { NamedBy::Value } else { NamedBy::Folder };
        let parts = template.parts().iter().map(part).collect();
        FileTemplate::new(template, parts)
    }

    #[rstest]
    #[case::plain("art/{}.png", "x", "tern", "art/tern.png")]
    #[case::beside("{folder}/{}", "ships/tern", "hull.png", "ships/tern/hull.png")]
    #[case::at_the_root("{folder}/{}", "", "hull.png", "hull.png")]
    #[case::up("{folder}/{}.png", "ships/tern", "../hull", "ships/hull.png")]
    #[case::up_with_backslashes("{folder}/{}", "ships/tern", r"..\..\hull.png", "hull.png")]
    #[case::here("{folder}/{}", "ships/tern", "./hull.png", "ships/tern/hull.png")]
    #[case::out("{folder}/{}", "ships", "../../hull.png", "../hull.png")]
    fn paths(#[case] source: &str, #[case] folder: &str, #[case] value: &str, #[case] path: &str) {
        let filled = template(source).fill(value, |_| Some(Cow::Borrowed(folder)));
        assert_eq!(filled.as_deref(), Some(path));
    }

    #[rstest]
    #[case::beside("{folder}/{}", "ships/tern", "hull.png", "ships/tern/new.png", Some("new.png"))]
    #[case::deeper("{folder}/{}", "ships", "hull.png", "ships/tern/new.png", Some("tern/new.png"))]
    #[case::at_the_root("{folder}/{}.png", "", "hull", "new.png", Some("new"))]
    #[case::elsewhere("{folder}/{}", "ships/tern", "hull.png", "art/new.png", None)]
    #[case::up("{folder}/{}", "ships/tern", "../../art/old.png", "art/new.png", Some("../../art/new.png"))]
    #[case::up_once("{folder}/{}.png", "ships/tern", "../old", "ships/new.png", Some("../new"))]
    fn values(
        #[case] source: &str,
        #[case] folder: &str,
        #[case] old: &str,
        #[case] path: &str,
        #[case] value: Option<&str>,
    ) {
        let found = template(source).extract(path, old, |_| Some(Cow::Borrowed(folder)));
        assert_eq!(found.as_deref(), value);
    }
}
