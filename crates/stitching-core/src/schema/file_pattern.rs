//! Patterns for the files of a table: `tables/*.txt`, `text/{lang}.txt`, `basins/{basin}/gates.json`.

use crate::text::{LazyRegex, PathGlob, TemplateError};

/// The part of a pattern that stands for a language.
const LANGUAGE: &str = "lang";

/// A pattern for paths, perhaps with named parts in it, each within one folder's or file's name.
#[derive(Debug, Clone)]
pub struct FilePattern {
    /// As written.
    pub source: String,
    matcher: PathGlob,
    /// The names of its parts, each once, in the order of the path.
    parts: Vec<String>,
    /// Takes the parts out of a path, if there are any; for each group the position of its part in `parts`.
    regex: Option<(LazyRegex, Vec<usize>)>,
}

/// What keeps a text from being a pattern: a message and what to write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilePatternError {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: &'static str,
}

impl FilePattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// When a brace is not closed, a name in braces is none, parts have nothing between them, or the rest is no glob.
    pub fn parse(source: &str) -> Result<FilePattern, FilePatternError> {
        let error = |message: String, help| FilePatternError { message, help };
        let pieces = pieces(source).map_err(|wrong| {
            error(
                format!(
                    "in `{source}`, character {}: {}",
                    source[..wrong.at].chars().count() + 1,
                    wrong.message
                ),
                "a name in braces stands for a part of the path: basins/{basin}/gates.json",
            )
        })?;
        let (mut glob, mut pattern) = (String::new(), String::from("^"));
        let (mut parts, mut groups): (Vec<String>, Vec<usize>) = (Vec::new(), Vec::new());
        for piece in pieces {
            match piece {
                Piece::Glob(text) => {
                    glob.push_str(text);
                    let escaped = regex::escape(text);
                    let escaped = escaped.replace("\\*\\*/", "(?:.*/)?").replace("\\*\\*", ".*");
                    pattern.push_str(&escaped.replace("\\*", "[^/]*").replace("\\?", "[^/]"));
                }
                Piece::Part(name) => {
                    glob.push('*');
                    pattern.push_str("([^/]+?)");
                    let known = parts.iter().position(|part| part == name);
                    groups.push(known.unwrap_or(parts.len()));
                    if known.is_none() {
                        parts.push(name.to_owned());
                    }
                }
            }
        }
        pattern.push('$');
        let help = "use `*` within a name and `**` for any folders";
        let no_pattern = |why: String| error(format!("`{source}` is not a pattern for files: {why}"), help);
        let matcher = PathGlob::parse(&glob, false).map_err(no_pattern)?;
        let regex = match groups.is_empty() {
            true => None,
            false => {
                Some((LazyRegex::new(pattern).map_err(|_| no_pattern("it is too long".to_owned()))?, groups))
            }
        };
        Ok(FilePattern { source: source.to_owned(), matcher, parts, regex })
    }

    /// Whether the path is one of those that it stands for: a part that is there twice must be the same.
    pub fn takes(&self, path: &str) -> bool {
        self.matcher.takes(path) && (self.regex.is_none() || self.values(path).is_some())
    }

    /// What tells by the globs alone whether a path may be one of them.
    pub(super) fn matcher(&self) -> &PathGlob {
        &self.matcher
    }

    /// The names of its parts, each once.
    pub fn parts(&self) -> &[String] {
        &self.parts
    }

    /// The text of each part in a path, in the order of [`FilePattern::parts`]; `None` for a path that does not fit.
    pub fn values<'p>(&self, path: &'p str) -> Option<Vec<&'p str>> {
        let Some((regex, groups)) = &self.regex else { return Some(Vec::new()) };
        let captures = regex.get()?.captures(path)?;
        let mut values: Vec<&'p str> = Vec::with_capacity(self.parts.len());
        for (number, part) in groups.iter().enumerate() {
            let value = captures.get(number + 1)?.as_str();
            match values.get(*part) {
                Some(known) if *known != value => return None,
                Some(_) => {}
                None => values.push(value),
            }
        }
        Some(values)
    }

    /// The path with other texts for its parts, by their position; `None` for a path that does not fit.
    pub fn with_values(&self, path: &str, new: impl Fn(usize) -> Option<String>) -> Option<NewPath> {
        let (regex, groups) = self.regex.as_ref()?;
        let captures = regex.get()?.captures(path)?;
        let mut out = NewPath::default();
        let mut from = 0;
        for (number, part) in groups.iter().enumerate() {
            let (group, Some(new)) = (captures.get(number + 1)?, new(*part)) else { continue };
            out.path.push_str(&path[from..group.start()]);
            let is_name = out.path.is_empty() || out.path.ends_with('/');
            out.path.push_str(&new);
            from = group.end();
            if is_name && path[from..].starts_with('/') && new != group.as_str() {
                out.folders.push((path[..from].to_owned(), out.path.clone()));
            }
        }
        out.path.push_str(&path[from..]);
        Some(out)
    }

    /// The path that it makes of a value for each part; `None` if it has a wildcard, or no value for a part.
    pub fn fill<'v>(&self, value: impl Fn(&str) -> Option<&'v str>) -> Option<String> {
        let mut path = String::new();
        for piece in pieces(&self.source).ok()? {
            match piece {
                Piece::Glob(text) if text.contains(['*', '?', '[', '\\']) => return None,
                Piece::Glob(text) => path.push_str(text),
                Piece::Part(name) => path.push_str(value(name)?),
            }
        }
        Some(path)
    }

    /// The language code in a path, if the pattern has `{lang}`.
    pub fn language<'p>(&self, path: &'p str) -> Option<&'p str> {
        let at = self.parts.iter().position(|part| part == LANGUAGE)?;
        self.values(path)?.get(at).copied()
    }

    /// Whether a part stands for the language.
    pub fn has_language(&self) -> bool {
        self.parts.iter().any(|part| part == LANGUAGE)
    }

    /// The folder that all paths which fit lie in, as far as the pattern says it without a wildcard.
    pub(super) fn folder(&self) -> &str {
        let plain = self.source.find(['*', '?', '[', '{', '\\']).unwrap_or(self.source.len());
        self.source[..plain].rfind('/').map_or("", |end| &self.source[..end])
    }
}

/// What becomes of a path when its parts have other texts.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NewPath {
    /// The new path.
    pub path: String,
    /// The folders around it whose whole name is such a part, outermost first: each as it was, and as it is then.
    pub folders: Vec<(String, String)>,
}

enum Piece<'s> {
    Glob(&'s str),
    Part(&'s str),
}

/// The pieces of a pattern, in turn.
fn pieces(source: &str) -> Result<Vec<Piece<'_>>, TemplateError> {
    let wrong = |at: usize, message: &str| TemplateError { message: message.to_owned(), at };
    let (mut out, mut rest) = (Vec::new(), source);
    while !rest.is_empty() {
        let at = source.len() - rest.len();
        let Some(inner) = rest.strip_prefix('{') else {
            let end = rest.find(['{', '}']).unwrap_or(rest.len());
            if rest[end..].starts_with('}') {
                return Err(wrong(at + end, "`}` closes nothing"));
            }
            out.push(Piece::Glob(&rest[..end]));
            rest = &rest[end..];
            continue;
        };
        let end = inner.find('}').ok_or_else(|| wrong(at, "`{` has no `}`"))?;
        let name = &inner[..end];
        let is_name = !name.is_empty() && name.chars().all(|next| next.is_alphanumeric() || next == '_');
        if !is_name {
            return Err(wrong(at, "a name in braces is letters, digits and `_`"));
        }
        if matches!(out.last(), Some(Piece::Part(_))) {
            return Err(wrong(at, "two parts with nothing between them cannot be told apart"));
        }
        out.push(Piece::Part(name));
        rest = &inner[end + 1..];
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::FilePattern;
    use rstest::rstest;

    #[rstest]
    #[case("basins/{basin}/gates.json", "basins/north/gates.json", Some("north"))]
    #[case("basins/{basin}/gates.json", "basins/north/old/gates.json", None)]
    #[case("logs/{reach} {name}.txt", "logs/mill run.txt", Some("mill run"))]
    #[case("{reach}_{season}.txt", "mill_run_winter.txt", Some("mill run_winter"))]
    #[case("sites/{site}/{site}.json", "sites/weir/weir.json", Some("weir"))]
    #[case("sites/{site}/{site}.json", "sites/weir/lock.json", None)]
    #[case("**/{a}/x?.txt", "b/c/x1.txt", Some("c"))]
    #[case("**/{a}/x?.txt", "c/x1.txt", Some("c"))]
    #[case("text/*_{lang}.txt", "text/all_the_names_pl.txt", Some("pl"))]
    #[case("a+b/{c}.txt", "a+b/d.txt", Some("d"))]
    #[case("a/**", "a/b/c.txt", Some(""))]
    fn parts_of_paths(#[case] pattern: &str, #[case] path: &str, #[case] expected: Option<&str>) {
        let pattern = FilePattern::parse(pattern).expect("a pattern");
        assert_eq!(pattern.takes(path), expected.is_some());
        let values = pattern.values(path).filter(|_| pattern.takes(path));
        assert_eq!(values.map(|values| values.join(" ")).as_deref(), expected);
    }

    #[rstest]
    #[case("sites/{site}/site.json", "sites/weir/site.json", "sites/dam/site.json", "sites/weir=sites/dam")]
    #[case("sites/{site}/{site}.json", "sites/weir/weir.json", "sites/dam/dam.json", "sites/weir=sites/dam")]
    #[case("{site}/a/{site}/x", "weir/a/weir/x", "dam/a/dam/x", "weir=dam weir/a/weir=dam/a/dam")]
    #[case("s_{site}/x", "s_weir/x", "s_dam/x", "")]
    #[case("{site}_{kind}.txt", "weir_b.txt", "dam_b.txt", "")]
    #[case("{site}", "weir", "dam", "")]
    fn parts_of_paths_are_replaced(
        #[case] pattern: &str,
        #[case] path: &str,
        #[case] expected: &str,
        #[case] folders: &str,
    ) {
        let pattern = FilePattern::parse(pattern).expect("a pattern");
        let is_site = |part: usize| pattern.parts()[part] == "site";
        let new = pattern.with_values(path, |part| is_site(part).then(|| "dam".to_owned()));
        let new = new.expect("a path that fits");
        let told: Vec<String> = new.folders.iter().map(|(old, new)| format!("{old}={new}")).collect();
        assert_eq!((new.path.as_str(), told.join(" ").as_str()), (expected, folders));
        assert_eq!(pattern.with_values("elsewhere/x/y/z/a", |_| None), None);
    }

    #[rstest]
    #[case("a/{b.txt", "character 3: `{` has no `}`")]
    #[case("a/b}.txt", "character 4: `}` closes nothing")]
    #[case("{a}{b}", "character 4: two parts")]
    #[case("{a b}", "character 1: a name in braces")]
    #[case("{}", "character 1: a name in braces")]
    #[case("a/[b", "is not a pattern for files")]
    fn mistakes_are_told(#[case] pattern: &str, #[case] says: &str) {
        let error = FilePattern::parse(pattern).expect_err("no pattern");
        assert!(error.message.contains(says), "{error:?}");
    }
}
