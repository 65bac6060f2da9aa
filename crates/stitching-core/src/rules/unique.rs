//! Records that must differ in some fields taken together.

use super::{Findings, Found, Scope};
use crate::Error;
use crate::rows::ColumnPath;
use hashbrown::HashMap;
use xxhash_rust::xxh3::xxh3_64;

/// The records that have the same values in `fields` as an earlier one; those with nothing in all of them do not count.
pub(super) fn find(scope: &Scope<'_>, fields: &[String]) -> Result<Findings, Error> {
    let paths = fields.iter().map(|name| scope.column(name)).collect::<Result<Vec<_>, Error>>()?;
    let column = paths.iter().find_map(ColumnPath::own_column);
    Ok(scope.each_group(|group, findings| {
        let of_row = |at: usize| -> Vec<String> {
            paths.iter().map(|path| path.held(scope.rows, scope.row(at)).shown()).collect()
        };
        // By the hashes of the values: there may be a million records.
        let mut known: HashMap<u64, usize> = HashMap::new();
        for at in group.iter().copied() {
            let values = of_row(at);
            if values.iter().all(String::is_empty) {
                continue;
            }
            let shown = || {
                let pairs = fields.iter().zip(&values).map(|(field, value)| format!("{field} `{value}`"));
                pairs.collect::<Vec<_>>().join(" and ")
            };
            let hash = xxh3_64(values.join("\0").as_bytes());
            match known.get(&hash) {
                None => drop(known.insert(hash, at)),
                Some(first) if of_row(*first) != values => {}
                Some(first) => {
                    let message = format!("{} has {} already", scope.called(*first), shown());
                    let found = Found::new(at, column, message).related(*first, "the first with it");
                    findings.add(found);
                }
            }
        }
    }))
}
