//! The one template language: text with named parts.
//!
//! `layouts/{}.json`, `{key} = "{text}"`, `{good},{share}[,{crew}]`: a part in braces stands for
//! any text, square brackets hold what may be missing, a blank stands for any run of blanks (at least one between two
//! letters) or
//! tabs (at least one between two parts, where it is all that separates them). A brace or bracket
//! that is meant literally is doubled: `[[{section}]]`.
//!
//! In a template that only makes names, a part may change the case of its letters: `{key|upper}_NAME`, `{|lower}`,
//! `{|title}`.
//!
//! A part takes as little text as the rest allows. Where nothing may be missing, that is found by going from one literal
//! text to the next; else the `regex` crate does it. Both are linear in the text whatever the template.

use super::LazyRegex;
use memchr::memmem;
use std::fmt::Write as _;
use std::ops::Range;

/// A parsed template: it can be matched against a text, and filled to make one.
#[derive(Debug, Clone)]
pub struct Template {
    source: String,
    pieces: Vec<Piece>,
    parts: Vec<String>,
    /// For each part the case that its letters get, if one is given.
    cases: Vec<Option<LetterCase>>,
    regex: LazyRegex,
    /// The literals and parts, where nothing may be missing.
    steps: Option<Steps>,
    /// The same as the expression, to be found anywhere in a line.
    anywhere: LazyRegex,
}

/// The case that letters get.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LetterCase {
    /// All upper case.
    Upper,
    /// All lower case.
    Lower,
    /// The first letter of each word upper case, the others lower. Words are letters and digits side by side.
    Title,
}

impl LetterCase {
    const NAMES: [(&str, LetterCase); 3] =
        [("upper", LetterCase::Upper), ("lower", LetterCase::Lower), ("title", LetterCase::Title)];

    /// The one with this name in templates.
    pub fn called(name: &str) -> Option<LetterCase> {
        LetterCase::NAMES.iter().find(|(own, _)| *own == name).map(|(_, case)| *case)
    }

    /// `text` in this case.
    pub fn apply(self, text: &str) -> String {
        match self {
            LetterCase::Upper => text.to_uppercase(),
            LetterCase::Lower => text.to_lowercase(),
            LetterCase::Title => {
                let mut out = String::with_capacity(text.len());
                let mut begins = true;
                for next in text.chars() {
                    match begins {
                        true => out.extend(next.to_uppercase()),
                        false => out.extend(next.to_lowercase()),
                    }
                    begins = !next.is_alphanumeric();
                }
                out
            }
        }
    }
}

/// A template of literals and parts in turn, for matching without the expression.
#[derive(Debug, Clone)]
struct Steps {
    /// What a text begins with.
    first: Literal,
    /// What follows the parts, each its own.
    after: Vec<Literal>,
    /// Whether parts are told apart by blanks alone somewhere: then a first try that fails is not the last word.
    has_bare_blanks: bool,
}

/// A literal text, word by word.
#[derive(Debug, Clone, Default)]
struct Literal(Vec<Word>);

/// A word of a literal text, perhaps empty.
#[derive(Debug, Clone)]
struct Word {
    blanks: Blanks,
    text: String,
}

/// What stands before a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Blanks {
    None,
    Any,
    AtLeastOne,
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
        let mut reader = TemplateParser { source, at: 0, parts: Vec::new(), cases: Vec::new() };
        let pieces = reader.pieces(false)?;
        let mut pattern = String::from("(?s)^");
        write_pattern(&pieces, false, &mut pattern);
        pattern.push('$');
        let mut anywhere = String::new();
        write_pattern(&pieces, true, &mut anywhere);
        let too_long = |_| TemplateError { message: "the template is too long".to_owned(), at: 0 };
        let regex = LazyRegex::new(pattern).map_err(too_long)?;
        let anywhere = LazyRegex::new(anywhere).map_err(too_long)?;
        let steps = Steps::of(&pieces);
        let TemplateParser { parts, cases, .. } = reader;
        Ok(Template { source: source.to_owned(), pieces, parts, cases, regex, steps, anywhere })
    }

    /// The template as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether all of it stands in brackets, and so may be missing.
    pub fn may_be_missing(&self) -> bool {
        let (mut depth, mut rest) = (0usize, self.source.as_str());
        while let Some(next) = rest.chars().next() {
            let doubled = rest[next.len_utf8()..].starts_with(next);
            match next {
                '[' | ']' if doubled && depth == 0 => return false,
                '[' if !doubled => depth += 1,
                ']' if !doubled => depth = depth.saturating_sub(1),
                _ if depth == 0 && !next.is_whitespace() => return false,
                _ => {}
            }
            rest = &rest[next.len_utf8() * if doubled && matches!(next, '[' | ']') { 2 } else { 1 }..];
        }
        true
    }

    /// Whether a part changes the case of its letters: then what was put in cannot be told from the text.
    pub fn changes_case(&self) -> bool {
        self.cases.iter().any(Option::is_some)
    }

    /// The names of the parts, in order of appearance; the nameless part `{}` is `""`.
    pub fn parts(&self) -> &[String] {
        &self.parts
    }

    /// Matches the whole of `text`. Gives, in the order of [`Template::parts`], the byte range of
    /// each part in `text` (`None` for one that is missing), or `None` if the text does not fit.
    pub fn matches(&self, text: &str) -> Option<Vec<Option<Range<usize>>>> {
        if let Some(steps) = &self.steps {
            let found = steps.matches(text.as_bytes());
            if found.is_some() || !steps.has_bare_blanks {
                return found;
            }
        }
        self.matches_by_regex(text)
    }

    /// Whether a text that begins with `line` may fit: whether that begins as the template does. Costs next to nothing.
    pub fn may_begin(&self, line: &str) -> bool {
        self.steps.as_ref().is_none_or(|steps| steps.first.end(line.as_bytes(), 0).is_some())
    }

    /// Whether a text that ends with `line` may fit: whether that ends as the template does. Costs next to nothing.
    pub fn may_end(&self, line: &str) -> bool {
        let last = self.steps.as_ref().and_then(|steps| steps.after.last()?.0.last());
        last.is_none_or(|word| line.ends_with(&word.text))
    }

    fn matches_by_regex(&self, text: &str) -> Option<Vec<Option<Range<usize>>>> {
        let captures = self.regex.get()?.captures(text)?;
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
        let found = self.anywhere.get().into_iter().flat_map(|regex| regex.captures_iter(text));
        found.filter(|found| !found[0].is_empty()).map(ranges).collect()
    }

    /// The text that part `name` covers in `text`, if the text fits and has the part, and the part does not change
    /// the case of its letters.
    pub fn extract<'t>(&self, text: &'t str, name: &str) -> Option<&'t str> {
        let index = self.parts.iter().position(|part| part == name)?;
        if self.cases[index].is_some() {
            return None;
        }
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
                    let value = value(name).ok_or_else(|| name.clone())?;
                    match self.cases[*part] {
                        Some(case) => out.push_str(&case.apply(&value)),
                        None => out.push_str(&value),
                    }
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

impl Steps {
    /// `None` where something may be missing, or a literal has tabs of its own.
    fn of(pieces: &[Piece]) -> Option<Steps> {
        let mut steps = Steps { first: Literal::default(), after: Vec::new(), has_bare_blanks: false };
        for (index, piece) in pieces.iter().enumerate() {
            match piece {
                Piece::Part(_) => steps.after.push(Literal::default()),
                Piece::Literal(text) if text.contains('\t') => return None,
                Piece::Literal(text) => {
                    let is_bare = text.chars().all(|c| c == ' ') && index > 0 && index + 1 < pieces.len();
                    let literal = Literal::of(text, is_bare);
                    steps.has_bare_blanks |= is_bare;
                    *steps.after.last_mut().unwrap_or(&mut steps.first) = literal;
                }
                Piece::Optional(_) => return None,
            }
        }
        Some(steps)
    }

    /// As [`Template::matches`]: each part goes as far as the first place where what follows it stands. If that leads
    /// nowhere, no other way does, except that blanks between two parts may belong to one of them.
    fn matches(&self, text: &[u8]) -> Option<Vec<Option<Range<usize>>>> {
        let mut at = self.first.end(text, 0)?;
        let mut parts = Vec::with_capacity(self.after.len());
        for (number, literal) in self.after.iter().enumerate() {
            let (start, end) = match number + 1 == self.after.len() {
                true => literal.find_last(text, at)?,
                false => literal.find(text, at)?,
            };
            parts.push(Some(at..start));
            at = end;
        }
        (at == text.len()).then_some(parts)
    }
}

impl Literal {
    fn of(text: &str, is_bare: bool) -> Literal {
        if is_bare {
            return Literal(vec![Word { blanks: Blanks::AtLeastOne, text: String::new() }]);
        }
        let blanks = |number| if number > 0 { Blanks::Any } else { Blanks::None };
        let words = text.split(' ').enumerate();
        Literal(words.map(|(number, word)| Word { blanks: blanks(number), text: word.to_owned() }).collect())
    }

    /// Where it ends if it begins at byte `at`.
    fn end(&self, text: &[u8], at: usize) -> Option<usize> {
        let mut at = at;
        for word in &self.0 {
            let rest = &text[at..];
            let blanks = match word.blanks {
                Blanks::None => 0,
                _ => rest.iter().take_while(|byte| is_blank(**byte)).count(),
            };
            let lacks_blank = match word.blanks {
                Blanks::None => false,
                Blanks::Any => blanks == 0 && is_inside_word(text, at),
                Blanks::AtLeastOne => blanks == 0,
            };
            if lacks_blank || !rest[blanks..].starts_with(word.text.as_bytes()) {
                return None;
            }
            at += blanks + word.text.len();
        }
        Some(at)
    }

    /// The first place from byte `from` on where it begins, and where it ends there.
    fn find(&self, text: &[u8], from: usize) -> Option<(usize, usize)> {
        self.places(text, from).next()
    }

    /// As [`Literal::find`], but where it ends with the text.
    fn find_last(&self, text: &[u8], from: usize) -> Option<(usize, usize)> {
        match self.0.as_slice() {
            [] => Some((text.len(), text.len())),
            [word] if word.blanks == Blanks::None => {
                let start = text.len().checked_sub(word.text.len()).filter(|start| *start >= from)?;
                text.ends_with(word.text.as_bytes()).then_some((start, text.len()))
            }
            _ => self.places(text, from).find(|(_, end)| *end == text.len()),
        }
    }

    /// Where it begins and ends, from byte `from` on. Of the places that begin at one of several blanks before the same
    /// word, which all end alike, there is only the first.
    fn places<'l>(&'l self, text: &'l [u8], from: usize) -> Box<dyn Iterator<Item = (usize, usize)> + 'l> {
        let whole = move |start: usize| Some((start, self.end(text, start)?));
        let Some(first) = self.0.iter().position(|word| !word.text.is_empty()) else {
            let starts_run = move |at: &usize| *at == from || !is_blank(text[*at - 1]);
            return Box::new((from..=text.len()).filter(starts_run).filter_map(whole));
        };
        // Empty words before it stand for blanks.
        let before = move |at: usize| match first {
            0 => 0,
            _ => text[from..at].iter().rev().take_while(|byte| is_blank(**byte)).count(),
        };
        let word = self.0[first].text.as_bytes();
        let mut next = from;
        let found = std::iter::from_fn(move || {
            let at = next + memmem::find(&text[next..], word)?;
            next = at + 1;
            Some(at)
        });
        Box::new(found.filter_map(move |at| whole(at - before(at))))
    }
}

/// Whether letters, digits or underscores stand on both sides of byte `at`.
fn is_inside_word(text: &[u8], at: usize) -> bool {
    let is_word = |next: char| next.is_alphanumeric() || next == '_';
    let before = (0..at).rev().find(|start| text[*start] & 0xc0 != 0x80).unwrap_or(at);
    let before = std::str::from_utf8(&text[before..at]).ok().and_then(|text| text.chars().next_back());
    let after = (at + 1..=text.len()).find(|end| text.get(*end).is_none_or(|byte| byte & 0xc0 != 0x80));
    let after = after.and_then(|end| std::str::from_utf8(&text[at..end]).ok()?.chars().next());
    before.is_some_and(is_word) && after.is_some_and(is_word)
}

fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t')
}

struct TemplateParser<'s> {
    source: &'s str,
    at: usize,
    parts: Vec<String>,
    cases: Vec<Option<LetterCase>>,
}

impl TemplateParser<'_> {
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
        let (name, case) = match rest[..len].split_once('|') {
            None => (rest[..len].trim().to_owned(), None),
            Some((name, case)) => {
                let found = LetterCase::NAMES.iter().find(|(own, _)| *own == case.trim());
                let Some((_, found)) = found else {
                    return Err(self.error("behind `|` stands `upper`, `lower` or `title`"));
                };
                (name.trim().to_owned(), Some(*found))
            }
        };
        if self.parts.contains(&name) {
            return Err(self.error(&format!("the part `{{{name}}}` stands there twice")));
        }
        self.at += len + 2;
        self.parts.push(name);
        self.cases.push(case);
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
                    // A word ends at a word's end: none may be left out between two letters.
                    let blank = if n > 0 { "(?:[ \\t]+|\\b{start-half}|\\b{end-half})" } else { "" };
                    let _ = write!(out, "{blank}{}", regex::escape(word));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("[{a}]", true)]
    #[case(" [{a} ][{b}] ", true)]
    #[case("", true)]
    #[case("{a}", false)]
    #[case("[{a}];", false)]
    #[case("[[{a}]]", false)]
    #[case("[a [[{b}]]]", true)]
    fn what_may_be_missing(#[case] template: &str, #[case] expected: bool) {
        assert_eq!(Template::parse(template).expect("a template").may_be_missing(), expected);
    }

    #[rstest]
    #[case("layouts/{}.json", "layouts/frost_cut.json", &["frost_cut"])]
    #[case("{key} = \"{text}\"", "greet=\"say \"hi\" = now\"", &["greet", "say \"hi\" = now"])]
    #[case("{key} = \"{text}\"", "greet  \t= \"\"", &["greet", ""])]
    #[case("{good},{share}[,{crew}]", "coal,40", &["coal", "40", "-"])]
    #[case("{good},{share}[,{crew}]", "coal,40,tow", &["coal", "40", "tow"])]
    #[case("placed {kind} at {x} {y}", "placed crane at 3  4", &["crane", "3", "4"])]
    #[case("[[{section}]]", "[frost]", &["frost"])]
    #[case("good {key}", "good coal", &["coal"])]
    #[case("good {key}", "good=coal", &["=coal"])]
    #[case("{kind} at {x}", "flat at 3", &["flat", "3"])]
    #[case("{key} = {v}", "a=b", &["a", "b"])]
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
    #[case("x{key|capital}", 1, "`upper`, `lower` or `title`")]
    fn mistakes_have_a_place(#[case] template: &str, #[case] at: usize, #[case] message: &str) {
        let error = Template::parse(template).expect_err("a bad template");
        assert_eq!(error.at, at, "{error}");
        assert!(error.message.contains(message), "{error}");
    }

    #[rstest]
    #[case("{|upper}_NAME", "frost_cut", "FROST_CUT_NAME")]
    #[case("Name{key|title}", "frost_cut 2nd", "NameFrost_Cut 2nd")]
    #[case("{key|lower}", "\u{c4}ON", "\u{e4}on")]
    #[case("{ key | lower }", "A", "a")]
    fn letters_get_another_case(#[case] template: &str, #[case] value: &str, #[case] expected: &str) {
        let template = Template::parse(template).expect("a good template");
        assert!(template.changes_case());
        assert_eq!(template.fill_one(value), expected);
        // What it was made of cannot be told.
        assert_eq!(template.extract(expected, &template.parts()[0]), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        #[test]
        fn both_ways_of_matching_agree(
            pieces in prop::collection::vec("(\\{[abc]\\}|[xy= ]{1,3})", 1..7),
            texts in prop::collection::vec("[xyv= \t]{0,12}", 8),
        ) {
            // A source with two parts side by side, or of one name, is none.
            let Ok(template) = Template::parse(&pieces.concat()) else { return Ok(()) };
            prop_assert!(template.steps.is_some());
            let filled = template.fill(|name| Some(if name == "a" { "x v" } else { "v" }.to_owned()));
            for text in texts.iter().chain(filled.as_ref().ok()) {
                prop_assert_eq!(template.matches(text), template.matches_by_regex(text), "{:?} in {:?}", template.source, text);
            }
        }
    }

    #[test]
    fn a_missing_part_is_named() {
        let template = Template::parse("layouts/{Reach}.json").expect("a good template");
        assert_eq!(template.fill(|_| None), Err("Reach".to_owned()));
        assert_eq!(template.glob(), "layouts/*.json");
    }
}
