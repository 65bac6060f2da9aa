//! The rules of a game: what must hold of its records, `[[rule]]`.

use super::TableId;
use crate::problem::{Place, Severity};

/// What must hold of the records of a table.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name: one word, by which it is explained and silenced.
    pub name: String,
    /// Why games mind, for people.
    pub about: Option<String>,
    /// The table of its records.
    pub table: TableId,
    /// The expression that a record must meet for the rule to be about it.
    pub when: Option<String>,
    /// The fields whose values must be the same for records to be held together; none if each record is held against
    /// the rule by itself. All records together if there is no field.
    pub by: Option<Vec<String>>,
    /// What must hold.
    pub requirement: Requirement,
    /// What is said where it does not hold; otherwise what is found is told.
    pub message: Option<Message>,
    /// What to do, for people.
    pub help: Option<String>,
    /// How much it matters.
    pub severity: Severity,
    /// The field at which it is shown, if not the first that is asked.
    pub at: Option<String>,
    /// The expression that gives the value which the field at which it is shown should have.
    pub fix: Option<String>,
    /// Records that meet the rule, by their fields.
    pub good: Vec<Example>,
    /// Records that do not.
    pub bad: Vec<Example>,
    /// The names of the other tables that its expressions ask.
    pub asked: Vec<String>,
    /// Where the schema says so.
    pub place: Place,
}

/// What must hold of a record, or of records together.
#[derive(Debug, Clone, PartialEq)]
pub enum Requirement {
    /// An expression gives true.
    Assert(String),
    /// No two records have the same values in all of these fields.
    Unique(Vec<String>),
    /// The numbers in a field are those from the first on, each once, without a gap.
    Sequence {
        /// The field.
        field: String,
        /// The lowest number.
        first: i64,
    },
    /// The values of a field never fall from one record to the next, in the order of the file.
    Ascending(String),
    /// The references in a field lead in no circle.
    Acyclic(String),
    /// Each record is reached through a field, from those that meet a condition.
    Reachable {
        /// The field that refers to records of the same table.
        field: String,
        /// The condition that the first ones meet.
        from: String,
    },
    /// Where a record names another one in the first field, that one names it in the second.
    Mutual(String, String),
    /// The positions that these fields give are no nearer to each other than a distance.
    Apart {
        /// The fields with the numbers; or one field with a list of them.
        fields: Vec<String>,
        /// The smallest distance; 0 if they may only not be the same.
        distance: f64,
    },
    /// Of records that wait for each other, those that run at the same time have no more than so much together.
    AtOnce {
        /// The field with the amount.
        amount: String,
        /// The field that names the records of the same table that must be done before.
        waits: String,
        /// The most that there may be.
        most: f64,
    },
    /// No two values of these fields look alike: they differ in more than case, blanks and letters that look the same.
    Unlike(Vec<String>),
}

impl Requirement {
    /// The setting that gives it.
    pub fn setting(&self) -> &'static str {
        match self {
            Requirement::Assert(_) => "assert",
            Requirement::Unique(_) => "unique",
            Requirement::Sequence { .. } => "sequence",
            Requirement::Ascending(_) => "ascending",
            Requirement::Acyclic(_) => "acyclic",
            Requirement::Reachable { .. } => "reachable",
            Requirement::Mutual(..) => "mutual",
            Requirement::Apart { .. } => "apart",
            Requirement::AtOnce { .. } => "at_once",
            Requirement::Unlike(_) => "unlike",
        }
    }

    /// The fields that it is about, in the order in which it names them.
    pub fn fields(&self) -> Vec<&str> {
        match self {
            Requirement::Assert(_) => Vec::new(),
            Requirement::Unique(fields) | Requirement::Unlike(fields) | Requirement::Apart { fields, .. } => {
                fields.iter().map(String::as_str).collect()
            }
            Requirement::Sequence { field, .. }
            | Requirement::Ascending(field)
            | Requirement::Acyclic(field)
            | Requirement::Reachable { field, .. } => vec![field],
            Requirement::Mutual(there, back) if there == back => vec![there],
            Requirement::Mutual(there, back) => vec![there, back],
            Requirement::AtOnce { amount, waits, .. } => vec![amount, waits],
        }
    }

    /// The expressions in it.
    pub fn expressions(&self) -> Vec<&str> {
        match self {
            Requirement::Assert(source) | Requirement::Reachable { from: source, .. } => vec![source],
            _ => Vec::new(),
        }
    }
}

/// A message with expressions in braces: `{Reach} is {Depth} deep`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Its parts, in order.
    pub parts: Vec<MessagePart>,
}

/// A part of a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MessagePart {
    /// Text as it is.
    Text(String),
    /// An expression over the record.
    Expression(String),
}

impl Message {
    /// Takes `source` apart; a brace that is meant as such stands twice.
    ///
    /// # Errors
    /// What is wrong with it: an opening brace without a closing one, or the other way round.
    pub fn parse(source: &str) -> Result<Message, String> {
        let mut parts = Vec::new();
        let (mut text, mut rest) = (String::new(), source);
        while let Some(at) = rest.find(['{', '}']) {
            text.push_str(&rest[..at]);
            let brace = &rest[at..=at];
            rest = &rest[at + 1..];
            if let Some(behind) = rest.strip_prefix(brace) {
                text.push_str(brace);
                rest = behind;
                continue;
            }
            let end = expression_end(rest).filter(|_| brace == "{");
            let end =
                end.ok_or_else(|| format!("a `{brace}` stands alone; write it twice if it is meant"))?;
            if !text.is_empty() {
                parts.push(MessagePart::Text(std::mem::take(&mut text)));
            }
            parts.push(MessagePart::Expression(rest[..end].to_owned()));
            rest = &rest[end + 1..];
        }
        text.push_str(rest);
        if !text.is_empty() {
            parts.push(MessagePart::Text(text));
        }
        Ok(Message { parts })
    }

    /// The expressions in it.
    pub fn expressions(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|part| match part {
            MessagePart::Expression(source) => Some(source.as_str()),
            MessagePart::Text(_) => None,
        })
    }
}

/// Where the expression that `rest` begins with ends: at the brace that closes it, not one in quotes or within it.
fn expression_end(rest: &str) -> Option<usize> {
    let (mut depth, mut quote) = (0usize, None);
    for (at, letter) in rest.char_indices() {
        match (quote, letter) {
            (Some(open), letter) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(letter),
            (None, '{') => depth += 1,
            (None, '}') if depth == 0 => return Some(at),
            (None, '}') => depth -= 1,
            (None, _) => {}
        }
    }
    None
}

/// Records that a rule is tried on.
#[derive(Debug, Clone)]
pub struct Example {
    /// The records, which are held together; of each its fields and what they hold, as it is written.
    pub records: Vec<Vec<(String, Vec<String>)>>,
    /// Where the schema says so.
    pub place: Place,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn text(text: &str) -> MessagePart {
        MessagePart::Text(text.to_owned())
    }

    fn expression(source: &str) -> MessagePart {
        MessagePart::Expression(source.to_owned())
    }

    #[rstest]
    #[case::plain("too deep", vec![text("too deep")])]
    #[case::fields("{Reach} is {Depth} deep", vec![expression("Reach"), text(" is "), expression("Depth"), text(" deep")])]
    #[case::doubled_braces("a {{b}} {c}", vec![text("a {b} "), expression("c")])]
    #[case::brace_in_quotes("{x + '}'}", vec![expression("x + '}'")])]
    #[case::empty("", vec![])]
    fn messages_are_taken_apart(#[case] source: &str, #[case] parts: Vec<MessagePart>) {
        assert_eq!(Message::parse(source).map(|message| message.parts), Ok(parts));
    }

    #[rstest]
    #[case::open("a {b")]
    #[case::closing("a b}")]
    #[case::doubled_where_an_expression_begins("{{section} + 'a'}")]
    fn a_brace_alone_is_refused(#[case] source: &str) {
        assert!(Message::parse(source).is_err());
    }
}
