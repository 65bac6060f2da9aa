//! Values for fields in which no two records may have the same.

use crate::Error;
use crate::project::Project;
use crate::schema::TableId;
use crate::views::{FreeRequest, free};
use std::collections::HashMap;

/// Values that no record has yet, each given once.
#[derive(Default)]
pub(super) struct UnusedValues(HashMap<(TableId, String), Option<i64>>);

impl UnusedValues {
    /// The next one for a field; nothing where its values are no numbers.
    pub fn next(&mut self, project: &Project, table: TableId, field: &str) -> Result<Option<String>, Error> {
        let key = (table, field.to_owned());
        if let Some(last) = self.0.get_mut(&key) {
            *last = last.map(|last| last + 1);
            return Ok(last.map(|last| last.to_string()));
        }
        let request = FreeRequest {
            field: Some(field.to_owned()),
            count: 1,
            after: true,
            block: project.schema.reserved_numbers(table, field),
            ..FreeRequest::default()
        };
        let found = free(project.view(), table, &request)
            .or_else(|_| free(project.view(), table, &FreeRequest { after: false, ..request }));
        let value = found.ok().and_then(|found| found.values.into_iter().next()).map(|(_, value)| value);
        self.0.insert(key, value.as_ref().and_then(|value| value.parse().ok()));
        Ok(value)
    }
}
