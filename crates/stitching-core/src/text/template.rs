//! The one template language: text with named parts.
//!
//! `layouts/{}.json`, `{key} = "{text}"`, `{good},{share}[,{crew}]`: a part in braces stands for
//! any text, square brackets hold what may be missing, a blank stands for any run of blanks or
//! tabs (at least one between two parts, where it is all that separates them). A brace or bracket
//! that is meant literally is doubled: `[[{section}]]`.
//!
//! A part takes as little text as the rest allows. The matching is done by the `regex` crate, so
//! it is linear in the text whatever the template.

use regex::Regex;
use std::fmt::Write as _;
use std::ops::Range;

/// A parsed template: it can be matched against a text, and filled to make one.
#[derive(Debug, Clone)]
pub struct Template {
    source: String,
    pieces: Vec<Piece>,
    parts: Vec<String>,
    regex: Regex,
    /// The same, to be found anywhere in a line.
    anywhere: Regex,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    Literal(String),
    Part(usize),
    Optional(Vec<Piece>),
}

/// Why a template cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct TemplateError {
    /// What is wrong.
    pub message: String,
    /// Where, as a byte offset into the template.
    pub at: usize,
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// A brace or bracket without its partner, a part named twice, brackets within brackets, or
    /// two parts with nothing between them.
    pub fn parse(source: &str) -> Result<Template, TemplateError> {
        let mut reader = Reader { source, at: 0, parts: Vec::new() };
        let pieces = reader.pieces(false)?;
        let mut pattern = String::from("(?s)^");
        write_pattern(&pieces, false, &mut pattern);
        pattern.push('$');
        let mut anywhere = String::new();
        write_pattern(&pieces, true, &mut anywhere);
        let too_long = |_| TemplateError { message: "the template is too long".to_owned(), at: 0 };
        let regex = Regex::new(&pattern).map_err(too_long)?;
        let anywhere = Regex::new(&anywhere).map_err(too_long)?;
        Ok(Template { source: source.to_owned(), pieces, parts: reader.parts, regex, anywhere })
    }

    /// The template as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The names of the parts, in order of appearance; the nameless part `{}` is `""`.
    pub fn parts(&self) -> &[String] {
        &self.parts
    }

    /// Matches the whole of `text`. Gives, in the order of [`Template::parts`], the byte range of
    /// each part in `text` (`None` for one that is missing), or `None` if the text does not fit.
    pub fn matches(&self, text: &str) -> Option<Vec<Option<Range<usize>>>> {
        let captures = self.regex.captures(text)?;
        Some((1..=self.parts.len()).map(|part| captures.get(part).map(|found| found.range())).collect())
    }

    /// Finds the shape anywhere in `text`, one after another. A part that a sign ends goes as far as that
    /// sign; any other as far as the next blank. Gives for each the ranges of the parts and, last, of the
    /// whole.
    pub fn find_all(&self, text: &str) -> Vec<Vec<Option<Range<usize>>>> {
        let ranges = |found: regex::Captures<'_>| {
            let parts = (1..=self.parts.len()).map(|part| found.get(part).map(|part| part.range()));
            parts.chain([found.get(0).map(|whole| whole.range())]).collect()
        };
        self.anywhere.captures_iter(text).filter(|found| !found[0].is_empty()).map(ranges).collect()
    }

    /// The text that part `name` covers in `text`, if the text fits and has the part.
    pub fn extract<'t>(&self, text: &'t str, name: &str) -> Option<&'t str> {
        let index = self.parts.iter().position(|part| part == name)?;
        let range = self.matches(text)?.swap_remove(index)?;
        text.get(range)
    }

    /// The text with each part replaced by its value. What is in brackets is left out when one of
    /// its parts has no value.
    ///
    /// # Errors
    /// The name of a part outside brackets for which `value` has nothing.
    pub fn fill(&self, value: impl Fn(&str) -> Option<String>) -> Result<String, String> {
        let mut out = String::new();
        self.fill_pieces(&self.pieces, &value, &mut out)?;
        Ok(out)
    }

    /// [`Template::fill`] for a template of one nameless part.
    pub fn fill_one(&self, value: &str) -> String {
        self.fill(|_| Some(value.to_owned())).unwrap_or_default()
    }

    /// A file glob that takes in all texts of this shape: each part becomes `*`.
    pub fn glob(&self) -> String {
        fn write(pieces: &[Piece], out: &mut String) {
            for piece in pieces {
                match piece {
                    Piece::Literal(text) => out.push_str(text),
                    Piece::Part(_) | Piece::Optional(_) => out.push('*'),
                }
            }
        }
        let mut out = String::new();
        write(&self.pieces, &mut out);
        out
    }

    fn fill_pieces(
        &self,
        pieces: &[Piece],
        value: &impl Fn(&str) -> Option<String>,
        out: &mut String,
    ) -> Result<(), String> {
        for piece in pieces {
            match piece {
                Piece::Literal(text) => out.push_str(text),
                Piece::Part(part) => {
                    let name = &self.parts[*part];
                    out.push_str(&value(name).ok_or_else(|| name.clone())?);
                }
                Piece::Optional(inner) => {
                    let mark = out.len();
                    if self.fill_pieces(inner, value, out).is_err() {
                        out.truncate(mark);
                    }
                }
            }
        }
        Ok(())
    }
}

struct Reader<'s> {
    source: &'s str,
    at: usize,
    parts: Vec<String>,
}

impl Reader<'_> {
    /// Reads pieces up to the end, or up to the `]` that closes an optional.
    fn pieces(&mut self, optional: bool) -> Result<Vec<Piece>, TemplateError> {
        let mut pieces: Vec<Piece> = Vec::new();
        while let Some(next) = self.source[self.at..].chars().next() {
            let doubled = self.source[self.at + next.len_utf8()..].starts_with(next);
            match next {
                '{' | '}' | '[' | ']' if doubled => {
                    push_literal(&mut pieces, next);
                    self.at += 2;
                }
                '{' => {
                    if matches!(pieces.last(), Some(Piece::Part(_))) {
                        return Err(self.error("two parts with nothing between them cannot be told apart"));
                    }
                    pieces.push(self.part()?);
                }
                '[' if optional => return Err(self.error("brackets within brackets")),
                '[' => {
                    let open = self.at;
                    self.at += 1;
                    let inner = self.pieces(true)?;
                    if !self.source[self.at..].starts_with(']') {
                        self.at = open;
                        return Err(
                            self.error("`[` has no `]`; write `[[` for a bracket that is meant as such")
                        );
                    }
                    self.at += 1;
                    pieces.push(Piece::Optional(inner));
                }
                ']' if optional => return Ok(pieces),
                '}' | ']' => {
                    return Err(self.error(&format!(
                        "`{next}` closes nothing; write `{next}{next}` if it is meant as such"
                    )));
                }
                other => {
                    push_literal(&mut pieces, other);
                    self.at += other.len_utf8();
                }
            }
        }
        Ok(pieces)
    }

    fn part(&mut self) -> Result<Piece, TemplateError> {
        let rest = &self.source[self.at + 1..];
        let Some(len) = rest.find('}') else {
            return Err(self.error("`{` has no `}`; write `{{` for a brace that is meant as such"));
        };
        let name = rest[..len].trim().to_owned();
        if self.parts.contains(&name) {
            return Err(self.error(&format!("the part `{{{name}}}` stands there twice")));
        }
        self.at += len + 2;
        self.parts.push(name);
        Ok(Piece::Part(self.parts.len() - 1))
    }

    fn error(&self, message: &str) -> TemplateError {
        TemplateError { message: message.to_owned(), at: self.at }
    }
}

fn push_literal(pieces: &mut Vec<Piece>, next: char) {
    match pieces.last_mut() {
        Some(Piece::Literal(text)) => text.push(next),
        _ => pieces.push(Piece::Literal(next.to_string())),
    }
}

/// Writes the regular expression of `pieces`, each part as short as possible, or, `anywhere` in a line,
/// bounded by what follows it.
fn write_pattern(pieces: &[Piece], anywhere: bool, out: &mut String) {
    for (index, piece) in pieces.iter().enumerate() {
        match piece {
            Piece::Part(_) if anywhere => match pieces.get(index + 1) {
                Some(Piece::Literal(text)) if !text.starts_with(' ') => out.push_str("([^\\n]*?)"),
                _ => out.push_str("(\\S+)"),
            },
            Piece::Part(_) => out.push_str("(.*?)"),
            Piece::Optional(inner) => {
                out.push_str("(?:");
                write_pattern(inner, anywhere, out);
                out.push_str(")?");
            }
            Piece::Literal(text)
                if text.chars().all(|c| c == ' ') && index > 0 && index + 1 < pieces.len() =>
            {
                out.push_str("[ \\t]+");
            }
            Piece::Literal(text) => {
                for (n, word) in text.split(' ').enumerate() {
                    let blank = if n > 0 { "[ \\t]*" } else { "" };
                    let _ = write!(out, "{blank}{}", regex::escape(word));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("layouts/{}.json", "layouts/frost_cut.json", &["frost_cut"])]
    #[case("{key} = \"{text}\"", "greet=\"say \"hi\" = now\"", &["greet", "say \"hi\" = now"])]
    #[case("{key} = \"{text}\"", "greet  \t= \"\"", &["greet", ""])]
    #[case("{good},{share}[,{crew}]", "coal,40", &["coal", "40", "-"])]
    #[case("{good},{share}[,{crew}]", "coal,40,tow", &["coal", "40", "tow"])]
    #[case("placed {kind} at {x} {y}", "placed crane at 3  4", &["crane", "3", "4"])]
    #[case("[[{section}]]", "[frost]", &["frost"])]
    #[case("txt_{}_name", "txt_ice.1_name", &["ice.1"])]
    fn matches_and_fills_back(#[case] template: &str, #[case] text: &str, #[case] parts: &[&str]) {
        let template = Template::parse(template).expect("a good template");
        let found = template.matches(text).expect("the text fits");
        let found: Vec<&str> = found.into_iter().map(|part| part.map_or("-", |range| &text[range])).collect();
        assert_eq!(found, parts);
        let filled = template
            .fill(|name| {
                let value = parts[template.parts().iter().position(|part| part == name)?];
                (value != "-").then(|| value.to_owned())
            })
            .expect("all parts have values");
        let again = template.matches(&filled).expect("what was filled fits");
        let again: Vec<&str> =
            again.into_iter().map(|part| part.map_or("-", |range| &filled[range])).collect();
        assert_eq!(again, parts, "filled as {filled}");
    }

    #[rstest]
    #[case("layouts/{}.json", "layouts/frost.JSON")]
    #[case("a{x}b", "a1c")]
    #[case("{x} {y}", "3")]
    fn a_text_of_another_shape_does_not_match(#[case] template: &str, #[case] text: &str) {
        assert_eq!(Template::parse(template).expect("a good template").matches(text), None);
    }

    #[rstest]
    #[case("a{b", 1, "`{` has no `}`")]
    #[case("a]b", 1, "closes nothing")]
    #[case("{a}{b}", 3, "two parts")]
    #[case("{a}-{a}", 4, "twice")]
    #[case("x[{a}", 1, "`[` has no `]`")]
    #[case("[a[b]]", 2, "brackets within")]
    fn mistakes_have_a_place(#[case] template: &str, #[case] at: usize, #[case] message: &str) {
        let error = Template::parse(template).expect_err("a bad template");
        assert_eq!(error.at, at, "{error}");
        assert!(error.message.contains(message), "{error}");
    }

    #[test]
    fn a_missing_part_is_named() {
        let template = Template::parse("layouts/{Reach}.json").expect("a good template");
        assert_eq!(template.fill(|_| None), Err("Reach".to_owned()));
        assert_eq!(template.glob(), "layouts/*.json");
    }
}
