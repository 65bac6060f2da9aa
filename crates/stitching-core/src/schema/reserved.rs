//! What is set aside for a mod: `[reserved]` of a project.

use super::{Schema, TableId};

/// Values of a field, or keys of a table, that are set aside for a mod.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reserved {
    /// The table.
    pub table: TableId,
    /// The position of the field; `None` for the key.
    pub field: Option<usize>,
    /// What is set aside.
    pub values: ReservedValues,
}

/// What is set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReservedValues {
    /// The numbers from the first to the last.
    Numbers(i64, i64),
    /// All that begins so.
    Prefix(String),
}

impl ReservedValues {
    /// Whether a value is among them.
    pub fn has(&self, value: &str) -> bool {
        match self {
            ReservedValues::Numbers(first, last) => {
                value.parse().is_ok_and(|number: i64| (*first..=*last).contains(&number))
            }
            ReservedValues::Prefix(prefix) => value.starts_with(prefix),
        }
    }
}

impl Schema {
    /// The numbers set aside in a field of a table: the first and the last.
    pub fn reserved_numbers(&self, table: TableId, field: &str) -> Option<(i64, i64)> {
        let named = |own: &&Reserved| {
            let described = &self.tables[table];
            own.table == table && own.field.is_some_and(|at| described.fields[at].name == field)
        };
        self.reserved.iter().filter(named).find_map(|own| match own.values {
            ReservedValues::Numbers(first, last) => Some((first, last)),
            ReservedValues::Prefix(_) => None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::the_first(ReservedValues::Numbers(5, 9), "5", true)]
    #[case::the_last(ReservedValues::Numbers(5, 9), "9", true)]
    #[case::above(ReservedValues::Numbers(5, 9), "10", false)]
    #[case::below_nothing(ReservedValues::Numbers(-3, 9), "-4", false)]
    #[case::no_number(ReservedValues::Numbers(5, 9), "six", false)]
    #[case::begins_so(ReservedValues::Prefix("fg_".to_owned()), "fg_cut", true)]
    #[case::in_another_case(ReservedValues::Prefix("fg_".to_owned()), "FG_cut", false)]
    fn values_set_aside(#[case] reserved: ReservedValues, #[case] value: &str, #[case] has: bool) {
        assert_eq!(reserved.has(value), has);
    }
}
