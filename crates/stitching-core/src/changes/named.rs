//! Finding what the schema describes under a name.

use crate::Error;
use crate::text::nearest_of;

/// The one of `items` called `name`; `what` says what they are, in the singular, as the schema heads them.
///
/// # Errors
/// When there is none, with the nearest name, or all of them.
pub(super) fn find_named<'s, T>(
    items: &'s [T],
    what: &'static str,
    name: &str,
    name_of: impl Fn(&T) -> &str,
) -> Result<&'s T, Error> {
    if let Some(found) = items.iter().find(|item| name_of(item) == name) {
        return Ok(found);
    }
    let names: Vec<&str> = items.iter().map(&name_of).collect();
    let help = match nearest_of(name, names.iter().copied()).first() {
        Some(near) => format!("did you mean `{near}`?"),
        None if names.is_empty() => format!("the schema describes none; write one as [[{what}]]"),
        None => format!("there are {}", names.join(", ")),
    };
    Err(Error::Unknown { what, name: name.to_owned(), help: help.into() })
}

#[cfg(test)]
mod tests {
    use super::find_named;
    use rstest::rstest;

    #[rstest]
    #[case(&["branch", "tidy"], "tidy", None)]
    #[case(&["branch", "tidy"], "brunch", Some("did you mean `branch`?"))]
    #[case(&["branch", "tidy"], "x", Some("there are branch, tidy"))]
    #[case(&[], "x", Some("the schema describes none; write one as [[recipe]]"))]
    fn what_is_not_there_is_told_with_what_is(
        #[case] names: &[&str],
        #[case] name: &str,
        #[case] help: Option<&str>,
    ) {
        let found = find_named(names, "recipe", name, |own| own);
        match (found, help) {
            (Ok(found), None) => assert_eq!(*found, name),
            (Err(error), Some(help)) => assert_eq!(error.help().expect("help").text, help),
            (found, help) => panic!("{found:?} and {help:?}"),
        }
    }
}
