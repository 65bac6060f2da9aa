//! Aligned columns.

use comfy_table::{CellAlignment, ContentArrangement, Table};

/// Rows under a header, two blanks between the columns, numbers to the right. Wider than `width`
/// characters it wraps within the cells.
pub fn aligned(header: &[&str], rows: &[Vec<String>], width: usize) -> String {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING);
    table.set_content_arrangement(ContentArrangement::Dynamic).set_width(width as u16);
    table.set_header(header);
    for row in rows {
        table.add_row(row);
    }
    for (index, column) in table.column_iter_mut().enumerate() {
        let last = index + 1 == header.len();
        column.set_padding((0, if last { 0 } else { 2 }));
        let mut cells =
            rows.iter().filter_map(|row| row.get(index)).filter(|cell| !cell.is_empty()).peekable();
        if cells.peek().is_some() && cells.all(|cell| is_number(cell)) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let mut out = String::new();
    for line in table.lines() {
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

fn is_number(cell: &str) -> bool {
    cell.replace(' ', "").parse::<f64>().is_ok()
}
