//! A made-up game with all kinds of declared things in it, in every format, and where each of its values stands.

use super::Dice;
use std::collections::BTreeMap;
use std::ops::Range;

/// What is declared of a value, so that it can be made wrong.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// It names a record.
    Reference,
    /// It names one of the moods, which nothing declares.
    Mood,
    /// A whole number between these.
    Integer(i64, i64),
    /// A number, with a decimal point.
    Number,
    Boolean,
    /// One of a few words.
    Choice,
    /// Two letters and two digits.
    Code,
    /// No other record of its table has it.
    Unique,
    /// It may not be empty.
    Required,
    /// It names a text.
    Text,
    /// It names a file.
    File,
    /// It is made from the key.
    Follows,
    /// The number of the items behind it.
    Count,
    /// It may have so many letters.
    Short(usize),
    /// It names a record to which nothing refers.
    Key,
    /// What a rule of the game limits.
    Limited,
    /// It follows from another value of the record.
    Computed,
    /// It is one of the numbers from 1 on without a gap.
    Sequence,
}

/// Where a value stands.
#[derive(Debug, Clone)]
pub struct Site {
    pub file: &'static str,
    /// 1-based.
    pub line: usize,
    /// In the line, in bytes.
    pub range: Range<usize>,
    pub what: Vec<What>,
    pub value: String,
}

/// A part of a line.
pub enum Part<'p> {
    Plain(&'p str),
    Value(&'p [What], &'p str),
}
use Part::{Plain, Value};

/// The files of the game and the values in them.
#[derive(Debug, Default)]
pub struct Game {
    /// The lines of each file by its path.
    pub files: BTreeMap<String, Vec<String>>,
    pub sites: Vec<Site>,
    /// For each text, the place of the value that names it: file and line.
    pub users: BTreeMap<String, (&'static str, usize)>,
    /// The icons with the place of the value that names each.
    pub icons: BTreeMap<String, (&'static str, usize)>,
    /// The plans that go with the reaches.
    pub plans: BTreeMap<String, (&'static str, usize)>,
}

pub const SCHEMA: &str = r##"
[table.goods]
files = "tables/goods.txt"
format = { kind = "delimited" }
closed = true
key = "Good"
forbid = ["trailing-blank"]
line_ends = "lf"
[table.goods.fields]
Weight = { type = "integer", range = [1, 90], required = true }
Kind = { choice = ["bulk", "crate", "sack"] }
Name = { text = true, follows = "{key}_name", longest = 24 }
Icon = { file = "icons/{}.png" }
Code = { pattern = '[A-Z]{2}-\d{2}', unique = true }

[table.reaches]
files = "tables/reaches.csv"
format = { kind = "delimited", delimiter = ";" }
closed = true
key = "Reach"
[table.reaches.fields]
Above = { ref = "reaches", none = "-" }
Depth = { type = "number", range = [0.5, 40] }
Landing = { type = "integer", unique = true }
Note = { longest = 30 }

[table.basins]
files = "basins.json"
format = { kind = "json", records = "$.basins.*" }
closed = true
key = "{member}"
[table.basins.fields]
name = { text = true }
open = { type = "boolean" }
"gates[*]" = { ref = "reaches" }
share = { type = "number", range = [0, 1] }

[table.crews]
files = "crews.ini"
format = { kind = "ini" }
closed = true
byte_order_mark = "forbidden"
forbid = ["tab"]
key = "{section}"
[table.crews.fields]
wage = { type = "integer", range = [1, 60], required = true }
home = { ref = "reaches" }
skills = { list = ",", choice = ["tow", "pole", "break"] }
mood = { ref = "moods" }
stops = { list = ",", counted = true, ref = "reaches" }

[table.moods]
by_use = ["crews.mood"]

[table.barges]
files = "barges.xml"
format = { kind = "xml", records = "/fleet/barge" }
closed = true
key = "@id"
[table.barges.fields]
"@crew" = { ref = "crews", required = true }
"hold/@most" = { type = "integer", range = [1, 500] }
"load/@good" = { ref = "goods" }

[table.convoys]
files = "scripts/convoys.hold"
format = { kind = "blocks", records = "convoys/*" }
closed = true
key = "{name}"
[table.convoys.fields]
crew = { ref = "crews" }
order = { type = "integer", unique = true }
"legs/leg/from" = { ref = "reaches" }
"legs/leg/to" = { ref = "reaches" }
"cargo" = { ref = "goods" }

[table.offers]
files = "tables/offers.txt"
format = { kind = "delimited" }
key = ["Reach", "Good"]
[table.offers.fields]
Reach = { ref = "reaches" }
Good = { ref = "goods" }
Factor = { type = "number" }
Kind = { choice = ["crew", "barge"] }
Target = { ref = { crew = "crews", barge = "barges" }, by = "Kind" }

[table.tolls]
files = "tolls.list"
format = { kind = "lines", line = "toll {name}: {reach} takes {fee}" }
key = "name"
[table.tolls.fields]
reach = { ref = "reaches" }
fee = { type = "integer" }

[table.texts]
files = "text/{lang}.txt"
format = { kind = "lines", line = '{key} = "{text}"', comment = "#" }
key = "key"
texts = true
letters = "A-Za-z0-9 {}äöüß"

[[companion]]
table = "reaches"
file = "plans/{key}.json"
required = true

[[paired]]
files = ["signals/upper.txt", "signals/lower.txt"]

[[rule]]
name = "water-runs-down"
table = "reaches"
acyclic = "Above"

[[rule]]
name = "convoys-in-order"
table = "convoys"
sequence = "order"

[[computed]]
field = "crews.pay"
value = "wage * 2"

[[asset]]
files = "icons/*.png"

[[rule]]
name = "fair-offer"
table = "offers"
assert = "Factor < 3.0"
at = "Factor"
message = "nobody pays {Factor}"
"##;

impl Game {
    /// The game of these dice.
    pub fn of(dice: &mut Dice) -> Game {
        let mut game = Game::default();
        let mut names = Names::default();
        let mut some = |dice: &mut Dice, number: usize| -> Vec<String> {
            (0..number).map(|_| names.next(dice)).collect()
        };
        let (goods, reaches) = (some(dice, 24), some(dice, 30));
        let (basins, crews, barges) = (some(dice, 8), some(dice, 20), some(dice, 20));
        let (convoys, tolls) = (some(dice, 12), some(dice, 20));
        game.goods(dice, &goods);
        game.reaches(dice, &reaches);
        game.basins(dice, &basins, &reaches);
        game.crews(dice, &crews, &reaches);
        game.barges(dice, &barges, &crews, &goods);
        game.convoys(dice, &convoys, (&crews, &reaches, &goods));
        game.offers(dice, (&reaches, &goods, &crews, &barges));
        game.tolls(dice, &tolls, &reaches);
        game.texts(dice);
        for name in ["signals/upper.txt", "signals/lower.txt"] {
            game.files.insert(name.to_owned(), vec!["red stop".to_owned(), "green go".to_owned()]);
        }
        game
    }

    /// The text of a file.
    pub fn text(&self, file: &str) -> String {
        self.files[file].iter().map(|line| format!("{line}\n")).collect()
    }

    /// Adds a line to a file; gives its number, 1-based.
    fn line(&mut self, file: &'static str, parts: &[Part<'_>]) -> usize {
        let lines = self.files.entry(file.to_owned()).or_default();
        let (number, mut text) = (lines.len() + 1, String::new());
        for part in parts {
            match part {
                Plain(own) => text.push_str(own),
                Value(what, value) => {
                    let range = text.len()..text.len() + value.len();
                    text.push_str(value);
                    let (what, value) = (what.to_vec(), (*value).to_owned());
                    self.sites.push(Site { file, line: number, range, what, value });
                }
            }
        }
        lines.push(text);
        number
    }

    fn goods(&mut self, dice: &mut Dice, goods: &[String]) {
        const FILE: &str = "tables/goods.txt";
        self.line(FILE, &[Plain("Good\tWeight\tKind\tName\tIcon\tCode")]);
        for (number, good) in goods.iter().enumerate() {
            let weight = (1 + dice.below(90)).to_string();
            let (name, code) = (format!("{good}_name"), code(number));
            let kind = dice.word(&["bulk", "crate", "sack"]);
            let weight = Value(&[What::Integer(1, 90), What::Required], &weight);
            let parts = [
                Plain(good),
                Plain("\t"),
                weight,
                Plain("\t"),
                Value(&[What::Choice], kind),
                Plain("\t"),
                Value(&[What::Follows], &name),
                Plain("\t"),
                Value(&[What::File], good),
                Plain("\t"),
                Value(&[What::Code, What::Unique], &code),
            ];
            let line = self.line(FILE, &parts);
            self.users.insert(name.clone(), (FILE, line));
            self.icons.insert(format!("icons/{good}.png"), (FILE, line));
            self.files.insert(format!("icons/{good}.png"), vec!["x".to_owned()]);
        }
    }

    fn reaches(&mut self, dice: &mut Dice, reaches: &[String]) {
        const FILE: &str = "tables/reaches.csv";
        self.line(FILE, &[Plain("Reach;Above;Depth;Landing;Note")]);
        for (number, reach) in reaches.iter().enumerate() {
            let above = if number == 0 { "-" } else { dice.name(&reaches[..number]) };
            let above = if number == 0 { Plain(above) } else { Value(&[What::Reference], above) };
            let depth = format!("{}.{}", 1 + dice.below(38), 1 + dice.below(9));
            let landing = (100 + number * 7).to_string();
            let parts = [
                Plain(reach),
                Plain(";"),
                above,
                Plain(";"),
                Value(&[What::Number], &depth),
                Plain(";"),
                Value(&[What::Unique], &landing),
                Plain(";"),
                Value(&[What::Short(30)], "quiet water"),
            ];
            let line = self.line(FILE, &parts);
            let plan = format!("plans/{reach}.json");
            self.plans.insert(plan.clone(), (FILE, line));
            self.files.insert(plan, vec!["{}".to_owned()]);
        }
    }

    fn basins(&mut self, dice: &mut Dice, basins: &[String], reaches: &[String]) {
        const FILE: &str = "basins.json";
        self.line(FILE, &[Plain("{ \"basins\": {")]);
        for (number, basin) in basins.iter().enumerate() {
            let name = format!("{basin}_basin");
            self.line(FILE, &[Plain("  \""), Plain(basin), Plain("\": {")]);
            let line =
                self.line(FILE, &[Plain("    \"name\": \""), Value(&[What::Text], &name), Plain("\",")]);
            self.users.insert(name, (FILE, line));
            let open = dice.word(&["true", "false"]);
            self.line(FILE, &[Plain("    \"open\": "), Value(&[What::Boolean], open), Plain(",")]);
            self.line(FILE, &[Plain("    \"gates\": [")]);
            for at in 0..3 {
                let reach = dice.name(reaches);
                let end = if at == 2 { "\"" } else { "\"," };
                self.line(FILE, &[Plain("      \""), Value(&[What::Reference], reach), Plain(end)]);
            }
            self.line(FILE, &[Plain("    ],")]);
            let share = format!("0.{}", 1 + dice.below(9));
            self.line(FILE, &[Plain("    \"share\": "), Value(&[What::Number], &share)]);
            self.line(FILE, &[Plain(if number + 1 == basins.len() { "  }" } else { "  }," })]);
        }
        self.line(FILE, &[Plain("} }")]);
    }

    fn crews(&mut self, dice: &mut Dice, crews: &[String], reaches: &[String]) {
        const FILE: &str = "crews.ini";
        for (number, crew) in crews.iter().enumerate() {
            self.line(FILE, &[Plain("["), Plain(crew), Plain("]")]);
            let wage = (1 + dice.below(60)).to_string();
            self.line(FILE, &[Plain("wage = "), Value(&[What::Integer(1, 60), What::Required], &wage)]);
            let pay = (wage.parse::<u32>().unwrap_or_default() * 2).to_string();
            self.line(FILE, &[Plain("pay = "), Value(&[What::Computed], &pay)]);
            self.line(FILE, &[Plain("home = "), Value(&[What::Reference], dice.name(reaches))]);
            let skill = Value(&[What::Choice], dice.word(&["tow", "pole", "break"]));
            self.line(FILE, &[Plain("skills = tow, "), skill, Plain(", pole")]);
            let mood = ["cheerful", "grumbling", "sleepless"][number % 3];
            self.line(FILE, &[Plain("mood = "), Value(&[What::Mood], mood)]);
            let (a, b) = (dice.name(reaches), dice.name(reaches));
            let (a, b) = (Value(&[What::Reference], a), Value(&[What::Reference], b));
            self.line(FILE, &[Plain("stops = "), Value(&[What::Count], "2"), Plain(", "), a, Plain(", "), b]);
            self.line(FILE, &[Plain("")]);
        }
    }

    fn barges(&mut self, dice: &mut Dice, barges: &[String], crews: &[String], goods: &[String]) {
        const FILE: &str = "barges.xml";
        self.line(FILE, &[Plain("<fleet>")]);
        for barge in barges {
            let crew = Value(&[What::Reference, What::Required], dice.name(crews));
            self.line(
                FILE,
                &[Plain("  <barge id=\""), Plain(barge), Plain("\" crew=\""), crew, Plain("\">")],
            );
            let most = (1 + dice.below(500)).to_string();
            let most = Value(&[What::Integer(1, 500)], &most);
            self.line(FILE, &[Plain("    <hold most=\""), most, Plain("\"/>")]);
            for _ in 0..1 + dice.below(3) {
                let good = Value(&[What::Reference], dice.name(goods));
                self.line(FILE, &[Plain("    <load good=\""), good, Plain("\"/>")]);
            }
            self.line(FILE, &[Plain("  </barge>")]);
        }
        self.line(FILE, &[Plain("</fleet>")]);
    }

    fn convoys(
        &mut self,
        dice: &mut Dice,
        convoys: &[String],
        (crews, reaches, goods): (&[String], &[String], &[String]),
    ) {
        const FILE: &str = "scripts/convoys.hold";
        self.line(FILE, &[Plain("convoys = {")]);
        for (number, convoy) in convoys.iter().enumerate() {
            self.line(FILE, &[Plain("\t"), Plain(convoy), Plain(" = {")]);
            self.line(FILE, &[Plain("\t\tcrew = "), Value(&[What::Reference], dice.name(crews))]);
            let order = (number + 1).to_string();
            self.line(FILE, &[Plain("\t\torder = "), Value(&[What::Unique, What::Sequence], &order)]);
            self.line(FILE, &[Plain("\t\tcargo = "), Value(&[What::Reference], dice.name(goods))]);
            self.line(FILE, &[Plain("\t\tlegs = {")]);
            for _ in 0..2 {
                let (from, to) = (dice.name(reaches), dice.name(reaches));
                let (from, to) = (Value(&[What::Reference], from), Value(&[What::Reference], to));
                self.line(FILE, &[Plain("\t\t\tleg = { from = "), from, Plain(" to = "), to, Plain(" }")]);
            }
            self.line(FILE, &[Plain("\t\t}")]);
            self.line(FILE, &[Plain("\t}")]);
        }
        self.line(FILE, &[Plain("}")]);
    }

    fn offers(
        &mut self,
        dice: &mut Dice,
        (reaches, goods, crews, barges): (&[String], &[String], &[String], &[String]),
    ) {
        const FILE: &str = "tables/offers.txt";
        self.line(FILE, &[Plain("Reach\tGood\tFactor\tKind\tTarget")]);
        for (number, reach) in reaches.iter().enumerate() {
            let good = &goods[number % goods.len()];
            let factor = format!("{}.{}", dice.below(3), dice.below(10));
            let (kind, target) = match dice.below(2) {
                0 => ("crew", dice.name(crews)),
                _ => ("barge", dice.name(barges)),
            };
            let parts = [
                Value(&[What::Reference], reach),
                Plain("\t"),
                Value(&[What::Reference], good),
                Plain("\t"),
                Value(&[What::Limited], &factor),
                Plain("\t"),
                Value(&[What::Choice], kind),
                Plain("\t"),
                Value(&[What::Reference], target),
            ];
            self.line(FILE, &parts);
        }
    }

    fn tolls(&mut self, dice: &mut Dice, tolls: &[String], reaches: &[String]) {
        const FILE: &str = "tolls.list";
        for toll in tolls {
            let (reach, fee) = (dice.name(reaches), (1 + dice.below(40)).to_string());
            let parts = [
                Plain("toll "),
                Value(&[What::Key], toll),
                Plain(": "),
                Value(&[What::Reference], reach),
                Plain(" takes "),
                Value(&[What::Integer(i64::MIN, i64::MAX)], &fee),
            ];
            self.line(FILE, &parts);
        }
    }

    /// The texts in both languages.
    fn texts(&mut self, dice: &mut Dice) {
        let keys: Vec<String> = self.users.keys().cloned().collect();
        for key in keys {
            let number = if dice.below(3) == 0 { " {0}" } else { "" };
            for (file, word) in [("text/en.txt", "Water"), ("text/de.txt", "Gewässer")] {
                self.line(file, &[Plain(&format!("{key} = \"{word}{number}\""))]);
            }
        }
    }
}

/// Two letters and two digits, others for each number.
fn code(number: usize) -> String {
    let letter = |at: usize| char::from(b'A' + (at % 26) as u8);
    format!("{}{}-{:02}", letter(number * 7), letter(number * 11 + 3), number * 3 % 100)
}

/// Gives out names, each once, no two of which are a slip apart.
#[derive(Default)]
struct Names {
    given: Vec<usize>,
}

impl Names {
    fn next(&mut self, dice: &mut Dice) -> String {
        const FIRST: [&str; 16] = [
            "frost", "mill", "copper", "salt", "lantern", "heron", "slate", "peat", "north", "upper",
            "willow", "granite", "quiet", "broken", "morning", "juniper",
        ];
        const SECOND: [&str; 14] = [
            "cut", "weir", "lock", "hythe", "bend", "pool", "ford", "bridge", "meadow", "sluice", "landing",
            "hollow", "ridge", "tower",
        ];
        loop {
            let at = dice.below(FIRST.len() * SECOND.len());
            if !self.given.contains(&at) {
                self.given.push(at);
                return format!("{}_{}", FIRST[at % FIRST.len()], SECOND[at / FIRST.len()]);
            }
        }
    }
}
