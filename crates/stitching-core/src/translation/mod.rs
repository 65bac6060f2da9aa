//! Texts for translators: written to a file of their trade, taken up from one, and what a translator wrote there kept.

mod po;
mod xliff;

use crate::reading::PlaceResolver;
use crate::reading::View;
use crate::views::TextSurvey;
use crate::{Error, Place};
use std::collections::HashMap;
use std::path::Path;

/// The kinds of files for translators.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TranslationFormat {
    /// PO, as the manual of GNU gettext describes it.
    Po,
    /// XLIFF 2.1 (OASIS).
    Xliff,
}

/// Texts of one language with what they are in another.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Translation {
    /// The code of the language that is translated from.
    pub source: String,
    /// The code of the language that is translated to.
    pub target: String,
    /// What is translated: the name of the mod.
    pub name: String,
    /// What else a PO file says of itself, by name, and the notes before that.
    pub header: Header,
    /// The texts, in order.
    pub units: Vec<Unit>,
}

/// What a PO file says of itself besides its languages.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Header {
    /// The fields, by name.
    pub fields: Vec<(String, String)>,
    /// Notes before them.
    pub notes: Vec<String>,
}

/// A text to be translated.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Unit {
    /// The address of the text: table and key.
    pub address: String,
    /// What it says in the language that is translated from.
    pub source: String,
    /// What it said there when it was translated, if that was something else.
    pub former: Option<String>,
    /// The translation; empty if there is none yet.
    pub target: String,
    /// Whether someone should look at the translation again.
    pub in_doubt: bool,
    /// Where the text is used, for the translator.
    pub context: Vec<String>,
    /// The path and the line of the text.
    pub place: String,
    /// What the translator wrote beside it.
    pub notes: Vec<String>,
    /// Whether the game has no such text any more.
    pub gone: bool,
}

/// What became of the units of an earlier file.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Merged {
    /// How many translations of the earlier file differ from the game's, and are kept.
    pub kept: usize,
    /// How many texts say something else than when they were translated.
    pub changed: usize,
    /// How many are gone from the game.
    pub gone: usize,
}

/// What kept a file for translators from being read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TranslationError {
    /// What is wrong.
    pub message: String,
    /// The line, 1-based; 0 for the file as a whole.
    pub line: usize,
}

impl TranslationFormat {
    /// The kind of a file, by how its name ends.
    ///
    /// # Errors
    /// When that is none of them.
    pub fn of_path(path: &Path) -> Result<TranslationFormat, Error> {
        let extension = path.extension().map(|own| own.to_string_lossy().to_lowercase());
        match extension.as_deref() {
            Some("po" | "pot") => Ok(TranslationFormat::Po),
            Some("xlf" | "xliff") => Ok(TranslationFormat::Xliff),
            _ => Err(Error::Usage {
                message: format!("`{}` is no file for translators", path.display()),
                help: "its name ends in .po (PO), or in .xlf or .xliff (XLIFF 2.1)".into(),
            }),
        }
    }

    /// The file with this translation.
    pub fn write(self, translation: &Translation) -> String {
        match self {
            TranslationFormat::Po => po::write(translation),
            TranslationFormat::Xliff => xliff::write(translation),
        }
    }

    /// The translation that is in a file.
    ///
    /// # Errors
    /// When it is no such file, or a part of it cannot be understood.
    pub fn read(self, text: &str) -> Result<Translation, TranslationError> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        match self {
            TranslationFormat::Po => po::read(text),
            TranslationFormat::Xliff => xliff::read(text),
        }
    }
}

impl Translation {
    /// The texts of the main language with what they are in the language called `target`.
    ///
    /// # Errors
    /// When the project has no such language, or a file cannot be read.
    pub fn of(view: View<'_>, survey: &TextSurvey, name: &str, target: &str) -> Result<Translation, Error> {
        const MOST_USES: usize = 5;
        let language = language_at(survey, target)?;
        let mut places = PlaceResolver::new(view.stack);
        let mut units = Vec::new();
        for text in &survey.texts {
            let Some(main) = text.texts[0].as_ref().filter(|main| !main.text.is_empty()) else { continue };
            let place: Place = places.place(main.file, main.span)?;
            let shown = |own: &crate::views::TextUse| match &own.field {
                Some(field) => format!("{} of {}", field, own.address),
                None => format!("goes with {}", own.address),
            };
            let mut context: Vec<String> = text.uses.iter().take(MOST_USES).map(shown).collect();
            if text.uses.len() > MOST_USES {
                context.push(format!("and {} more", text.uses.len() - MOST_USES));
            }
            units.push(Unit {
                address: text.address(view.schema),
                source: main.text.clone(),
                target: text.texts[language].as_ref().map(|own| own.text.clone()).unwrap_or_default(),
                context,
                place: format!("{}:{}", place.path, place.line),
                ..Unit::default()
            });
        }
        let (source, target) = (survey.languages[0].clone(), target.to_owned());
        Ok(Translation { source, target, name: name.to_owned(), header: Header::default(), units })
    }

    /// Takes over what an earlier file of the same texts has: the translator's notes and doubts, translations that the game does
    /// not have yet, and what texts said when they were translated.
    pub fn merge(&mut self, earlier: Translation) -> Merged {
        let mut merged = Merged::default();
        self.header = earlier.header;
        let mut known: HashMap<String, Unit> =
            earlier.units.into_iter().map(|unit| (unit.address.clone(), unit)).collect();
        for unit in &mut self.units {
            let Some(old) = known.remove(&unit.address) else { continue };
            unit.notes = old.notes;
            unit.in_doubt = old.in_doubt;
            unit.former = old.former;
            if old.source != unit.source {
                merged.changed += 1;
                if !old.target.is_empty() || !unit.target.is_empty() {
                    unit.former = Some(old.source);
                    unit.in_doubt = true;
                }
            }
            if !old.target.is_empty() && old.target != unit.target {
                merged.kept += 1;
                unit.target = old.target;
            }
        }
        let mut gone: Vec<Unit> = known.into_values().filter(|unit| !unit.target.is_empty()).collect();
        gone.sort_by(|a, b| a.address.cmp(&b.address));
        merged.gone = gone.iter().filter(|unit| !unit.gone).count();
        self.units.extend(gone.into_iter().map(|unit| Unit { gone: true, ..unit }));
        merged
    }
}

/// The position of the language called `code`, which is translated to.
///
/// # Errors
/// When the project has no such language, or it is the main one.
pub fn language_at(survey: &TextSurvey, code: &str) -> Result<usize, Error> {
    match survey.language(code)? {
        0 => Err(Error::Usage {
            message: format!("`{code}` is the main language, which is translated from"),
            help: match &survey.languages[1..] {
                [] => "name the others under [languages] in stitching.toml".into(),
                others => format!("the others are {}", others.join(", ")).into(),
            },
        }),
        at => Ok(at),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn text() -> impl Strategy<Value = String> {
        "[a-zé\"\\\\<>&\t\n {}%#~|-]{0,12}"
    }

    fn unit() -> impl Strategy<Value = Unit> {
        let line = "[a-z\"<&#~|][a-z\"<&#~| ]{0,8}[a-z]";
        (
            "[a-z]{1,5}",
            text().prop_filter("a text", |text| !text.is_empty()),
            prop::option::of(text().prop_filter("a text", |text| !text.is_empty())),
            text(),
            any::<bool>(),
            prop::collection::vec(line, 0..3),
            any::<bool>(),
        )
            .prop_map(|(key, source, former, target, in_doubt, notes, gone)| Unit {
                address: format!("texts:{key}"),
                source,
                // Without a translation there is nothing to doubt.
                former: former.filter(|_| !target.is_empty() && in_doubt && !gone),
                in_doubt: in_doubt && !target.is_empty() && !gone,
                target,
                context: Vec::new(),
                place: "text/en.txt:3".to_owned(),
                notes,
                gone,
            })
    }

    /// What a file keeps: not where texts stand, which is told anew each time.
    fn kept(translation: &Translation) -> Vec<Unit> {
        let kept = |unit: &Unit| Unit { place: String::new(), ..unit.clone() };
        translation.units.iter().map(kept).collect()
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(units in prop::collection::vec(unit(), 0..5)) {
            let mut seen = std::collections::HashSet::new();
            let units: Vec<Unit> =
                units.into_iter().filter(|unit| seen.insert(unit.address.clone())).collect();
            // What is gone comes last.
            let (gone, there): (Vec<Unit>, Vec<Unit>) = units.into_iter().partition(|unit| unit.gone);
            let units = there.into_iter().chain(gone).collect();
            let translation =
                Translation { source: "en".into(), target: "de".into(), units, ..Translation::default() };
            for format in [TranslationFormat::Po, TranslationFormat::Xliff] {
                let written = format.write(&translation);
                let read = format.read(&written).map_err(|error| TestCaseError::fail(format!("{error:?}\n{written}")))?;
                prop_assert_eq!(kept(&read), kept(&translation), "{}", written);
                prop_assert_eq!((&read.source, &read.target), (&translation.source, &translation.target));
            }
        }

        #[test]
        fn no_text_makes_reading_fail_badly(text in "[a-z#~\"\\\\\n <>/=?!-]{0,60}") {
            let _ = TranslationFormat::Po.read(&text);
            let _ = TranslationFormat::Xliff.read(&text);
        }
    }
}
