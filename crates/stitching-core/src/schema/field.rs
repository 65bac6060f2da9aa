//! Fields and the rules for their values.

use super::{Beside, FileTemplate, KeyPart, List, Pattern, Switch, TableId};
use crate::Place;
use crate::text::{Template, number};
use regex::Regex;

/// A named value of the records of a table.
#[derive(Debug, Clone)]
pub struct Field {
    /// Its name: a column, a member, a part of the line, or what the schema calls it.
    pub name: String,
    /// The column, as the format understands it: the name, unless the schema gives another place.
    pub column: String,
    /// Other columns that it stands for where those before are not there, the first that is.
    pub alternatives: Vec<String>,
    /// What it means, for people.
    pub about: Option<String>,
    /// The unit of its numbers, for people.
    pub unit: Option<String>,
    /// How the items are told apart, if the value is a list.
    pub list: Option<List>,
    /// Whether the first item of the list is the number of those that follow.
    pub counted: bool,
    /// What each value (or item) consists of.
    pub layout: Layout,
    /// How the value is made from the record's key, if it must be.
    pub follows: Option<Template>,
    /// Whether it names a record from which this one takes what it does not have itself.
    pub inherit: bool,
    /// Whether it is a note for people that the game does not read.
    pub note: bool,
    /// Whether a file may lack the column, and all records the field.
    pub optional: bool,
    /// What of its file's path it is, if it stands there and not in the record.
    pub of_path: Option<KeyPart>,
    /// Where the schema names it first; nowhere if it was only found in a file.
    pub place: Option<Box<Place>>,
}

/// What a value consists of.
#[derive(Debug, Clone)]
pub enum Layout {
    /// One thing; the position of its rule in the table's rules.
    Whole(usize),
    /// Several parts, told apart by a template; for each part of the template its rule.
    Parts(Box<Template>, Vec<usize>),
    /// A longer text, in which an expression finds any number of parts; for each group of the expression
    /// with a name its position and its rule.
    Found(Regex, Vec<(usize, usize)>),
}

impl Layout {
    /// The rules of its parts, at least one.
    pub fn rules(&self) -> Vec<usize> {
        match self {
            Layout::Whole(rule) => vec![*rule],
            Layout::Parts(_, rules) => rules.clone(),
            Layout::Found(_, groups) => groups.iter().map(|(_, rule)| *rule).collect(),
        }
    }
}

/// What one value, or one part of a value, may hold and points to.
#[derive(Debug, Clone, Default)]
pub struct ValueRule {
    /// The position of its field in the table's fields.
    pub field: usize,
    /// The part of the value it is about, if not the whole.
    pub part: Option<String>,
    /// The kind of value.
    pub kind: ValueType,
    /// What it refers to; any one of them will do.
    pub refs: Vec<Target>,
    /// How the key that it refers to is made from the value, if it is not the value itself.
    pub shape: Option<Template>,
    /// What holds the parts of the key that it refers to, if that has several.
    pub with: Vec<NamedBy>,
    /// Whether what is missing of these stands for nothing: keys that it refers to may lack a part.
    pub parts_may_lack: bool,
    /// Which rule holds in place of this one, by the values of other fields.
    pub switch: Option<Switch>,
    /// Further rules that hold for the same value, whatever `switch` says.
    pub also: Vec<usize>,
    /// Values that stand for "nothing".
    pub none: Vec<String>,
    /// The shape of further values that stand for "nothing".
    pub none_pattern: Option<Box<Pattern>>,
    /// Whether the keys that it refers to are compared without case, even where their table tells them apart.
    pub ignore_case: bool,
    /// How the text key is made from the value, if it is a text key.
    pub text: Option<Template>,
    /// How the path of a file is made from the value, if it names one.
    pub file: Option<FileTemplate>,
    /// Lowest and highest number allowed.
    pub range: Option<(f64, f64)>,
    /// The numbers that a whole number may be the sum of, each bit of it in one of them; none if that is not said.
    pub flags: Vec<u64>,
    /// The values allowed.
    pub choice: Vec<String>,
    /// The shape of the whole value.
    pub pattern: Option<Pattern>,
    /// How many characters the value may have at most; of a text key, each of its texts.
    pub longest: Option<usize>,
    /// Whether no two records may have the same value.
    pub unique: bool,
    /// Whether it may not be empty or none.
    pub required: bool,
    /// Whether a record that refers by it belongs to what it refers to.
    pub owner: bool,
    /// What becomes of a reference when what it refers to is removed.
    pub on_remove: OnRemove,
}

/// What holds a part of the key, or of the path of a file, that a value names together with other things.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NamedBy {
    /// The value of the reference itself.
    Value,
    /// A field of the record, or the name of its file.
    Record(KeyPart),
    /// The folder of its file, from a layer's root.
    Folder,
    /// The part with the rule at this position, of the same value or the same item of a list.
    Part(usize),
}

impl From<Beside> for NamedBy {
    fn from(value: Beside) -> NamedBy {
        match value {
            Beside::Part(part) => NamedBy::Part(part),
            Beside::Field(field) => NamedBy::Record(KeyPart::Field(field)),
        }
    }
}

/// What becomes of a reference when what it refers to is removed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnRemove {
    /// It keeps that from being removed.
    #[default]
    Refuse,
    /// Its record goes too.
    Record,
    /// It goes out of its list.
    Item,
    /// It becomes what stands for nothing.
    Nothing,
    /// It stays, and is told.
    Report,
}

impl OnRemove {
    /// The ones that a schema can ask for, by the names they have there.
    pub const NAMES: [(&'static str, OnRemove); 4] = [
        ("record", OnRemove::Record),
        ("item", OnRemove::Item),
        ("none", OnRemove::Nothing),
        ("report", OnRemove::Report),
    ];
}

/// What a reference points to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Target {
    /// The table.
    pub table: TableId,
    /// The position of the rule there whose values are meant; `None` for the key.
    pub rule: Option<usize>,
}

impl Field {
    /// The columns that it stands for, of which the first that is there counts; none of what stands in the path.
    pub fn columns(&self) -> impl Iterator<Item = &String> {
        let first = self.of_path.is_none().then_some(&self.column);
        first.into_iter().chain(&self.alternatives)
    }

    /// A field of which nothing is known but its name and the position of its (empty) rule.
    pub(super) fn plain(name: &str, rule: usize) -> Field {
        Field {
            name: name.to_owned(),
            column: name.to_owned(),
            alternatives: Vec::new(),
            about: None,
            unit: None,
            list: None,
            counted: false,
            layout: Layout::Whole(rule),
            follows: None,
            inherit: false,
            note: false,
            optional: false,
            of_path: None,
            place: None,
        }
    }
}

/// The kinds of values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ValueType {
    /// Anything.
    #[default]
    Text,
    /// A whole number with an optional sign.
    Integer,
    /// A number with an optional sign, point and exponent.
    Number,
    /// `true`/`false`, `yes`/`no` or `1`/`0`, in any case.
    Boolean,
}

impl ValueType {
    /// The kinds by the names they have in a schema.
    pub const NAMES: [(&'static str, ValueType); 4] = [
        ("text", ValueType::Text),
        ("integer", ValueType::Integer),
        ("number", ValueType::Number),
        ("boolean", ValueType::Boolean),
    ];

    /// What is expected, in words: "a whole number".
    pub fn expected(self) -> &'static str {
        match self {
            ValueType::Text => "text",
            ValueType::Integer => "a whole number",
            ValueType::Number => "a number",
            ValueType::Boolean => "true or false",
        }
    }

    /// Whether `value` is of this kind.
    #[inline]
    pub fn accepts(self, value: &str) -> bool {
        match self {
            ValueType::Text => true,
            ValueType::Integer => {
                let digits = value.strip_prefix(['-', '+']).unwrap_or(value);
                !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
            }
            ValueType::Number => number(value).is_some(),
            ValueType::Boolean => {
                let words = ["true", "false", "yes", "no", "1", "0"];
                words.iter().any(|word| word.eq_ignore_ascii_case(value))
            }
        }
    }
}

impl ValueRule {
    /// Whether anything at all is asked of the value, so that it must be looked at.
    pub fn says_something(&self) -> bool {
        self.kind != ValueType::Text
            || self.points()
            || self.switch.is_some()
            || !self.also.is_empty()
            || self.range.is_some()
            || !self.flags.is_empty()
            || self.is_checked()
    }

    /// Whether it is the only rule for its value.
    pub fn is_alone(&self) -> bool {
        self.switch.is_none() && self.also.is_empty()
    }

    /// Whether the value points somewhere: to a record, a text or a file.
    pub fn points(&self) -> bool {
        !self.refs.is_empty() || self.text.is_some() || self.file.is_some()
    }

    fn is_checked(&self) -> bool {
        !self.choice.is_empty() || self.pattern.is_some() || self.unique || self.required
    }

    /// Whether `value` stands for "nothing" here.
    #[inline]
    pub fn is_none(&self, value: &str) -> bool {
        value.is_empty()
            || self.none.iter().any(|none| none == value)
            || self.none_pattern.is_some() && self.matches_none(value)
    }

    /// Apart from [`ValueRule::is_none`], which is asked of every value, and mostly has no pattern to try.
    #[inline(never)]
    fn matches_none(&self, value: &str) -> bool {
        self.none_pattern.as_ref().is_some_and(|pattern| pattern.matches(value))
    }

    /// Takes over from `other` what stands for "nothing".
    pub(super) fn share_none(&mut self, other: &ValueRule) {
        self.none.extend(other.none.iter().cloned());
        if self.none_pattern.is_none() {
            self.none_pattern.clone_from(&other.none_pattern);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::ValueType::{self, Boolean, Integer, Number};
    use rstest::rstest;

    #[rstest]
    #[case(Integer, "-12", true)]
    #[case(Integer, "1.0", false)]
    #[case(Integer, "-", false)]
    #[case(Number, "-0.5", true)]
    #[case(Number, ".5", true)]
    #[case(Number, "1e3", true)]
    #[case(Number, "inf", false)]
    #[case(Number, "1,5", false)]
    #[case(Boolean, "Yes", true)]
    #[case(Boolean, "2", false)]
    fn kinds(#[case] kind: ValueType, #[case] value: &str, #[case] accepted: bool) {
        assert_eq!(kind.accepts(value), accepted);
    }
}
