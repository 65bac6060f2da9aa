//! Finding records by what they are and what they point to without reading every file: by what an earlier run
//! found out about the files.

use super::file_facts::{file_facts, targets};
use crate::layers::{FileId, Postings, Stack};
use crate::schema::{Schema, TableId};
use crate::tables::{Finders, KEY_SEPARATOR, key_hash};

/// Makes sure that what can be known of the files is known, if the stack has a place to keep it. To be called
/// before [`offsets`], outside of parallel work.
///
/// Cost: the first time about that of a check; later a look at the times of all files.
pub(crate) fn prepare(stack: &Stack, schema: &Schema) {
    let Some(cache) = stack.cache() else { return };
    cache.postings.get_or_init(|| {
        let no_checks = Finders::none(schema);
        let targets = targets(schema);
        let claimed = |file: FileId| !schema.tables_of(&stack.files()[file].path).is_empty();
        let pairs = |file: FileId| {
            let facts = file_facts(stack, schema, file, &no_checks, &targets, &Default::default());
            // A file that cannot be read as text is looked at each time.
            if facts.fault.is_some() {
                return None;
            }
            let mut pairs = Vec::new();
            for own in &facts.facts.tables {
                let keys = own.hashes.iter().zip(&own.starts).filter(|(hash, _)| **hash != 0);
                pairs.extend(keys.map(|(hash, start)| (*hash, *start)));
                let links = own.links.iter().flat_map(|links| &links.links);
                pairs.extend(links.map(|link| (link.hash, own.starts[link.record as usize])));
            }
            Some(pairs)
        };
        Postings::complete(cache, stack, claimed, pairs)
    });
}

/// The byte offsets in `file` of the records that may have, or point to, what has one of `hashes`; `None` if
/// nothing is known of the file.
pub(crate) fn offsets(stack: &Stack, file: FileId, hashes: &[u64]) -> Option<Vec<usize>> {
    stack.cache()?.postings.get()?.offsets(stack, file, hashes)
}

/// The hashes that a record of `table` can have whose key is shown as `shown`: where it has several parts, any
/// `/` may stand between two of them.
pub(crate) fn key_hashes(schema: &Schema, table: TableId, shown: &str) -> Vec<u64> {
    let described = &schema.tables[table];
    let slashes: Vec<usize> = shown.match_indices('/').map(|(at, _)| at).collect();
    let mut kept = Vec::new();
    let mut chosen: Vec<usize> = Vec::new();
    split(shown, &slashes, described.key.len().saturating_sub(1), &mut chosen, &mut kept);
    kept.iter().map(|key| key_hash(key, described.ignore_case)).collect()
}

/// All ways to put a separator at `parts` of the slashes.
fn split(shown: &str, slashes: &[usize], parts: usize, chosen: &mut Vec<usize>, out: &mut Vec<String>) {
    if parts == 0 {
        let mut key = String::with_capacity(shown.len());
        for (at, c) in shown.char_indices() {
            key.push(if chosen.contains(&at) { KEY_SEPARATOR } else { c });
        }
        out.push(key);
        return;
    }
    for (number, at) in slashes.iter().enumerate() {
        chosen.push(*at);
        split(shown, &slashes[number + 1..], parts - 1, chosen, out);
        chosen.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::split;
    use rstest::rstest;

    #[rstest]
    #[case("north/coal", 1, &["north|coal"])]
    #[case("a/b/c", 1, &["a|b/c", "a/b|c"])]
    #[case("a/b/c", 2, &["a|b|c"])]
    #[case("a", 1, &[])]
    #[case("a/b", 0, &["a/b"])]
    fn shown_keys_are_taken_apart_in_every_way(
        #[case] shown: &str,
        #[case] parts: usize,
        #[case] expected: &[&str],
    ) {
        let slashes: Vec<usize> = shown.match_indices('/').map(|(at, _)| at).collect();
        let mut out = Vec::new();
        split(shown, &slashes, parts, &mut Vec::new(), &mut out);
        let out: Vec<String> = out.iter().map(|key| key.replace(crate::tables::KEY_SEPARATOR, "|")).collect();
        assert_eq!(out, expected);
    }
}
