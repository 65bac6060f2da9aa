//! What is known of each file: read once, by blocks where the format allows, and kept for other views of the same layers.

use super::{with_blocks, with_text};
use crate::Error;
use crate::layers::{FileId, Stack};
use crate::schema::{Schema, TableId};
use crate::tables::{Extractor, FileFacts, Finders, extract};
use crate::text::{Text, TextFault};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// A file of the index.
#[derive(Debug)]
pub struct IndexedFile {
    /// The file.
    pub id: FileId,
    /// What is known of it; files that no table takes have no facts.
    pub facts: Arc<FileFacts>,
    /// Why it could not be read as text.
    pub fault: Option<FileFault>,
}

/// Why a file could not be read as text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileFault {
    /// Its bytes are not text.
    Text(TextFault),
    /// The system would not give it.
    Unreadable(String),
}

/// Facts by file, so that two views of one stack share what they have in common.
pub type FactsCache = Mutex<HashMap<FileId, IndexedParts>>;
/// What is kept of a file in a [`FactsCache`].
pub type IndexedParts = (Arc<FileFacts>, Option<FileFault>);

/// For each table and rule, whether some reference looks for the values of its column.
pub(crate) fn targets(schema: &Schema) -> Vec<Vec<bool>> {
    let mut targets: Vec<Vec<bool>> =
        schema.tables.iter().map(|table| vec![false; table.rules.len()]).collect();
    for target in schema.tables.iter().flat_map(|table| &table.rules).flat_map(|rule| &rule.refs) {
        if let Some(rule) = target.rule {
            targets[target.table][rule] = true;
        }
    }
    targets
}

/// What is known of one file; kept in `cache`.
pub(crate) fn file_facts(
    stack: &Stack,
    schema: &Schema,
    id: FileId,
    finders: &Finders,
    targets: &[Vec<bool>],
    cache: &FactsCache,
) -> IndexedFile {
    let entry = &stack.files()[id];
    if let Some((facts, fault)) = cache.lock().unwrap_or_else(PoisonError::into_inner).get(&id) {
        return IndexedFile { id, facts: Arc::clone(facts), fault: fault.clone() };
    }
    let claims = schema.tables_of(&entry.path);
    // A table of whole files needs no text: pictures and packed files are records too.
    let needs_text = claims.iter().any(|table| !schema.tables[*table].is_of_files());
    let read = |text: &Text<'_>| {
        let found = text.fault().cloned();
        let unreadable = needs_text && matches!(found, Some(TextFault::Binary { .. }));
        let claims: Vec<TableId> = claims
            .iter()
            .copied()
            .filter(|table| !unreadable || schema.tables[*table].is_of_files())
            .collect();
        (found.filter(|_| needs_text), extract(schema, &claims, &entry.path, text, finders, targets))
    };
    let by_blocks = match claims[..] {
        [table] if schema.tables[table].reads_blocks() && stack.is_plain(id) && entry.encoding.is_none() => {
            Some(table)
        }
        _ => None,
    };
    let by_blocks = by_blocks.map(|table| facts_by_blocks(stack, schema, id, table, finders, targets));
    let read = match by_blocks {
        Some(Ok(Some(read))) => Ok((None, read)),
        Some(Err(error)) => Err(error),
        _ if needs_text => with_text(stack, id, read),
        _ if !claims.is_empty() => Ok(read(&Text::of_str(""))),
        _ => Ok((None, FileFacts::default())),
    };
    let (fault, facts) = match read {
        Ok((found, read)) => (found.map(FileFault::Text), read),
        Err(Error::Io { source, .. }) => {
            (Some(FileFault::Unreadable(source.to_string())), FileFacts::default())
        }
        Err(other) => (Some(FileFault::Unreadable(other.to_string())), FileFacts::default()),
    };
    let facts = Arc::new(facts);
    cache.lock().unwrap_or_else(PoisonError::into_inner).insert(id, (Arc::clone(&facts), fault.clone()));
    IndexedFile { id, facts, fault }
}

/// Reads a file in blocks; `None` if only the whole file tells what it is.
fn facts_by_blocks(
    stack: &Stack,
    schema: &Schema,
    id: FileId,
    table: TableId,
    finders: &Finders,
    targets: &[Vec<bool>],
) -> Result<Option<FileFacts>, Error> {
    let entry = &stack.files()[id];
    let mut extractor = Extractor::new(schema, table, &entry.path, entry.size as usize, finders, targets);
    if !with_blocks(stack, id, |text, base| extractor.block(text, base))? {
        return Ok(None);
    }
    let mut facts = FileFacts::default();
    extractor.end_blocks();
    extractor.finish(&mut facts);
    Ok(Some(facts))
}
