//! What is to become of a field, as people write it: `FIELD=VALUE`, `FIELD:=EXPRESSION`, `FIELD+=ITEM`, `FIELD-=ITEM`.

use crate::Error;
use crate::rows::Rows;
use crate::schema::Layout;

/// An argument of a command that gives values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Argument {
    /// It names something.
    Name(String),
    /// It says what becomes of what it names.
    Assignment(Assignment),
}

/// What is to become of a field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Assignment {
    /// What is on the left: a field, or the address of one.
    pub left: String,
    /// What happens to it.
    pub action: Action,
}

/// What happens to a field.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Action {
    /// It gets this value; a reference may be given by what its target is called.
    Set(String),
    /// It gets this value, as the file is to hold it.
    Write(String),
    /// It gets what this expression gives.
    Compute(String),
    /// Its list gets this item.
    AddItem(String, ItemPlace),
    /// Its list loses this item.
    RemoveItem(String),
}

/// Where in a list an item goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ItemPlace {
    /// Behind all others.
    Last,
    /// So that it has this number, from 0 on.
    At(usize),
}

impl Argument {
    /// Takes an argument apart. What is on the left may have parts in double quotes, in which signs mean nothing.
    ///
    /// # Errors
    /// When nothing is on the left, or an item's place is none.
    pub fn parse(argument: &str) -> Result<Argument, Error> {
        let mut quoted = false;
        let sign = argument.bytes().position(|byte| {
            quoted ^= byte == b'"';
            byte == b'=' && !quoted
        });
        let Some(at) = sign else { return Ok(Argument::Name(argument.to_owned())) };
        let (left, right) = (&argument[..at], argument[at + 1..].to_owned());
        let (left, action) = match left.as_bytes().last() {
            Some(b':') => (&left[..at - 1], Action::Compute(right.trim().to_owned())),
            Some(b'+') => {
                let (item, place) = item_place(&right)?;
                (&left[..at - 1], Action::AddItem(item, place))
            }
            Some(b'-') => (&left[..at - 1], Action::RemoveItem(right)),
            _ => (left, Action::Set(right)),
        };
        if left.trim().is_empty() {
            return Err(Error::Usage {
                message: format!("`{argument}` names no field"),
                help: "write the field in front of the sign: Price=12".into(),
            });
        }
        Ok(Argument::Assignment(Assignment { left: left.trim().to_owned(), action }))
    }
}

impl Assignment {
    /// The assignments in `arguments`, all of which must be such.
    ///
    /// # Errors
    /// As [`Argument::parse`], and when one says nothing of a field.
    pub fn parse_all(arguments: &[String]) -> Result<Vec<Assignment>, Error> {
        let parse = |argument: &String| match Argument::parse(argument)? {
            Argument::Assignment(assignment) => Ok(assignment),
            Argument::Name(name) => Err(Error::Usage {
                message: format!("`{name}` says nothing of a field"),
                help: "what the record holds is written FIELD=VALUE".into(),
            }),
        };
        arguments.iter().map(parse).collect()
    }
}

/// An item and the place behind its `@`, if there is one.
fn item_place(text: &str) -> Result<(String, ItemPlace), Error> {
    let Some((item, place)) = text.rsplit_once('@') else { return Ok((text.to_owned(), ItemPlace::Last)) };
    let place = match place {
        "first" => ItemPlace::At(0),
        "last" => ItemPlace::Last,
        number if !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit()) => {
            let number = number.parse::<usize>().ok().and_then(|number| number.checked_sub(1));
            ItemPlace::At(number.ok_or_else(|| Error::Usage {
                message: format!("`@{place}` is no place in a list"),
                help: "places are counted from 1 on: coal@3, coal@first, coal@last".into(),
            })?)
        }
        // It is a part of the item.
        _ => return Ok((text.to_owned(), ItemPlace::Last)),
    };
    Ok((item.to_owned(), place))
}

/// What of a row is meant.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct FieldTarget {
    /// What people call it: the column, or what the columns of a family have in common.
    pub name: String,
    /// The columns, as positions in the rows' columns: one, or those of a family that is taken as one list.
    pub columns: Vec<usize>,
    /// Whether it is a family of columns.
    pub is_family: bool,
    /// The item of the list, from 0 on, if only one is meant.
    pub item: Option<usize>,
    /// The part of the value, if only one is meant.
    pub part: Option<String>,
}

impl FieldTarget {
    fn of_column(rows: &Rows, column: usize) -> FieldTarget {
        let name = rows.columns[column].clone();
        FieldTarget { name, columns: vec![column], is_family: false, item: None, part: None }
    }

    /// What `name` means in `rows`: a column, `COLUMN[2]`, `COLUMN.part`, or what several columns have in front of their
    /// numbers.
    ///
    /// # Errors
    /// When there is no such column, with the nearest name.
    pub fn find(rows: &Rows, name: &str) -> Result<FieldTarget, Error> {
        if let Some(column) = column(rows, name) {
            return Ok(FieldTarget::of_column(rows, column));
        }
        let item = name.strip_suffix(']').and_then(|rest| rest.rsplit_once('['));
        if let Some((list, number)) = item
            && let Ok(number) = number.parse::<usize>()
            && let Ok(target) = FieldTarget::find(rows, list)
            && target.item.is_none()
            && target.part.is_none()
        {
            let item = number.checked_sub(1).ok_or_else(|| Error::Usage {
                message: format!("`{name}` is no item of a list"),
                help: format!("items are counted from 1 on: {list}[1]").into(),
            })?;
            return Ok(FieldTarget { item: Some(item), ..target });
        }
        if let Some((value, part)) = name.rsplit_once('.')
            && let Ok(target) = FieldTarget::find(rows, value)
            && target.part.is_none()
            && let Layout::Parts(template, _) = &rows.table.fields[rows.fields[target.columns[0]]].layout
        {
            if template.parts().iter().any(|own| own == part) {
                return Ok(FieldTarget { part: Some(part.to_owned()), ..target });
            }
            let near = crate::text::nearest_of(part, template.parts().iter().map(String::as_str));
            let help = near.first().map_or_else(
                || format!("its parts are {}", template.parts().join(", ")),
                |near| format!("did you mean `{near}`?"),
            );
            let name = format!("{value}.{part}");
            return Err(Error::Unknown { what: "part of a value", name, help: help.into() });
        }
        let name =
            name.split_once('{').filter(|(_, range)| range.ends_with('}')).map_or(name, |(name, _)| name);
        let columns = family(rows, name);
        if columns.is_empty() {
            return Err(rows.no_column(name));
        }
        Ok(FieldTarget { name: name.to_owned(), columns, is_family: true, item: None, part: None })
    }
}

/// The column called `name`, or at the path `name`; the `[*]` of a list and the `@` of an attribute may be left out.
fn column(rows: &Rows, name: &str) -> Option<usize> {
    let named = |name: &str| rows.columns.iter().position(|column| column == name);
    let of_path = || {
        let field = rows.table.field_at(name)?;
        rows.fields.iter().position(|own| *own == field)
    };
    named(name)
        .or_else(of_path)
        .or_else(|| named(&format!("{name}[*]")))
        .or_else(|| named(&format!("@{name}")))
}

/// The columns that are called `name` with a number behind it, in the order of the numbers.
fn family(rows: &Rows, name: &str) -> Vec<usize> {
    let number = |column: &String| {
        let digits = column.strip_prefix(name)?;
        digits.bytes().all(|byte| byte.is_ascii_digit()).then(|| digits.parse::<u32>().ok()).flatten()
    };
    let mut found: Vec<(u32, usize)> =
        rows.columns.iter().enumerate().filter_map(|(at, column)| Some((number(column)?, at))).collect();
    found.sort_unstable();
    found.into_iter().map(|(_, at)| at).collect()
}

#[cfg(test)]
mod tests {
    use super::Action::{self, AddItem, Compute, RemoveItem, Set};
    use super::{Argument, Assignment, ItemPlace};
    use rstest::rstest;

    #[rstest]
    #[case("Price=12", "Price", Set("12".to_owned()))]
    #[case("Price=", "Price", Set(String::new()))]
    #[case("goods:coal.Price=a=b", "goods:coal.Price", Set("a=b".to_owned()))]
    #[case("goods:\"a=b\".Price=1", "goods:\"a=b\".Price", Set("1".to_owned()))]
    #[case("Price:=Price * 2", "Price", Compute("Price * 2".to_owned()))]
    #[case("Kind:=A == 'b'", "Kind", Compute("A == 'b'".to_owned()))]
    #[case("Route+=mill", "Route", AddItem("mill".to_owned(), ItemPlace::Last))]
    #[case("Route+=mill@3", "Route", AddItem("mill".to_owned(), ItemPlace::At(2)))]
    #[case("Route+=mill@first", "Route", AddItem("mill".to_owned(), ItemPlace::At(0)))]
    #[case("Route+=a@b", "Route", AddItem("a@b".to_owned(), ItemPlace::Last))]
    #[case("Route+=a@3@last", "Route", AddItem("a@3".to_owned(), ItemPlace::Last))]
    #[case("Route-=mill@3", "Route", RemoveItem("mill@3".to_owned()))]
    #[case("Route[2]=mill", "Route[2]", Set("mill".to_owned()))]
    fn assignments(#[case] argument: &str, #[case] left: &str, #[case] action: Action) {
        let expected = Assignment { left: left.to_owned(), action };
        assert_eq!(Argument::parse(argument).expect("an argument"), Argument::Assignment(expected));
    }

    #[rstest]
    #[case("goods:coal")]
    #[case("goods:\"a=b\"")]
    fn names(#[case] argument: &str) {
        assert_eq!(Argument::parse(argument).expect("an argument"), Argument::Name(argument.to_owned()));
    }

    #[rstest]
    #[case("=12", "names no field")]
    #[case("+=12", "names no field")]
    #[case("Route+=mill@0", "is no place in a list")]
    fn mistakes_are_told(#[case] argument: &str, #[case] says: &str) {
        let error = Argument::parse(argument).expect_err("a mistake");
        assert!(error.to_string().contains(says), "{error}");
    }
}
