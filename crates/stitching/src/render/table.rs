//! Aligned columns.

use comfy_table::{CellAlignment, ContentArrangement, Table};
use unicode_width::UnicodeWidthStr;

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

/// As [`aligned`], but columns that do not fit beside each other come in blocks one below the other, each with
/// the first `fixed` columns, so that it is always in sight whose values these are. Very long cells are cut.
/// On a terminal of `height` lines the header comes again on each screenful.
pub fn in_blocks(
    header: &[String],
    rows: &[Vec<String>],
    fixed: usize,
    width: usize,
    height: Option<usize>,
) -> String {
    const GAP: usize = 2;
    let longest = (width / 2).max(24);
    let cut = |cell: &String| match cell.chars().nth(longest) {
        Some(_) if header.len() > fixed + 1 => cell.chars().take(longest - 3).collect::<String>() + "...",
        _ => cell.clone(),
    };
    let rows: Vec<Vec<String>> = rows.iter().map(|row| row.iter().map(cut).collect()).collect();
    let wide = |text: &str| text.width();
    let widths: Vec<usize> = (0..header.len())
        .map(|at| rows.iter().map(|row| wide(&row[at])).chain([wide(&header[at])]).max().unwrap_or(0) + GAP)
        .collect();
    let first: usize = widths.iter().take(fixed).sum();
    let mut blocks: Vec<Vec<usize>> = Vec::new();
    let mut used = 0;
    for (at, own) in widths.iter().enumerate().skip(fixed) {
        match blocks.last_mut().filter(|_| used + own <= width + GAP) {
            Some(block) => {
                block.push(at);
                used += own;
            }
            None => {
                blocks.push((0..fixed).chain([at]).collect());
                used = first + own;
            }
        }
    }
    if blocks.is_empty() {
        blocks.push((0..header.len()).collect());
    }
    let screenful = height.map(|height| height.saturating_sub(3).max(5));
    let mut out = Vec::new();
    for block in &blocks {
        let names: Vec<&str> = block.iter().map(|at| header[*at].as_str()).collect();
        let of_block = |row: &Vec<String>| block.iter().map(|at| row[*at].clone()).collect();
        let own: Vec<Vec<String>> = rows.iter().map(of_block).collect();
        let text = aligned(&names, &own, width);
        let mut lines: Vec<&str> = text.lines().collect();
        if let (Some(head), Some(screenful)) = (lines.first().copied(), screenful) {
            for at in (1..=lines.len().saturating_sub(2) / screenful).rev() {
                lines.insert(1 + at * screenful, head);
            }
        }
        out.push(lines.join("\n") + "\n");
    }
    out.join("\n")
}

/// A table turned round: the first column becomes the header, each other column a row under it. Also which of
/// the new columns hold numbers only.
pub fn transposed(header: Vec<String>, rows: Vec<Vec<String>>) -> (Vec<String>, Vec<Vec<String>>, Vec<bool>) {
    let first = header.first().cloned().into_iter();
    let head: Vec<String> = first.chain(rows.iter().filter_map(|row| row.first().cloned())).collect();
    let turned = header
        .into_iter()
        .enumerate()
        .skip(1)
        .map(|(at, name)| std::iter::once(name).chain(rows.iter().map(|row| row[at].clone())).collect());
    let numbers = vec![false; head.len()];
    (head, turned.collect(), numbers)
}

fn is_number(cell: &str) -> bool {
    cell.replace(' ', "").parse::<f64>().is_ok()
}
