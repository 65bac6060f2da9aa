//! XLIFF 2.1 (OASIS, <https://docs.oasis-open.org/xliff/xliff-core/v2.1/xliff-core-v2.1.html>): the core, with one segment in each
//! unit.
//!
//! The address of a text is the `name` of its unit. Notes of the translator are kept; ours have a category. Doubt is the state
//! `translated` with a note of its own in place of `reviewed`, and a text that is gone is not to be translated.

use super::{Translation, TranslationError, Unit};
use crate::text::{is_xml, xml_escaped};
use quick_xml::XmlVersion;
use quick_xml::events::{BytesStart, Event};
use quick_xml::reader::Reader;
use std::fmt::Write as _;

/// The namespace of XLIFF 2.0 and 2.1 (section 4.1.1).
const NAMESPACE: &str = "urn:oasis:names:tc:xliff:document:2.0";

/// The categories of notes that are ours.
const CONTEXT: &str = "stitching-context";
const PLACE: &str = "location";
const FORMER: &str = "stitching-former-source";
const DOUBT: &str = "stitching-look-again";

/// The file with a translation.
pub(super) fn write(translation: &Translation) -> String {
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        out,
        "<xliff xmlns=\"{NAMESPACE}\" version=\"2.1\" srcLang=\"{}\" trgLang=\"{}\">",
        xml_escaped(&translation.source),
        xml_escaped(&translation.target)
    );
    // A file has at least one unit (section 4.2.2.2).
    if translation.units.is_empty() {
        out.push_str("</xliff>\n");
        return out;
    }
    out.push_str("  <file id=\"texts\">\n");
    for (number, unit) in translation.units.iter().enumerate() {
        let translate = if unit.gone { " translate=\"no\"" } else { "" };
        let (name, id) = (xml_escaped(&unit.address), number + 1);
        let _ = writeln!(out, "    <unit id=\"u{id}\" name=\"{name}\"{translate}>");
        notes(&mut out, unit);
        let state = match (unit.target.is_empty(), unit.in_doubt) {
            (true, _) => "initial",
            (false, true) => "translated",
            (false, false) => "final",
        };
        let _ = writeln!(out, "      <segment state=\"{state}\">");
        let _ = writeln!(out, "        <source xml:space=\"preserve\">{}</source>", content(&unit.source));
        if !unit.target.is_empty() {
            let _ =
                writeln!(out, "        <target xml:space=\"preserve\">{}</target>", content(&unit.target));
        }
        out.push_str("      </segment>\n    </unit>\n");
    }
    out.push_str("  </file>\n</xliff>\n");
    out
}

fn notes(out: &mut String, unit: &Unit) {
    let mut notes: Vec<(&str, &str)> = Vec::new();
    if !unit.gone {
        notes.extend(unit.context.iter().map(|own| (CONTEXT, own.as_str())));
        notes.push((PLACE, &unit.place));
    }
    notes.extend(unit.former.iter().map(|own| (FORMER, own.as_str())));
    if unit.in_doubt {
        notes.push((DOUBT, "the source changed, or someone was not sure"));
    }
    notes.extend(unit.notes.iter().map(|own| ("", own.as_str())));
    if notes.is_empty() {
        return;
    }
    out.push_str("      <notes>\n");
    for (category, text) in notes {
        let category = if category.is_empty() { String::new() } else { format!(" category=\"{category}\"") };
        let _ = writeln!(out, "        <note{category}>{}</note>", xml_escaped(text));
    }
    out.push_str("      </notes>\n");
}

/// `text` in a source or target: what XML cannot have is written as a code point element (section 4.3.1.1).
fn content(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut from = 0;
    for (at, letter) in text.char_indices().filter(|(_, letter)| !is_xml(*letter)) {
        out.push_str(&xml_escaped(&text[from..at]));
        let _ = write!(out, "<cp hex=\"{:04X}\"/>", letter as u32);
        from = at + letter.len_utf8();
    }
    out + &xml_escaped(&text[from..])
}

/// What the text that is being read belongs to.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Within {
    Nothing,
    Source,
    Target,
    Note,
}

/// The translation in a file. Units of several segments are put together.
pub(super) fn read(text: &str) -> Result<Translation, TranslationError> {
    let mut reader = Reader::from_str(text);
    let mut translation = Translation::default();
    let mut unit: Option<Unit> = None;
    let (mut within, mut note, mut category) = (Within::Nothing, String::new(), String::new());
    let mut has_root = false;
    let mut depth = 0usize;
    loop {
        let line = line_of(text, reader.buffer_position());
        let fails = |message: String| TranslationError { message, line };
        let event = reader.read_event().map_err(|error| TranslationError {
            message: format!("this is no well-formed XML: {error}"),
            line: line_of(text, reader.error_position()),
        })?;
        match event {
            Event::Start(element) | Event::Empty(element) if element.local_name().as_ref() == "cp" => {
                let letter = attribute(&element, "hex").map_err(fails)?;
                let letter = letter.and_then(|hex| char::from_u32(u32::from_str_radix(&hex, 16).ok()?));
                let letter = letter.ok_or_else(|| fails("`cp` names no character in `hex`".to_owned()))?;
                add(&mut unit, within, &mut note, &letter.to_string());
            }
            Event::Start(element) => {
                depth += 1;
                let name = element.local_name();
                match name.as_ref() {
                    "xliff" => {
                        has_root = true;
                        let version = attribute(&element, "version").map_err(fails)?.unwrap_or_default();
                        if !version.starts_with("2.") {
                            return Err(fails(format!("this is XLIFF `{version}`; 2.0 and 2.1 are read")));
                        }
                        translation.source =
                            attribute(&element, "srcLang").map_err(fails)?.unwrap_or_default();
                        translation.target =
                            attribute(&element, "trgLang").map_err(fails)?.unwrap_or_default();
                    }
                    "unit" => {
                        let Some(address) = attribute(&element, "name").map_err(fails)? else {
                            return Err(fails(
                                "the unit has no `name`, which is the address of the text".into(),
                            ));
                        };
                        let translate = attribute(&element, "translate").map_err(fails)?;
                        let gone = translate.as_deref() == Some("no");
                        unit = Some(Unit { address, gone, ..Unit::default() });
                    }
                    "source" => within = Within::Source,
                    "target" => within = Within::Target,
                    "note" => {
                        within = Within::Note;
                        note.clear();
                        category = attribute(&element, "category").map_err(fails)?.unwrap_or_default();
                    }
                    _ => {}
                }
            }
            Event::End(element) => {
                depth = depth.saturating_sub(1);
                match element.local_name().as_ref() {
                    "unit" => translation.units.extend(unit.take()),
                    "source" | "target" => within = Within::Nothing,
                    "note" => {
                        within = Within::Nothing;
                        if let Some(unit) = &mut unit {
                            keep_note(unit, &category, std::mem::take(&mut note));
                        }
                    }
                    _ => {}
                }
            }
            Event::Text(text) => add(&mut unit, within, &mut note, &text),
            Event::CData(text) => {
                add(&mut unit, within, &mut note, &text.into_inner());
            }
            Event::GeneralRef(reference) => {
                let name: &str = &reference;
                let text = entity(name).ok_or_else(|| fails(format!("there is no entity `&{name};`")))?;
                add(&mut unit, within, &mut note, &text);
            }
            Event::Eof => break,
            _ => {}
        }
    }
    match (has_root, depth) {
        (false, _) => {
            Err(TranslationError { message: "this is no XLIFF: it has no `xliff` element".into(), line: 0 })
        }
        (true, 0) => Ok(translation),
        (true, _) => Err(TranslationError { message: "the file ends within an element".into(), line: 0 }),
    }
}

/// Adds text to what it belongs to.
fn add(unit: &mut Option<Unit>, within: Within, note: &mut String, text: &str) {
    match (within, unit) {
        (Within::Source, Some(unit)) => unit.source.push_str(text),
        (Within::Target, Some(unit)) => unit.target.push_str(text),
        (Within::Note, _) => note.push_str(text),
        _ => {}
    }
}

fn keep_note(unit: &mut Unit, category: &str, text: String) {
    match category {
        CONTEXT => unit.context.push(text),
        PLACE => unit.place = text,
        FORMER => unit.former = Some(text),
        DOUBT => unit.in_doubt = true,
        _ => unit.notes.push(text),
    }
}

fn attribute(element: &BytesStart<'_>, name: &str) -> Result<Option<String>, String> {
    let found = element.try_get_attribute(name).map_err(|error| error.to_string())?;
    let value =
        found.map(|own| own.normalized_value(XmlVersion::Explicit1_0).map(|value| value.into_owned()));
    value.transpose().map_err(|error| error.to_string())
}

/// The text that an entity or a character reference stands for (XML 1.0, 4.1 and 4.6).
fn entity(name: &str) -> Option<String> {
    Some(match name {
        "amp" => "&".to_owned(),
        "lt" => "<".to_owned(),
        "gt" => ">".to_owned(),
        "quot" => "\"".to_owned(),
        "apos" => "'".to_owned(),
        other => {
            let number = other.strip_prefix('#')?;
            let code = match number.strip_prefix('x') {
                Some(hex) => u32::from_str_radix(hex, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(code)?.to_string()
        }
    })
}

/// The line of a byte, 1-based.
fn line_of(text: &str, at: u64) -> usize {
    let at = usize::try_from(at).unwrap_or(usize::MAX).min(text.len());
    memchr::memchr_iter(b'\n', &text.as_bytes()[..at]).count() + 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_file_that_other_tools_wrote_is_read() {
        let text = "<?xml version='1.0'?><x:xliff xmlns:x='urn:oasis:names:tc:xliff:document:2.0' version='2.0' srcLang='en' trgLang='de'>\
            <x:file id='f'><x:group id='g'><x:unit id='1' name='texts:mill'><x:notes><x:note priority='1'>a note</x:note></x:notes>\
            <x:segment><x:source>The <x:pc id='1'>mill</x:pc> </x:source><x:target>Die M&#252;hle </x:target></x:segment>\
            <x:segment><x:source>&amp; weir</x:source><x:target><![CDATA[& Wehr]]></x:target></x:segment></x:unit></x:group></x:file></x:xliff>";
        let read = read(text).expect("read");
        let [unit] = &read.units[..] else { panic!("one unit") };
        assert_eq!((unit.source.as_str(), unit.target.as_str()), ("The mill & weir", "Die Mühle & Wehr"));
        assert_eq!(unit.notes, ["a note"]);
    }

    #[rstest]
    #[case::other_xml("<a/>", 0)]
    #[case::older("<xliff version=\"1.2\"/>\n", 0)]
    #[case::older_with_content("<xliff version=\"1.2\"></xliff>", 1)]
    #[case::no_name("<xliff version=\"2.1\">\n<file id=\"f\"><unit id=\"u\"></unit></file></xliff>", 2)]
    #[case::cut_short("<xliff version=\"2.1\"><file id=\"f\">", 0)]
    #[case::no_xml("texts", 0)]
    #[case::other_entity(
        "<xliff version=\"2.1\"><file id=\"f\"><unit id=\"u\" name=\"a:b\"><segment><source>&mill;</source></segment></unit></file></xliff>",
        1
    )]
    fn what_is_no_xliff_is_refused_with_the_line(#[case] text: &str, #[case] line: usize) {
        assert_eq!(read(text).map_err(|error| error.line), Err(line));
    }
}
