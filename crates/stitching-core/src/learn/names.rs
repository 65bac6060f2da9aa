//! What names say: whether a column and a table seem to speak of the same thing.

/// A name that can head a table of a schema: lower case, with `_` for all that is no letter or digit.
pub(super) fn plain_name(name: &str) -> String {
    let mut out = String::new();
    for next in name.chars() {
        match next {
            'a'..='z' | '0'..='9' => out.push(next),
            'A'..='Z' => out.push(next.to_ascii_lowercase()),
            _ if !out.ends_with('_') && !out.is_empty() => out.push('_'),
            _ => {}
        }
    }
    out.trim_matches('_').to_owned()
}

/// The words of a name in lower case: parted at signs, at capitals and before digits; plural endings cut.
pub(super) fn words(name: &str) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    let mut word = String::new();
    let mut before = ' ';
    for next in name.chars() {
        let parts = !next.is_alphanumeric()
            || (next.is_uppercase() && before.is_lowercase())
            || (next.is_ascii_digit() != before.is_ascii_digit() && before.is_alphanumeric());
        if parts && !word.is_empty() {
            out.push(std::mem::take(&mut word));
        }
        if next.is_alphanumeric() {
            word.extend(next.to_lowercase());
        }
        before = next;
    }
    if !word.is_empty() {
        out.push(word);
    }
    out.iter().map(|word| singular(word)).collect()
}

/// As [`words`], without numbers.
pub(super) fn stem_words(name: &str) -> Vec<String> {
    words(name).into_iter().filter(|word| !word.chars().all(|next| next.is_ascii_digit())).collect()
}

/// An English plural without its ending, as far as that is plain.
fn singular(word: &str) -> String {
    let cut = |ending: &str, new: &str| {
        word.strip_suffix(ending).filter(|stem| stem.chars().count() >= 2).map(|stem| format!("{stem}{new}"))
    };
    if word.ends_with("ss") || word.ends_with("us") || word.ends_with("is") {
        return word.to_owned();
    }
    cut("ies", "y")
        .or_else(|| cut("ches", "ch"))
        .or_else(|| cut("shes", "sh"))
        .or_else(|| cut("xes", "x"))
        .or_else(|| cut("sses", "ss"))
        .or_else(|| cut("ves", "f"))
        .or_else(|| cut("s", ""))
        .unwrap_or_else(|| word.to_owned())
}

/// Words that say that something is an identifier, and not of what.
const OF_IDENTIFIERS: [&str; 15] = [
    "id",
    "key",
    "name",
    "code",
    "ref",
    "index",
    "idx",
    "no",
    "num",
    "number",
    "nr",
    "tag",
    "ident",
    "identifier",
    "uid",
];

/// How well a column's name names a table: 0 not at all, 1 a word of it, 2 all of it.
pub(super) fn agreement(column: &str, table: &str) -> u8 {
    // Of a path only the last step that says something counts: `legs/leg/from`, `@good`, `needs[*]`.
    let steps: Vec<&str> =
        column.split(['/', '.', '[']).filter(|step| step.chars().any(char::is_alphabetic)).collect();
    let last = steps.last().copied().unwrap_or(column);
    let of_column: Vec<String> =
        stem_words(last).into_iter().filter(|word| !OF_IDENTIFIERS.contains(&word.as_str())).collect();
    let of_table = stem_words(table);
    if of_column.is_empty() || of_table.is_empty() {
        return 0;
    }
    if of_column == of_table {
        return 2;
    }
    let shared = of_column.iter().filter(|word| word.len() > 1 && of_table.contains(word)).count();
    if shared == 0 {
        return 0;
    }
    if shared == of_table.len() || (of_table.last() == of_column.last()) { 2 } else { 1 }
}

/// Whether a column's name says that it holds identifiers.
pub(super) fn names_identifier(column: &str) -> bool {
    words(column).iter().any(|word| OF_IDENTIFIERS.contains(&word.as_str()))
}

/// Whether a column's name says that its numbers are measures: how much, how long, where. What is named by a measure has no
/// name by it.
pub(super) fn names_measure(column: &str) -> bool {
    const OF_MEASURES: [&str; 40] = [
        "amount", "count", "weight", "price", "cost", "value", "size", "time", "day", "hour", "rate",
        "chance", "speed", "x", "y", "z", "width", "height", "length", "depth", "distance", "damage",
        "health", "power", "strength", "min", "max", "minimum", "maximum", "pay", "age", "duration",
        "quantity", "total", "share", "radius", "angle", "capacity", "bonus", "percent",
    ];
    words(column).last().is_some_and(|word| OF_MEASURES.contains(&word.as_str()))
}

/// Whether a column's name says that it leads to another record of the same table: the next one, the one above.
pub(super) fn names_relation(column: &str) -> bool {
    const OF_RELATIONS: [&str; 18] = [
        "next",
        "prev",
        "previous",
        "parent",
        "child",
        "after",
        "before",
        "above",
        "below",
        "follow",
        "require",
        "replace",
        "upgrade",
        "successor",
        "predecessor",
        "unlock",
        "inherit",
        "extend",
    ];
    words(column).iter().any(|word| OF_RELATIONS.contains(&word.as_str()))
}

/// Whether a column's name says that its numbers are made of bits.
pub(super) fn names_flags(column: &str) -> bool {
    words(column).iter().any(|word| ["flag", "bit", "mask", "bitmask", "bitfield"].contains(&word.as_str()))
}

/// Whether a column's name says that it holds notes for people.
pub(super) fn is_note(column: &str) -> bool {
    let said = words(column);
    said.last().is_some_and(|word| ["note", "comment", "remark", "todo", "memo"].contains(&word.as_str()))
}

/// Whether `part` of a path is a language code (ISO 639-1, perhaps with a region) or its English name.
pub(super) fn is_language(part: &str) -> bool {
    language_code(part).is_some()
}

/// The language code (ISO 639-1, perhaps with a region) that a name stands for, in small letters but for the region: a code, or
/// a language's English name.
pub(super) fn language_code(name: &str) -> Option<String> {
    const CODES: &str = "ar bg ca cs da de el en es et eu fa fi fr ga gl he hi hr hu hy id is it ja ka kk ko lt lv mk ms nb nl nn no pl pt ro ru sk sl sq sr sv th tr uk vi zh";
    const NAMES: [(&str, &str); 20] = [
        ("english", "en"),
        ("german", "de"),
        ("french", "fr"),
        ("spanish", "es"),
        ("italian", "it"),
        ("polish", "pl"),
        ("russian", "ru"),
        ("portuguese", "pt"),
        ("dutch", "nl"),
        ("czech", "cs"),
        ("japanese", "ja"),
        ("korean", "ko"),
        ("chinese", "zh"),
        ("swedish", "sv"),
        ("danish", "da"),
        ("finnish", "fi"),
        ("hungarian", "hu"),
        ("turkish", "tr"),
        ("ukrainian", "uk"),
        ("norwegian", "no"),
    ];
    let lower = name.to_lowercase();
    if let Some((_, code)) = NAMES.iter().find(|(own, _)| *own == lower) {
        return Some((*code).to_owned());
    }
    let (code, region) = lower.split_once(['-', '_']).unwrap_or((&lower, ""));
    let is_code = code.len() == 2
        && CODES.split(' ').any(|known| known == code)
        && (region.is_empty() || (2..=4).contains(&region.len()));
    is_code.then(|| format!("{code}{}", &name[code.len()..]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("GoodKey", "goods", 2)]
    #[case("Gate1", "reaches", 0)]
    #[case("@good", "goods", 2)]
    #[case("legs/leg/to", "reaches", 0)]
    #[case("from_reach", "reaches", 2)]
    #[case("crew_id", "crews", 2)]
    #[case("crew", "crew_looks", 1)]
    #[case("Id", "crews", 0)]
    #[case("needs[*]", "needs", 2)]
    fn columns_name_tables(#[case] column: &str, #[case] table: &str, #[case] expected: u8) {
        assert_eq!(agreement(column, table), expected);
    }

    #[rstest]
    #[case("en", true)]
    #[case("pt-BR", true)]
    #[case("German", true)]
    #[case("xx", false)]
    #[case("maps", false)]
    fn languages(#[case] part: &str, #[case] expected: bool) {
        assert_eq!(is_language(part), expected);
    }

    #[rstest]
    #[case("Reaches of the North.2", "reaches_of_the_north_2")]
    #[case("żółw", "w")]
    fn names_for_tables(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(plain_name(name), expected);
    }
}
