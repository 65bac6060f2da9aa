//! Recognising what a file is by its content: its format with all settings, as the schema writes them.

use super::block_scripts::blocks;
use super::indented_blocks::{indented, indented_words};
use super::line_shapes::{carried, commands, several_lines, template, words_in_place};
use super::rows::{separated, spaced, tabs};
use super::sections::ini;
use super::shapes::{Place, RecordShape, shapes_of};
use crate::Code;
use crate::formats::{Fault, Format, Json, JsonPath, Outline, Po, RawRecord, RecordSink, Xml, XmlPath};
use crate::reading::start_of;
use crate::settings::toml_text;
use crate::text::Text;

/// Only so many bytes at the start of a file are looked at.
pub(super) const SAMPLE_BYTES: usize = 128 * 1024;

/// And of these only so many lines.
pub(super) const SAMPLE_LINES: usize = 400;

/// What may begin a line that is only a note.
const NOTE_MARKS: [&str; 5] = ["#", ";", "//", "--", "'"];

/// Names and values (as TOML) of settings.
pub(super) type Settings = Vec<(&'static str, String)>;

/// Settings that one of several like files may do without.
pub(super) const MAY_LACK: [&str; 12] = [
    "comment",
    "include",
    "escapes",
    "others",
    "comments",
    "trailing_commas",
    "head",
    "goes_on",
    "trailing",
    "lists",
    "repeated_keys",
    "short_rows",
];

/// The format with all its settings, as TOML: `{ kind = "json", records = "$[*]" }`.
pub(super) fn format_source(kind: &str, records: Option<&Place>, settings: &Settings) -> String {
    let records = records.map(|(name, path)| format!(", {name} = {}", toml_text(path))).unwrap_or_default();
    let settings: String = settings.iter().map(|(name, value)| format!(", {name} = {value}")).collect();
    format!("{{ kind = {}{records}{settings} }}", toml_text(kind))
}

/// What a file seems to be.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Recognised {
    /// The name of its format in a schema.
    pub kind: &'static str,
    /// The settings of the format but for the records: names, and values as TOML.
    pub settings: Settings,
    /// The sets of like records in it.
    pub shapes: Vec<RecordShape>,
    /// What may be wrong about this.
    pub doubt: Option<&'static str>,
    /// The name of its root element, in XML.
    pub root: Option<String>,
    /// The names of its sections, in INI.
    pub sections: Vec<String>,
}

impl Recognised {
    /// A file of the format called `kind` with nothing to doubt.
    pub fn new(kind: &'static str, settings: Settings, shapes: Vec<RecordShape>) -> Recognised {
        Recognised { kind, settings, shapes, doubt: None, root: None, sections: Vec::new() }
    }
}

/// As much of `text` as is looked at.
pub(super) fn sample(text: &str) -> &str {
    start_of(text, SAMPLE_BYTES)
}

/// What the file with this content is; `None` for prose and anything unknown.
pub(super) fn recognise(text: &Text<'_>) -> Option<Recognised> {
    let whole = sample(text.as_str());
    let cut = whole.len() < text.as_str().len();
    let content = Text::of_file(whole);
    let body = behind_notes(&whole[content.body()..]);
    match body.chars().next()? {
        '<' => return xml(&content),
        '{' | '[' => {
            if let Some(found) = json(&content, cut) {
                return Some(found);
            }
        }
        _ => {}
    }
    let lines = Lines::of(&whole[content.body()..]);
    if is_encoded(&lines) {
        return None;
    }
    po(&lines)
        .or_else(|| tabs(&lines))
        .or_else(|| indented(&content, &lines))
        .or_else(|| several_lines(&lines))
        .or_else(|| carried(&lines))
        .or_else(|| ini(&lines))
        .or_else(|| blocks(&content, &lines))
        .or_else(|| indented_words(&content, &lines))
        .or_else(|| separated(&lines))
        .or_else(|| spaced(&lines))
        .or_else(|| words_in_place(&lines))
        .or_else(|| template(&lines, true))
        .or_else(|| commands(&lines))
}

/// Whether the lines are bytes written as letters and digits (RFC 4648): they are long, without a blank.
fn is_encoded(lines: &Lines<'_>) -> bool {
    const LONG: usize = 48;
    let is_one = |line: &&&str| {
        let line = line.trim();
        line.len() >= LONG
            && line.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"+/=".contains(&byte))
            && line.bytes().any(|byte| byte.is_ascii_digit())
            && line.bytes().any(|byte| byte.is_ascii_uppercase())
    };
    lines.lines.iter().filter(is_one).count() * 10 > lines.lines.len() * 7
}

/// The text behind notes of two kinds that lenient JSON may begin with: `//` and `/* */`.
fn behind_notes(text: &str) -> &str {
    let mut rest = text.trim_start();
    loop {
        let behind = match rest {
            _ if rest.starts_with("//") => rest.find('\n').map(|end| &rest[end..]),
            _ if rest.starts_with("/*") => rest.find("*/").map(|end| &rest[end + 2..]),
            _ => return rest,
        };
        rest = behind.unwrap_or("").trim_start();
    }
}

/// Counts what a format finds.
#[derive(Default)]
pub(super) struct Counter {
    pub records: usize,
    pub faults: Vec<Code>,
    messages: Vec<String>,
}

impl RecordSink for Counter {
    fn record(&mut self, _record: &RawRecord<'_>) {
        self.records += 1;
    }

    fn fault(&mut self, fault: Fault) {
        self.faults.push(fault.code);
        self.messages.push(fault.message);
    }
}

fn xml(text: &Text<'_>) -> Option<Recognised> {
    let format = Xml { records: XmlPath::records("/*").ok()? };
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let shapes = shapes_of(&outline, Xml::NAME, 1);
    let root = outline.nodes[*outline.nodes[0].children.first()?].name.clone();
    Some(Recognised { root: Some(root), ..Recognised::new(Xml::NAME, Settings::new(), shapes) })
}

fn json(text: &Text<'_>, cut: bool) -> Option<Recognised> {
    let mut best: Option<(usize, Json)> = None;
    for (comments, trailing_commas) in [(false, false), (true, false), (false, true), (true, true)] {
        let format = Json { records: JsonPath::parse("$").ok()?, comments, trailing_commas };
        let mut found = Counter::default();
        format.read(text, &[], &mut found);
        let faults = found.faults.len();
        if best.as_ref().is_none_or(|(fewest, _)| faults < *fewest) {
            best = Some((faults, format));
        }
        if faults == 0 {
            break;
        }
    }
    let (faults, format) = best?;
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let things: u32 = outline.nodes.iter().map(|node| node.met).sum();
    // A sample that is cut has brackets left open.
    let allowed = (things as usize / 50).max(2) + if cut { 20 } else { 0 };
    let members = outline
        .nodes
        .iter()
        .any(|node| node.met > 0 && node.name != crate::formats::ITEM && !node.name.is_empty());
    if faults > allowed || (faults > 0 && !members) {
        return None;
    }
    let mut settings = Settings::new();
    if format.comments {
        settings.push(("comments", "true".to_owned()));
    }
    if format.trailing_commas {
        settings.push(("trailing_commas", "true".to_owned()));
    }
    Some(Recognised::new(Json::NAME, settings, shapes_of(&outline, Json::NAME, 1)))
}

/// The lines of a sample that are not blank.
pub(super) struct Lines<'t> {
    /// Those that no mark makes notes.
    pub lines: Vec<&'t str>,
    /// The marks of those that are.
    pub marks: Vec<&'static str>,
    /// The last note above the first line that is none, without its mark.
    pub note_above: Option<&'t str>,
}

impl<'t> Lines<'t> {
    pub fn of(text: &'t str) -> Lines<'t> {
        let lines: Vec<&str> =
            text.lines().filter(|line| !line.trim().is_empty()).take(SAMPLE_LINES).collect();
        let mut marks = Vec::new();
        for mark in NOTE_MARKS {
            let begins = |line: &&&str| line.trim_start().starts_with(mark);
            let own = lines.iter().filter(begins);
            let like_notes = own.clone().filter(|line| is_like_a_note(line.trim_start(), mark)).count();
            let count = own.count();
            // Above the first line that is none there may be a long one, such as a licence; below, lines are mostly no notes.
            let above = lines.iter().take_while(begins).count();
            let is_rare = above < lines.len() && (count - above) * 2 <= lines.len() - above;
            if count > 0 && is_rare && like_notes * 10 >= count * 8 {
                marks.push(mark);
            }
        }
        let without_mark =
            |line: &&'t str| marks.iter().find_map(|mark| line.trim_start().strip_prefix(mark));
        let note_above = lines.iter().map_while(without_mark).last();
        let lines = lines.iter().filter(|line| without_mark(line).is_none()).copied().collect();
        Lines { lines, marks, note_above }
    }

    /// The marks as a setting, but for those that the format knows by itself.
    pub fn comment_setting(&self, known: &[&str]) -> Option<(&'static str, String)> {
        let marks: Vec<String> = self.marks.iter().map(|mark| toml_text(mark)).collect();
        match marks.as_slice() {
            [] => None,
            _ if self.marks.iter().all(|mark| known.contains(mark)) => None,
            [one] => Some(("comment", one.clone())),
            many => Some(("comment", format!("[{}]", many.join(", ")))),
        }
    }
}

/// Whether what follows `mark` reads like a note: a blank, a word, the mark again, but not a directive.
fn is_like_a_note(line: &str, mark: &str) -> bool {
    let rest = &line[mark.len()..];
    mark != "#" || !rest.starts_with("include") && !rest.starts_with("define")
}

fn po(lines: &Lines<'_>) -> Option<Recognised> {
    let with = |word: &str| lines.lines.iter().filter(|line| line.starts_with(word)).count();
    let (ids, texts) = (with("msgid "), with("msgstr"));
    (ids > 0 && texts > 0 && (ids + texts) * 3 > lines.lines.len())
        .then(|| Recognised::new(Po::NAME, Settings::new(), vec![RecordShape::plain(Some("msgid"))]))
}

#[cfg(test)]
mod tests {
    use super::super::sections::by_file;
    use super::*;
    use rstest::rstest;

    /// What a text is recognised as: its format, and the columns and key of its first shape.
    fn told(text: &str) -> String {
        let Some(what) = recognise(&Text::of_file(text)) else { return "nothing".to_owned() };
        let shape = what.shapes.first().cloned().unwrap_or_default();
        let format = format_source(what.kind, shape.records.as_ref(), &what.settings);
        format!("{format} [{}] {}", shape.columns.join(" "), shape.key.unwrap_or_default())
    }

    #[rstest]
    #[case::each_has_the_same(&["[cargo]\na = 1\n[General]\nb = 2\n"; 3], "General=b, cargo as cargo=a")]
    #[case::one_lacks_one(
        &["[x]\na = 1\n[y]\nb = 2\n", "[x]\na = 1\n[y]\nb = 2\n", "[x]\na = 1\n", "[x]\nc = 1\n[y]\nb = 2\n"],
        "x=a c, y as y=b"
    )]
    #[case::sections_of_their_own(&["[p]\na = 1\n[q]\na = 2\n", "[r]\na = 1\n", "[s]\na = 1\n"], "none")]
    #[case::too_few_files(&["[x]\na = 1\n[y]\nb = 2\n"; 2], "none")]
    #[case::the_same_twice_in_a_file(&["[x]\na = 1\n[x]\na = 2\n"; 3], "none")]
    fn sections_that_all_files_have(#[case] texts: &[&str], #[case] expected: &str) {
        let shown = |shape: RecordShape| {
            let name = shape.name.map(|name| format!(" as {name}")).unwrap_or_default();
            format!(
                "{}{name}={}",
                shape.records.map(|(_, section)| section).unwrap_or_default(),
                shape.columns.join(" ")
            )
        };
        let found = by_file(texts.iter().copied());
        let told = found.map(|own| own.into_iter().map(shown).collect::<Vec<_>>().join(", "));
        assert_eq!(told.as_deref().unwrap_or("none"), expected);
    }

    #[rstest]
    #[case::tabs("A\tB\n1\tx\n2\ty\n", r#"{ kind = "delimited" } [A B] "#)]
    #[case::notes_in_tabs("# all\nA\tB\n1\tx\n2\ty\n", r##"{ kind = "delimited", comment = "#" } [A B] "##)]
    #[case::quotes("A;B\n\"x;y\";2\nz;3\n", r#"{ kind = "delimited", delimiter = ";" } [A B] "#)]
    #[case::no_header(
        "n,1\nm,2\no,3\np,4\n",
        r#"{ kind = "delimited", delimiter = ",", header = false, columns = ["A", "B"] } [A B] "#
    )]
    #[case::a_header_in_a_note(
        "# from|to|days\na|b|1\nc|d|2\ne|f|3\na|f|4\n",
        r##"{ kind = "delimited", delimiter = "|", comment = "#", header = false, columns = ["from", "to", "days"] } [from to days] "##
    )]
    #[case::texts_without_header(
        "door.a\tThe gate\ndoor.b\tA lock\ndoor.c\tSome pier\ndoor.d\tQuay\n",
        r#"{ kind = "delimited", header = false, columns = ["A", "B"] } [A B] "#
    )]
    #[case::blanks_with_a_header(
        "id  name   depth\n1   mill   2\n2   cut    3.5\n3   weir   1\n",
        r#"{ kind = "delimited", delimiter = "blanks" } [id name depth] "#
    )]
    #[case::a_row_of_types(
        "Boat,Hold,Crew\nstring,int,crew\nmill,3,tow\nweir,4,sail\npool,2,tow\n",
        r#"{ kind = "delimited", delimiter = ",", comment = "string,int,crew" } [Boat Hold Crew] "#
    )]
    #[case::a_row_of_types_among_notes(
        "# all\nBoat;Hold\nText;Int\nmill;3\nweir;4\npool;2\n",
        r##"{ kind = "delimited", delimiter = ";", comment = ["#", "Text;Int"] } [Boat Hold] "##
    )]
    #[case::cells_with_an_equals_sign(
        "Good,Cargo\na,x=1\nb,y=2\nc,x=2;y=1\n",
        r#"{ kind = "delimited", delimiter = "," } [Good Cargo] "#
    )]
    #[case::blanks_and_words(
        "# id kind home\na  x  p\nb  y  q\nc  x  p\nd  y  q\ne  x  p\nf  y  q\ng  x  p\nh  y  q\n",
        r##"{ kind = "delimited", delimiter = "blanks", comment = "#", header = false, columns = ["id", "kind", "home"] } [id kind home] "##
    )]
    #[case::one_word_in_front(
        "load a x\nload b y\nload c x\nload d y\nload e x\nload f y\nload g x\nload h y\n",
        r#"{ kind = "lines", line = 'load {load} {what}' } [load what] "#
    )]
    #[case::words_that_are_always_there(
        "give coal 3 to tow\ngive peat 4 to tow\ngive salt 1 to lock\ngive coal 2 to mast\n",
        r#"{ kind = "lines", line = 'give {give} {amount} to {to}' } [give amount to] "#
    )]
    #[case::commands(
        "give tow coal 3\ngive mast peat 1\nopen gate_a\nopen gate_b\nplace tow at mill\nplace mast at weir\nhalt\n",
        r#"{ kind = "lines", line = "give {give} {what} {amount}", others = true } [give what amount] "#
    )]
    #[case::bytes_as_letters(
        "MIIDwzCCAqugAwIBAgIBATANBgkqhkiG9w0BAQsFADCBgjELMAkGA1UEBhMCREUx\nKzApBgNVBAoMIlQtU3lzdGVtcyBFbnRlcnByaXNlIFNlcnZpY2VzIEdtYkgxHzAd\nBgNVBAsMFlQtU3lzdGVtcyBUcnVzdCBDZW50ZXIxJTAjBgNVBAMMHFQtVGVsZVNl\nY0dsb2JhbFJvb3Q=\n",
        "nothing"
    )]
    #[case::prose_is_no_commands(
        "The mill is old\nThe weir fell down\nA boat came by\nA crew was lost in fog\nThe end\nA start\n",
        "nothing"
    )]
    #[case::words_nested_by_indentation(
        "trip long\n  title LONG\n  stop 1\n    at mill\n    load coal 3\n  stop 2\n    at weir\n  then short\n",
        r#"{ kind = "blocks", records = "trip/stop", nesting = "indent", assign = "" } [{label} at load/{1} load/{2}] "#
    )]
    #[case::a_sentence(
        "the mill is old\nthe weir is new\nthe lock is shut\nthe gate leads to nowhere\n",
        r#"{ kind = "lines", line = 'the {value}' } [value] value"#
    )]
    #[case::blanks_with_a_note(
        "; id x name\n1   12.5  mill\n2   3     cut\n30  8.25  weir\n4   7     lock\n",
        r#"{ kind = "delimited", delimiter = "blanks", comment = ";", header = false, columns = ["id", "x", "name"] } [id x name] "#
    )]
    #[case::sections("[a]\nx = 1\n[b]\nx = 2\n", r#"{ kind = "ini" } [x] {section}"#)]
    #[case::more_lines(
        "[a]\nx = 1, \\\n  2\n[b]\nx = 2 ; two\n",
        r#"{ kind = "ini", goes_on = "backslash", trailing = true } [x] {section}"#
    )]
    #[case::brackets_and_commas(
        "[a]\nx =\n { \"p\", \"q\"\n   \"r\", \"s\" }\nl = 1,\n 2\n[b]\nx = { \"p\", \"q\" }\n",
        r#"{ kind = "ini", goes_on = ["comma", "brackets"] } [l x] {section}"#
    )]
    #[case::rows_of_a_grid(
        "[a]\nx = 1\n0110\n0100\n0110\n0111\n[b]\nx = 3\n011\n010\n111\n",
        r#"{ kind = "ini", others = true } [x] {section}"#
    )]
    #[case::texts(
        "a_b = \"One\"\nc_d = \"Two of them\"\n",
        r#"{ kind = "lines", line = '{key} = "{text}"' } [key text] key"#
    )]
    #[case::words(
        "load \"a/b\"\nload \"c/d\"\nload \"e/f\"\n",
        r#"{ kind = "lines", line = 'load "{value}"' } [value] value"#
    )]
    #[case::records_of_several_lines(
        "barge coal_hopper\nlength 20\nname \"Old one\"\nbarge ice_sled\nlength 9\nname \"New\"\nbarge punt\nlength 4\nname \"-\"\n",
        r#"{ kind = "lines", line = ['barge {barge}', 'length {length}', 'name "{name}"'] } [barge length name] barge"#
    )]
    #[case::records_of_several_lines_with_signs(
        "barge = a\n  crew = x y\nbarge = b\n  crew = z\nbarge = c\n  crew = x\n",
        r#"{ kind = "lines", line = ['barge = {barge}', 'crew = {crew}'] } [barge crew] barge"#
    )]
    #[case::one_that_is_cut_short_is_none(
        "barge a\ncrew x\nbarge b\ncrew y\nbarge c\ncrew x\nbarge d\n",
        r#"{ kind = "lines", line = "barge {barge}", others = true } [barge] "#
    )]
    #[case::lines_that_hold_for_others(
        "folder sounds/low\nfile \"a.wav\"\nfile \"b.wav\"\nfolder sounds/high\nfile \"a.wav\"\nfile \"c.wav\"\n",
        r#"{ kind = "lines", line = 'file "{value}"', carry = 'folder {folder}' } [folder value] value"#
    )]
    #[case::names("coal\npeat\nsalt\n", r#"{ kind = "lines", line = '{value}' } [value] value"#)]
    #[case::po("msgid \"a\"\nmsgstr \"b\"\n", r#"{ kind = "po" } [] msgid"#)]
    #[case::list("[{\"a\": 1, \"b\": {\"c\": 2}}]", r#"{ kind = "json", records = "$[*]" } [a b.c] "#)]
    #[case::lenient(
        "[{\"a\": 1,}, // one\n{\"a\": 2}]",
        r#"{ kind = "json", records = "$[*]", comments = true, trailing_commas = true } [a] "#
    )]
    #[case::map(
        "{\"x\": {\"a\": 1}, \"y\": {\"a\": 2}, \"z\": {\"a\": 3}}",
        r#"{ kind = "json", records = "$.*" } [{member} a] {member}"#
    )]
    #[case::one_record(
        "{\"a\": 1, \"b\": [\"x\", \"y\"]}",
        r#"{ kind = "json", records = "$" } [a b[*]] {stem}"#
    )]
    #[case::names_that_vary(
        r#"[{"id": 1, "cost": {"a": 1, "b": 2}}, {"id": 2, "cost": {"c": 1, "d": 2}}, {"id": 3, "cost": {"e": 1}}]"#,
        r#"{ kind = "json", records = "$[*]" } [id cost.*.{member} cost.*] "#
    )]
    #[case::names_that_vary_in_a_map(
        r#"{"x": {"a": 1, "b": 2}, "y": {"c": 1, "d": 2}, "z": {"e": 1}}"#,
        r#"{ kind = "json", records = "$.*" } [{member} *.{member} *] {member}"#
    )]
    #[case::fields_that_some_lack(
        r#"[{"at": {"x": 1, "y": 2, "z": 1}}, {"at": {"x": 3, "y": 1, "w": 1}}, {"at": {"x": 1, "v": 2}}]"#,
        r#"{ kind = "json", records = "$[*]" } [at.x at.y at.z at.w at.v] "#
    )]
    #[case::names_that_vary_in_blocks(
        "a = { cost = { p = 1 q = 2 } }\nb = { cost = { r = 1 s = 1 } }\nc = { cost = { t = 3 } }\n",
        r#"{ kind = "blocks", records = "*" } [{name} cost/*/{name} cost/*] {name}"#
    )]
    #[case::records_inside_records(
        "<h><quay name=\"a\"><berth id=\"1\"/><berth id=\"2\"/></quay><quay name=\"b\"><berth id=\"3\"/></quay></h>",
        r#"{ kind = "xml", records = "/h/quay" } [@name berth/@id] "#
    )]
    #[case::elements(
        "<r><e id=\"1\"><n>x</n></e><e id=\"2\"/></r>",
        r#"{ kind = "xml", records = "/r/e" } [@id n] "#
    )]
    #[case::nested_elements(
        "<r><e id=\"1\"><e id=\"2\"/></e></r>",
        r#"{ kind = "xml", records = "//e" } [@id] "#
    )]
    #[case::blocks(
        "t = {\n a = {\n x = 1\n }\n b = {\n x = 2\n }\n}\n",
        r#"{ kind = "blocks", records = "t/*" } [{name} x] {name}"#
    )]
    #[case::a_brace_is_missing(
        "t = {\n  a = {\n    x = 1\n    y = { 1 2 }\n  b = {\n    x = 2\n  }\n}\n",
        r#"{ kind = "blocks", records = "t/*" } [{name} x y] {name}"#
    )]
    #[case::labels(
        "gate north {\n cost 3\n}\ngate south {\n cost 4\n}\n",
        r#"{ kind = "blocks", records = "gate", assign = "" } [{label} cost] "#
    )]
    #[case::prose("It was a quiet day.\nNobody came, and nothing was said.\n", "nothing")]
    #[case::empty("", "nothing")]
    #[case::one_line("Lonely\tRow\n", "nothing")]
    fn by_content(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(told(text), expected);
    }
}
