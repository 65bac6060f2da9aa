//! Changing one item of a value that is a list, and leaving the rest of it as it is written.

use crate::schema::{Field, List, Table, ValueRule};
use crate::text::{Edit, EditSet, Span};
use std::ops::Range;

/// A value that is a list, and how its items are told apart.
pub(super) struct ListValue<'a> {
    list: &'a List,
    /// What stands for no items at all.
    none: &'a str,
    counted: bool,
    /// What stands between two items where this value does not show it.
    gap: &'a str,
    value: String,
}

impl<'a> ListValue<'a> {
    /// `None` if `field` of `table` holds no list. `gap` is what other records have between two items.
    pub fn new(
        table: &'a Table,
        field: &'a Field,
        value: &str,
        gap: Option<&'a str>,
    ) -> Option<ListValue<'a>> {
        let list = field.list.as_ref()?;
        let rule: &ValueRule = &table.rules[field.layout.rules()[0]];
        let separator = list.separators.first().map_or("", String::as_str);
        Some(ListValue {
            list,
            none: rule.none.first().map_or("", String::as_str),
            counted: field.counted,
            gap: gap.unwrap_or(separator),
            value: if rule.is_none(value) { String::new() } else { value.to_owned() },
        })
    }

    /// The value as it is now.
    pub fn into_value(self) -> String {
        self.value
    }

    /// The places of the items, the count apart; with their quotes if `quoted`.
    fn places(&self, quoted: bool) -> Vec<Range<usize>> {
        let outer = |within: Range<usize>| {
            let is_quoted = self.value[..within.start].ends_with('"')
                && self.value[within.end..].starts_with('"')
                && self.list.quoted;
            if quoted && is_quoted { within.start - 1..within.end + 1 } else { within }
        };
        let items = self.list.items(&self.value).into_iter().skip(usize::from(self.counted));
        items.map(|item| outer(item.within)).collect()
    }

    /// The items, as texts.
    pub fn items(&self) -> Vec<String> {
        self.places(false).into_iter().map(|place| self.value[place].to_owned()).collect()
    }

    /// The numbers of the items in which something at `places` (bytes of the value) stands, in order.
    pub fn items_around(&self, places: &[Range<usize>]) -> Vec<usize> {
        let has = |item: &Range<usize>| {
            places.iter().any(|place| item.start <= place.start && place.end <= item.end)
        };
        self.places(true).iter().enumerate().filter(|(_, item)| has(item)).map(|(at, _)| at).collect()
    }

    /// How an item is written; why it cannot be.
    fn written(&self, item: &str) -> Result<String, String> {
        let found = self.list.items(item);
        if matches!(&found[..], [one] if one.within == (0..item.len())) {
            return Ok(item.to_owned());
        }
        if self.list.quoted && !item.contains('"') {
            return Ok(format!("\"{item}\""));
        }
        Err(format!("`{item}` would not be one item: {} stands between two", self.list.shown()))
    }

    fn edit(&mut self, place: Range<usize>, text: &str) {
        self.value.replace_range(place, text);
    }

    /// Puts `text` in place of the item with the number `at`, from 0 on.
    pub fn replace(&mut self, at: usize, text: &str) -> Result<(), String> {
        let place = self.places(true).get(at).cloned();
        let place = place.ok_or_else(|| format!("there is no item {}", at + 1))?;
        let text = self.written(text)?;
        self.edit(place, &text);
        Ok(())
    }

    /// Puts an item in, so that it has the number `at`, from 0 on; behind the last if there are not so many.
    pub fn insert(&mut self, at: usize, item: &str) -> Result<(), String> {
        let text = self.written(item)?;
        let places = self.places(true);
        let gap = match &places[..] {
            [.., before, last] => self.value[before.end..last.start].to_owned(),
            _ => self.gap.to_owned(),
        };
        match (places.get(at), places.last()) {
            (Some(next), _) => self.edit(next.start..next.start, &format!("{text}{gap}")),
            (None, Some(last)) => self.edit(last.end..last.end, &format!("{gap}{text}")),
            (None, None) if self.counted => self.value = format!("0{gap}{text}"),
            (None, None) => self.value = text,
        }
        self.count();
        Ok(())
    }

    /// Takes the item with the number `at`, from 0 on, out with its separator.
    pub fn remove(&mut self, at: usize) {
        let places = self.places(true);
        match (places.get(at), at.checked_sub(1).and_then(|before| places.get(before)), places.get(at + 1)) {
            (Some(own), Some(before), _) => self.edit(before.end..own.end, ""),
            (Some(own), None, Some(next)) => self.edit(own.start..next.start, ""),
            (Some(_), None, None) => self.value = self.none.to_owned(),
            (None, ..) => return,
        }
        self.count();
    }

    /// Makes the count that the list begins with right.
    fn count(&mut self) {
        if let (true, Some(first)) = (self.counted, self.list.items(&self.value).into_iter().next()) {
            let number = self.places(false).len().to_string();
            if self.value != self.none {
                self.edit(first.within, &number);
            }
        }
    }
}

/// The steps that make the values `new` of the values `old`, in the order in which they are to be taken: as few as can be
/// told by what both begin and end with.
pub(super) fn steps(old: &[String], new: &[String]) -> Vec<Step> {
    let first = old.iter().zip(new).take_while(|(old, new)| old == new).count();
    let (old_rest, new_rest) = (&old[first..], &new[first..]);
    let last = old_rest.iter().rev().zip(new_rest.iter().rev()).take_while(|(old, new)| old == new).count();
    let (old, new) = (&old_rest[..old_rest.len() - last], &new_rest[..new_rest.len() - last]);
    let both = old.len().min(new.len());
    let replaced = (0..both).filter(|at| old[*at] != new[*at]);
    let mut out: Vec<Step> = replaced.map(|at| Step::Replace(first + at, new[at].clone())).collect();
    out.extend((both..old.len()).map(|at| Step::Remove(first + at)));
    // All numbers are those of the values as they were: what comes in at one place keeps its order.
    out.extend(new[both..].iter().map(|item| Step::Insert(first + old.len(), item.clone())));
    out
}

/// One step of changing a list. The numbers, from 0 on, are those of the items as they were.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Step {
    Replace(usize, String),
    Remove(usize),
    Insert(usize, String),
}

/// Puts `text` in place of `within` in `value`.
pub(super) fn with_part(value: &str, within: Range<usize>, text: &str) -> Option<String> {
    let edit = Edit { span: Span::new(within.start, within.end), text: text.to_owned() };
    EditSet::new(vec![edit]).ok()?.apply_to(value)
}

#[cfg(test)]
mod tests {
    use super::{ListValue, Step, steps};
    use crate::schema::Schema;
    use proptest::prelude::*;
    use rstest::rstest;

    fn schema(settings: &str) -> Schema {
        let text = format!(
            "[table.t]\nfiles = \"t.txt\"\nformat = {{ kind = \"delimited\" }}\nkey = \"K\"\n[table.t.fields]\nL = {{ {settings} }}\n"
        );
        let (schema, problems) = crate::schema::read(&[("s.toml".to_owned(), text)], &[]);
        assert!(problems.is_empty(), "{problems:?}");
        schema
    }

    const PLAIN: &str = "list = \";\", none = \"-\"";
    const COUNTED: &str = "list = \",\", counted = true";
    const QUOTED: &str = "list = [\",\", \" and \"], quoted = true";

    #[rstest]
    #[case::at_the_end(PLAIN, "a; b", "+9 c", "a; b; c")]
    #[case::first(PLAIN, "a; b", "+0 c", "c; a; b")]
    #[case::between(PLAIN, "a;b", "+1 c", "a;c;b")]
    #[case::one_was_there(PLAIN, "a", "+9 c", "a;c")]
    #[case::none_was_there(PLAIN, "-", "+9 c", "c")]
    #[case::nothing_was_there(PLAIN, "", "+9 c", "c")]
    #[case::trailing_separator(PLAIN, "a;b;", "+9 c", "a;b;c;")]
    #[case::a_separator_in_it(PLAIN, "a", "+9 c;d", "`c;d` would not be one item: `;` stands between two")]
    #[case::removed_first(PLAIN, "a; b; c", "-0", "b; c")]
    #[case::removed_last(PLAIN, "a; b; c", "-2", "a; b")]
    #[case::removed_only(PLAIN, "a", "-0", "-")]
    #[case::replaced(PLAIN, "a; b; c", "=1 x", "a; x; c")]
    #[case::no_such(PLAIN, "a; b; c", "=3 x", "there is no item 4")]
    #[case::counted(COUNTED, "2,a,b", "+9 c", "3,a,b,c")]
    #[case::counted_less(COUNTED, "2,a,b", "-0", "1,b")]
    #[case::counted_first(COUNTED, "", "+0 a", "1,a")]
    #[case::quoted(QUOTED, "\"Red, big\", Blue", "+9 Green, pale", "\"Red, big\", Blue, \"Green, pale\"")]
    #[case::quoted_replaced(QUOTED, "\"Red, big\", Blue", "=0 Red", "Red, Blue")]
    #[case::quoted_removed(QUOTED, "\"Red, big\" and Blue", "-0", "Blue")]
    fn items_change_and_the_rest_stays(
        #[case] settings: &str,
        #[case] value: &str,
        #[case] step: &str,
        #[case] expected: &str,
    ) {
        let schema = schema(settings);
        let table = &schema.tables[0];
        let field = &table.fields[table.field("L").expect("the field")];
        let mut list = ListValue::new(table, field, value, None).expect("a list");
        let (sign, rest) = step.split_at(1);
        let (at, item) = rest.split_once(' ').unwrap_or((rest, ""));
        let at = at.parse().expect("a number");
        let done = match sign {
            "+" => list.insert(at, item),
            "=" => list.replace(at, item),
            _ => {
                list.remove(at);
                Ok(())
            }
        };
        assert_eq!(done.map(|()| list.into_value()).unwrap_or_else(|why| why), expected);
    }

    proptest! {
        #[test]
        fn steps_lead_from_one_list_to_the_other(
            old in proptest::collection::vec("[ab]", 0..6),
            new in proptest::collection::vec("[ab]", 0..6),
        ) {
            let mut slots: Vec<(Vec<String>, Option<String>)> =
                old.iter().map(|item| (Vec::new(), Some(item.clone()))).collect();
            slots.push((Vec::new(), None));
            for step in steps(&old, &new) {
                match step {
                    Step::Replace(at, item) => slots[at].1 = Some(item),
                    Step::Remove(at) => slots[at].1 = None,
                    Step::Insert(at, item) => slots[at].0.push(item),
                }
            }
            let made: Vec<String> = slots.into_iter().flat_map(|(before, own)| before.into_iter().chain(own)).collect();
            prop_assert_eq!(made, new);
        }
    }
}
