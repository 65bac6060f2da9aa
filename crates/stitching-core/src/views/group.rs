//! Rows put together by what they have in common.

use std::collections::HashMap;

/// What is told of the numbers of a column in a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measure {
    /// All of them added up.
    Sum,
    /// Their mean.
    Mean,
    /// The lowest.
    Lowest,
    /// The highest.
    Highest,
}

impl Measure {
    /// What it is called at the head of a column.
    pub fn name(self) -> &'static str {
        match self {
            Measure::Sum => "sum",
            Measure::Mean => "mean",
            Measure::Lowest => "lowest",
            Measure::Highest => "highest",
        }
    }

    /// The measure of `numbers`; nothing of none, but the sum is 0.
    pub fn of(self, numbers: &[f64]) -> Option<f64> {
        let sum = || numbers.iter().sum::<f64>();
        match self {
            Measure::Sum => Some(sum()),
            _ if numbers.is_empty() => None,
            Measure::Mean => Some(sum() / numbers.len() as f64),
            Measure::Lowest => numbers.iter().copied().reduce(f64::min),
            Measure::Highest => numbers.iter().copied().reduce(f64::max),
        }
    }
}

/// The rows that have the same values.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// The values that they share.
    pub values: Vec<String>,
    /// How many there are.
    pub count: usize,
    /// The numbers of each measured column.
    pub numbers: Vec<Vec<f64>>,
}

/// Puts rows with the same values together, in the order in which the values first come. Each row is given
/// as the values it is grouped by and the numbers to be measured.
pub fn group(rows: impl Iterator<Item = (Vec<String>, Vec<Option<f64>>)>) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    let mut at: HashMap<Vec<String>, usize> = HashMap::new();
    for (values, numbers) in rows {
        let index = *at.entry(values.clone()).or_insert_with(|| {
            groups.push(Group { values, count: 0, numbers: vec![Vec::new(); numbers.len()] });
            groups.len() - 1
        });
        let group = &mut groups[index];
        group.count += 1;
        for (own, number) in group.numbers.iter_mut().zip(numbers) {
            own.extend(number);
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::{Measure, group};
    use rstest::rstest;

    #[rstest]
    #[case(Measure::Sum, &[1.0, 2.5], Some(3.5))]
    #[case(Measure::Sum, &[], Some(0.0))]
    #[case(Measure::Mean, &[1.0, 2.0], Some(1.5))]
    #[case(Measure::Mean, &[], None)]
    #[case(Measure::Lowest, &[3.0, -2.0], Some(-2.0))]
    #[case(Measure::Highest, &[3.0, -2.0], Some(3.0))]
    fn measures(#[case] measure: Measure, #[case] numbers: &[f64], #[case] expected: Option<f64>) {
        assert_eq!(measure.of(numbers), expected);
    }

    #[test]
    fn groups_keep_the_order_in_which_their_values_come() {
        let rows = [("b", Some(1.0)), ("a", None), ("b", Some(2.0))];
        let rows = rows.iter().map(|(value, number)| (vec![(*value).to_owned()], vec![*number]));
        let groups = group(rows);
        let told: Vec<_> = groups.iter().map(|group| (group.values[0].as_str(), group.count)).collect();
        assert_eq!(told, [("b", 2), ("a", 1)]);
        assert_eq!(groups[0].numbers[0], [1.0, 2.0]);
        assert!(groups[1].numbers[0].is_empty());
    }
}
