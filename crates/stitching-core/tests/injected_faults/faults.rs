//! The faults that can be made in the game, and where each must be told.

use super::Dice;
use super::game::{Game, Site, What};
use stitching_core::Code;

/// What is done to a file; `None` removes it.
pub type Change = (String, Option<String>);

/// A fault, with what must be told of it.
#[derive(Debug)]
pub struct Fault {
    /// What kind of fault it is, for people.
    pub kind: &'static str,
    /// The code that it must be told by; of several, any.
    pub codes: Vec<Code>,
    pub changes: Vec<Change>,
    /// The file and line (1-based; 0 for the file as a whole) at which it must be told; of several, any.
    pub places: Vec<(String, usize)>,
}

/// A fault of one of all kinds, chosen by the dice; `None` where the one chosen cannot be made here.
pub fn fault(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let kind = dice.below(KINDS.len());
    KINDS[kind](game, dice)
}

type Kind = fn(&Game, &mut Dice) -> Option<Fault>;

/// References are by far the most frequent thing in such games.
const KINDS: &[Kind] = &[
    slip_in_reference,
    slip_in_reference,
    slip_in_reference,
    slip_in_reference,
    other_case,
    another_name,
    slip_in_mood,
    word_for_number,
    fraction,
    too_large,
    too_small,
    no_boolean,
    slip_in_choice,
    code_of_another_shape,
    same_as_another,
    nothing,
    slip_in_text_key,
    slip_in_file,
    name_of_another,
    wrong_count,
    too_long,
    key_of_another,
    against_the_rule,
    cell_lost,
    cell_added,
    text_lost,
    text_of_other_marks,
    text_too_long,
    strange_letter,
    icon_lost,
    plan_lost,
    pair_differs,
    member_twice,
    unknown_key,
    unknown_member,
    blank_at_the_end,
    other_line_end,
    other_case_of_a_path,
    column_misspelt,
    column_in_the_place_of_another,
    circle,
    gap,
    not_what_follows,
    mark_at_the_start,
    no_part_of_the_key,
    file_for_nothing,
    tab,
    section_twice,
    attribute_lost,
    comma_at_the_end,
    key_of_a_text_misspelt,
    column_again,
];

/// A site of which `what` is declared.
fn site<'g>(game: &'g Game, dice: &mut Dice, what: impl Fn(&What) -> bool) -> &'g Site {
    let sites: Vec<&Site> = game.sites.iter().filter(|site| site.what.iter().any(&what)).collect();
    sites[dice.below(sites.len())]
}

/// The game's file with another text in the place of a value.
fn with_value(game: &Game, site: &Site, value: &str) -> Change {
    let line = &game.files[site.file][site.line - 1];
    let line = format!("{}{value}{}", &line[..site.range.start], &line[site.range.end..]);
    with_line(game, site.file, site.line, Some(line))
}

/// The game's file with another line, or without it.
fn with_line(game: &Game, file: &str, number: usize, line: Option<String>) -> Change {
    let mut lines = game.files[file].clone();
    match line {
        Some(line) => lines[number - 1] = line,
        None => drop(lines.remove(number - 1)),
    }
    (file.to_owned(), Some(lines.iter().map(|line| format!("{line}\n")).collect()))
}

/// A fault that is another value at a site, told there.
fn at_site(game: &Game, kind: &'static str, code: Code, site: &Site, value: &str) -> Option<Fault> {
    let places = vec![(site.file.to_owned(), site.line)];
    (value != site.value).then(|| Fault {
        kind,
        codes: vec![code],
        changes: vec![with_value(game, site, value)],
        places,
    })
}

/// A name with one letter too few, too many, another one, or two swapped.
fn slip(name: &str, dice: &mut Dice) -> String {
    let mut letters: Vec<char> = name.chars().collect();
    let at = dice.below(letters.len() - 1);
    match dice.below(4) {
        0 => drop(letters.remove(at)),
        1 => letters.insert(at, letters[at]),
        2 => letters[at] = if letters[at] == 'x' { 'q' } else { 'x' },
        _ => letters.swap(at, at + 1),
    }
    letters.into_iter().collect()
}

fn slip_in_reference(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Reference);
    let value = slip(&site.value, dice);
    at_site(game, "a slip in a reference", Code::DANGLING_REFERENCE, site, &value)
}

fn other_case(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Reference);
    let value = site.value[..1].to_uppercase() + &site.value[1..];
    at_site(game, "a reference in another case", Code::DANGLING_REFERENCE, site, &value)
}

fn another_name(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Reference);
    at_site(game, "a reference to nothing", Code::DANGLING_REFERENCE, site, "somewhere_else")
}

fn slip_in_mood(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Mood);
    let value = slip(&site.value, dice);
    at_site(game, "a slip in a name that nothing declares", Code::LONE_NAME, site, &value)
}

fn is_number(what: &What) -> bool {
    matches!(what, What::Integer(..) | What::Number | What::Limited)
}

fn word_for_number(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, is_number);
    let value = match site.file {
        // A text in JSON is no word there.
        "basins.json" => "\"few\"".to_owned(),
        _ => site.value.clone() + "x",
    };
    at_site(game, "no number", Code::WRONG_TYPE, site, &value)
}

fn fraction(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| matches!(what, What::Integer(..)));
    at_site(game, "a fraction", Code::WRONG_TYPE, site, "1.5")
}

fn too_large(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| matches!(what, What::Integer(_, high) if *high < 1000));
    at_site(game, "too large a number", Code::OUT_OF_RANGE, site, "100000")
}

fn too_small(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| matches!(what, What::Integer(low, _) if *low > 0));
    at_site(game, "too small a number", Code::OUT_OF_RANGE, site, "-4")
}

fn no_boolean(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Boolean);
    at_site(game, "neither true nor false", Code::WRONG_TYPE, site, "\"perhaps\"")
}

fn slip_in_choice(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Choice);
    let value = slip(&site.value, dice);
    at_site(game, "a slip in a choice", Code::NOT_A_CHOICE, site, &value)
}

fn code_of_another_shape(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Code);
    at_site(game, "another shape", Code::PATTERN_MISMATCH, site, &site.value.to_lowercase())
}

fn same_as_another(game: &Game, dice: &mut Dice) -> Option<Fault> {
    // Numbers in a sequence are told as gaps.
    let own = site(game, dice, |what| *what == What::Unique);
    if own.what.contains(&What::Sequence) {
        return None;
    }
    let is_like = |other: &&Site| other.file == own.file && other.what == own.what && other.line != own.line;
    let others: Vec<&Site> = game.sites.iter().filter(is_like).collect();
    let other = others[dice.below(others.len())];
    let mut fault = at_site(game, "the same as another", Code::NOT_UNIQUE, own, &other.value)?;
    // It is told of the later one.
    fault.places = vec![(own.file.to_owned(), own.line.max(other.line))];
    Some(fault)
}

fn nothing(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Required);
    at_site(game, "nothing where something must be", Code::REQUIRED_EMPTY, site, "")
}

fn slip_in_text_key(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Text);
    let value = slip(&site.value, dice);
    at_site(game, "a slip in the key of a text", Code::MISSING_TEXT, site, &value)
}

fn slip_in_file(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::File);
    let value = slip(&site.value, dice);
    at_site(game, "a slip in the name of a file", Code::MISSING_FILE, site, &value)
}

fn name_of_another(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let own = site(game, dice, |what| *what == What::Follows);
    let other = site(game, dice, |what| *what == What::Follows);
    at_site(game, "what is made from the key of another", Code::KEY_NOT_FOLLOWED, own, &other.value)
}

fn wrong_count(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Count);
    at_site(game, "a wrong count", Code::WRONG_COUNT, site, "3")
}

fn too_long(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| matches!(what, What::Short(_)));
    let What::Short(most) = site.what[0] else { return None };
    at_site(game, "too long a text", Code::TOO_LONG, site, &"w".repeat(most + 1))
}

fn key_of_another(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let (own, other) =
        (site(game, dice, |what| *what == What::Key), site(game, dice, |what| *what == What::Key));
    let mut fault = at_site(game, "a key that is there", Code::DUPLICATE_KEY, own, &other.value)?;
    fault.places = vec![(own.file.to_owned(), own.line.max(other.line))];
    Some(fault)
}

fn against_the_rule(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Limited);
    at_site(game, "against a rule of the game", Code::RULE_NOT_MET, site, "3.5")
}

/// A row of a table with several columns.
fn row(game: &Game, dice: &mut Dice) -> (&'static str, usize, char) {
    let (file, sign) =
        *dice.one(&[("tables/goods.txt", '\t'), ("tables/reaches.csv", ';'), ("tables/offers.txt", '\t')]);
    (file, 2 + dice.below(game.files[file].len() - 1), sign)
}

fn cell_lost(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let (file, line, sign) = row(game, dice);
    let text = &game.files[file][line - 1];
    let cells: Vec<&str> = text.split(sign).collect();
    let lost = 1 + dice.below(cells.len() - 1);
    let rest: Vec<&str> =
        cells.iter().enumerate().filter(|(at, _)| *at != lost).map(|(_, cell)| *cell).collect();
    let changes = vec![with_line(game, file, line, Some(rest.join(&sign.to_string())))];
    Some(Fault {
        kind: "a cell lost",
        codes: vec![Code::COLUMN_COUNT],
        changes,
        places: vec![(file.to_owned(), line)],
    })
}

fn cell_added(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let (file, line, sign) = row(game, dice);
    let text = &game.files[file][line - 1];
    let places: Vec<usize> = text.match_indices(sign).map(|(at, _)| at).collect();
    let at = places[dice.below(places.len())];
    let text = format!("{}{sign}{}", &text[..at], &text[at..]);
    let changes = vec![with_line(game, file, line, Some(text))];
    Some(Fault {
        kind: "a cell too many",
        codes: vec![Code::COLUMN_COUNT],
        changes,
        places: vec![(file.to_owned(), line)],
    })
}

/// A line of the texts in a language.
fn text_line(game: &Game, dice: &mut Dice, file: &str, wanted: impl Fn(&str) -> bool) -> Option<usize> {
    let lines: Vec<usize> =
        (1..=game.files[file].len()).filter(|at| wanted(&game.files[file][at - 1])).collect();
    (!lines.is_empty()).then(|| lines[dice.below(lines.len())])
}

fn text_lost(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["text/en.txt", "text/de.txt"]);
    let line = text_line(game, dice, file, |_| true)?;
    let key = game.files[file][line - 1].split(' ').next().unwrap_or_default().to_owned();
    let (user, at) = game.users[&key];
    let changes = vec![with_line(game, file, line, None)];
    Some(Fault {
        kind: "a text lost",
        codes: vec![Code::MISSING_TEXT],
        changes,
        places: vec![(user.to_owned(), at)],
    })
}

fn text_of_other_marks(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let line = text_line(game, dice, "text/de.txt", |line| line.contains("{0}"))?;
    let text = game.files["text/de.txt"][line - 1].replace("{0}", dice.word(&["", "{1}", "{0"]));
    let changes = vec![with_line(game, "text/de.txt", line, Some(text))];
    let places = vec![("text/de.txt".to_owned(), line)];
    Some(Fault { kind: "other marks in a translation", codes: vec![Code::MARKS_DIFFER], changes, places })
}

fn text_too_long(game: &Game, dice: &mut Dice) -> Option<Fault> {
    // Those of goods have a limit.
    let is_limited = |line: &str| line.split(' ').next().is_some_and(|key| key.ends_with("_name"));
    let line = text_line(game, dice, "text/de.txt", is_limited)?;
    let text = game.files["text/de.txt"][line - 1].replace("Gewässer", "Gewässer so weit das Auge reicht");
    let key = text.split(' ').next().unwrap_or_default().to_owned();
    let (user, at) = game.users[&key];
    let changes = vec![with_line(game, "text/de.txt", line, Some(text))];
    let places = vec![("text/de.txt".to_owned(), line), (user.to_owned(), at)];
    Some(Fault { kind: "a text too long for its place", codes: vec![Code::TEXT_TOO_LONG], changes, places })
}

fn strange_letter(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["text/en.txt", "text/de.txt"]);
    let line = text_line(game, dice, file, |_| true)?;
    let text = game.files[file][line - 1].replacen("= \"", "= \"ė", 1);
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "a letter that the font lacks", codes: vec![Code::UNKNOWN_LETTER], changes, places })
}

fn icon_lost(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let icons: Vec<&String> = game.icons.keys().collect();
    let icon = icons[dice.below(icons.len())];
    let (user, at) = game.icons[icon];
    let places = vec![(user.to_owned(), at)];
    Some(Fault {
        kind: "a file lost",
        codes: vec![Code::MISSING_FILE],
        changes: vec![(icon.clone(), None)],
        places,
    })
}

fn plan_lost(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let plans: Vec<&String> = game.plans.keys().collect();
    let plan = plans[dice.below(plans.len())];
    let (user, at) = game.plans[plan];
    let changes = vec![(plan.clone(), None)];
    let places = vec![(user.to_owned(), at)];
    Some(Fault { kind: "a companion lost", codes: vec![Code::MISSING_COMPANION], changes, places })
}

fn pair_differs(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["signals/upper.txt", "signals/lower.txt"]);
    let changes = vec![(file.to_owned(), Some(game.text(file) + "amber wait\n"))];
    let places =
        ["signals/upper.txt", "signals/lower.txt"].map(|file| (file.to_owned(), 0)).into_iter().collect();
    Some(Fault { kind: "one of a pair changed", codes: vec![Code::PAIRED_DIFFER], changes, places })
}

fn member_twice(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "basins.json";
    let line = text_line(game, dice, file, |line| line.contains("\"open\""))?;
    let text = &game.files[file][line - 1];
    let changes = vec![with_line(game, file, line, Some(format!("{text}\n{text}")))];
    let places = vec![(file.to_owned(), line + 1), (file.to_owned(), line)];
    Some(Fault { kind: "a member twice", codes: vec![Code::DUPLICATE_MEMBER], changes, places })
}

fn unknown_key(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "crews.ini";
    let line = text_line(game, dice, file, |line| line.starts_with("home"))?;
    let text = game.files[file][line - 1].replace("home", &slip("home", dice));
    if text == game.files[file][line - 1] {
        return None;
    }
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "a key that nobody knows", codes: vec![Code::UNKNOWN_COLUMN], changes, places })
}

fn unknown_member(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "basins.json";
    let line = text_line(game, dice, file, |line| line.contains("\"share\""))?;
    let text = game.files[file][line - 1].replace("share", &slip("share", dice));
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "a member that nobody knows", codes: vec![Code::UNKNOWN_COLUMN], changes, places })
}

fn blank_at_the_end(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "tables/goods.txt";
    let line = 1 + dice.below(game.files[file].len());
    // In a header it would be a part of a name.
    let line = line.max(2);
    let text = format!("{} ", game.files[file][line - 1]);
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault {
        kind: "a blank at the end",
        codes: vec![Code::STRAY_BLANK, Code::PATTERN_MISMATCH],
        changes,
        places,
    })
}

fn other_line_end(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "tables/goods.txt";
    let line = 1 + dice.below(game.files[file].len());
    let text = format!("{}\r", game.files[file][line - 1]);
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "another line end", codes: vec![Code::LINE_ENDS], changes, places })
}

fn other_case_of_a_path(game: &Game, dice: &mut Dice) -> Option<Fault> {
    // Elsewhere two such files cannot be.
    if !cfg!(target_os = "linux") {
        return None;
    }
    let plans: Vec<&String> = game.plans.keys().collect();
    let plan = plans[dice.below(plans.len())];
    let other = plan.replace("plans/", "Plans/");
    let places = vec![(plan.clone(), 0), (other.clone(), 0)];
    let changes = vec![(other, Some("{}\n".to_owned()))];
    Some(Fault { kind: "a path in two cases", codes: vec![Code::PATH_CLASH], changes, places })
}

fn column_misspelt(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["tables/goods.txt", "tables/offers.txt"]);
    let head = &game.files[file][0];
    let column = dice.word(&["Kind"]);
    let text = head.replace(column, &slip(column, dice));
    let changes = vec![with_line(game, file, 1, Some(text))];
    let places = vec![(file.to_owned(), 1)];
    Some(Fault { kind: "a column misspelt", codes: vec![Code::MISSING_COLUMN], changes, places })
}

fn column_in_the_place_of_another(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["tables/goods.txt", "tables/offers.txt"]);
    let head = game.files[file][0].replace("Kind", "Good");
    let changes = vec![with_line(game, file, 1, Some(head))];
    let places = vec![(file.to_owned(), 1)];
    // That the other is missing says more than that this one is there twice.
    Some(Fault {
        kind: "a column in the place of another",
        codes: vec![Code::MISSING_COLUMN],
        changes,
        places,
    })
}

fn column_again(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["tables/goods.txt", "tables/offers.txt"]);
    let lines: Vec<String> = game.files[file].iter().map(|line| format!("{line}\tx\n")).collect();
    let text = lines.concat().replacen("\tx\n", "\tGood\n", 1);
    let changes = vec![(file.to_owned(), Some(text))];
    let places = vec![(file.to_owned(), 1)];
    Some(Fault { kind: "a column twice", codes: vec![Code::DUPLICATE_COLUMN], changes, places })
}

/// Two reaches, each above the other.
fn circle(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "tables/reaches.csv";
    let line = 3 + dice.below(game.files[file].len() - 2);
    let cells: Vec<&str> = game.files[file][line - 1].split(';').collect();
    let above = game.files[file].iter().position(|line| line.split(';').next() == Some(cells[1]))? + 1;
    let mut other: Vec<&str> = game.files[file][above - 1].split(';').collect();
    other[1] = cells[0];
    let changes = vec![with_line(game, file, above, Some(other.join(";")))];
    let places = vec![(file.to_owned(), line), (file.to_owned(), above)];
    Some(Fault { kind: "a circle", codes: vec![Code::RULE_NOT_MET], changes, places })
}

fn gap(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Sequence);
    at_site(game, "a gap in a sequence", Code::RULE_NOT_MET, site, "77")
}

fn not_what_follows(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let site = site(game, dice, |what| *what == What::Computed);
    at_site(game, "not what follows from another field", Code::COMPUTED_DIFFERS, site, "1")
}

fn mark_at_the_start(game: &Game, _: &mut Dice) -> Option<Fault> {
    let file = "crews.ini";
    let changes = vec![(file.to_owned(), Some(format!("\u{feff}{}", game.text(file))))];
    let places = vec![(file.to_owned(), 0), (file.to_owned(), 1)];
    Some(Fault { kind: "a mark at the start", codes: vec![Code::BYTE_ORDER_MARK], changes, places })
}

fn no_part_of_the_key(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let is_key = |site: &&Site| site.file == "tables/offers.txt" && site.range.start == 0;
    let sites: Vec<&Site> = game.sites.iter().filter(is_key).collect();
    at_site(game, "no part of the key", Code::MISSING_KEY, sites[dice.below(sites.len())], "")
}

fn file_for_nothing(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let icons: Vec<&String> = game.icons.keys().collect();
    let path = icons[dice.below(icons.len())].replace(".png", "_old.png");
    let (changes, places) = (vec![(path.clone(), Some("x\n".to_owned()))], vec![(path, 0)]);
    Some(Fault { kind: "a file that nothing names", codes: vec![Code::UNUSED_FILE], changes, places })
}

fn tab(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "crews.ini";
    let line = text_line(game, dice, file, |line| line.starts_with("home"))?;
    let changes = vec![with_line(game, file, line, Some(format!("\t{}", game.files[file][line - 1])))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "a tab", codes: vec![Code::STRAY_BLANK], changes, places })
}

fn section_twice(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "crews.ini";
    let line = text_line(game, dice, file, |line| line.starts_with('['))?;
    let text = format!("{}{}\nwage = 3\npay = 6\n", game.text(file), game.files[file][line - 1]);
    let places = vec![(file.to_owned(), game.files[file].len() + 1)];
    let changes = vec![(file.to_owned(), Some(text))];
    Some(Fault { kind: "a section twice", codes: vec![Code::DUPLICATE_KEY], changes, places })
}

fn attribute_lost(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "barges.xml";
    let line = text_line(game, dice, file, |line| line.contains(" crew="))?;
    let text = &game.files[file][line - 1];
    let text = format!("{}>", &text[..text.find(" crew=")?]);
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "an attribute lost", codes: vec![Code::REQUIRED_EMPTY], changes, places })
}

fn comma_at_the_end(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = "basins.json";
    let line = text_line(game, dice, file, |line| line.contains("\"share\""))?;
    let changes = vec![with_line(game, file, line, Some(format!("{},", game.files[file][line - 1])))];
    let places = vec![(file.to_owned(), line)];
    Some(Fault { kind: "a comma at the end", codes: vec![Code::NOT_STRICT_JSON], changes, places })
}

fn key_of_a_text_misspelt(game: &Game, dice: &mut Dice) -> Option<Fault> {
    let file = dice.word(&["text/en.txt", "text/de.txt"]);
    let line = text_line(game, dice, file, |_| true)?;
    let text = &game.files[file][line - 1];
    let key = text.split(' ').next().unwrap_or_default();
    let (user, at) = game.users[key];
    let text = format!("{}{}", slip(key, dice), &text[key.len()..]);
    if text == game.files[file][line - 1] {
        return None;
    }
    let changes = vec![with_line(game, file, line, Some(text))];
    let places = vec![(user.to_owned(), at)];
    Some(Fault { kind: "the key of a text misspelt", codes: vec![Code::MISSING_TEXT], changes, places })
}
