//! Lists that have the original of a copy.

use super::{Join, Seen, Work};
use crate::Error;
use crate::changes::change::Note;
use crate::changes::list_edit::ListValue;
use crate::changes::new_values::{NewValues, write_values};
use crate::changes::rewrite::Rewrite;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::{Address, find_table};
use crate::reading::with_text;
use crate::schema::{Table, TableId};
use crate::tables::read_at;
use crate::text::Span;
use std::collections::BTreeMap;

impl<'p> Work<'p> {
    /// Puts the copy into lists that have the original, directly behind it.
    pub(super) fn join(&mut self, outside: Vec<(FileId, Seen)>, join: &Join) -> Result<(), Error> {
        let schema = &self.project.schema;
        let mut by_table: BTreeMap<TableId, BTreeMap<FileId, Vec<NewValues>>> = BTreeMap::new();
        let mut left = 0;
        for (file, one) in outside {
            let table = &schema.tables[one.table];
            let mut fields: Vec<(usize, Vec<String>)> = Vec::new();
            for rewrite in &one.rewrites {
                let field = &table.fields[rewrite.field];
                if field.list.is_none() && !field.column.ends_with("[*]") {
                    continue;
                }
                let name = format!("{}.{}", table.name, field.name);
                let short = name.strip_suffix("[*]").unwrap_or(&name);
                let wanted = match join {
                    Join::None => false,
                    Join::All => true,
                    Join::Fields(names) => names.iter().any(|own| *own == name || own == short),
                };
                if !wanted {
                    left += 1;
                    continue;
                }
                if let Some(values) = self.joined(file, one.span, table, rewrite)? {
                    fields.retain(|(field, _)| *field != rewrite.field);
                    fields.push((rewrite.field, values));
                }
            }
            if !fields.is_empty() {
                let address = Address::show(&table.name, one.key.as_deref().unwrap_or_default());
                for (field, _) in &fields {
                    self.builder.note(Note::Joined(format!("{address}.{}", table.fields[*field].name)));
                }
                let values = NewValues { record: one.span, key: one.key.clone(), fields, is_bare: false };
                by_table.entry(one.table).or_default().entry(file).or_default().push(values);
            }
        }
        if let Join::Fields(names) = join {
            for name in names {
                let (table, field) = name.split_once('.').unwrap_or((name, ""));
                let described = &schema.tables[find_table(schema, table)?];
                let known = |own: &str| described.field(own).is_some();
                if !known(field) && !known(&format!("{field}[*]")) {
                    return Err(Error::Unknown {
                        what: "field",
                        name: name.clone(),
                        help: NextStep::ListFields(described.name.clone()).into(),
                    });
                }
            }
        }
        if left > 0 {
            self.builder.note(Note::NotJoined(left));
        }
        for (table, by_file) in by_table {
            write_values(self.project, &mut self.builder, &schema.tables[table], by_file)?;
        }
        Ok(())
    }

    /// The values of a list with the copy behind the original.
    fn joined(
        &self,
        file: FileId,
        record: Span,
        table: &Table,
        rewrite: &Rewrite,
    ) -> Result<Option<Vec<String>>, Error> {
        let path = &self.project.stack.files()[file].path;
        let field = &table.fields[rewrite.field];
        let found = with_text(&self.project.stack, file, |text| read_at(table, path, text, record))?;
        let Some(found) = found else { return Ok(None) };
        let mut out = Vec::new();
        for value in found.values.iter().filter(|value| value.field == rewrite.field) {
            let is_here = value.span == rewrite.cell.span;
            match ListValue::new(table, field, &value.text, None) {
                Some(mut list) if is_here => {
                    let place = std::slice::from_ref(&rewrite.within);
                    let at = list.items_around(place).first().copied();
                    let item = at.and_then(|at| list.items().into_iter().nth(at));
                    if let (Some(at), Some(item)) = (at, item) {
                        let old = &value.text[rewrite.within.clone()];
                        let refused = |reason: String| Error::refused(reason, "nothing was changed");
                        list.insert(at + 1, &item.replacen(old, &rewrite.new, 1)).map_err(refused)?;
                    }
                    out.push(list.into_value());
                }
                None if is_here => out.extend([value.text.clone(), rewrite.new.clone()]),
                _ => out.push(value.text.clone()),
            }
        }
        Ok(Some(out))
    }
}
