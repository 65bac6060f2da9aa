//! What people say to what was learned: that a proposal is wrong, or what the key of a table is.

use super::proposal::{Proposal, Topic};
use super::write::document_of;
use crate::Error;
use crate::settings::toml_text;
use toml_edit::{Array, Item, Value};

/// What a note in a schema begins with that says what is not to be proposed again.
pub(super) const NO: &str = "# no: ";

/// The schema `text` with a note that a proposal is not to be made again.
pub fn with_refusal(text: &str, proposal: &Proposal) -> String {
    let note = refusal(proposal);
    if text.lines().any(|line| line.trim() == note) {
        return text.to_owned();
    }
    let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
    // Notes of this kind stand together at the end.
    let begins = if text.lines().any(|line| line.starts_with(NO)) { "" } else { "\n" };
    format!("{text}{gap}{begins}{note}\n")
}

/// The note that refuses a proposal: its table, its field, and what it would write.
fn refusal(proposal: &Proposal) -> String {
    match (&proposal.field, proposal.topic) {
        (None, Topic::Table) => format!("{NO}table {}", toml_text(&proposal.table)),
        (field, _) => {
            let field = field.as_deref().unwrap_or_default();
            let settings: Vec<String> =
                proposal.settings.iter().map(|(name, value)| format!("{name} = {value}")).collect();
            let (table, settings) = (&proposal.table, settings.join(", "));
            let settings = settings.replace(char::is_control, " ");
            format!("{NO}{} {{ {settings} }}", toml_text(&format!("{table}.{field}")))
        }
    }
}

/// Takes out of `proposals` what notes in the schema files `texts` refuse; with a table goes what is said of its fields.
pub fn without_refused<'t>(proposals: &mut Vec<Proposal>, texts: impl Iterator<Item = &'t str>) {
    let notes: Vec<&str> =
        texts.flat_map(str::lines).map(str::trim).filter(|line| line.starts_with(NO)).collect();
    if notes.is_empty() {
        return;
    }
    let is_refused = |own: &Proposal| notes.contains(&refusal(own).as_str());
    let tables: Vec<String> = proposals
        .iter()
        .filter(|own| own.topic == Topic::Table && is_refused(own))
        .map(|own| own.table.clone())
        .collect();
    let needs_one = |own: &Proposal| own.needs.iter().any(|need| tables.contains(need));
    proposals.retain(|own| !is_refused(own) && !tables.contains(&own.table) && !needs_one(own));
}

/// The schema `text` in which the key of a table is made of these parts; of none, the table has no key.
///
/// # Errors
/// When the text is no TOML, or does not describe the table.
pub fn with_key(text: &str, table: &str, parts: &[String]) -> Result<String, Error> {
    let mut document = document_of(text)?;
    let described = document.get_mut("table").and_then(Item::as_table_like_mut);
    let described = described.and_then(|tables| tables.get_mut(table)).and_then(Item::as_table_like_mut);
    let Some(described) = described else {
        return Err(Error::refused(
            format!("the schema does not describe `{table}`"),
            "accept it first; nothing was changed",
        ));
    };
    let value = match parts {
        [] => {
            described.remove("key");
            return Ok(document.to_string());
        }
        [one] => Value::from(one.as_str()),
        many => Value::Array(many.iter().map(String::as_str).collect::<Array>()),
    };
    match described.get_mut("key").and_then(Item::as_value_mut) {
        Some(known) => {
            let decor = known.decor().clone();
            *known = value;
            *known.decor_mut() = decor;
        }
        None => {
            described.insert("key", Item::Value(value));
        }
    }
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::learn::Band;
    use rstest::rstest;

    fn proposal(table: &str, field: Option<&str>, needs: &str) -> Proposal {
        Proposal {
            band: Band::Ask,
            topic: if field.is_some() { Topic::Link } else { Topic::Table },
            table: table.to_owned(),
            field: field.map(str::to_owned),
            says: String::new(),
            needs: vec![needs.to_owned()],
            settings: vec![("ref".to_owned(), toml_text(needs))],
            values: 0,
            fit: 0,
            distinct: 0,
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: Vec::new(),
        }
    }

    #[rstest]
    #[case::a_field("", &[1], "\n# no: \"boats.crew\" { ref = \"crews\" }\n", "boats,crews,boats.port")]
    #[case::a_table("[table.a]", &[2], "[table.a]\n\n# no: table \"crews\"\n", "boats,boats.port")]
    #[case::one_after_another(
        "",
        &[1, 3],
        "\n# no: \"boats.crew\" { ref = \"crews\" }\n# no: \"boats.port\" { ref = \"ports\" }\n",
        "boats,crews"
    )]
    #[case::once("", &[2, 2], "\n# no: table \"crews\"\n", "boats,boats.port")]
    fn what_is_refused_is_not_proposed_again(
        #[case] text: &str,
        #[case] refused: &[usize],
        #[case] expected: &str,
        #[case] left: &str,
    ) {
        let mut all = vec![
            proposal("boats", None, ""),
            proposal("boats", Some("crew"), "crews"),
            proposal("crews", None, ""),
            proposal("boats", Some("port"), "ports"),
        ];
        let text = refused.iter().fold(text.to_owned(), |text, at| with_refusal(&text, &all[*at]));
        assert_eq!(text, expected);
        without_refused(&mut all, [text.as_str()].into_iter());
        let shown = |own: &Proposal| match &own.field {
            Some(field) => format!("{}.{field}", own.table),
            None => own.table.clone(),
        };
        assert_eq!(all.iter().map(shown).collect::<Vec<_>>().join(","), left);
    }

    #[rstest]
    #[case::another(
        "[table.a]\nkey = \"x\" # what\nfiles = \"f\"\n",
        "y",
        "[table.a]\nkey = \"y\" # what\nfiles = \"f\"\n"
    )]
    #[case::several("[table.a]\nkey = \"x\"\n", "y,z", "[table.a]\nkey = [\"y\", \"z\"]\n")]
    #[case::none("[table.a]\nkey = \"x\"\nfiles = \"f\"\n", "", "[table.a]\nfiles = \"f\"\n")]
    #[case::new(
        "[table.a]\nfiles = \"f\"\n[table.b]\n",
        "y",
        "[table.a]\nfiles = \"f\"\nkey = \"y\"\n[table.b]\n"
    )]
    fn keys_are_written(#[case] text: &str, #[case] key: &str, #[case] expected: &str) {
        let parts: Vec<String> = key.split(',').filter(|part| !part.is_empty()).map(str::to_owned).collect();
        assert_eq!(with_key(text, "a", &parts).expect("a schema"), expected);
    }
}
